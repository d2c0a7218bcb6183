"""The slab a part stood on, found as a plane that the rest of the scan lies above.

Random planes through scan places vote by the area they hold, and only those count that nearly everything else lies on
one side
of and that face the part: a part's own underside faces away from it (Fischler, Bolles 1981, for the drawing of lots).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..progress import Progress, silent
from ..scan.mesh import PointCloud, TriMesh

__all__ = ["Slab", "find_slab", "slab_items", "loose_scraps"]

_TRIES = 500
_SAMPLE = 6000
_LEAST_SHARE = 0.04  # of the scan's area that a slab holds at least
_ABOVE = 0.985  # of what is not the slab that lies above it
_ROUGH = 0.004  # of the span: what scatters more across is not flat
_SCRAP_SHARE = 0.01
_FLAT = 0.25  # of a slab's thickness: scatter of one that shows its sides
_SIDES = 0.6  # of its top, area of its sides that show at most
_WITH_SIDES = 0.12  # of the scan's area that its top then holds at least
_OUTLINE = 0.03  # of a slab's extent: so near its outline its own sides show below it
_THICK = 0.15  # of a slab's extent that its sides reach down at most


@dataclass(frozen=True)
class Slab:
    """``point``, unit ``normal`` toward the part, ``scatter`` mm across it, ``reach`` mm that still counts as slab."""

    point: np.ndarray
    normal: np.ndarray
    scatter: float
    reach: float

    def height(self, p: np.ndarray) -> np.ndarray:
        return (p - self.point) @ self.normal


def _items(scan: TriMesh | PointCloud) -> tuple[np.ndarray, np.ndarray | None, np.ndarray]:
    if isinstance(scan, TriMesh):
        return scan.centroids, scan.normals, scan.areas
    return scan.points, scan.normals, np.ones(len(scan.points))


def find_slab(scan: TriMesh | PointCloud, progress: Progress = silent) -> Slab:
    """The plane under the part. Raises `BadInput` where there is none.

    A cloud without normals is judged by extent alone: its slab must reach beyond what stands on it.
    """
    progress(0.05, "Looking for the slab")
    at, normals, weight = _items(scan)
    rng = np.random.default_rng(11)
    total = weight.sum()
    p = weight / total
    some = rng.choice(
        len(at),
        min(_SAMPLE, len(at)),
        replace=False if len(at) <= _SAMPLE else True,
        p=None if len(at) <= _SAMPLE else p,
    )
    q = at[some]
    n = None if normals is None else normals[some]
    w = weight[some] if len(at) <= _SAMPLE else np.ones(len(q))
    span = float(np.linalg.norm(np.ptp(q, axis=0)))
    thick = _ROUGH * span
    best, found = 0.0, None
    tri = rng.integers(0, len(q), (_TRIES, 3))
    for i, j, k in tri:
        normal = np.cross(q[j] - q[i], q[k] - q[i])
        size = np.linalg.norm(normal)
        if size < 1e-3 * thick * span:
            continue
        normal /= size
        h = (q - q[i]) @ normal
        on = np.abs(h) < thick
        if n is not None:
            on &= np.abs(n @ normal) > 0.85
        score = w[on].sum() / w.sum()
        if score <= best or score < 0.6 * _LEAST_SHARE:
            continue
        rest = np.abs(h) >= 2 * thick
        if not rest.any():
            continue
        up = (w[rest] * (h[rest] > 0)).sum() / w[rest].sum()
        if n is not None:
            if np.median(n[on] @ normal) < 0:
                normal, h, up = -normal, -h, 1 - up
            down = rest & (h < 0)
            if up < 0.9 and on.sum() > 20 and score > _WITH_SIDES and w[down].sum() < 1.5 * _SIDES * w[on].sum():
                side = np.zeros(len(h), bool)
                side[down] = _own_sides(q[on], q[down], h[down], q[h > 0], normal)
                left = rest & ~side
                up = (w[left] * (h[left] > 0)).sum() / max(w[left].sum(), 1e-300)
        elif up < 0.5:
            normal, up = -normal, 1 - up
        if up < 0.9:
            continue
        # A slab faces the part. What faces away is the part's own underside.
        if n is not None and np.median(n[on] @ normal) < 0:
            continue
        if n is None and not _reaches_beyond(q[on], q[rest], normal):
            continue
        best, found = score, (q[i], normal)
    if found is None:
        raise BadInput(
            "No slab was found under the part: no plane has nearly all of the scan on its upper "
            "side. Use an island or an outline instead.",
            field="way",
        )
    point, normal = found
    progress(0.5, "Measuring the slab")
    near = thick
    for _ in range(3):
        h = (at - point) @ normal
        on = np.abs(h) < near
        if normals is not None:
            on &= np.abs(normals @ normal) > 0.5
        ids = np.nonzero(on)[0]
        ids = ids[:: max(1, len(ids) // 200_000)]
        point = np.average(at[ids], axis=0, weights=weight[ids])
        d = (at[ids] - point) * np.sqrt(weight[ids])[:, None]
        fresh = np.linalg.eigh(d.T @ d)[1][:, 0]
        normal = fresh * np.sign(fresh @ normal)
        h = (at[ids] - point) @ normal
        scatter = max(1.4826 * float(np.median(np.abs(h))), 1e-4 * thick, 1e-6)
        near = 4 * scatter
    reach = min(max(5 * scatter, 0.0015 * span), 2 * thick)
    slab = Slab(point, normal, scatter, reach)
    h = slab.height(at)
    if weight[np.abs(h) < reach].sum() < _LEAST_SHARE * total or slab.scatter > thick:
        raise BadInput(
            "The plane found holds too little of the scan, or is too rough, to be a slab; use an island or an outline "
            "instead.",
            field="way",
        )
    rest = np.abs(h) > 2 * reach
    if normals is not None:
        # What hangs below by some of its corners only was dragged there.
        under = _highest(scan, slab) < -2 * reach
        rest &= (h > 0) | under
        on, down = np.nonzero(np.abs(h) < reach)[0], np.nonzero(rest & (h < 0))[0]
        if len(on) > 20 and len(down):
            side = _own_sides(at[on[:: max(1, len(on) // 20_000)]], at[down], h[down], at[h > 0], normal)
            # A slab that is told by its sides has to be flat, and more of its top shows than of them.
            if (
                slab.scatter < _FLAT * thick
                and weight[down[side]].sum() < _SIDES * weight[on].sum()
                and weight[on].sum() > _WITH_SIDES * total
            ):
                rest[down] = ~side
    if weight[rest & (h > 0)].sum() < _ABOVE * max(weight[rest].sum(), 1e-12) - 0.03 * total:
        raise BadInput(
            "Too much of the scan lies below the plane found; use an island or an outline instead.", field="way"
        )
    progress(0.8)
    if isinstance(scan, TriMesh):  # a facet's middle scatters less than what was measured, its vertices
        h = np.abs(slab.height(scan.vertices))
        return Slab(point, normal, 1.4826 * float(np.median(h[h < 8 * scatter])), reach)
    return slab


def _highest(scan: TriMesh | PointCloud, slab: Slab) -> np.ndarray:
    """Height of each facet's highest corner, or of each point, over the slab."""
    if isinstance(scan, TriMesh):
        return slab.height(scan.vertices)[scan.faces].max(axis=1)
    return slab.height(scan.points)


def _own_sides(
    on: np.ndarray, below: np.ndarray, depth: np.ndarray, above: np.ndarray, normal: np.ndarray
) -> np.ndarray:
    """Which places below a plane may be a slab's own sides: along its outline and not deep, while most of what stands
    on it stands inside.
    """
    from scipy.spatial import ConvexHull, QhullError

    u = np.linalg.svd(normal[None])[2][1:]
    try:
        hull = ConvexHull(on @ u.T)
    except QhullError:
        return np.zeros(len(below), bool)
    wide = float(np.sqrt(hull.volume))

    def inside(p: np.ndarray) -> np.ndarray:
        return ((p @ u.T) @ hull.equations[:, :2].T + hull.equations[:, 2]).max(axis=1) < -_OUTLINE * wide

    if not len(above) or inside(above[:: max(1, len(above) // 500)]).mean() < 0.5:
        return np.zeros(len(below), bool)
    return ~inside(below) & (depth > -_THICK * wide)


def _reaches_beyond(on: np.ndarray, rest: np.ndarray, normal: np.ndarray) -> bool:
    """Does the plane's share of the scan reach beyond what stands over it, all round?"""
    u = np.linalg.svd(normal[None])[2][1:]
    a, b = on @ u.T, rest @ u.T
    low, high = np.percentile(a, [1, 99], axis=0)
    return bool(
        ((b >= low) & (b <= high)).all(axis=1).mean() > 0.97 and np.prod(high - low) > 1.3 * np.prod(np.ptp(b, axis=0))
    )


def slab_items(scan: TriMesh | PointCloud, slab: Slab) -> np.ndarray:
    """Mask of facets or points that belong to the slab or lie below it.

    What stands on the slab keeps its walls down to the slab's own scatter: near the plane only what faces along it
    goes.
    """
    at, normals, _ = _items(scan)
    h = slab.height(at)
    goes = h < slab.reach
    if normals is not None:
        wall = (h > 0) & (np.abs(normals @ slab.normal) < 0.5)
        goes &= ~wall
    return goes


def loose_scraps(mesh: TriMesh, keep: np.ndarray) -> np.ndarray:
    """Among the kept facets, those in pieces below 1 % of them."""
    from ..scan.topology import components, facet_neighbours

    ids = np.nonzero(keep)[0]
    if not len(ids):
        return np.zeros(len(keep), bool)
    label = components(facet_neighbours(mesh.faces[ids], len(mesh.vertices)))
    sizes = np.bincount(label)
    small = sizes < _SCRAP_SHARE * len(ids)
    small[np.argmax(sizes)] = False
    out = np.zeros(len(keep), bool)
    out[ids] = small[label]
    return out
