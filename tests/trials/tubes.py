"""Trial: bent tubes read from scans of a part of their outside: random bends, views, holes, gaps, branches, noise, pose
and size. A tube is right where its axis, diameter, radii and angles are.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from deftmason.core.curves.bentpath import BentPath
from deftmason.core.curves.tubes import Tube, read_tubes
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .parts import random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of what is allowed"
AXIS = 0.002  # of the radius, rms: 0.02 mm on a tube of 20 mm
DIAMETER = 0.002
RADIUS = 0.01
ANGLE_DEG = 0.15


def random_path(rng: np.random.Generator, most: int = 5) -> BentPath:
    """A path for a tube of radius 1, that keeps clear of itself."""
    for _ in range(400):
        k = int(rng.integers(0, most + 1))
        straights = np.exp(rng.uniform(np.log(2.0), np.log(16.0), k + 1))
        bends = np.column_stack(
            [
                rng.uniform(-np.pi, np.pi, k) * (rng.uniform(size=k) < 0.7),
                np.radians(rng.choice([35, 45, 60, 90, 90, 120, 180], k)) * rng.uniform(0.85, 1.0, k),
                rng.uniform(3.0, 9.0, k),
            ]
        )
        if k:
            bends[0, 0] = 0.0
        path = BentPath(np.zeros(3), np.array([1.0, 0, 0]), np.array([0, 1.0, 0]), straights, bends)
        p = path.sampled(0.5)
        d = np.linalg.norm(p[:, None] - p[None], axis=2)
        apart = np.abs(np.subtract.outer(np.arange(len(p)), np.arange(len(p)))) * 0.5
        if (d[apart > 5.0] > 3.2).all():
            return path
    raise RuntimeError("no path keeps clear of itself")


def skin(path: BentPath, radius: float, step: float, rng: np.random.Generator, oval: np.ndarray | None = None):
    """Vertices (n, 3), true normals (n, 3), lengths along (n,) and facets of a tube's outside."""
    rows = max(4, int(path.length / step))
    around = max(10, int(2 * np.pi * radius / step))
    s = np.linspace(0, path.length, rows)
    h = 1e-5 * path.length
    places = path.at(s)
    t = path.at(np.clip(s + h, 0, path.length)) - path.at(np.clip(s - h, 0, path.length))
    t /= np.linalg.norm(t, axis=1)[:, None]
    # A frame carried along, and the angle of the bend's plane in it.
    x = np.empty_like(t)
    x[0] = path.inward
    for i in range(1, rows):
        v = x[i - 1] - (x[i - 1] @ t[i]) * t[i]
        x[i] = v / np.linalg.norm(v)
    y = np.cross(t, x)
    a = (np.arange(around)[None, :] + 0.5 * (np.arange(rows)[:, None] % 2)) * (2 * np.pi / around)
    wide = np.ones((rows, around))
    if oval is not None:
        for k, q in enumerate(path.pieces):
            if q.straight:
                continue
            mine = (s >= q.begin) & (s <= q.begin + q.length)
            turn = (s[mine] - q.begin) / q.radius
            inward = np.cos(turn)[:, None] * q.inward - np.sin(turn)[:, None] * q.direction
            at = np.arctan2((inward * y[mine]).sum(axis=1), (inward * x[mine]).sum(axis=1))
            ease = np.minimum(1, np.minimum(s[mine] - q.begin, q.begin + q.length - s[mine]) / radius)
            wide[mine] += oval[k // 2] * ease[:, None] * np.cos(2 * (a[mine] - at[:, None]))
    n = np.cos(a)[:, :, None] * x[:, None, :] + np.sin(a)[:, :, None] * y[:, None, :]
    v = places[:, None, :] + radius * wide[:, :, None] * n
    i, j = np.meshgrid(np.arange(rows - 1), np.arange(around), indexing="ij")
    p, q = i * around + j, i * around + (j + 1) % around
    u, w = p + around, q + around
    even = (i % 2 == 0)[..., None]
    f = np.where(even, np.stack([p, q, u], -1), np.stack([p, q, w], -1)).reshape(-1, 3)
    g = np.where(even, np.stack([q, w, u], -1), np.stack([p, w, u], -1)).reshape(-1, 3)
    return v.reshape(-1, 3), n.reshape(-1, 3), np.repeat(s, around), np.vstack([f, g])


def seen_mask(rng, normals: np.ndarray, s: np.ndarray, length: float, share: float) -> np.ndarray:
    """Which of the outside a scan from one side shows, about so much of it."""
    view = rng.normal(size=3)
    view /= np.linalg.norm(view)
    side = normals @ view
    return side >= np.quantile(side, 1 - share)


def random_tube(seed: int):
    """A scan, and the truth: paths with radii, in the scan's coordinates."""
    rng = np.random.default_rng(seed)
    path = random_path(rng)
    step = rng.uniform(0.1, 0.28)
    oval = rng.uniform(0, 0.03, len(path.bends)) if rng.uniform() < 0.3 else None
    v, n, s, f = skin(path, 1.0, step, rng, oval)
    share = rng.choice([1.0, 0.75, 0.58])
    keep = seen_mask(rng, n, s, path.length, share) if share < 1 else np.ones(len(v), bool)
    what = f"{len(path.bends)} bends {100 * share:.0f}%"
    if rng.uniform() < 0.4 and path.length > 14:
        at, wide = rng.uniform(0.2, 0.8) * path.length, rng.uniform(0.5, 4.0)
        keep &= np.abs(s - at) > wide / 2
        what += " gap"
    for _ in range(int(rng.integers(0, 4))):
        keep &= np.linalg.norm(v - v[rng.integers(len(v))], axis=1) > rng.uniform(0.2, 0.7)
    noise = float(np.exp(rng.uniform(np.log(0.0003), np.log(0.004))))
    truths = [(path, 1.0)]
    groups = [(v, n, f, keep)]
    if rng.uniform() < 0.3 and path.straights.max() > 8:
        k = int(np.argmax(path.straights))
        q = path.pieces[2 * k]
        across = np.cross(q.direction, rng.normal(size=3))
        across /= np.linalg.norm(across)
        foot = q.at(np.array([0.5 * q.length]))[0]
        r2 = rng.uniform(0.55, 0.9)
        branch = BentPath(foot, across, q.direction, np.array([rng.uniform(6, 10)]), np.zeros((0, 3)))
        clear = cKDTree(path.sampled(0.2)).query(branch.at(np.linspace(2.5, branch.length, 30)))[0].min()
        if clear > 2.4:
            v2, n2, _, f2 = skin(branch, r2, step, rng)
            side = np.linalg.norm((v2 - foot) - ((v2 - foot) @ q.direction)[:, None] * q.direction, axis=1)
            keep2 = side > 1.02
            w = v - foot
            along = w @ across
            keep &= ~((along > 0) & (np.linalg.norm(w - along[:, None] * across, axis=1) < 1.02 * r2))
            truths.append((branch, r2))
            groups = [(v, n, f, keep), (v2, n2, f2, keep2)]
            what += " branch"
    vs, fs, base = [], [], 0
    for vv, nn, ff, kk in groups:
        err = noise * rng.normal(size=len(vv))
        if rng.uniform() < 0.5:
            err = 0.6 * err + 0.8 * noise * _waves(rng, vv)
        vv = vv + err[:, None] * nn
        ff = ff[kk[ff].all(axis=1)]
        vs.append(vv), fs.append(ff + base)
        base += len(vv)
    v, f = np.vstack(vs), np.vstack(fs)
    used = np.unique(f)
    number = np.full(len(v), -1)
    number[used] = np.arange(len(used))
    size = random_size(rng) / path.length
    turn = Rotation.random(random_state=int(rng.integers(2**31))).as_matrix()
    shift = rng.normal(0, 3 * size * path.length, 3)
    mesh = TriMesh(v[used] * size @ turn.T + shift, number[f])
    moved = [
        (
            BentPath(
                p.start * size @ turn.T + shift,
                turn @ p.direction,
                turn @ p.inward,
                p.straights * size,
                p.bends * [1, 1, size] if len(p.bends) else p.bends,
            ),
            r * size,
        )
        for p, r in truths
    ]
    return mesh, moved, f"{what} r {size:.3g} noise {noise:.1%}", noise, share


def _waves(rng, points: np.ndarray) -> np.ndarray:
    k = rng.normal(0, 1.5, (60, 3))
    out = np.cos(points @ k.T + rng.uniform(0, 2 * np.pi, 60)).sum(axis=1)
    return out / max(out.std(), 1e-9)


def errors_of(tube: Tube, path: BentPath, radius: float, allow: float = 1.0) -> list[tuple[str, float]]:
    """How far off a tube is, in shares of what is allowed."""
    truth = path.sampled(0.1 * radius)
    got = tube.path.sampled(0.1 * radius)
    far = np.full(len(got), np.inf)
    for q in path.pieces:
        along, rho, _ = q.from_axis(got)
        inside = (along > -2 * radius) & (along < q.length + 2 * radius)
        far[inside] = np.minimum(far[inside], rho[inside])
    out = [("axis", float(np.sqrt(np.mean(far**2))) / (AXIS * radius))]
    out.append(("diameter", abs(tube.diameter / (2 * radius) - 1) / DIAMETER))
    missing = cKDTree(got).query(truth)[0].max() / radius
    out.append(("ends", missing / 0.5))
    if len(tube.path.bends) != len(path.bends):
        return [*out, (f"{len(tube.path.bends)} bends for {len(path.bends)}", 99.0)]
    if len(path.bends):
        mine = tube.path.bends
        if np.linalg.norm(got[0] - truth[0]) > np.linalg.norm(got[-1] - truth[0]):
            mine = mine[::-1]
        out.append(("bend radius", float(np.abs(mine[:, 2] / path.bends[:, 2] - 1).max()) / RADIUS))
        out.append(("bend angle", float(np.degrees(np.abs(mine[:, 1] - path.bends[:, 1])).max()) / ANGLE_DEG))
    return [(w, e / allow) for w, e in out]


def case(seed: int) -> list[Outcome]:
    mesh, truths, what, noise, _share = random_tube(seed)
    found = read_tubes(ScanIndex(mesh)).tubes
    out = []
    for path, radius in truths:
        name = f"{'tube' if path is truths[0][0] else 'branch'} {what}"
        if not found:
            out.append(Outcome(name, REFUSED))
            continue
        middle = path.at(np.array([0.6 * path.length]))
        tube = min(found, key=lambda t: float(cKDTree(t.centreline).query(middle)[0][0]))
        if cKDTree(tube.centreline).query(middle)[0][0] > radius or abs(np.log(tube.diameter / 2 / radius)) > 0.2:
            out.append(Outcome(name, REFUSED, note=f"{len(found)} others"))
            continue
        e = errors_of(tube, path, radius)
        if path is not truths[0][0]:
            e = [x for x in e if x[0] != "ends"]  # where a branch begins is a matter of taste
        worst = max(e, key=lambda x: x[1])
        note = " ".join(f"{w} {x:.2f}" for w, x in e)
        out.append(Outcome(name, RIGHT if worst[1] <= 1 else WRONG, worst[1], note))
    if len(found) > len(truths):
        out.append(Outcome(f"strangers {what}", WRONG, len(found) - len(truths), "more tubes than there are"))
    return out
