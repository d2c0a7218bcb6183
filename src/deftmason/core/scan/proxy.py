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
_CLUSTERED = 1_500_000  # triangles above which cells are gathered first


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
        some = (
            np.arange(n)
            if n <= MOST_POINTS
            else np.sort(np.random.default_rng(0).choice(n, MOST_POINTS, replace=False))
        )
        none = np.zeros((0, 3))
        return Proxy(TriMesh(none, none.astype(np.int32)), np.zeros(0, np.int32), some.astype(np.int32))
    if len(mesh.faces) <= most:
        return Proxy(mesh, np.arange(len(mesh.faces), dtype=np.int32), np.arange(len(mesh.vertices), dtype=np.int32))
    import fast_simplification
    from scipy.spatial import cKDTree

    # Huge scans are gathered into cells first; the library then works on what is left.
    facets, vertices, rough = np.arange(len(mesh.faces)), np.arange(len(mesh.vertices)), mesh
    if len(mesh.faces) > _CLUSTERED:
        rough, facets, vertices = _clustered(mesh, 4 * most)
    share = 1.0 - most / len(rough.faces)
    origin = rough.vertices.mean(axis=0)
    v, f = fast_simplification.simplify(
        (rough.vertices - origin).astype(np.float32), np.array(rough.faces, np.int32), share
    )
    light = TriMesh(v.astype(np.float64) + origin, np.ascontiguousarray(f, np.int32))
    near_f = cKDTree(rough.centroids, balanced_tree=False).query(light.centroids, workers=-1)[1]
    near_v = cKDTree(rough.vertices, balanced_tree=False).query(light.vertices, workers=-1)[1]
    return Proxy(light, facets[near_f].astype(np.int32), vertices[near_v].astype(np.int32))


def _clustered(mesh: TriMesh, target: int) -> tuple[TriMesh, np.ndarray, np.ndarray]:
    """About ``target`` triangles: one vertex for each occupied cell (Rossignac, Borrel 1993); and what each
    stands for.
    """
    cell = 1.05 * float(np.sqrt(mesh.areas.sum() / (0.5 * target)))
    grid = np.floor((mesh.vertices - mesh.bounds[0]) / cell).astype(np.int64)
    dims = grid.max(axis=0) + 1
    key = (grid[:, 0] * dims[1] + grid[:, 1]) * dims[2] + grid[:, 2]
    _, first, label = np.unique(key, return_index=True, return_inverse=True)
    count = np.bincount(label)
    middle = np.stack([np.bincount(label, mesh.vertices[:, k]) / count for k in range(3)], -1)
    faces = label[mesh.faces]
    keep = np.nonzero((faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0]))[0]
    return TriMesh(middle, np.ascontiguousarray(faces[keep], np.int32)), keep, first
