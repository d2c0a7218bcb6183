"""A lighter mesh to read zones on, where a scan has more facets than that needs, or finer ones than its noise."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from ..scan.index import ScanIndex
from ..scan.proxy import make_proxy
from .ground import Ground

__all__ = ["Lighter", "lighter"]

_MOST = 150_000  # facets that tell the surfaces of any part
_EDGE = 8.0  # of the noise: finer facets only show noise
_WORTH = 0.75  # of the facets: a mesh that would keep more is read as it is
_NEAR = 4


@dataclass(frozen=True)
class Lighter:
    """``index`` of the lighter mesh."""

    index: ScanIndex

    def back(self, index: ScanIndex, work: Ground, labels: np.ndarray, noise: float) -> tuple[Ground, np.ndarray]:
        """The whole scan as ground, and its labels: those of the nearest facets of the lighter mesh that face alike."""
        m, light = index.mesh, self.index.mesh
        near = cKDTree(light.centroids, balanced_tree=False).query(m.centroids, k=_NEAR, workers=-1)[1]
        facing = np.einsum("ijk,ik->ij", work.normals[near].astype(np.float32), m.normals.astype(np.float32))
        # The nearest counts unless it lies on another wall.
        pick = np.where(facing[:, 0] > 0.3, 0, np.argmax(facing, axis=1))
        own = near[np.arange(len(near)), pick]
        normals = np.ascontiguousarray(work.normals[own])
        return replace(Ground.bare(index, noise), normals=normals), labels[own].astype(np.int32)


def lighter(index: ScanIndex, noise: float) -> Lighter | None:
    """A lighter mesh of a scan; None where the scan itself is light enough."""
    m = index.mesh
    if index.exact:
        return None
    edge = _EDGE * noise
    most = min(_MOST, int(float(m.areas.sum()) / (0.43 * edge * edge)) if edge > 0 else _MOST)
    if max(most, 2000) > _WORTH * len(m.faces):
        return None
    return Lighter(ScanIndex(make_proxy(m, max(most, 2000)).mesh))
