"""What many questions about one scan share: neighbours, noise-scale normals, sections; made once, kept hot."""

from __future__ import annotations

from collections import OrderedDict
from functools import cached_property

import numpy as np
from numba import njit, prange

from .mesh import TriMesh
from .steady import steady_normals
from .topology import components, facet_neighbours

__all__ = ["ScanIndex"]

_CALM_DEG = 1.5  # smoothing goes on until neighbouring normals differ by about this much
_MOST_ROUNDS = 8


@njit(cache=True, parallel=True)
def _smooth_once(normals, areas, neighbours, out):  # pragma: no cover - compiled
    for f in prange(normals.shape[0]):
        x = normals[f, 0] * areas[f]
        y = normals[f, 1] * areas[f]
        z = normals[f, 2] * areas[f]
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0:
                x += normals[g, 0] * areas[g]
                y += normals[g, 1] * areas[g]
                z += normals[g, 2] * areas[g]
        s = np.sqrt(x * x + y * y + z * z)
        s = 1.0 / s if s > 1e-300 else 0.0
        out[f, 0], out[f, 1], out[f, 2] = x * s, y * s, z * s


@njit(cache=True, parallel=True)
def _squared(c, place):  # pragma: no cover - compiled
    out = np.empty(c.shape[0])
    for i in prange(c.shape[0]):
        out[i] = (c[i, 0] - place[0]) ** 2 + (c[i, 1] - place[1]) ** 2 + (c[i, 2] - place[2]) ** 2
    return out


class ScanIndex:
    """A mesh with everything picking and cutting ask of it again and again.

    Attributes
    ----------
    mesh : the scan, unchanged.
    neighbours : (m, 3) int32, see `facet_neighbours`.
    calm_normals : (m, 3) facet normals averaged over as many rings as the scan's roughness asks for.
    """

    def __init__(self, mesh: TriMesh):
        self.mesh = mesh
        self.marked: OrderedDict[str, np.ndarray] = OrderedDict()  # what marks gave, see `selection.select`

    @cached_property
    def neighbours(self) -> np.ndarray:
        return facet_neighbours(self.mesh.faces, len(self.mesh.vertices))

    def _roughness(self, normals: np.ndarray) -> float:
        step = max(1, len(normals) // 40000)
        g = self.neighbours[::step, 0]
        ok = g >= 0
        c = np.einsum("ij,ij->i", normals[::step][ok], normals[g[ok]])
        return float(np.degrees(np.arccos(np.clip(np.median(c), -1, 1)))) if len(c) else 0.0

    @cached_property
    def calm_normals(self) -> np.ndarray:
        n = np.ascontiguousarray(self.mesh.normals)
        areas = self.mesh.areas
        for _ in range(_MOST_ROUNDS):
            if self._roughness(n) < _CALM_DEG:
                break
            for _ in range(2):
                out = np.empty_like(n)
                _smooth_once(n, areas, self.neighbours, out)
                n = out
        return n

    @cached_property
    def steady_normals(self) -> np.ndarray:
        """Facet normals without noise whose edges are still sharp (m, 3)."""
        return steady_normals(self.mesh, self.neighbours)

    @cached_property
    def vertex_tree(self):
        """KD-tree over the vertices."""
        from scipy.spatial import cKDTree

        return cKDTree(self.mesh.vertices, balanced_tree=False)

    @cached_property
    def pieces(self) -> np.ndarray:
        """Component label of each facet (m,)."""
        return components(self.neighbours)

    def nearest_facet(self, place: np.ndarray, normal: np.ndarray | None = None) -> tuple[int, float]:
        """The facet nearest to a place (3,) and its distance in mm; with ``normal``, of those facing that way."""
        d2 = _squared(self.mesh.centroids, np.asarray(place, float))
        if normal is not None:
            d2 = np.where(self.calm_normals @ normal > 0, d2, d2 + self.mesh.median_edge**2 * 4)
        near = np.argpartition(d2, min(24, len(d2) - 1))[:24]
        v = self.mesh.vertices[self.mesh.faces[near]]
        d = np.array([_point_triangle(place, t) for t in v])
        if normal is not None:
            d = d + np.where(self.calm_normals[near] @ normal > 0, 0, 2 * self.mesh.median_edge)
        i = int(np.argmin(d))
        return int(near[i]), float(_point_triangle(place, v[i]))

    def warm(self) -> ScanIndex:
        """Make what picking needs now rather than at the first click."""
        _ = self.neighbours, self.calm_normals, self.mesh.centroids
        return self


def _point_triangle(p: np.ndarray, t: np.ndarray) -> float:
    """Distance from a point to a triangle (Ericson 2005, *Real-Time Collision Detection*, §5.1.5)."""
    a, b, c = t
    ab, ac, ap = b - a, c - a, p - a
    d1, d2 = ab @ ap, ac @ ap
    if d1 <= 0 and d2 <= 0:
        return float(np.linalg.norm(ap))
    bp = p - b
    d3, d4 = ab @ bp, ac @ bp
    if d3 >= 0 and d4 <= d3:
        return float(np.linalg.norm(bp))
    vc = d1 * d4 - d3 * d2
    if vc <= 0 <= d1 and d3 <= 0:
        return float(np.linalg.norm(ap - ab * (d1 / (d1 - d3))))
    cp = p - c
    d5, d6 = ab @ cp, ac @ cp
    if d6 >= 0 and d5 <= d6:
        return float(np.linalg.norm(cp))
    vb = d5 * d2 - d1 * d6
    if vb <= 0 <= d2 and d6 <= 0:
        return float(np.linalg.norm(ap - ac * (d2 / (d2 - d6))))
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        return float(np.linalg.norm(bp - (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)))))
    n = np.cross(ab, ac)
    return float(abs(ap @ n) / max(np.linalg.norm(n), 1e-300))
