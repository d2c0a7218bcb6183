"""What one scan shows of the part: even points with normals, how far each is from where seeing ended, from where it was seen.

The slab and loose scraps are set aside; they move with the room, not with the part.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..clean.background import find_slab, loose_scraps, slab_items
from ..clean.cloud import with_normals
from ..clean.triangles import compact
from ..errors import BadInput
from ..scan.cells import Cells, spacing_of
from ..scan.mesh import PointCloud, TriMesh

__all__ = ["Seen", "see", "even_sample"]

_LOOK = 3.0  # spacings of a neighbourhood that tells normal and rim
_RIM_ASIDE = 0.27  # of its radius: how far a rim's neighbours lie to one side (a straight rim: 0.42)
_ENOUGH = 150_000  # points that are worked with; more say no more of a placement
_FEWEST = 60


@dataclass(frozen=True)
class Seen:
    """A scan made ready for joining. Lengths in mm, everything in the scan's own coordinates.

    Attributes
    ----------
    points, normals : (n, 3) places on the part and which way it faces there, over a few spacings.
    rim : (n,) distance from each point to where seeing ended, cut off at 12 spacings.
    spacing : median distance from a point to its nearest other.
    noise : scatter across the local planes.
    toward : (3,) direction from the part to the scanner where one explains all normals, else None.
    dropped : what was set aside: "slab", "scraps".
    area : of what is shown, mm².
    """

    points: np.ndarray
    normals: np.ndarray
    rim: np.ndarray
    spacing: float
    noise: float
    toward: np.ndarray | None
    dropped: tuple[str, ...]
    area: float

    @cached_property
    def tree(self):
        from scipy.spatial import cKDTree

        return cKDTree(self.points, balanced_tree=False, compact_nodes=True)

    @property
    def centre(self) -> np.ndarray:
        return self.points.mean(axis=0)

    @property
    def span(self) -> float:
        """Diagonal of the bounds, mm."""
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))


def see(scan: TriMesh | PointCloud, name: str = "scan", *, keep_slab: bool = False) -> Seen:
    """Make a scan ready for joining. Raises `BadInput` where too little of a part is in it."""
    dropped: list[str] = []
    if isinstance(scan, TriMesh):
        scan = _one_vertex_a_place(scan)
    if not keep_slab:
        scan, dropped = _without_room(scan)
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
    n = found["normal"]
    flip = np.einsum("ij,ij->i", n, given) < 0
    n = np.where(flip[:, None], -n, n)
    few = found["count"] < 4
    n = np.where(few[:, None] | (np.linalg.norm(n, axis=1) < 0.5)[:, None], given, n)
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
    return Seen(
        np.ascontiguousarray(points, float), np.ascontiguousarray(n), rim, spacing, noise, _toward(n), tuple(dropped), area
    )  # fmt: skip


def _one_vertex_a_place(mesh: TriMesh) -> TriMesh:
    used = np.zeros(len(mesh.vertices), bool)
    used[mesh.faces] = True
    if used.all():
        return mesh
    v, f = compact(mesh.vertices, mesh.faces)
    return TriMesh(v, f)


def _without_room(scan: TriMesh | PointCloud) -> tuple[TriMesh | PointCloud, list[str]]:
    """The scan without the slab it stood on and without scraps."""
    dropped = []
    n = len(scan.faces) if isinstance(scan, TriMesh) else len(scan.points)
    goes = np.zeros(n, bool)
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
    scraps = loose_scraps(scan, ~goes) if isinstance(scan, TriMesh) else _loose_clumps(scan.points, ~goes)
    if scraps.any():
        dropped.append("scraps")
    goes = goes | scraps
    if not goes.any():
        return scan, dropped
    if isinstance(scan, TriMesh):
        v, f = compact(scan.vertices, scan.faces[~goes])
        return TriMesh(v, f), dropped
    normals = None if scan.normals is None else np.asarray(scan.normals)[~goes]
    return PointCloud(scan.points[~goes], normals), dropped


def _loose_clumps(points: np.ndarray, keep: np.ndarray) -> np.ndarray:
    """Among the kept points, those of clumps below 1 % of them."""
    ids = np.nonzero(keep)[0]
    spacing = spacing_of(points[ids])
    label = Cells(points[ids], max(4 * spacing, 1e-9)).pieces()
    sizes = np.bincount(label)
    small = sizes < 0.01 * len(ids)
    small[np.argmax(sizes)] = False
    out = np.zeros(len(points), bool)
    out[ids] = small[label]
    return out


def _toward(normals: np.ndarray) -> np.ndarray | None:
    """The direction that all normals lean to, found by pushing the worst ones in (a perceptron's steps)."""
    n = normals[:: max(1, len(normals) // 4000)]
    v = n.mean(axis=0)
    v /= max(np.linalg.norm(v), 1e-300)
    for k in range(60):
        h = n @ v
        worst = n[h <= np.quantile(h, 0.03)].mean(axis=0)
        v = v + 0.4 / (1 + 0.1 * k) * worst
        v /= max(np.linalg.norm(v), 1e-300)
    return v if np.mean(n @ v > -0.05) > 0.97 else None


def even_sample(points: np.ndarray, pitch: float, seed: int = 2) -> np.ndarray:
    """Indices of points no two of which are nearer than ``pitch``, spread evenly, in an order of chance."""
    order = np.random.default_rng(seed).permutation(len(points))
    kept = Cells(points, pitch).thinned(np.full(len(points), pitch), order)
    return order[kept[order]]
