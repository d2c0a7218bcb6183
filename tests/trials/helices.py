"""Trial: threads and screws read from scans: pitch, starts, hand, shape, taper, wear, holes, heads, noise, pose, size
at random. One is right where its axis, pitch, radii, hand and starts are.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.curves.helices import read_helix
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of what is allowed"
PITCH = 0.001
RADIUS = 0.003  # of the crest radius: 0.03 mm on a thread of 20 mm
AXIS = 0.003
AXIS_DEG = 0.05


@dataclass(frozen=True)
class Screw:
    """A thread about z: ``pitch`` at its middle and its ``change`` per mm of height (share), radii at its middle and
    the ``taper`` of both per mm, heights from and to; the shares of a pitch that both are flat; inside or out.
    """

    pitch: float
    starts: int
    right: bool
    crest: float
    root: float
    low: float
    high: float
    crest_flat: float = 0.125
    root_flat: float = 0.25
    change: float = 0.0
    taper: float = 0.0
    inside: bool = False

    def turns_to(self, z: np.ndarray) -> np.ndarray:
        """Ridges passed along the axis up to height z, from the middle."""
        d = z - 0.5 * (self.low + self.high)
        if not self.change:
            return d / self.pitch
        return np.log1p(self.change * d) / (self.change * self.pitch)

    def pitch_at(self, z):
        return self.pitch * (1 + self.change * (z - 0.5 * (self.low + self.high)))

    def radius(self, angle: np.ndarray, z: np.ndarray) -> np.ndarray:
        sign = 1 if self.right else -1
        u = (self.turns_to(z) - sign * self.starts * angle / (2 * np.pi)) % 1.0
        far = np.minimum(u, 1 - u)  # from the ridge's middle, 0 to 0.5
        a, b = self.crest_flat / 2, 0.5 - self.root_flat / 2
        part = np.clip((far - a) / (b - a), 0, 1)
        return self.crest + part * (self.root - self.crest) + self.taper * (z - 0.5 * (self.low + self.high))


def mesh_of_screw(s: Screw, rng, step: float, noise: float, *, shank: float = 0.0, worn: float = 0.0, holes: int = 0,
                  head: bool = False, view: float = 1.0) -> TriMesh:  # fmt: skip
    """A scan of a screw: its thread, a plain shank below, a hexagon head above, worn on one side by so many mm."""
    low, high = s.low - shank, s.high
    rows, around = max(8, int((high - low) / step)), max(24, int(2 * np.pi * max(s.crest, s.root) / step))
    z, a = np.meshgrid(np.linspace(low, high, rows), np.arange(around) * 2 * np.pi / around, indexing="ij")
    r = s.radius(a, z)
    plain = s.root if s.inside else min(s.crest, s.root) + 0.3 * abs(s.crest - s.root)
    r = np.where(z < s.low, plain, r)
    if worn:
        flat = (s.crest - worn) / np.maximum(np.cos(a), 1e-9)
        r = np.where(np.cos(a) > 0.2, np.minimum(r, flat), r)
    p = np.stack([r * np.cos(a), r * np.sin(a), z], -1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(rows - 1), np.arange(around), indexing="ij")
    q, t = i * around + j, i * around + (j + 1) % around
    f = np.vstack(
        [np.stack([q, t, t + around], -1).reshape(-1, 3), np.stack([q, t + around, q + around], -1).reshape(-1, 3)]
    )
    if s.inside:
        f = f[:, ::-1]
    keep = np.ones(len(p), bool)
    for _ in range(holes):
        keep &= np.linalg.norm(p - p[rng.integers(len(p))], axis=1) > rng.uniform(0.1, 0.4) * s.crest
    if view < 1:
        side = p[:, :2] @ (lambda t: np.array([np.cos(t), np.sin(t)]))(rng.uniform(0, 2 * np.pi))
        keep &= side > np.quantile(side, 1 - view)
    f = f[keep[f].all(axis=1)]
    if head:
        k = int(0.9 * s.crest / step)
        zz = np.linspace(high, high + 1.2 * s.crest, max(k, 3))
        n = max(36, int(2 * np.pi * 1.7 * s.crest / step)) // 6 * 6
        ang = np.arange(n) * 2 * np.pi / n
        hexagon = 1.6 * s.crest / np.cos((ang + np.pi / 6) % (np.pi / 3) - np.pi / 6)
        x, y = hexagon * np.cos(ang), hexagon * np.sin(ang)
        h = np.stack(np.broadcast_arrays(x[None], y[None], zz[:, None]), -1).reshape(-1, 3)
        i, j = np.meshgrid(np.arange(len(zz) - 1), np.arange(n), indexing="ij")
        q, t = i * n + j + len(p), i * n + (j + 1) % n + len(p)
        f = np.vstack([f, np.stack([q, t, t + n], -1).reshape(-1, 3), np.stack([q, t + n, q + n], -1).reshape(-1, 3)])
        p = np.vstack([p, h])
    used = np.unique(f)
    number = np.zeros(len(p), int)
    number[used] = np.arange(len(used))
    mesh = TriMesh(p[used], number[f].astype(np.int32))
    return TriMesh(mesh.vertices + noise * rng.normal(size=(len(used), 1)) * mesh.vertex_normals, mesh.faces)


def random_screw(seed: int):
    """A scan in any pose and size, its screw, and the motion and scale that put it there."""
    rng = np.random.default_rng(seed)
    pitch = 1.0
    auger = rng.uniform() < 0.2
    crest = rng.uniform(2.5, 9.0) if not auger else rng.uniform(0.8, 1.5)
    starts = int(rng.choice([1, 1, 1, 2, 3])) if not auger else int(rng.choice([1, 2]))
    depth = 0.613 if not auger else rng.uniform(0.3, 0.6) * crest
    turns = rng.uniform(5, 14)
    inside = not auger and rng.uniform() < 0.2
    root = crest + depth if inside else crest - depth
    change = rng.choice([0.0, rng.choice([-1, 1]) * rng.uniform(0.01, 0.04)]) if auger else 0.0
    taper = rng.uniform(-0.03, -0.01) if auger else (-1 / 32 if rng.uniform() < 0.15 else 0.0)
    flats = (0.125, 0.25) if not auger else (0.15, 0.55)
    s = Screw(pitch, starts, bool(rng.uniform() < 0.75), crest, root, 0.0, turns * pitch, *flats, change, taper, inside)
    step = rng.uniform(0.04, 0.09)
    noise = float(np.exp(rng.uniform(np.log(0.0005), np.log(0.01))))
    shank, head = rng.choice([0.0, 3.0]), (not inside and rng.uniform() < 0.3)
    worn = 0.5 * depth if rng.uniform() < 0.3 and not inside else 0.0
    holes, view = int(rng.integers(0, 5)), 0.6 if rng.uniform() < 0.2 else 1.0
    mesh = mesh_of_screw(s, rng, step, noise, shank=shank, worn=worn, holes=holes, head=head, view=view)
    size = float(np.exp(rng.uniform(np.log(0.5), np.log(50))))
    turn = Rotation.random(random_state=int(rng.integers(2**31))).as_matrix()
    shift = rng.normal(0, 50 * size, 3)
    what = (
        f"{'auger' if auger else 'nut' if inside else 'thread'} x{starts} {'R' if s.right else 'L'} crest {crest:.1f}"
    )
    what += "".join(w for w, on in ((" taper", taper), (" varying", change), (" worn", worn), (" head", head)) if on)
    what += f"{' shank' if shank else ''}{' 60%' if view < 1 else ''} noise {noise:.1%}"
    return TriMesh(mesh.vertices * size @ turn.T + shift, mesh.faces), s, turn, shift, size, what


def errors_of(h, s: Screw, turn, shift, size: float) -> list[tuple[str, float]]:
    """How far off a helix is, in shares of what is allowed; 99 where a count or a hand is wrong."""
    out = []
    d = turn.T @ h.direction
    p = (h.point - shift) @ turn / size
    sign = np.sign(d[2])
    out.append(("angle", float(np.degrees(np.arccos(min(abs(d[2]), 1.0)))) / AXIS_DEG))
    middle = 0.5 * (s.low + s.high)
    at = p + d * (middle - p[2]) / d[2]
    out.append(("axis", float(np.hypot(*at[:2])) / (AXIS * s.crest)))
    if (h.right, h.starts) != (s.right, s.starts):
        return [*out, (f"{'R' if h.right else 'L'} x{h.starts}", 99.0)]
    if h.varies != bool(s.change or s.taper):
        out.append(("varies" if h.varies else "is even", 99.0))
    off = [("pitch", 0.0), ("crest", 0.0), ("root", 0.0)]
    for st in h.stations:
        z = p[2] + sign * st.height / size
        lean = s.taper * (z - middle)
        got = (
            abs(st.pitch / size / s.pitch_at(z) - 1) / (PITCH * (5 if s.change else 1)),
            abs(st.crest_radius / size - s.crest - lean) / (RADIUS * s.crest),
            abs(st.root_radius / size - s.root - lean) / (RADIUS * s.crest),
        )
        off = [(w, max(e, g)) for (w, e), g in zip(off, got)]
    return out + off


def case(seed: int) -> list[Outcome]:
    mesh, s, turn, shift, size, what = random_screw(seed)
    try:
        h = read_helix(ScanIndex(mesh))
    except BadInput as e:
        return [Outcome(what, REFUSED, note=str(e))]
    e = errors_of(h, s, turn, shift, size)
    worst = max(e, key=lambda x: x[1])
    note = " ".join(f"{w} {x:.2f}" for w, x in e)
    return [Outcome(what, RIGHT if worst[1] <= 1 else WRONG, worst[1], note)]
