"""Where a scan lies worst off its model: connected places out of tolerance on one side, and who made the face there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from .answers import Distances

__all__ = ["Region", "worst_regions"]

_MOST = 12
_FEW = 3  # places: fewer that hang together are no region, they are noise


@dataclass(frozen=True)
class Region:
    """``places`` out of tolerance on one side that hang together: the farthest distance and where it is (mm), the mean,
    the area (mm²; 0 for clouds), and the part that most of them lie on.
    """

    place: list[float]
    worst: float
    mean: float
    places: int
    area: float
    face: str


def worst_regions(
    points: np.ndarray, faces: np.ndarray | None, found: Distances, names: list[str], high: float, low: float
) -> list[Region]:
    """At most a dozen regions beyond +``high`` or −``low`` mm, those that lie farthest off over most places first.

    ``faces`` (m, 3) link the points (n, 3); a cloud's are linked to their six nearest.
    """
    d = found.distance
    side = np.where(d > high, 1, np.where(d < -low, -1, 0)) * np.isfinite(d)
    if not side.any():
        return []
    area = np.zeros(len(points))
    if faces is not None and len(faces):
        faces = faces[(side[faces] != 0).any(axis=1)]
        t = points[faces]
        each = np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1) / 6
        for k in range(3):
            area += np.bincount(faces[:, k], each, len(points))
        links = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    else:
        from scipy.spatial import cKDTree

        out = np.flatnonzero(side)
        near = cKDTree(points[out]).query(points[out], k=min(7, len(out)), workers=-1)[1].reshape(len(out), -1)
        links = np.column_stack([np.repeat(out, near.shape[1]), out[near.ravel()]])
    links = links[(side[links[:, 0]] != 0) & (side[links[:, 0]] == side[links[:, 1]])]
    graph = coo_matrix((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), (len(points), len(points)))
    label = connected_components(graph, directed=False)[1]
    label = np.where(side != 0, label, -1)
    kept, which, count = np.unique(label, return_inverse=True, return_counts=True)
    over = np.where(side > 0, d - high, np.where(side < 0, -low - d, 0.0))
    weight = np.bincount(which, over)
    weight[(kept < 0) | (count < _FEW)] = 0
    regions = []
    for r in np.argsort(-weight)[:_MOST]:
        if not weight[r] > 0:
            break
        mine = np.flatnonzero(which == r)
        far = mine[np.argmax(np.abs(d[mine]))]
        most = np.bincount(found.face[mine]).argmax()
        regions.append(
            Region(
                points[far].tolist(), float(d[far]), float(d[mine].mean()), len(mine),
                float(area[mine].sum()), names[most],
            )
        )  # fmt: skip
    return regions
