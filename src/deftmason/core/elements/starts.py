"""Where to start a fit from: several rough elements that cover what the data could be.

Directions come from the normals' scatter where normals are known and from a grid over the half sphere; for each the
rest of the element follows from a linear fit. All work is in the centred, scaled frame.
"""

from __future__ import annotations

import numpy as np

from .models import ConeModel, DirectionHold, Model, RoundModel, SphereModel, TorusModel
from .motion import perpendicular_pair

__all__ = ["round_starts", "sphere_starts", "cone_starts", "torus_starts", "rotation_axis", "local_normals"]

_SPINE_SAMPLE = 300
_KEEP = 8
_LITTLE = 1e-14  # of a system's trace: what keeps it solvable where its columns are alike


def _grid(n: int = 120) -> np.ndarray:
    """Even directions over a half sphere (Fibonacci lattice), (n, 3)."""
    i = np.arange(n) + 0.5
    z = i / n
    phi = i * np.pi * (3 - np.sqrt(5))
    r = np.sqrt(1 - z * z)
    return np.column_stack([r * np.cos(phi), r * np.sin(phi), z])


def _directions(p, normals, hold: DirectionHold | None, *, from_normals: str) -> list[np.ndarray]:
    if hold is not None and hold.parallel:
        return [hold.vector]
    axes = _spread(p)
    out = list(axes)
    flat = axes[2]
    e1, e2 = perpendicular_pair(flat)
    out += [np.cos(t) * e1 + np.sin(t) * e2 for t in np.arange(12) * np.pi / 12]
    if normals is not None and len(normals):
        n = normals if from_normals == "cylinder" else normals - normals.mean(axis=0)
        out.insert(0, _spread(n)[2])
    if normals is None or len(normals) < 30:
        out += list(_grid())  # known normals tell the direction well enough without
    if hold is not None:
        out = [hold.project(a) for a in out]
    return out


def _spread(v: np.ndarray) -> np.ndarray:
    """Axes (3, 3), a row each, along which vectors (n, 3) reach the most, less and the least."""
    return np.linalg.eigh(v.T @ v)[1].T[::-1]


def _across(p, directions: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Two axes across each direction (d, 3), (d, 2, 3), and places p (n, 3) along them, (d, n) each."""
    pairs = np.array([perpendicular_pair(a) for a in directions])
    return pairs, pairs[:, 0] @ p.T, pairs[:, 1] @ p.T


def _least(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Least-squares solutions (d, k) of linear systems (d, n, k) with right sides (d, n)."""
    rows = np.swapaxes(a, 1, 2)
    gram = rows @ a
    k = gram.shape[1]
    gram[:, range(k), range(k)] += _LITTLE * np.trace(gram, axis1=1, axis2=2)[:, None] + 1e-300
    return np.linalg.solve(gram, rows @ b[..., None])[..., 0]


def _circles_2d(x, y):
    """Linear circles (Kåsa 1976) through places (d, n): centre, radius, algebraic residual in distance units."""
    s = _least(np.stack([x, y, np.ones_like(x)], axis=2), x * x + y * y)
    cx, cy = s[:, 0] / 2, s[:, 1] / 2
    r = np.sqrt(np.maximum(s[:, 2] + cx * cx + cy * cy, 1e-12))
    rho = np.hypot(x - cx[:, None], y - cy[:, None])
    return cx, cy, r, ((rho - r[:, None]) ** 2).mean(axis=1)


def _circle_2d(x, y):
    """`_circles_2d` of one row of places (n,)."""
    return tuple(float(v[0]) for v in _circles_2d(x[None], y[None]))


def round_starts(p, normals, hold, radius, *, circle: bool, most: int = _KEEP) -> list[Model]:
    if circle:
        plane_normal = np.linalg.svd(p - p.mean(axis=0), full_matrices=False)[2][2]
        directions = [plane_normal] if hold is None else [hold.project(plane_normal)]
        if len(p) < 30 and hold is None:
            directions += list(_grid(40))
    else:
        directions = _directions(p, normals, hold, from_normals="cylinder")
    along = np.array(directions)
    pairs, x, y = _across(p, along)
    cx, cy, radii, cost = _circles_2d(x, y)
    centres = cx[:, None] * pairs[:, 0] + cy[:, None] * pairs[:, 1]
    out: list[Model] = []
    for k in _best(cost)[:most]:
        a, centre, r = along[k], centres[k], float(radii[k])
        if radius is not None:
            # A held radius: the centre on the line through the seen arc, at that radius from it.
            mid = p.mean(axis=0)
            toward = centre - mid
            toward = toward - (toward @ a) * a
            length = np.linalg.norm(toward)
            if length > 1e-9 and length < 3 * radius:
                centre = centre if r < 2 * radius else mid + toward / length * radius
        out.append(RoundModel.from_axis(p, a, centre, min(r, 1e6), circle=circle, hold=hold, fixed_radius=radius))
    return out


def sphere_starts(p, radius) -> list[Model]:
    a = np.column_stack([2 * p, np.ones(len(p))])
    b = np.einsum("ij,ij->i", p, p)
    s, *_ = np.linalg.lstsq(a, b, rcond=None)
    r = np.sqrt(max(s[3] + s[:3] @ s[:3], 1e-12))
    out: list[Model] = [SphereModel.from_centre(p, s[:3], min(r, 1e6), fixed_radius=radius)]
    n = np.linalg.svd(p, full_matrices=False)[2][2]
    for side in (1.0, -1.0):
        for r in (2.0, 20.0):
            out.append(SphereModel.from_centre(p, side * n * r, r, fixed_radius=radius))
    return out


def cone_starts(p, normals, hold, *, most: int = _KEEP) -> list[Model]:
    along = np.array(_directions(p, normals, hold, from_normals="cone"))
    pairs, x, y = _across(p, along)
    t = along @ p.T
    s = _least(np.stack([x, y, np.ones_like(x), t, t * t], axis=2), x * x + y * y)
    cx, cy = s[:, 0] / 2, s[:, 1] / 2
    rho = np.hypot(x - cx[:, None], y - cy[:, None])
    # The straight generator: how far off the axis by how far along it.
    tm, rm = t.mean(axis=1), rho.mean(axis=1)
    d = t - tm[:, None]
    spread = (d * d).sum(axis=1)
    slope = np.where(np.ptp(t, axis=1) > 1e-9, (d * rho).sum(axis=1) / np.maximum(spread, 1e-300), 0.0)
    cost = ((rm[:, None] + slope[:, None] * d - rho) ** 2).mean(axis=1) / (1 + slope**2)
    alpha = np.arctan(slope)
    centres = cx[:, None] * pairs[:, 0] + cy[:, None] * pairs[:, 1]
    off = (rm - slope * tm) * np.cos(alpha)
    return [ConeModel(along[k], centres[k], float(alpha[k]), float(off[k]), hold) for k in _best(cost)[:most]]


def _best(cost: np.ndarray) -> np.ndarray:
    """Which starts are taken, best first; the first, which normals tell, counts half."""
    cost = cost * np.where(np.arange(len(cost)) == 0, 0.5, 1.0)
    return np.argsort(cost, kind="stable")[:_KEEP]


def rotation_axis(p, normals) -> tuple[np.ndarray, np.ndarray]:
    """Axis (point, direction) that the surface normals best meet: the line complex's least eigenvector.

    Pottmann, Randrup 1998, "Rotational and helical surface approximation for reverse engineering", Computing 60.
    """
    moment = np.cross(p, normals)
    l = np.column_stack([normals, moment])
    n = l.T @ l
    d = np.zeros((6, 6))
    d[3:, 3:] = 0
    # minimise (c, c̄)·N·(c, c̄) with |c| = 1, for complex (c̄·n + c·m)
    a, b, c = n[3:, 3:], n[3:, :3], n[:3, :3]
    schur = a - b @ np.linalg.pinv(c, rcond=1e-9) @ b.T
    w, v = np.linalg.eigh(schur)
    axis = v[:, 0]
    cbar = -np.linalg.pinv(c, rcond=1e-9) @ b.T @ axis
    cbar -= (cbar @ axis) * axis
    return np.cross(axis, cbar), axis


def local_normals(p: np.ndarray, among: np.ndarray) -> tuple[np.ndarray, float] | None:
    """Unit normals (n, 3) of places ``p`` from quadrics through their neighbours ``among`` all points, each toward the
    middle of the stronger
    bend, and the scatter about these quadrics; None where there are too few points."""
    if len(among) < 14:
        return None
    from scipy.spatial import cKDTree

    k = int(min(max(16, len(among) // 40), 48, len(among)))
    local = among[cKDTree(among).query(p, k=k)[1]] - p[:, None]
    _, _, axes = np.linalg.svd(local - local.mean(axis=1, keepdims=True), full_matrices=False)
    u, v, w = (np.einsum("nkc,nc->nk", local, axes[:, i]) for i in range(3))
    size = np.sqrt((u**2 + v**2).mean(axis=1, keepdims=True)) + 1e-300
    u, v, w = u / size, v / size, w / size
    m = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=2)
    gram = np.einsum("nki,nkj->nij", m, m) + 1e-10 * np.eye(6)
    f = np.linalg.solve(gram, np.einsum("nki,nk->ni", m, w)[..., None])[..., 0]
    n = axes[:, 2] - f[:, 1:2] * axes[:, 0] - f[:, 2:3] * axes[:, 1]
    n /= np.linalg.norm(n, axis=1)[:, None]
    middle, half = f[:, 3] + f[:, 5], np.sqrt((f[:, 3] - f[:, 5]) ** 2 + f[:, 4] ** 2)
    strong = np.where(middle >= 0, middle + half, middle - half) / size[:, 0]
    rest = (w - np.einsum("nki,ni->nk", m, f)) * size
    scatter = float(np.sqrt(np.median(np.sum(rest**2, axis=1) / (k - 6))))
    return n * np.where(strong < 0, -1.0, 1.0)[:, None], scatter


def _spine_starts(p, normals, inward: bool, most: int) -> list[tuple]:
    """A ring's points moved along their normals by its tube's radius lie on a circle, its spine: the radii at which
    they nearly do.
    """
    if len(p) > _SPINE_SAMPLE:
        some = np.random.default_rng(2).choice(len(p), _SPINE_SAMPLE, replace=False)
        p, normals = p[some], normals[some]

    from .circles import circles_moved  # compiled: who only handles elements does without

    p, normals = np.ascontiguousarray(p, float), np.ascontiguousarray(normals, float)

    def at(moves: np.ndarray):
        return circles_moved(p, normals, moves)

    radii = np.geomspace(0.02, 30.0, 40)
    signed = radii if inward else np.concatenate([radii, -radii])
    _, _, big, cost = at(signed)
    cost = np.where(np.isfinite(cost) & (big > 1e-9), cost / (1 + signed**2), np.inf)
    kept: list[float] = []
    for i in np.argsort(cost, kind="stable"):
        r = float(signed[i])
        if np.isfinite(cost[i]) and all(r * k < 0 or abs(np.log(r / k)) > 1.2 / most for k in kept):
            kept.append(r)
        if len(kept) == most:
            break
    if not kept:
        return []
    # Each drawn to its own best radius (golden section on a smooth valley).
    start = np.array(kept)
    low, high = np.full(len(start), -0.2), np.full(len(start), 0.2)
    g = 0.5 * (np.sqrt(5) - 1)
    for _ in range(14):
        x, y = high - g * (high - low), low + g * (high - low)
        both = at(np.concatenate([start * np.exp(x), start * np.exp(y)]))[3]
        lower = both[: len(start)] < both[len(start) :]
        high, low = np.where(lower, y, high), np.where(lower, low, x)
    r = start * np.exp(0.5 * (low + high))
    c, a, big, _ = at(r)
    return [(c[i], a[i], min(float(big[i]), 1e4), abs(float(r[i]))) for i in range(len(r))]


def torus_starts(p, normals, hold, radius, among=None, *, most: int = 3, quick: bool = False) -> list[Model]:
    """Starts from axes of rotation, and from spines, ``most`` of these each way. ``among`` are all points, of which
    ``p`` may be some.
    """
    found = []
    spines = []
    quick = quick and normals is not None and len(normals) > 0  # known normals do without a search
    bent = None if quick else local_normals(p, p if among is None else among)
    if bent is not None:
        spines += _spine_starts(p, bent[0], True, most)
    if normals is not None and len(normals):
        spines += _spine_starts(p, normals, False, most)
    elif bent is not None:
        normals = bent[0]
    axes: list[tuple[np.ndarray, np.ndarray]] = []
    if normals is not None and len(normals):
        point, a = rotation_axis(p, normals)
        axes.append((point, a if hold is None else hold.project(a)))
    directions = [] if quick else _directions(p, None, hold, from_normals="torus")
    for a in directions:
        e1, e2 = perpendicular_pair(a)
        cx, cy, r, _ = _circle_2d(p @ e1, p @ e2)
        axes.append((cx * e1 + cy * e2, a))
    for order, (point, a) in enumerate(axes):
        rel = p - point
        h = rel @ a
        rho = np.linalg.norm(rel - np.outer(h, a), axis=1)
        cx, cy, r, cost = _circle_2d(rho, h)
        if not np.isfinite(cx) or cx < 1e-6:
            cx, cy, r = float(rho.mean()), float(h.mean()), float(max(np.hypot(rho - rho.mean(), h).mean(), 1e-6))
            cost = float(np.mean((np.hypot(rho - cx, h - cy) - r) ** 2))
        found.append((cost if order else cost * 0.5, order, point + cy * a, a, cx, min(r, 1e4)))
    found.sort(key=lambda s: s[:2])
    out = [
        TorusModel(c, a if hold is None else hold.project(a), big, radius or small, hold, radius)
        for c, a, big, small in spines
    ]
    rings = [TorusModel(c, a, big, radius or small, hold, radius) for _, _, c, a, big, small in found[:_KEEP]]
    return [*out, *rings]
