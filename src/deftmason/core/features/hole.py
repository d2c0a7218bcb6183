"""What the scan says of a hole: its axis and size, where it opens, whether it ends in a floor, and its wider head.

The wall is fitted as a cylinder; about its axis the surface nearby is sampled evenly (long thin facets speak along all
their length) and sorted by how it faces: walls inward, floors and mouths along the axis, cones between. A ring of
surface counts where it goes most of the way round.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..elements import Cylinder, fit
from ..elements.motion import perpendicular_pair
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import Gathered, fit_gathered
from .evidence import Reading

__all__ = ["HoleReading", "read_hole"]

_ABOUT = 3.4  # radii: how wide the widest head is sought
_BEYOND = 7.0  # radii past the wall's ends: likewise how deep
_SAMPLES = 60_000
_SECTORS = 24
_ROUND = 0.6  # of the sectors that a ring has to have
_LEVEL = 0.94  # cosine to the axis of what lies across it
_LEAST_WIDER = 1.08  # of the radius of what is before it: less is the same wall
_TIP_LEAST = 0.22  # cosine to the axis of what may still be a floor
_TIP_SLOPE = 0.14  # of a floor that runs to a tip


@dataclass(frozen=True)
class HoleReading:
    """A hole in the scan's coordinates, mm and degrees.

    ``point`` (3,) on the axis where the hole opens, ``inward`` (3,) from there into the part; ``off`` (3,) standard
    deviations of the axis's place there. ``depth`` to the floor, None where it goes through; ``tip`` the floor's full
    angle, None where it is flat. ``head`` plain, counterbore or countersink; ``head_radius`` at the mouth,
    ``head_depth`` of a counterbore, ``head_angle`` of a countersink. ``seen_through`` : the far mouth was seen.
    """

    point: np.ndarray
    inward: np.ndarray
    off: np.ndarray
    turn_deg: float
    radius: Reading
    length: float
    depth: Reading | None
    tip: Reading | None = None
    head: str = "plain"
    head_radius: Reading | None = None
    head_depth: Reading | None = None
    head_angle: Reading | None = None
    seen_through: bool = True
    note: str = ""


@dataclass(frozen=True)
class _Around:
    """Samples about an axis: ``t`` along it, ``r`` from it (mm), how they face along and away from it, their sector
    and facet; the axis's own place and directions.
    """

    point: np.ndarray
    axis: np.ndarray
    t: np.ndarray
    r: np.ndarray
    along: np.ndarray
    away: np.ndarray
    sector: np.ndarray
    facet: np.ndarray

    def __getitem__(self, ok) -> _Around:
        some = {k: getattr(self, k)[ok] for k in ("t", "r", "along", "away", "sector", "facet")}
        return replace(self, **some)

    def turned(self) -> _Around:
        return replace(self, axis=-self.axis, t=-self.t, along=-self.along)

    @property
    def whole(self) -> float:
        """The share of the way round that is seen."""
        return len(np.unique(self.sector)) / _SECTORS

    def __len__(self) -> int:
        return len(self.t)


def read_hole(index: ScanIndex, picked: Gathered) -> HoleReading:
    """Read the hole whose wall was picked. Raises `BadInput` where the wall is no hole's."""
    f, ids = fit_gathered(index, picked, "cylinder")
    e = f.element
    assert isinstance(e, Cylinder)
    mesh = index.mesh
    out = mesh.vertex_normals[ids]
    rel = mesh.vertices[ids] - e.point
    rel -= np.outer(rel @ e.direction, e.direction)
    if float(np.mean(np.einsum("ij,ij->i", rel, out))) > 0:
        raise BadInput("That is the outside of something round, not a hole; click the wall of a hole.", field="places")
    wall = (mesh.vertices[ids] - e.point) @ e.direction
    low, high = float(wall.min()), float(wall.max())
    around = _around(index, e, low, high)
    mine = around[np.isin(around.facet, picked.facets)]
    if mine.whole < _ROUND:
        raise BadInput("Too little of that wall goes round to be a hole; click a hole's wall.", field="places")
    ends = [_end(around.turned(), e.radius, -low, index), _end(around, e.radius, high, index)]
    if ends[0].floor and ends[1].floor:
        raise BadInput("That hole is closed at both ends on this scan; nothing to drill from.", field="places")
    # It is drilled from where it is open, from the end with a head where both are.
    mouth = 0 if ends[1].floor or (not ends[0].floor and ends[0].head and not ends[1].head) else 1
    side, far = ends[mouth], ends[1 - mouth]
    inward = e.direction if mouth == 0 else -e.direction
    at = side.mouth
    point = e.point + (-at if mouth == 0 else at) * e.direction
    turn = float(np.degrees(np.linalg.norm(f.uncertainty["direction"])))
    away = abs((-at if mouth == 0 else at) - 0.5 * (low + high))
    off = np.hypot(np.asarray(f.uncertainty["point"], float), np.radians(turn) * away / np.sqrt(2))
    radius = Reading(e.radius, float(f.uncertainty["radius"]), len(picked.facets), f.sigma)
    length = at + far.mouth
    depth = None
    if far.floor:
        u = float(np.hypot(side.mouth_off, far.floor_off))
        depth = Reading(at + far.floor_at, u, far.count, f.sigma)
    note = ""
    if far.head:
        note = "is wider at its other end too; lay another hole from there"
    return HoleReading(
        point,
        inward,
        off,
        turn,
        radius,
        length,
        depth,
        far.tip,
        side.head or "plain",
        side.head_radius,
        side.head_depth,
        side.head_angle,
        far.open,
        note,
    )


def _around(index: ScanIndex, e: Cylinder, low: float, high: float) -> _Around:
    """Samples of the surface about the axis, as far as a head or a floor may lie."""
    mesh = index.mesh
    d = e.direction
    rel = mesh.vertices - e.point
    t = rel @ d
    r = np.linalg.norm(rel - t[:, None] * d, axis=1)
    beyond = _BEYOND * e.radius
    inside = (r < _ABOUT * e.radius) & (t > low - beyond) & (t < high + beyond)
    # Long facets may pass with no corner inside: those whose box comes near are taken too.
    c = mesh.vertices[mesh.faces]
    tt, rr = t[mesh.faces], r[mesh.faces]
    reach = np.linalg.norm(c - c.mean(axis=1, keepdims=True), axis=2).max(axis=1)
    near = rr.min(axis=1) - reach < _ABOUT * e.radius
    near &= (tt.max(axis=1) > low - beyond) & (tt.min(axis=1) < high + beyond)
    facets = np.flatnonzero(near | inside[mesh.faces].any(axis=1))
    area = mesh.areas[facets]
    rng = np.random.default_rng(5)
    if len(facets) >= _SAMPLES // 4:
        facet, q = facets, mesh.centroids[facets]
    else:
        many = np.maximum(np.round(area / max(area.sum(), 1e-300) * _SAMPLES).astype(int), 3)
        facet = np.repeat(facets, many)
        a, b = rng.random((2, len(facet)))
        over = a + b > 1
        a[over], b[over] = 1 - a[over], 1 - b[over]
        v = mesh.vertices[mesh.faces[facet]]
        q = v[:, 0] + a[:, None] * (v[:, 1] - v[:, 0]) + b[:, None] * (v[:, 2] - v[:, 0])
    rel = q - e.point
    t = rel @ d
    across = rel - t[:, None] * d
    r = np.linalg.norm(across, axis=1)
    n = index.calm_normals[facet]
    out = across / np.maximum(r, 1e-300)[:, None]
    u, v = perpendicular_pair(d)
    sector = ((np.arctan2(across @ v, across @ u) / (2 * np.pi) % 1.0) * _SECTORS).astype(int)
    ok = (r < _ABOUT * e.radius) & (t > low - beyond) & (t < high + beyond)
    whole = _Around(e.point, d, t, r, n @ d, np.einsum("ij,ij->i", n, out), sector, facet)
    return whole[ok]


@dataclass
class _End:
    """One end of a wall, ``t`` counted outward. ``mouth`` where it opens; a ``floor`` and its ``tip``; a ``head``."""

    mouth: float
    mouth_off: float = 0.0
    open: bool = False
    floor: bool = False
    floor_at: float = 0.0
    floor_off: float = 0.0
    tip: Reading | None = None
    head: str = ""
    head_radius: Reading | None = None
    head_depth: Reading | None = None
    head_angle: Reading | None = None
    count: int = 0


def _end(a: _Around, radius: float, end: float, index: ScanIndex) -> _End:
    """What lies at the end of a wall of ``radius`` where ``t`` reaches ``end`` mm, outward along the axis."""
    facet = index.mesh.median_edge
    slack = max(2.0 * facet if not index.exact else 0.0, 0.02 * radius)
    out = _End(end)
    # A floor faces back into the hole and fills it.
    floor = a[(a.r < 0.9 * radius) & (a.along < -_TIP_LEAST) & (a.t > end - 1.5 * radius) & (a.t < end + 3 * radius)]
    if len(floor) and floor.whole > _ROUND and _filled(floor, radius):
        _floor_of(floor, radius, out, index)
        return out
    # A head: a wider wall, or a cone, about the same axis; nearest first.
    seat = _sink(a, radius, end, slack, index) or _bore(a, radius, end, slack, index)
    wide, at = radius, end
    if seat is not None:
        out.head, out.head_radius, out.head_depth, out.head_angle, at = seat
        assert out.head_radius is not None
        wide = out.head_radius.value
    mouth = a[(a.along > _LEVEL) & (a.r > 1.02 * wide) & (a.r < min(1.5 * wide, _ABOUT * radius))]
    mouth = mouth[np.abs(mouth.t - at) < slack + 0.5 * wide]
    if len(mouth) and mouth.whole > 0.3:
        out.open = mouth.whole > _ROUND
        out.mouth, out.mouth_off = _level(mouth, index)
    else:
        out.mouth = at
    if out.head == "counterbore" and out.head_depth is not None:
        out.head_depth = replace(
            out.head_depth,
            value=out.mouth - out.head_depth.value,
            uncertainty=float(np.hypot(out.head_depth.uncertainty, out.mouth_off)),
        )
    elif out.head == "countersink" and out.head_radius is not None and out.head_angle is not None:
        # The cone's width is said where it opens: it was read as the radius at t = 0 of its slope.
        slope = np.tan(np.radians(0.5 * out.head_angle.value))
        out.head_radius = replace(
            out.head_radius,
            value=out.head_radius.value + slope * (out.mouth - at),
            uncertainty=float(np.hypot(out.head_radius.uncertainty, slope * out.mouth_off)),
        )
    return out


def _filled(a: _Around, radius: float) -> bool:
    """Whether samples lie on all of a disc rather than along its rim."""
    rings = (a.r / radius * 3).astype(int)
    seen = {(int(k), int(s) // 4) for k, s in zip(rings, a.sector)}
    return sum(k < 2 for k, _ in seen) >= 6


def _level(a: _Around, index: ScanIndex) -> tuple[float, float]:
    """Where samples across the axis lie, and how surely (mm)."""
    if index.exact:
        return float(np.median(a.t)), 0.0
    middle = float(np.median(a.t))
    spread = 1.4826 * float(np.median(np.abs(a.t - middle)))
    keep = np.abs(a.t - middle) <= max(3 * spread, 1e-9)
    patches = max(len(np.unique(a.facet[keep])) / 12, 1.0)  # neighbouring facets share their vertices' noise
    return float(a.t[keep].mean()), spread / np.sqrt(patches)


def _floor_of(floor: _Around, radius: float, out: _End, index: ScanIndex) -> None:
    out.floor, out.count = True, len(np.unique(floor.facet))
    # Its height falls by one slope from the rim to the axis; facets at the rim reach over to the wall.
    inner = floor[floor.r < max(0.9 * radius - (0.0 if index.exact else index.mesh.median_edge), 0.5 * radius)]
    slope, at, off = _line_of(inner, index, True)
    if -slope > max(_TIP_SLOPE, 3 * off[0]):
        turn = float(np.degrees(off[0] / (1 + slope**2)))
        out.tip = Reading(float(np.degrees(2 * np.arctan2(1.0, -slope))), 2 * turn, out.count, off[1])
        out.floor_at, out.floor_off = at + slope * radius, off[1]
    else:
        out.floor_at, out.floor_off = _level(inner, index)


def _line_of(a: _Around, index: ScanIndex, falls: bool) -> tuple[float, float, tuple[float, float]]:
    """How r grows with t (``falls``: t with r): slope, the value at 0, and standard deviations of the two (that of the
    value at the middle).

    Corners lie on the surface, middles of facets on its chords: corners speak, those at a rim last.
    """
    facets = np.unique(a.facet)
    if not index.exact:
        inner = facets[index.depth(facets, 1) > 0]
        facets = inner if len(inner) >= 2 * _SECTORS else facets
    ids = np.unique(index.mesh.faces[facets])
    rel = index.mesh.vertices[ids] - a.point
    t = rel @ a.axis
    r = np.linalg.norm(rel - t[:, None] * a.axis, axis=1)
    x, y = (r, t) if falls else (t, r)
    ok = np.ones(len(x), bool)
    slope = at = spread = 0.0
    for _ in range(6):
        slope, at = np.polyfit(x[ok], y[ok], 1)
        left = y - slope * x - at
        spread = 1.4826 * float(np.median(np.abs(left[ok])))
        ok = np.abs(left) <= max(3 * spread, 1e-9)
    patches = max(ok.sum() / 6, 2.0)  # neighbours share some of their noise
    wide = float(np.std(x[ok]))
    return float(slope), float(at), (spread / np.sqrt(patches) / max(wide, 1e-9), spread / np.sqrt(patches))


def _fit_round(a: _Around, index: ScanIndex, kind: str):
    """A cylinder or cone along the axis through the corners of facets that samples lie on."""
    m = index.mesh
    facets = np.unique(a.facet)
    if not index.exact:  # facets that reach over an edge have a corner on the other face
        facets = facets[index.depth(facets, 1) > 0] if len(facets) > 80 else facets
    ids = np.unique(m.faces[facets])
    p, n = m.vertices[ids], m.vertex_normals[ids]
    try:
        f = fit(kind, p, normals=n, robust=True, parallel=a.axis)
    except BadInput:
        return None
    return f


def _bore(a: _Around, radius: float, end: float, slack: float, index: ScanIndex):
    """A wider wall that begins where the narrow one ends, over a seat across the axis."""
    wall = a[(a.away < -0.9) & (np.abs(a.along) < 0.3) & (a.r > _LEAST_WIDER * radius) & (a.t > end - slack)]
    if wall.whole < _ROUND:
        return None
    # The nearest radius at which most of the way round is seen.
    rank = np.argsort(wall.r)
    r = wall.r[rank]
    wide = None
    step = max(0.04 * radius, slack if not index.exact else 0.0)
    for at in np.arange(r[0], r[-1] + step, 0.5 * step):
        some = wall[(wall.r >= at) & (wall.r < at + step)]
        if some.whole >= _ROUND:
            wide = float(np.median(some.r))
            break
    if wide is None:
        return None
    ring = wall[np.abs(wall.r - wide) < step]
    seat = a[(a.along > _LEVEL) & (a.r > 1.02 * radius) & (a.r < wide) & (np.abs(a.t - end) < slack + 0.3 * radius)]
    if seat.whole < _ROUND:
        return None
    f = _fit_round(ring, index, "cylinder")
    if f is None or not 0.9 * wide < f.element.radius < 1.1 * wide:
        return None
    off = np.asarray(f.element.point) - a.point
    off -= (off @ a.axis) * a.axis
    if np.linalg.norm(off) > max(0.1 * radius, slack):
        return None
    level, u = _level(seat, index)
    count = len(np.unique(ring.facet))
    head_radius = Reading(float(f.element.radius), float(f.uncertainty["radius"]), count, f.sigma)
    return "counterbore", head_radius, Reading(level, u, len(np.unique(seat.facet)), f.sigma), None, float(ring.t.max())


def _sink(a: _Around, radius: float, end: float, slack: float, index: ScanIndex):
    """A cone that widens from where the wall ends."""
    cone = a[(a.away < -0.25) & (a.along > 0.25) & (a.along < 0.96) & (a.r > 0.98 * radius)]
    cone = cone[(cone.t > end - 0.3 * radius - slack) & (np.hypot(cone.away, cone.along) > 0.95)]
    if cone.whole < _ROUND:
        return None
    lean = np.degrees(np.arctan2(cone.along, -cone.away))
    middle = float(np.median(lean))
    cone = cone[np.abs(lean - middle) < 8]
    if cone.whole < _ROUND or float(np.ptp(cone.r)) < 0.06 * radius:
        return None
    begins = float(np.quantile(cone.r, 0.03))
    if begins > 1.25 * radius:
        return None
    slope, at, off = _line_of(cone, index, False)
    if slope <= 0.2:
        return None
    far = off[0] * 0.5 * float(np.ptp(cone.t))
    # A rounded mouth turns through all angles; a cone keeps one.
    left = cone.r - slope * cone.t - at
    if not index.exact and float(np.ptp(np.quantile(lean, [0.1, 0.9]))) > 24:
        return None
    if float(np.std(left)) > 0.06 * float(np.ptp(cone.r)) + index.mesh.median_edge * 0.1:
        return None
    half = float(np.degrees(np.arctan(slope)))
    count = len(np.unique(cone.facet))
    top = float(np.quantile(cone.t, 0.995)) if not index.exact else float(cone.t.max())
    angle = Reading(2 * half, float(2 * np.degrees(off[0] / (1 + slope**2))), count, float(np.std(left)))
    wide = Reading(slope * top + at, float(np.hypot(off[1], far)), count, float(np.std(left)))
    return "countersink", wide, None, angle, top
