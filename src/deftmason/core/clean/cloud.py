"""Clouds made fit to use: noise told from surface, points thinned, several clouds made one, normals found.

Everything looks at each point's neighbours within a radius of a few spacings (`Cells`), so time grows with the number
of points only.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadArgument, BadInput
from ..progress import Progress, silent
from ..scan.cells import Cells, spacing_of
from ..scan.mesh import PointCloud

__all__ = ["NoiseFound", "find_noise", "thin", "combine", "with_normals", "cloud_noise"]

_LOOK = 4.0  # spacings a neighbourhood reaches
_FEWEST = 5  # neighbours that make a plane


@dataclass(frozen=True)
class NoiseFound:
    """``off`` (n,) points off the local plane; ``clumps`` (n,) points of small clumps apart from the rest; scatter in
    mm.
    """

    off: np.ndarray
    clumps: np.ndarray
    scatter: float

    @property
    def goes(self) -> np.ndarray:
        return self.off | self.clumps


def cloud_noise(cells: Cells) -> float:
    """The cloud's scatter across its own surface: median of the local planes' residual, mm."""
    p = cells.planes()
    ok = p["count"] >= _FEWEST
    return float(np.median(np.sqrt(p["least"][ok]))) if ok.any() else 0.0


def find_noise(
    cloud: PointCloud, *, strictness: float = 4.0, smallest_clump: int = 40, progress: Progress = silent
) -> NoiseFound:
    """Points that stand off the surface around them, and clumps apart from everything.

    A point goes when its distance to the plane through its neighbours exceeds ``strictness`` times their own scatter
    (after Rusu et al. 2008, *Towards 3D point cloud based object maps*, with the plane's scatter in place of the mean
    distance, so that edges and uneven density do not count as noise). Done twice, the second time without what
    went the first, so that neighbours of outliers are judged by the surface alone.
    """
    if not 1 <= strictness <= 50:
        raise BadArgument("The limit is between 1 and 50 times the local scatter.", field="strictness")
    n = len(cloud.points)
    if n < 20:
        raise BadInput("Fewer than 20 points cannot tell noise from surface; bring a larger cloud.")
    progress(0.02, "Measuring the spacing")
    spacing = spacing_of(cloud.points)
    if spacing <= 0:
        raise BadInput("Most points lie at the same places; thin the cloud first.")
    cells = Cells(cloud.points, _LOOK * spacing)
    off, floor = np.zeros(n, bool), 0.0
    for turn in range(2):
        progress(0.2 + 0.3 * turn, "Comparing points with their neighbours")
        p = cells.planes(off if turn else None)
        enough = p["count"] >= _FEWEST
        height = np.abs(np.einsum("ij,ij->i", p["mean"], p["normal"]))
        floor = float(np.median(np.sqrt(p["least"][enough]))) if enough.any() else 0.0
        limit = strictness * np.maximum(np.sqrt(p["least"]), floor)
        # Far from the neighbours' plane, or so far out that there is no plane but the rest is dense.
        off = enough & (height > limit)
    lonely = ~enough & ~off
    progress(0.8, "Looking for clumps apart")
    label = cells.pieces(off)
    sizes = np.bincount(label[label >= 0], minlength=1)
    small = sizes < min(smallest_clump, max(2, int(0.2 * n)))
    small[np.argmax(sizes)] = False
    clumps = np.zeros(n, bool)
    ok = label >= 0
    clumps[ok] = small[label[ok]]
    clumps |= lonely & ok & (p["count"] == 0)
    progress(1.0)
    return NoiseFound(off, clumps & ~off, floor)


def keep_points(cloud: PointCloud, keep: np.ndarray) -> PointCloud:
    """The cloud's points where ``keep``, with what belongs to them."""
    some = lambda a: None if a is None else np.asarray(a)[keep]  # noqa: E731
    return PointCloud(np.asarray(cloud.points)[keep], some(cloud.normals), some(cloud.colors))


def thin(
    cloud: PointCloud, spacing: float, *, flat_spacing: float | None = None, progress: Progress = silent
) -> PointCloud:
    """Fewer points, none nearer than ``spacing`` to another; up to ``flat_spacing`` apart where the surface is flat.

    Between the two, the distance is that at which a chord leaves the local bend by the cloud's own scatter.
    Greedy dart throwing over the points themselves (Cook 1986), in a fixed order, so that replay gives the same.
    """
    if not 0 < spacing < np.inf:
        raise BadArgument("The spacing must be above 0 mm.", field="spacing")
    if flat_spacing is not None and flat_spacing < spacing:
        raise BadArgument("On flat places the spacing cannot be finer than elsewhere.", field="flat_spacing")
    if flat_spacing is not None and flat_spacing > 12 * spacing:
        raise BadArgument("On flat places the spacing can be at most 12 times that elsewhere.", field="flat_spacing")
    points = cloud.points
    reach = np.full(len(points), float(spacing))
    progress(0.1, "Sorting the points")
    if flat_spacing is not None and flat_spacing > spacing:
        look = _LOOK * spacing_of(points)
        p = Cells(points, look).planes()
        scatter = max(float(np.median(np.sqrt(p["least"]))), 1e-6)
        # Within a disc of radius r on a surface of curvature k, the heights spread by about k r²/7.
        excess = np.sqrt(np.maximum(p["least"] - scatter**2, 0))
        bend = 7 * excess / look**2
        reach = np.clip(np.sqrt(8 * 2 * scatter / np.maximum(bend, 1e-9)), spacing, flat_spacing)
        reach[p["count"] < _FEWEST] = spacing
    progress(0.5, "Choosing points")
    cells = Cells(points, float(reach.max()))
    first = np.random.default_rng(7).permutation(len(points))
    kept = cells.thinned(reach, first)
    progress(1.0)
    return keep_points(cloud, kept)


def combine(
    clouds: list[PointCloud], *, layer: float | None = None, progress: Progress = silent
) -> tuple[PointCloud, int, float]:
    """One cloud of several; a later cloud's point over an earlier one's surface is dropped as doubled.

    Parameters
    ----------
    layer : how far apart, across the surface, two layers still count as one (mm); none: six times their scatter.

    Returns
    -------
    The cloud, how many doubled points were dropped, and the layer distance used.
    """
    from scipy.spatial import cKDTree

    if not clouds:
        raise BadArgument("Give at least one cloud.", field="scans")
    if layer is not None and not layer > 0:
        raise BadArgument("The layer distance must be above 0 mm.", field="layer")
    sided = all(c.normals is not None for c in clouds)
    full = [with_normals(c, orient=False) if c.normals is None else c for c in clouds]
    if layer is None:
        layer = 6 * max(cloud_noise(Cells(c.points, _LOOK * max(spacing_of(c.points), 1e-9))) for c in full)
    parts, dropped = [full[0]], 0
    for k, c in enumerate(full[1:], 1):
        progress(k / len(full), f"Combining cloud {k + 1} of {len(full)}")
        points = np.concatenate([p.points for p in parts])
        normals = np.concatenate([p.normals for p in parts])
        side = 1.5 * spacing_of(points)
        tree = cKDTree(points)
        d, i = tree.query(
            c.points, k=min(4, len(points)), distance_upper_bound=float(np.hypot(side, layer)), workers=-1
        )
        d, i = (d[:, None], i[:, None]) if d.ndim == 1 else (d, i)
        hit = np.isfinite(d)
        j = np.where(hit, i, 0)
        gap = c.points[:, None, :] - points[j]
        across = np.abs(np.einsum("nkj,nkj->nk", gap, normals[j]))
        along = np.sqrt(np.maximum(d * d - across * across, 0, where=hit, out=np.full(d.shape, np.inf)))
        turn = np.einsum("nkj,nj->nk", normals[j], np.asarray(c.normals))
        same = (turn if sided else np.abs(turn)) > 0.5  # a thin wall's two faces are no doubled layer
        doubled = (hit & (across <= layer) & (along <= side) & same).any(axis=1)
        dropped += int(doubled.sum())
        parts.append(keep_points(c, ~doubled))
    colors = [p.colors for p in parts]
    whole = PointCloud(
        np.concatenate([p.points for p in parts]),
        np.concatenate([np.asarray(p.normals) for p in parts]) if sided else None,
        np.concatenate([np.asarray(c) for c in colors]) if all(c is not None for c in colors) else None,
    )
    return whole, dropped, float(layer)


def with_normals(cloud: PointCloud, *, orient: bool = True, progress: Progress = silent) -> PointCloud:
    """The cloud with unit normals across its surface, turned the same way round where ``orient``.

    Directions from the neighbours' least axis; the side by a spanning tree over points that face most alike (Hoppe et
    al. 1992, *Surface reconstruction from unorganized points*), each piece outward by the side its extent lies on.
    """
    points = cloud.points
    spacing = spacing_of(points)
    if spacing <= 0:
        raise BadInput("Most points lie at the same places; thin the cloud first.")
    progress(0.1, "Finding normals")
    p = Cells(points, _LOOK * spacing).planes()
    normals = p["normal"]
    bad = np.linalg.norm(normals, axis=1) < 0.5
    normals[bad] = [0, 0, 1]
    if orient:
        progress(0.5, "Turning normals the same way")
        normals = _oriented(points, normals, spacing)
    progress(1.0)
    return PointCloud(points, normals, cloud.colors)


def _oriented(points: np.ndarray, normals: np.ndarray, spacing: float) -> np.ndarray:
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
    from scipy.spatial import cKDTree

    # A thinned set carries the tree; the rest follow their nearest.
    reach = np.full(len(points), 2.0 * spacing)
    kept = np.nonzero(Cells(points, 2.0 * spacing).thinned(reach, np.arange(len(points))))[0]
    tree = cKDTree(points[kept])
    q, n = points[kept], normals[kept].copy()
    d, i = tree.query(q, k=min(9, len(kept)), distance_upper_bound=6 * spacing, workers=-1)
    row = np.repeat(np.arange(len(kept)), d.shape[1])
    ok = np.isfinite(d.ravel()) & (i.ravel() != row)
    row, col = row[ok], i.ravel()[ok]
    cost = 1.0001 - np.abs(np.einsum("ij,ij->i", n[row], n[col]))
    graph = coo_matrix((cost, (row, col)), shape=(len(kept), len(kept))).tocsr()
    mst = minimum_spanning_tree(graph)
    count, label = connected_components(mst, directed=False)
    for c in range(count):
        mine = np.nonzero(label == c)[0]
        centre = q[mine].mean(axis=0)
        root = mine[np.argmax(np.linalg.norm(q[mine] - centre, axis=1))]
        if n[root] @ (q[root] - centre) < 0:
            n[root] = -n[root]
        order, before = breadth_first_order(mst, root, directed=False)
        sign = np.ones(len(kept))
        agree = np.sign(np.einsum("ij,ij->i", n[order[1:]], n[before[order[1:]]]))
        for v, b, s in zip(order[1:].tolist(), before[order[1:]].tolist(), agree.tolist()):
            sign[v] = sign[b] * (s or 1.0)
        n[mine] *= sign[mine, None]
    near = tree.query(points, workers=-1)[1]
    flip = np.einsum("ij,ij->i", normals, n[near]) < 0
    return np.where(flip[:, None], -normals, normals)
