"""Facet normals freed of noise without rounding edges, and how rough a scan is.

Averaging over neighbours that face alike (Zheng, Fu, Au, Tai 2011, *Bilateral normal filtering for mesh denoising*).
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from .mesh import TriMesh

__all__ = ["facets_at", "filter_once", "roughness", "steady_normals"]


_CROWD = 256  # facets round one vertex


@njit(cache=True)
def _facets_at(faces, n):  # pragma: no cover - compiled
    start = np.zeros(n + 1, np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            start[faces[f, k] + 1] += 1
    for v in range(n):
        start[v + 1] += start[v]
    fill = start[:-1].copy()
    out = np.empty(3 * faces.shape[0], np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            out[fill[v]] = f
            fill[v] += 1
    return start, out


def facets_at(faces: np.ndarray, vertex_count: int) -> tuple[np.ndarray, np.ndarray]:
    """Facets that meet at each vertex: ``at[start[v]:start[v + 1]]``."""
    return _facets_at(np.ascontiguousarray(faces, np.int32), vertex_count)


@njit(cache=True, parallel=True)
def filter_once(normals, centroids, areas, faces, start, at, alike, near2, out):  # pragma: no cover - compiled
    """One pass of bilateral averaging over facets that share a vertex; of a crowd round one, over some taken evenly."""
    for f in prange(faces.shape[0]):
        x = y = z = 0.0
        for k in range(3):
            v = faces[f, k]
            stride = 1 + (start[v + 1] - start[v]) // _CROWD
            for i in range(start[v] + f % stride, start[v + 1], stride):
                g = at[i]
                turn = (
                    (normals[f, 0] - normals[g, 0]) ** 2
                    + (normals[f, 1] - normals[g, 1]) ** 2
                    + (normals[f, 2] - normals[g, 2]) ** 2
                )
                gap = (
                    (centroids[f, 0] - centroids[g, 0]) ** 2
                    + (centroids[f, 1] - centroids[g, 1]) ** 2
                    + (centroids[f, 2] - centroids[g, 2]) ** 2
                )
                w = areas[g] * np.exp(-turn / alike - gap / near2)
                x += w * normals[g, 0]
                y += w * normals[g, 1]
                z += w * normals[g, 2]
        s = np.sqrt(x * x + y * y + z * z)
        if s > 0:
            out[f, 0], out[f, 1], out[f, 2] = x / s, y / s, z / s
        else:
            out[f] = normals[f]


def roughness(mesh: TriMesh, neighbours: np.ndarray) -> tuple[float, float]:
    """Scatter of the vertices across the surface (mm), and median turn between neighbouring facets (degrees),
    robustly.
    """
    f = np.arange(0, len(mesh.faces), max(1, len(mesh.faces) // 60_000))
    g = neighbours[f, 0]
    f, g = f[g >= 0], g[g >= 0]
    turn = np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", mesh.normals[f], mesh.normals[g]), -1, 1)))
    middle = float(np.median(turn)) if len(turn) else 0.0
    # Two facets over an edge e tilt by noise/height each: turn ≈ 2.4 noise / edge for even triangles.
    return np.radians(middle) * mesh.median_edge / 2.4, middle


def steady_normals(mesh: TriMesh, neighbours: np.ndarray, passes: int = 8) -> np.ndarray:
    """Facet normals (m, 3) averaged with neighbours that face alike: noise gone, sharp edges still sharp."""
    faces = np.ascontiguousarray(mesh.faces, np.int32)
    start, at = facets_at(faces, len(mesh.vertices))
    middle = roughness(mesh, neighbours)[1]
    alike = 2 * (2 * np.sin(np.radians(np.clip(2.0 * middle, 6, 34)) / 2)) ** 2
    n = mesh.normals
    for _ in range(passes if middle > 1 else 1):
        out = np.empty_like(n)
        filter_once(n, mesh.centroids, mesh.areas, faces, start, at, alike, 2 * (2.0 * mesh.median_edge) ** 2, out)
        n = out
    return n
