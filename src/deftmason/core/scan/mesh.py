"""The records a scan is held in: a triangle mesh or a cloud of points, in millimetres, never changed in place."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..elements import RigidMotion

__all__ = ["TriMesh", "PointCloud"]


def _units(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]


@dataclass(frozen=True)
class TriMesh:
    """Triangles over shared vertices.

    ``vertices`` (n, 3) float64 mm; ``faces`` (m, 3) int32, anticlockwise seen from outside; ``colors`` (n, 3) uint8
    or None.
    """

    vertices: np.ndarray
    faces: np.ndarray
    colors: np.ndarray | None = None

    @property
    def _plain(self) -> tuple[np.ndarray, np.ndarray]:
        """As what is compiled takes them; the same arrays where they are so already."""
        return np.ascontiguousarray(self.vertices, np.float64), np.ascontiguousarray(self.faces, np.int32)

    @cached_property
    def _cross(self) -> np.ndarray:
        from .facetmath import crosses

        return crosses(*self._plain)

    @cached_property
    def areas(self) -> np.ndarray:
        """Facet areas (m,) in mm²."""
        return 0.5 * np.linalg.norm(self._cross, axis=1)

    @cached_property
    def normals(self) -> np.ndarray:
        """Unit facet normals (m, 3); zero for degenerate facets."""
        return self._cross / np.maximum(2 * self.areas, 1e-300)[:, None]

    @cached_property
    def centroids(self) -> np.ndarray:
        """Facet centroids (m, 3) in mm."""
        v, f = self.vertices, self.faces
        return (v[f[:, 0]] + v[f[:, 1]] + v[f[:, 2]]) / 3

    @cached_property
    def vertex_normals(self) -> np.ndarray:
        """Area-weighted unit vertex normals (n, 3)."""
        from .facetmath import area_sums

        return _units(area_sums(*self._plain, self._cross))

    @cached_property
    def angle_normals(self) -> np.ndarray:
        """Unit vertex normals (n, 3), each facet weighing by its angle there (Thürmer, Wüthrich 1998, *Computing vertex
        normals from polygonal
        facets*): how a surface is cut into triangles does not turn them."""
        from .facetmath import angle_sums

        return _units(angle_sums(*self._plain, self._cross))

    @cached_property
    def median_edge(self) -> float:
        """Median edge length in mm."""
        f = self.faces[:: max(1, len(self.faces) // 20000)]
        v = self.vertices
        return float(np.median(np.linalg.norm(v[f[:, 0]] - v[f[:, 1]], axis=1)))

    @cached_property
    def bounds(self) -> np.ndarray:
        """(2, 3): lowest and highest corner in mm."""
        return np.array([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    def moved(self, motion: RigidMotion) -> TriMesh:
        return TriMesh(motion.points(self.vertices), self.faces, self.colors)

    @property
    def nbytes(self) -> int:
        return self.vertices.nbytes + self.faces.nbytes


@dataclass(frozen=True)
class PointCloud:
    """Points without surface. ``points`` (n, 3) float64 mm; ``normals`` (n, 3) or None; ``colors`` (n, 3) uint8 or
    None.
    """

    points: np.ndarray
    normals: np.ndarray | None = None
    colors: np.ndarray | None = None

    def moved(self, motion: RigidMotion) -> PointCloud:
        normals = None if self.normals is None else motion.vectors(self.normals)
        return PointCloud(motion.points(self.points), normals, self.colors)

    @property
    def bounds(self) -> np.ndarray:
        return np.array([self.points.min(axis=0), self.points.max(axis=0)])
