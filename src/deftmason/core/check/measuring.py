"""A whole check: a scan measured to a target within its limits, and what it says.

The one place where screens, the headless command and reports get a check from.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..progress import Progress, part, silent
from ..scan.mesh import PointCloud, TriMesh
from .again import Answers, measured_again
from .answers import Distances, within_limits
from .deviation import ModelSurface
from .places import finer
from .position import position_of
from .statistics import Band, Rule, histogram, judged, seen_within, summary, table
from .targets import Target
from .worst import worst_regions

__all__ = ["Checked", "Limits", "ModelMap", "features_of", "measure", "model_map", "spacing_of"]

_SAME_PLACE = 3.0  # spacings within which what is ignored on one scan is ignored on another
_SHOWN = 60_000  # facets of the model that its own map has, about


@dataclass(frozen=True)
class Limits:
    """What is measured and judged; mm and degrees. ``near_edges``: places nearer to an edge of the model are not
    answered. ``fineness``: facets of the scan longer than this are measured between their corners too.
    """

    tolerance: float = 0.1
    low: float | None = None
    reach: float | None = None
    angle_deg: float | None = None
    near_edges: float | None = None
    fineness: float | None = None
    rules: tuple[Rule, ...] = ()

    @property
    def band(self) -> Band:
        return Band.of(self.tolerance, self.low)


@dataclass(frozen=True)
class Checked:
    """``scan`` as it was measured (finer than given where a fineness was asked; the given points first, ``own`` of
    them, all scans' where they are several), what each place answered, and the summary in the contract's keys and more.
    """

    scan: TriMesh | PointCloud
    own: int
    found: Distances
    summary: dict
    warnings: list[str] = field(default_factory=list)

    @property
    def points(self) -> np.ndarray:
        return self.scan.vertices if isinstance(self.scan, TriMesh) else self.scan.points


def features_of(names: list[str]) -> list[str]:
    """The step that made each face, by the face's name: what stands before its first stroke."""
    return [n.partition("/")[0] for n in names]


def measure(
    scan: TriMesh | PointCloud,
    target: Target,
    limits: Limits,
    *,
    edges: np.ndarray | None = None,
    ignored: np.ndarray | None = None,
    zones: tuple[np.ndarray, list[str], list[str]] | None = None,
    before: Answers | None = None,
    first: tuple[int, int] | None = None,
    progress: Progress = silent,
) -> Checked:
    """Measure a scan to a target, both in the same coordinates.

    Parameters
    ----------
    edges : (k, 3) places along the model's edges, dense enough for ``limits.near_edges``.
    ignored : mask of the scan's points (or, of a mesh, facets) that are not to answer.
    zones : a number (facets,) for each facet of the scan into the names and kinds of its surfaces, −1 for none.
    before : what was measured last of this scan; where only a part of the body changed since, only places near that
        are asked anew.
    first : where it is several scans side by side, how many points and facets the first has: what is ignored and the
        zones are about that one. What is ignored on it is ignored of the others where they lie on it.

    Raises
    ------
    BadArgument : an angle limit where the points have no normals.
    """
    given = len(scan.vertices if isinstance(scan, TriMesh) else scan.points)
    own, facets = first or (given, len(scan.faces) if isinstance(scan, TriMesh) else 0)
    spacing = spacing_of(scan)
    mesh = finer(scan, limits.fineness)[0] if limits.fineness and isinstance(scan, TriMesh) else scan
    points = np.asarray(mesh.vertices if isinstance(mesh, TriMesh) else mesh.points, float)
    asked = limits.angle_deg or target.spread is None  # what has no area of its own takes its sign from them
    normals = (mesh.angle_normals if isinstance(mesh, TriMesh) else mesh.normals) if asked else None
    found = _answers(target, points, normals, limits, before, part(progress, 0.0, 0.7))
    if ignored is not None and isinstance(scan, TriMesh) and len(ignored) == facets:
        touched = np.zeros(own, bool)
        touched[scan.faces[:facets][ignored].ravel()] = True
        ignored = touched
    if ignored is not None:
        ignored = _spread_over(points[:given], own, ignored, _SAME_PLACE * spacing)
        _quiet(found, _spread_over(points, given, ignored))
    if limits.near_edges and edges is not None and len(edges):
        from scipy.spatial import cKDTree

        near = cKDTree(edges).query(points, distance_upper_bound=limits.near_edges, workers=-1)[0]
        _quiet(found, np.isfinite(near))
    progress(0.75, "Counting")
    s = summary(target, points, found, limits.tolerance, min(spacing, limits.fineness or np.inf), limits.low)
    s["own_points"] = given
    s["steps"] = _by_step(points, found, target, limits.band)
    s["zones"] = _by_zone(points[:own], found.distance[:own], scan, zones, limits.band)
    progress(0.85, "Looking for the worst places")
    links = mesh.faces if isinstance(mesh, TriMesh) else None
    band = limits.band
    s["regions"] = [vars(r) for r in worst_regions(points, links, found, target.names, band.high, band.low)]
    at = position_of(points, found.normal, found.distance)
    s["position"] = None if at is None else vars(at)
    s["rules"] = judged(list(limits.rules), found, target.names)
    wide = min(limits.reach or np.inf, max(5 * max(limits.band.high, limits.band.low), 1e-3 * target.size))
    s["histogram"] = histogram(found.distance, wide)
    progress(1.0, "Measured")
    return Checked(mesh, given, found, s, target.warnings())


def _answers(target: Target, points, normals, limits: Limits, before: Answers | None, progress: Progress) -> Distances:
    if before is not None and isinstance(target, ModelSurface):
        found, _ = measured_again(target, points, before, progress)
        return within_limits(found, normals, limits.reach, limits.angle_deg)
    return target.distances(points, normals, reach=limits.reach, angle_deg=limits.angle_deg, progress=progress)


def _spread_over(points: np.ndarray, own: int, mask: np.ndarray, within: float = np.inf) -> np.ndarray:
    """A mask of the first ``own`` points for all: others take their nearest's ``within`` mm."""
    if len(points) == own:
        return mask
    from scipy.spatial import cKDTree

    at = cKDTree(points[:own]).query(points[own:], distance_upper_bound=within, workers=-1)[1]
    return np.concatenate([mask, np.append(mask, False)[at]])


def _quiet(found: Distances, which: np.ndarray) -> None:
    found.distance[which] = np.nan
    found.face[which] = -1


def _by_step(points: np.ndarray, found: Distances, target: Target, band: Band) -> list[dict]:
    feature = features_of(target.names)
    steps = list(dict.fromkeys(feature))
    if len(steps) == len(feature):
        return []
    number = np.append([steps.index(f) for f in feature], -1)
    return table(points, found.distance, number[found.face], steps, ["step"] * len(steps), band)


def _by_zone(points: np.ndarray, distance: np.ndarray, scan, zones, band: Band) -> list[dict]:
    if zones is None or not isinstance(scan, TriMesh):
        return []
    labels, names, kinds = zones
    of_point = np.full(len(points), -1)
    for k in range(3):
        of_point[scan.faces[: len(labels), k]] = labels
    return [r for r in table(points, distance, of_point, names, kinds, band) if r["points"]]


def spacing_of(scan: TriMesh | PointCloud) -> float:
    """How far a scan's places lie from their neighbours, mm; 0 of a single one."""
    if isinstance(scan, TriMesh):
        return scan.median_edge
    from scipy.spatial import cKDTree

    some = scan.points[:: max(1, len(scan.points) // 5000)]
    return float(np.median(cKDTree(scan.points).query(some, k=2)[0][:, 1])) if len(scan.points) > 1 else 0.0


@dataclass(frozen=True)
class ModelMap:
    """A deviation shown on the model: its facets (``vertices`` (n, 3), ``faces`` (m, 3)), the nearest answered place's
    ``distance`` (n,) mm, NaN where no scan is near, and the ``part`` (n,) each vertex belongs to.
    """

    vertices: np.ndarray
    faces: np.ndarray
    distance: np.ndarray
    part: np.ndarray


def model_map(target: Target, points: np.ndarray, found: Distances, spacing: float) -> ModelMap | None:
    """What the answered places say of the model's own surface; None for a target without area."""
    spread = target.spread
    if spread is None:
        return None
    from scipy.spatial import cKDTree

    longest = np.sqrt(16 * float(spread.areas.sum()) / _SHOWN)
    count = len(spread.triangles)
    # Corners at one place of one part are one, so that facets are split alike on both sides of theirs.
    corners = spread.triangles.reshape(-1, 3)
    grid = np.round((corners - corners.min(axis=0)) / (1e-9 * max(target.size, 1e-12))).astype(np.int64)
    label = np.column_stack([np.repeat(spread.part, 3), grid])
    _, first, back = np.unique(label, axis=0, return_index=True, return_inverse=True)
    mesh, of = finer(TriMesh(corners[first], back.reshape(count, 3).astype(np.int32)), longest)
    part = np.zeros(len(mesh.vertices), np.int64)
    part[mesh.faces.ravel()] = np.repeat(spread.part[of], 3)
    ok = np.flatnonzero(np.isfinite(found.distance))
    values = np.full(len(mesh.vertices), np.nan)
    if len(ok):
        # The nearest place that the same part answered, where there is one near; else the nearest.
        near, at = cKDTree(points[ok]).query(
            mesh.vertices, k=min(6, len(ok)), distance_upper_bound=seen_within(spacing), workers=-1
        )
        near, at = near.reshape(len(values), -1), at.reshape(len(values), -1)
        there = np.isfinite(near)
        which = ok[np.where(there, at, 0)]
        same = there & (found.face[which] == part[:, None])
        pick = np.where(same.any(axis=1), same.argmax(axis=1), 0)
        rows = np.arange(len(values))
        values = np.where(there[:, 0], found.distance[which[rows, pick]], np.nan)
    return ModelMap(mesh.vertices, mesh.faces, values, part)
