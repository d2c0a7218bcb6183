"""What one scan shows of the part: even points with normals, how far each is from where seeing ended, from where it was
seen.

The slab and loose scraps are set aside; they move with the room, not with the part.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numba import njit, prange

from ..clean.background import find_slab, slab_items
from ..clean.cloud import with_normals
from ..errors import BadInput
from ..scan.cells import Cells, spacing_of
from ..scan.mesh import PointCloud, TriMesh
from ..scan.topology import compact, components, facet_neighbours
from .ends import Ends, ends_of
from .even import even_sample
from .eye import Eye, find_eye
from .nearest import Nearest
from .raster import raster_eye

__all__ = ["Seen", "see", "lighter"]

_LOOK = 3.0  # spacings of a neighbourhood that tells normal and rim
_RIM_ASIDE = 0.27  # of its radius: how far a rim's neighbours lie to one side (a straight rim: 0.42)
_ALIKE = (0.85, 0.9, 0.94, 0.96)  # cosine above which two normals belong to one smooth surface, round by round
_ENOUGH = 150_000  # points that are worked with; more say no more of a placement
_FEWEST = 60
_FEW = 10  # facets or points of a piece that shows nothing
_LARGE = 0.01  # of a scan: pieces that tell how far it reaches


@dataclass(frozen=True, eq=False)
class Seen:
    """A scan made ready for joining. Lengths in mm, everything in the scan's own coordinates.

    Attributes
    ----------
    points, normals : (n, 3) places on the part and which way it faces there, over a few spacings.
    rough : (n,) scatter across the plane through each point's neighbours: the noise where flat, more at bends and
        edges.
    rim : (n,) distance from each point to where seeing ended, cut off at 12 spacings.
    spacing : median distance from a point to its nearest other.
    noise : scatter across the local planes.
    eye : where it was seen from, where one place explains all of it.
    dropped : what was set aside: "slab", "scraps".
    area : of what is shown, mm².
    """

    points: np.ndarray
    normals: np.ndarray
    rough: np.ndarray
    rim: np.ndarray
    spacing: float
    noise: float
    eye: Eye | None
    dropped: tuple[str, ...]
    area: float
    room: np.ndarray | None = None  # (k, 3) places of what was set aside as the slab: seen too
    part: np.ndarray | None = None  # (facets or points of the scan,) which show the part; None: all
    picks: dict[int, np.ndarray] = field(default_factory=dict, repr=False)  # places to settle by, by how many
    told_ends: Ends | None = field(default=None, repr=False)  # of several placed scans as one

    @cached_property
    def nearest(self) -> Nearest:
        """Answers which of the points is nearest to a place."""
        return Nearest.of(self.points, self.spacing)

    @cached_property
    def ends(self) -> Ends:
        """Where its faces end."""
        if self.told_ends is not None:
            return self.told_ends
        return ends_of(self.points, self.normals, self.spacing, self.nearest, self.eye)

    @cached_property
    def centre(self) -> np.ndarray:
        return self.points.mean(axis=0)

    @cached_property
    def span(self) -> float:
        """Diagonal of the bounds, mm."""
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))


def see(scan: TriMesh | PointCloud, name: str = "scan", *, keep_slab: bool = False) -> Seen:
    """Make a scan ready for joining. Raises `BadInput` where too little of a part is in it."""
    dropped: list[str] = []
    shows: np.ndarray | None = None
    if isinstance(scan, TriMesh):
        scan = _one_vertex_a_place(scan)
    known = raster_eye(scan) if isinstance(scan, TriMesh) else None
    room = None
    if not keep_slab:
        scan, dropped, shows, room = _without_room(scan)
    if isinstance(scan, TriMesh):
        points, given, area = scan.vertices, scan.vertex_normals, float(scan.areas.sum())
    else:
        if scan.normals is None:
            scan = with_normals(scan)
        points, given, area = scan.points, np.asarray(scan.normals), None
    if len(points) < _FEWEST:
        raise BadInput(f"{name}: fewer than {_FEWEST} points are left of the part; bring a fuller scan.", field="scans")
    rng = np.random.default_rng(1)
    if len(points) > _ENOUGH:
        some = np.sort(rng.choice(len(points), _ENOUGH, replace=False))
        points, given = points[some], given[some]
    spacing = spacing_of(points)
    if not spacing > 0:
        raise BadInput(f"{name}: most of its points lie at the same place; thin the scan first.", field="scans")
    cells = Cells(points, _LOOK * spacing)
    for _ in range(4):  # points that lie by chance need a wider look than even ones
        found = cells.planes()
        if np.median(found["count"]) >= 12:
            break
        cells = Cells(points, 1.4 * cells.radius)
    few = found["count"] < 4
    n = _calm(cells, found, given, few, from_mesh=area is not None)
    aside = found["mean"] - np.einsum("ij,ij->i", found["mean"], n)[:, None] * n
    at_rim = few | (np.linalg.norm(aside, axis=1) > _RIM_ASIDE * cells.radius)
    reach = 12 * spacing
    rim = np.full(len(points), reach)
    if at_rim.any():
        from scipy.spatial import cKDTree

        d = cKDTree(points[at_rim]).query(points, distance_upper_bound=reach, workers=-1)[0]
        rim = np.minimum(d, reach)
    flat = found["least"] < 0.02 * np.maximum(found["middle"], 1e-300)
    least = found["least"][flat & ~few] if (flat & ~few).any() else found["least"]
    noise = float(np.sqrt(max(np.median(least), 0.0)))
    if area is None:
        area = float(len(points) * np.pi * cells.radius**2 / max(float(np.median(found["count"])) + 1, 1.0))
    crowd = np.where(rim > cells.radius, found["count"] + 1.0, np.nan)
    eye = find_eye(points, n, spacing, area, crowd, known)
    return Seen(
        np.ascontiguousarray(points, float),
        np.ascontiguousarray(n),
        np.sqrt(found["least"]),
        rim,
        spacing,
        noise,
        eye,
        tuple(dropped),
        area,
        room,
        shows,
    )


def _calm(cells: Cells, found: dict, given: np.ndarray, few: np.ndarray, *, from_mesh: bool) -> np.ndarray:
    """Normals without noise, sharp at edges: each the mean of those around that face alike, a few times over
    (Zheng et al. 2011, *Bilateral normal filtering for mesh denoising*, on points)."""
    n = np.array(given, float)
    if not from_mesh:
        n = found["normal"]
        n = np.where((np.einsum("ij,ij->i", n, given) < 0)[:, None], -n, n)
        n = np.where(few[:, None] | (np.linalg.norm(n, axis=1) < 0.5)[:, None], given, n)
    n = np.ascontiguousarray(n[cells.order])
    for alike in _ALIKE:
        out = np.empty_like(n)
        _filter(cells.points, n, cells.cell, cells.runs, cells.radius**2, alike, out)
        n = out
    back = np.empty_like(n)
    back[cells.order] = n
    return back


@njit(cache=True, parallel=True)
def _filter(p, n, cell, runs, r2, alike, out):  # pragma: no cover - compiled
    for i in prange(p.shape[0]):
        c = cell[i]
        x = y = z = 0.0
        for k in range(9):
            for j in range(runs[c, k, 0], runs[c, k, 1]):
                dx, dy, dz = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
                d2 = dx * dx + dy * dy + dz * dz
                if d2 > r2:
                    continue
                t = n[i, 0] * n[j, 0] + n[i, 1] * n[j, 1] + n[i, 2] * n[j, 2]
                if t < alike:
                    continue
                w = (t - alike) * (t - alike) * (1.2 - d2 / r2)
                x += w * n[j, 0]
                y += w * n[j, 1]
                z += w * n[j, 2]
        s = np.sqrt(x * x + y * y + z * z)
        if s > 1e-12:
            out[i, 0], out[i, 1], out[i, 2] = x / s, y / s, z / s
        else:
            out[i, 0], out[i, 1], out[i, 2] = n[i, 0], n[i, 1], n[i, 2]


def _one_vertex_a_place(mesh: TriMesh) -> TriMesh:
    used = np.zeros(len(mesh.vertices), bool)
    used[mesh.faces] = True
    if used.all():
        return mesh
    v, f = compact(mesh.vertices, mesh.faces)
    return TriMesh(v, f)


def _without_room(
    scan: TriMesh | PointCloud,
) -> tuple[TriMesh | PointCloud, list[str], np.ndarray | None, np.ndarray | None]:
    """The scan without the slab it stood on and without scraps, what was dropped, which facets or points are left, and
    places of the slab.
    """
    dropped = []
    n = len(scan.faces) if isinstance(scan, TriMesh) else len(scan.points)
    goes, room = np.zeros(n, bool), None
    try:
        slab = find_slab(scan)
    except BadInput:
        slab = None
    if slab is not None:
        goes = slab_items(scan, slab)
        if goes.mean() > 0.97:
            goes[:] = False
        else:
            dropped.append("slab")
            room = scan.vertices[np.unique(scan.faces[goes])] if isinstance(scan, TriMesh) else scan.points[goes]
    scraps = _strays(scan, ~goes)
    if scraps.any():
        dropped.append("scraps")
    goes = goes | scraps
    if not goes.any():
        return scan, dropped, None, None
    if isinstance(scan, TriMesh):
        v, f = compact(scan.vertices, scan.faces[~goes])
        return TriMesh(v, f), dropped, ~goes, room
    normals = None if scan.normals is None else np.asarray(scan.normals)[~goes]
    return PointCloud(scan.points[~goes], normals), dropped, ~goes, room


def _strays(scan: TriMesh | PointCloud, keep: np.ndarray) -> np.ndarray:
    """Among the kept facets or points, those of pieces of a few, or that hang far from all the rest.

    A small piece amid the part stays: it may be what tells the ways the part could lie apart.
    """
    ids = np.nonzero(keep)[0]
    out = np.zeros(len(keep), bool)
    if not len(ids):
        return out
    if isinstance(scan, TriMesh):
        label, at = components(facet_neighbours(scan.faces[ids], len(scan.vertices))), scan.centroids[ids]
    else:
        at = scan.points[ids]
        label = Cells(at, max(4 * spacing_of(at), 1e-9)).pieces()
    sizes = np.bincount(label)
    large = sizes >= _LARGE * len(ids)
    large[np.argmax(sizes)] = True
    low, high = np.full((len(sizes), 3), np.inf), np.full((len(sizes), 3), -np.inf)
    np.minimum.at(low, label, at)
    np.maximum.at(high, label, at)
    least, most = low[large].min(axis=0), high[large].max(axis=0)
    slack = 0.02 * float(np.linalg.norm(most - least))
    outside = ((low < least - slack) | (high > most + slack)).any(axis=1)
    out[ids] = (~large & ((sizes <= _FEW) | outside))[label]
    return out


def lighter(seen: Seen, most: int = 16_000) -> Seen:
    """The same scan by fewer, even points, for what needs only rough answers; as it is where it has no more."""
    if len(seen.points) <= most:
        return seen
    pitch = float(np.sqrt(seen.area / (0.7 * most)))
    i = np.sort(even_sample(seen.points, pitch))
    return Seen(
        seen.points[i],
        seen.normals[i],
        seen.rough[i],
        seen.rim[i],
        spacing_of(seen.points[i]),
        seen.noise,
        seen.eye,
        seen.dropped,
        seen.area,
    )
