"""A lighter mesh to show, with a map back: which facet and vertex of the scan each of its own stands for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .mesh import PointCloud, TriMesh

__all__ = ["MOST_POINTS", "MOST_SHOWN", "Proxy", "make_proxy"]

#: Triangles a screen can turn smoothly, software drawing included.
MOST_SHOWN = 150_000
#: Points of a cloud shown at most.
MOST_POINTS = 250_000


@dataclass(frozen=True)
class Proxy:
    """``mesh`` to show; ``facets`` (m,) and ``vertices`` (n,) int32 into the scan it stands for."""

    mesh: TriMesh
    facets: np.ndarray
    vertices: np.ndarray


def make_proxy(mesh: TriMesh | PointCloud, most: int = MOST_SHOWN) -> Proxy:
    """The scan itself where it is light enough, else simplified once; of a cloud, points taken by lot."""
    if isinstance(mesh, PointCloud):
        n = len(mesh.points)
        some = np.arange(n) if n <= MOST_POINTS else np.sort(np.random.default_rng(0).choice(n, MOST_POINTS, replace=False))
        none = np.zeros((0, 3))
        return Proxy(TriMesh(none, none.astype(np.int32)), np.zeros(0, np.int32), some.astype(np.int32))
    if len(mesh.faces) <= most:
        return Proxy(mesh, np.arange(len(mesh.faces), dtype=np.int32), np.arange(len(mesh.vertices), dtype=np.int32))
    import fast_simplification
    from scipy.spatial import cKDTree

    share = 1.0 - most / len(mesh.faces)
    origin = mesh.vertices.mean(axis=0)
    v, f = fast_simplification.simplify(
        (mesh.vertices - origin).astype(np.float32), np.array(mesh.faces, np.int32), share
    )
    light = TriMesh(v.astype(np.float64) + origin, np.ascontiguousarray(f, np.int32))
    facets = cKDTree(mesh.centroids).query(light.centroids, workers=-1)[1].astype(np.int32)
    vertices = cKDTree(mesh.vertices).query(light.vertices, workers=-1)[1].astype(np.int32)
    return Proxy(light, facets, vertices)
