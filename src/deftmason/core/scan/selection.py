"""What a person marks on a scan, as marks that can be resolved again on another: strokes, outlines with their view,
rules.

A selection is a list of marks, each adding to what was there, taking from it, or keeping the common part. Nothing
names a facet or point; every mark holds places, lengths and directions in the scan's coordinates.
"""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import cached_property

import numpy as np
from numba import njit

from ..errors import BadArgument, BadInput
from ..progress import Progress, silent
from .cells import Cells, spacing_of
from .index import ScanIndex
from .mesh import PointCloud
from .picking import gather

__all__ = ["HOWS", "RULES_OF_MARKS", "CloudIndex", "Mark", "select"]

#: How a mark joins what was selected before.
HOWS = ("add", "take away", "intersect")
#: What a mark may be made by.
RULES_OF_MARKS = (
    "brush", "outline", "whole island", "same facing", "same bend", "up to a crease", "zone", "similar pieces",
    "everything", "invert", "grow", "shrink",
)  # fmt: skip

_CREASE_DEG = 28.0
_ALIKE = 2.0  # pieces between half and twice the size are similar
_LOST = 0.03  # of the size of what is marked: a place that lies farther from it is lost
_MOST_DOTS = 2_000_000  # along one brush stroke
_MOST_CORNERS = 1500  # of an outline
_MOST_RINGS = 4000  # that all marks together may grow and shrink


@dataclass(frozen=True)
class Mark:
    """One mark. Lengths in mm, directions unit vectors in the scan's coordinates.

    ``places`` (k, 3): a stroke's path, an outline's corners, or the one place a rule starts from. ``toward``: to the
    viewer;
    ``through``: also what lies hidden behind. ``radius``: of a brush. ``angle_deg``: of a facing, bend or crease rule.
    ``rings``: how far to grow or shrink.
    """

    by: str
    how: str = "add"
    places: tuple[tuple[float, float, float], ...] = ()
    normal: tuple[float, float, float] | None = None
    toward: tuple[float, float, float] | None = None
    through: bool = False
    radius: float | None = None
    angle_deg: float | None = None
    rings: int = 1


#: The facets of the surface that a mark lies on.
Zone = Callable[[ScanIndex, Mark], np.ndarray]


class CloudIndex:
    """A cloud with what selecting asks of it: spacing and pieces."""

    def __init__(self, cloud: PointCloud):
        self.cloud = cloud
        self.marked: OrderedDict[str, np.ndarray] = OrderedDict()  # what marks gave, see `select`

    @cached_property
    def spacing(self) -> float:
        return spacing_of(self.cloud.points)

    @cached_property
    def _cells(self) -> Cells:
        return Cells(self.cloud.points, 4 * max(self.spacing, 1e-9))

    @cached_property
    def pieces(self) -> np.ndarray:
        return self._cells.pieces()

    @cached_property
    def tree(self):
        from scipy.spatial import cKDTree

        return cKDTree(self.cloud.points, balanced_tree=False)


@njit(cache=True)
def _to_crease(seed, normals, neighbours, limit, seen, queue):  # pragma: no cover - compiled
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail:
        f = queue[head]
        head += 1
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0 and not seen[g]:
                c = normals[f, 0] * normals[g, 0] + normals[f, 1] * normals[g, 1] + normals[f, 2] * normals[g, 2]
                if c >= limit:
                    seen[g] = True
                    queue[tail] = g
                    tail += 1


@njit(cache=True)
def _nearest_depth(x, y, depth, width, height, out):  # pragma: no cover - compiled
    for i in range(x.shape[0]):
        c = x[i] * height + y[i]
        if depth[i] > out[c]:
            out[c] = depth[i]


class _Items:
    """Facets of a mesh or points of a cloud, asked the same questions."""

    def __init__(self, index: ScanIndex | CloudIndex):
        self.index = index
        self.is_mesh = isinstance(index, ScanIndex)
        if isinstance(index, ScanIndex):
            self.at, self.step = index.mesh.centroids, index.mesh.median_edge
            self.normals: np.ndarray | None = index.mesh.normals
        else:
            self.at, self.normals, self.step = index.cloud.points, index.cloud.normals, index.spacing

    def seed(self, mark: Mark) -> int:
        place = np.asarray(mark.places[0], float)
        if isinstance(self.index, ScanIndex):
            normal = None if mark.normal is None else np.asarray(mark.normal, float)
            facet, missed = self.index.nearest_facet(place, normal)
        else:
            missed, facet = self.index.tree.query(place)
        size = float(np.linalg.norm(np.ptp(self.at, axis=0)))
        if missed > max(_LOST * size, 6 * self.step):
            raise BadInput(f"A marked place is {missed:.1f} mm away from the scan; mark it again.", field="marks")
        return int(facet)

    def visible(self, toward: np.ndarray, some: np.ndarray) -> np.ndarray:
        """Of some items, those nothing lies in front of, seen from afar along a direction."""
        u, v = _across(toward)
        cell = max(1.6 * self.step, 1e-9)
        x, y, depth = self.at @ u / cell, self.at @ v / cell, self.at @ toward
        ix, iy = (x - x.min()).astype(np.int64), (y - y.min()).astype(np.int64)
        w, h = int(ix.max()) + 1, int(iy.max()) + 1
        if w * h > 60_000_000:
            scale = np.sqrt(w * h / 60e6)
            ix, iy, cell = (ix / scale).astype(np.int64), (iy / scale).astype(np.int64), cell * scale
            w, h = int(ix.max()) + 1, int(iy.max()) + 1
        front = np.full(w * h, -np.inf)
        _nearest_depth(ix, iy, depth, w, h, front)
        ok = depth[some] >= front[ix[some] * h + iy[some]] - 5 * cell
        if self.normals is not None:
            ok &= self.normals[some] @ toward > -0.05
        return ok


def _across(toward: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    pole = np.eye(3)[int(np.argmin(np.abs(toward)))]
    u = np.cross(pole, toward)
    u /= np.linalg.norm(u)
    return u, np.cross(toward, u)


def _need(mark: Mark, places: int, *, view: bool = False, radius: bool = False) -> None:
    if mark.by not in RULES_OF_MARKS:
        raise BadArgument(f"There is no mark '{mark.by}'; use one of {', '.join(RULES_OF_MARKS)}.", field="marks")
    if mark.how not in HOWS:
        raise BadArgument(f"A mark can {', '.join(HOWS)}; '{mark.how}' is none of these.", field="marks")
    flat = np.asarray(mark.places, float)
    if len(mark.places) < places or not np.isfinite(flat).all():
        raise BadArgument(
            f"A mark by {mark.by} needs {places} {'place' if places == 1 else 'places'} or more.", field="marks"
        )
    if view and (mark.toward is None or not np.linalg.norm(mark.toward) > 0.5):
        raise BadArgument(f"A mark by {mark.by} needs the direction it was seen from.", field="marks")
    if radius and not (mark.radius or 0) > 0:
        raise BadArgument("A brush is wider than 0 mm.", field="marks")


def _brush(items: _Items, mark: Mark) -> np.ndarray:
    from scipy.spatial import cKDTree

    _need(mark, 1, view=mark.through, radius=True)
    r = float(mark.radius or 0)
    path = np.asarray(mark.places, float)
    toward = None if mark.toward is None else np.asarray(mark.toward, float) / np.linalg.norm(mark.toward)
    flat = np.eye(3)
    if mark.through and toward is not None:
        flat = np.stack(_across(toward))
    at = items.at if flat.shape[0] == 3 else items.at @ flat.T
    dots = _dots(path @ flat.T, 0.4 * r, at.min(axis=0) - r, at.max(axis=0) + r)
    out = np.zeros(len(items.at), bool)
    if not len(dots):
        return out
    ids = np.nonzero(((at >= dots.min(axis=0) - r) & (at <= dots.max(axis=0) + r)).all(axis=1))[0]
    ids = ids[np.isfinite(cKDTree(dots).query(at[ids], distance_upper_bound=r)[0])]
    if not mark.through and toward is not None and items.normals is not None:
        ids = ids[items.normals[ids] @ toward > -0.1]
    out[ids] = True
    return out


def _dots(path: np.ndarray, step: float, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """Points no farther apart than ``step`` along the parts of a path (k, d) that lie in a box (Liang, Barsky 1984).

    Raises `BadArgument` where they would be too many: the brush is too thin for so long a stroke.
    """
    a = path if len(path) == 1 else path[:-1]
    d = np.zeros_like(a) if len(path) == 1 else np.diff(path, axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        t1, t2 = (low - a) / d, (high - a) / d
    still = d == 0
    inside = (a >= low) & (a <= high)
    first = np.where(still, np.where(inside, -np.inf, np.inf), np.minimum(t1, t2)).max(axis=1)
    last = np.where(still, np.where(inside, np.inf, -np.inf), np.maximum(t1, t2)).min(axis=1)
    first, last = np.maximum(first, 0.0), np.minimum(last, 1.0)
    hit = first <= last
    a, d, first, last = a[hit], d[hit], first[hit], last[hit]
    count = np.ceil(np.linalg.norm(d, axis=1) * (last - first) / step)
    if count.sum() > _MOST_DOTS:
        raise BadArgument(
            "The stroke is too long for so thin a brush; use a wider one or several strokes.", field="marks"
        )
    count = count.astype(np.int64) + 1
    which = np.repeat(np.arange(len(a)), count)
    k = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    t = first[which] + (last - first)[which] * k / np.maximum(count - 1, 1)[which]
    return a[which] + t[:, None] * d[which]


def _outline(items: _Items, mark: Mark) -> np.ndarray:
    import shapely

    _need(mark, 3, view=True)
    toward = np.asarray(mark.toward, float)
    toward = toward / np.linalg.norm(toward)
    u, v = _across(toward)
    corners = np.asarray(mark.places, float)
    if len(corners) > _MOST_CORNERS:
        raise BadArgument(f"An outline has {_MOST_CORNERS:,} corners at most; draw it coarser.", field="marks")
    area = shapely.make_valid(shapely.Polygon(np.column_stack([corners @ u, corners @ v])))
    shapely.prepare(area)
    x, y = items.at @ u, items.at @ v
    low_x, low_y, high_x, high_y = area.bounds
    ids = np.nonzero((x >= low_x) & (x <= high_x) & (y >= low_y) & (y <= high_y))[0]
    ids = ids[shapely.contains_xy(area, x[ids], y[ids])]
    if not mark.through and len(ids):
        ids = ids[items.visible(toward, ids)]
    out = np.zeros(len(items.at), bool)
    out[ids] = True
    return out


def _grown(index: ScanIndex | CloudIndex, mask: np.ndarray, rings: int, progress: Progress) -> np.ndarray:
    if isinstance(index, ScanIndex):
        faces, touched = index.mesh.faces, np.zeros(len(index.mesh.vertices), bool)
        for k in range(rings):
            progress(k / rings)
            touched[faces[mask]] = True
            before, mask = mask, touched[faces].any(axis=1)
            if np.array_equal(before, mask):
                break
        return mask
    from scipy.spatial import cKDTree

    if mask.any() and not mask.all():
        near = cKDTree(index.cloud.points[mask]).query(
            index.cloud.points, distance_upper_bound=1.6 * rings * index.spacing, workers=-1
        )[0]
        mask = mask | np.isfinite(near)
    return mask


def _one(items: _Items, mark: Mark, before: np.ndarray, zone: Zone | None, progress: Progress) -> np.ndarray:
    """What one mark means by itself; for invert, grow and shrink what becomes of ``before``."""
    index = items.index
    out = np.zeros(len(items.at), bool)
    if mark.by == "brush":
        return _brush(items, mark)
    if mark.by == "outline":
        return _outline(items, mark)
    if mark.by == "everything":
        return ~out
    if mark.by == "invert":
        return ~before
    if mark.by in ("grow", "shrink"):
        if not 1 <= mark.rings <= 200:
            raise BadArgument("Grow and shrink go by 1 to 200 rings.", field="marks")
        return (
            _grown(index, before, mark.rings, progress)
            if mark.by == "grow"
            else ~_grown(index, ~before, mark.rings, progress)
        )
    _need(mark, 1)
    if mark.by == "whole island":
        return index.pieces == index.pieces[items.seed(mark)]
    if mark.by == "similar pieces":
        weight = index.mesh.areas if isinstance(index, ScanIndex) else None
        label = index.pieces
        size = np.bincount(np.maximum(label, 0), weight)
        own = size[label[items.seed(mark)]]
        return ((size >= own / _ALIKE) & (size <= own * _ALIKE))[label] & (label >= 0)
    if not isinstance(index, ScanIndex):
        raise BadInput(f"'{mark.by}' needs a mesh; in a cloud use brush, outline or whole island.", field="marks")
    if mark.by == "zone":
        if zone is None:
            raise BadArgument("A zone cannot be read here; use another rule.", field="marks")
        items.seed(mark)
        out[zone(index, mark)] = True
        return out
    if mark.by == "up to a crease":
        angle = _CREASE_DEG if mark.angle_deg is None else mark.angle_deg
        queue = np.empty(len(out), np.int32)
        _to_crease(
            items.seed(mark), index.steady_normals, index.neighbours, float(np.cos(np.radians(angle))), out, queue
        )
        return out
    items.seed(mark)
    out[gather(index, mark.places[0], mark.by, mark.angle_deg, normal=mark.normal).facets] = True
    return out


_MOST_KEPT = 30


def select(
    index: ScanIndex | CloudIndex,
    marks: list[Mark],
    progress: Progress = silent,
    zone: Zone | None = None,
    begun: np.ndarray | None = None,
) -> np.ndarray:
    """Mask of the facets (of a mesh) or points (of a cloud) that the marks select, one after the other.

    ``zone`` : reads the facets of the surface a mark lies on. ``begun`` : mask of what is selected before the first.
    What the first marks gave is kept, so that another mark costs only itself. Raises `BadInput` where a marked place
    is off the scan, `BadArgument` for a mark that lacks what it needs.
    """
    items = _Items(index)
    mask = np.zeros(len(items.at), bool) if begun is None else begun
    kept = index.marked
    changing = ("invert", "grow", "shrink")
    if sum(m.rings for m in marks if m.by in changing[1:]) > _MOST_RINGS:
        raise BadArgument(f"Marks may grow and shrink by {_MOST_RINGS:,} rings in all; take some out.", field="marks")
    key, last = "" if begun is None else hashlib.sha256(np.packbits(begun).tobytes()).hexdigest(), None
    for k, mark in enumerate(marks):
        progress(k / len(marks), "Resolving the marks")
        if mark == last and mark.by not in changing:
            continue  # the same mark again says nothing new
        last = mark
        key = hashlib.sha256((key + json.dumps(asdict(mark))).encode()).hexdigest()
        known = kept.get(key)
        if known is not None:
            mask = known
            continue
        _need(mark, 0)
        new = _one(items, mark, mask, zone, progress)
        if mark.by in ("invert", "grow", "shrink"):
            mask = new
        elif mark.how == "add":
            mask = mask | new
        elif mark.how == "take away":
            mask = mask & ~new
        else:
            mask = mask & new
        kept[key] = mask
        while len(kept) > _MOST_KEPT:
            kept.popitem(last=False)
    return mask
