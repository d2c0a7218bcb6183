"""What the scan says a feature's numbers are: the height of a face, the lean of walls, the radius of a rounding."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..elements import RigidMotion, fit
from ..elements.motion import perpendicular_pair
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import Gathered, fit_gathered
from .edge_beside import Beside, Edge, Face, face_beside
from .edge_chamfer import held_chamfer
from .edge_rounding import held_rounding

__all__ = [
    "BodyEdge",
    "Reading",
    "edge_legs",
    "edge_radius",
    "face_height",
    "sharp_edges",
    "stretches_of",
    "wall_draft",
]

_CROWN = 2.5  # scatters: what bulges less is flat
_INSET = 0.2  # of a wall's height, at either end, where corners are blended
_NEAR_WALL = 2.5, 0.06  # facets, and of the height that a wall leans, within which a facet is of the wall
_PATCH = 4.0  # facets across: what neighbouring facets' normals have in common
_REACH = 0.12  # of the part's diagonal: how far from its edge a rounding is sought at most
_FIRST, _WITHIN = 6.0, 0.8  # facets: how far first; and of that, the radius that still fits in
_STRETCHES, _STRAIGHT_COS = 12, np.cos(np.radians(12.0))  # of a bent edge: how many, how much each may turn
_ASKED = 40  # vertices that tell which side of the scan is outside
_OPEN, _SHARP = 0.95, 0.5  # half a turn's cosine of edges that are told; of where a blend would begin: closer is sharp
_UNEVEN = 0.08  # of a chamfer's leg that its two may differ by and be one
_SHORTEST, _CALM = 8.0, 15.0  # facets: the shortest edge that is asked, and how far from its ends


@dataclass(frozen=True)
class Reading:
    """A number from the scan with its uncertainty, how many facets or vertices spoke, and their scatter (mm or °)."""

    value: float
    uncertainty: float
    count: int
    scatter: float
    note: str = ""


def face_height(index: ScanIndex, picked: Gathered, motion: RigidMotion, direction) -> Reading:
    """Height of a picked face along ``direction`` (frame) from the frame's origin.

    The face's plane is fitted freely; its height is taken at its middle, and a tilt worth knowing is noted.
    """
    f, ids = fit_gathered(index, picked, "plane")
    d = np.asarray(direction, float)
    p = motion.points(index.mesh.vertices[ids])
    middle = p.mean(axis=0)
    n = motion.vectors(f.element.normal)
    point = motion.points(f.element.point)
    tilt = float(np.degrees(np.arccos(np.clip(abs(n @ d), 0, 1))))
    if tilt > 30:
        raise BadInput(f"The picked face is tilted {tilt:.0f}° to the extrusion; pick a face across it.", field="to")
    height = float(middle @ d - ((middle - point) @ n) / (n @ d))
    u = float(np.linalg.norm(f.uncertainty["point"]))
    note = f"leans {tilt:.2f}° from square" if tilt > 0.15 else _crowned(p, middle, n, f.sigma)
    return Reading(height, u, len(picked.facets), f.sigma, note)


def _crowned(p: np.ndarray, middle: np.ndarray, n: np.ndarray, sigma: float) -> str:
    """What is to be known of a face that is not flat: how far it bulges (mm) where that is more than its scatter."""
    u, v = perpendicular_pair(n)
    q = p - middle
    a, b, h = q @ u, q @ v, q @ n
    size = max(float(np.abs(np.concatenate([a, b])).max()), 1e-300)
    a, b = a / size, b / size
    basis = np.column_stack([np.ones_like(a), a, b, a * a, a * b, b * b])
    c = np.linalg.lstsq(basis, h, rcond=None)[0]
    bulge = float(np.ptp(basis[:, 3:] @ c[3:]))
    left = float(np.std(h - basis @ c))
    patches = max(len(p) / 12, 6.0)  # neighbours share some of their noise
    if bulge < max(_CROWN * left, 8 * left * np.sqrt(6 / patches), 1e-4 * size) or bulge < sigma:
        return ""
    return f"is {'crowned' if c[3] + c[5] < 0 else 'hollow'} by {bulge:.2f} mm; end on the bent face to follow it"


def wall_draft(
    index: ScanIndex, motion: RigidMotion, plane_normal, outline: np.ndarray, origin, u, low: float, high: float
) -> Reading | None:
    """Mean lean of the walls over an outline (n, 2), in degrees, positive where they close in upward.

    Facets whose middles lie near the outline between the two heights speak, each by its area; corner blends at top and
    foot are left out by keeping to the middle of the height.
    """
    v = np.cross(plane_normal, u)
    c = motion.points(index.mesh.centroids) - origin
    h = c @ plane_normal
    inset, facet = _INSET * (high - low), index.mesh.median_edge
    n = motion.vectors(index.calm_normals)
    lean = np.degrees(np.arcsin(np.clip(n @ plane_normal, -1, 1)))
    ok = (h > low + inset) & (h < high - inset) & (np.abs(lean) < 15)
    if ok.sum() < 30:
        return None
    from scipy.spatial import cKDTree

    q = np.vstack([outline, outline[:1]])
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    at = np.linspace(0, s[-1], int(min(2 * s[-1] / facet, 200_000)) + 4, endpoint=False)
    fine = np.column_stack([np.interp(at, s, q[:, k]) for k in range(2)])
    uv = np.column_stack([c[ok] @ u, c[ok] @ v])
    d, k = cKDTree(fine).query(uv, workers=-1)
    t = np.roll(fine, -1, axis=0) - fine
    outward = np.column_stack([t[:, 1], -t[:, 0]]) / np.maximum(np.linalg.norm(t, axis=1), 1e-12)[:, None]
    facing = np.abs(np.einsum("ij,ij->i", outward[k], np.column_stack([n[ok] @ u, n[ok] @ v]))) > 0.9
    use = (d < _NEAR_WALL[0] * facet + _NEAR_WALL[1] * (high - low)) & facing
    if use.sum() < 30:
        return None
    x, w = lean[ok][use], index.mesh.areas[ok][use]
    for _ in range(4):
        mean = float(np.average(x, weights=w))
        spread = 1.4826 * float(np.median(np.abs(x - mean)))
        keep = np.abs(x - mean) <= max(3.5 * spread, 1e-6)
        x, w = x[keep], w[keep]
    # Neighbouring facets' normals share their vertices' noise: count independent patches of some facets.
    patches = max(w.sum() / (_PATCH * facet) ** 2, 4.0)
    return Reading(mean, spread / np.sqrt(patches), int(len(x)), spread)


def _rounding(p, n, away, d, reach: float, most: float) -> tuple[float, float, int, float] | None:
    """Radius, uncertainty, count and scatter of a rounding about an edge along ``d``: sought close to the edge first,
    farther where it turns out to be as large as where it was sought.
    """
    while True:
        use = away < min(reach, most) ** 2
        if use.sum() >= 25:
            try:
                f = fit("cylinder", p[use], normals=n[use], parallel=d, robust=True)
            except BadInput:
                f = None
            if f is not None and f.element.radius <= _WITHIN * reach:
                sure = f.uncertainty["radius"] <= 0.5 * f.element.radius  # else hardly bent, or too little seen
                told = (f.element.radius, f.uncertainty["radius"], int(use.sum()), f.sigma)
                return told if sure and np.isfinite(told).all() else None
        if reach >= most:
            return None
        reach *= 1.6


def stretches_of(line: np.ndarray, facet: float) -> list[np.ndarray]:
    """A bent edge (n, 3) as stretches (2, 3) of even length that are nearly straight, each long enough to read a
    rounding on."""
    s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    count = int(np.clip(s[-1] / (3 * _SHORTEST * facet), 1, _STRETCHES))
    at = np.linspace(0, s[-1], count + 1)
    p = np.stack([np.interp(at, s, line[:, k]) for k in range(3)], axis=1)
    steps = np.diff(
        np.stack([np.interp(np.linspace(0, s[-1], 4 * count + 1), s, line[:, k]) for k in range(3)], 1), axis=0
    )
    steps /= np.maximum(np.linalg.norm(steps, axis=1), 1e-300)[:, None]
    turns = np.einsum("ij,ij->i", steps[::4], steps[3::4])
    return [p[k : k + 2] for k in range(count) if turns[k] > _STRAIGHT_COS]


@dataclass(frozen=True)
class BodyEdge:
    """An edge of a body as its rounding is asked for, in the frame: its ``line`` (n, 3), its two ``faces`` as element
    and which way is out, where both are known, and ``parts`` of it that are nearly straight (2, 3), each with both
    faces' normals there.
    """

    line: np.ndarray
    faces: tuple[Face, Face] | None
    parts: list[tuple[np.ndarray, tuple[np.ndarray, np.ndarray]]]


def edge_radius(index: ScanIndex, motion: RigidMotion, edges: list[BodyEdge], sided: bool = True) -> Reading | None:
    """Radius of the rounding along edges of a body: of the ball that rolls between their faces as the scan has them,
    or where these are not told, of a cylinder along each part that is straight.

    Where faces have no outside of their own (``sided`` False) theirs is that of the scan.
    Returns None where no edge shows enough of a rounding.
    """
    p = motion.points(index.mesh.vertices)
    n = motion.vectors(index.mesh.vertex_normals)
    facet = index.mesh.median_edge
    most = _REACH * float(np.linalg.norm(np.ptp(p, axis=0)))
    found = []
    for edge in edges:
        held = None if edge.faces is None or not sided else held_rounding(p, n, edge.line, edge.faces, facet, most)
        if held is not None:
            found.append(held)
            continue
        for line, faces in edge.parts:
            one = _along_part(p, n, line, faces, facet, most, sided)
            if one is not None:
                found.append(one)
    return _pooled(found, facet)


def edge_legs(
    index: ScanIndex, motion: RigidMotion, edges: list[BodyEdge], sides: list[int] | None = None
) -> list[Reading]:
    """Legs of the chamfer along edges of a body, between their faces as the scan has them.

    ``sides`` : by edge the number of the face that the first leg lies on.

    One reading where both legs are alike, two where they differ; with a note instead where no ``sides`` are given; none
    where no edge shows enough of a chamfer.
    """
    p = motion.points(index.mesh.vertices)
    n = motion.vectors(index.mesh.vertex_normals)
    facet = index.mesh.median_edge
    most = _REACH * float(np.linalg.norm(np.ptp(p, axis=0)))
    found, apart = [], 0
    each: tuple[list, list] = ([], [])
    for k, e in enumerate(edges):
        held = None if e.faces is None else held_chamfer(p, n, e.line, e.faces, facet, most)
        if held is None:
            continue
        legs, u, count, scatter = held
        found.append((float(legs.mean()), float(np.hypot(*u)) / 2, count, scatter))
        apart += abs(float(legs[0] - legs[1])) > max(_UNEVEN * legs.mean(), 3 * np.hypot(*u))
        for at, side in enumerate((sides[k], 1 - sides[k]) if sides else np.argsort(legs)):
            each[at].append((float(legs[side]), float(u[side]), count, scatter))
    together = _pooled(found, facet)
    if together is None or 2 * apart <= len(found):
        return [] if together is None else [together]
    two = [_pooled(one, facet) for one in each]
    if sides and two[0] is not None and two[1] is not None:
        return [two[0], two[1]]
    short, long = (np.median([one[0] for one in some]) for some in each)
    return [replace(together, note=f"its legs differ, {short:.2f} and {long:.2f} mm")]


def sharp_edges(index: ScanIndex, motion: RigidMotion, edges: list[BodyEdge], radius: float, leg: float) -> list[int]:
    """Which of some edges the scan runs right up to, where a rounding of ``radius`` or a chamfer of ``leg`` mm (the
    other 0) would have kept it away: it is sharp there.
    """
    p = motion.points(index.mesh.vertices)
    n = motion.vectors(index.mesh.vertex_normals)
    facet = index.mesh.median_edge
    most = _REACH * float(np.linalg.norm(np.ptp(p, axis=0)))
    out = []
    for k, e in enumerate(edges):
        if e.faces is None:
            continue
        edge = Edge(e.line, e.faces, facet)
        if edge.half < 0.05 or not edge.told(_OPEN):
            continue
        kept = radius * (1 / edge.half - 1) + leg * float(np.sqrt(1 - edge.half**2))
        b, gap = edge.looked_at(p, n, most, lambda gap: gap)
        if 0 < gap < _SHARP * kept and all(_lies_on(edge, b, side, kept) for side in (0, 1)):
            out.append(k)
    return out


def _lies_on(edge: Edge, b: Beside, side: int, kept: float) -> bool:
    """Whether the scan beside an edge lies on the model's face there, by what a blend keeps the scan away, mm."""
    f = face_beside(b, side, edge.facet, edge.faces[side][0], edge.facet)
    return f is not None and float(np.median(np.abs(f.element.distance(edge.stations)))) < _SHARP * kept / 2


def _pooled(found: list[tuple[float, float, int, float]], facet: float) -> Reading | None:
    """One size of what several edges say, each with its uncertainty, how many places spoke and their scatter."""
    if not found:
        return None
    r, u, count, sigma = (np.array(c, float) for c in zip(*found))
    keep = np.abs(r - np.median(r)) <= max(0.3 * float(np.median(r)), 0.2 * facet)
    if not keep.any():  # two edges that say quite different things say nothing
        return None
    r, u, count, sigma = r[keep], u[keep], count[keep], sigma[keep]
    w = 1 / np.maximum(u, 1e-6 * r) ** 2
    mean = float(np.average(r, weights=w))
    spread = float(np.std(r) / np.sqrt(max(len(r) - 1, 1))) if len(r) > 1 else 0.0
    return Reading(mean, float(max(1 / np.sqrt(w.sum()), spread)), int(count.sum()), float(sigma.mean()))


def _along_part(p, n, line, faces, facet: float, most: float, sided: bool) -> tuple[float, float, int, float] | None:
    """Radius, uncertainty, count and scatter of the cylinder along a straight part of an edge: of the vertices near it
    whose normals have left both faces.
    """
    n1, n2 = faces
    a, d = line[0], line[-1] - line[0]
    length = float(np.linalg.norm(d))
    if len(line) != 2 or length < _SHORTEST * facet:
        return None
    d = d / length
    rel = p - a
    t = rel @ d
    across = rel - t[:, None] * d
    inset = min(0.25 * length, _CALM * facet)
    away = np.einsum("ij,ij->i", across, across)
    if not sided:
        near = np.argsort(away + np.where((t > 0) & (t < length), 0, np.inf))[:_ASKED]
        mean = n[near].mean(axis=0)
        n1, n2 = (np.asarray(v) * (np.sign(v @ mean) or 1.0) for v in (n1, n2))
    # Away from both faces, and on the side of the turn between them.
    bent = (n @ n1 < np.cos(np.radians(22))) & (n @ n2 < np.cos(np.radians(22))) & (np.abs(n @ d) < 0.3)
    bisector = np.asarray(n1) + np.asarray(n2)
    bent &= n @ (bisector / max(np.linalg.norm(bisector), 1e-9)) > 0.7
    bent &= (t > inset) & (t < length - inset) & (away < most**2)
    return _rounding(p[bent], n[bent], away[bent], d, _FIRST * facet, most)
