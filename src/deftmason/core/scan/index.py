"""What many questions about one scan share: neighbours, noise-scale normals, sections; made once, kept hot."""

from __future__ import annotations

from collections import OrderedDict
from functools import cached_property

import numpy as np
from numba import njit, prange

from .exactness import is_exact
from .mesh import TriMesh
from .onfacet import facet_distances
from .steady import steady_normals
from .topology import components, facet_neighbours

__all__ = ["ScanIndex"]

_CALM_DEG = 1.5  # smoothing goes on until neighbouring normals differ by about this much
_MOST_ROUNDS = 8
_MANY = 20  # facets to a vertex of the whole: fewer are sorted
_AT_ONCE = 65_536  # places that are looked at together
_SIDES = 96  # ways in which the outermost places are looked for


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


class ScanIndex:
    """A mesh with everything picking and cutting ask of it again and again.

    Attributes
    ----------
    mesh : the scan, unchanged.
    neighbours : (m, 3) int32, see `facet_neighbours`.
    exact : whether the facets carry no noise.
    calm_normals : (m, 3) facet normals averaged over as many rings as the scan's roughness asks for.
    """

    def __init__(self, mesh: TriMesh):
        self.mesh = mesh
        self._nearest: tuple[tuple, tuple[int, float]] | None = None  # what was asked last, and what it was
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
    def exact(self) -> bool:
        """Whether the facets carry no noise, as those of a CAD program."""
        return is_exact(self.mesh, self.neighbours)

    @cached_property
    def size(self) -> float:
        """The diagonal of the box round the scan, mm."""
        return float(np.linalg.norm(np.ptp(self.mesh.bounds, axis=0)))

    @cached_property
    def extremes(self) -> np.ndarray:
        """The outermost places (k, 3) of the scan, to every side: what a turn of it moves the farthest."""
        i = np.arange(_SIDES) + 0.5
        z, turn = 1 - 2 * i / _SIDES, i * np.pi * (1 + np.sqrt(5))
        level = np.sqrt(1 - z * z)
        p, sides = self.mesh.vertices, np.stack([level * np.cos(turn), level * np.sin(turn), z], axis=1)
        middle = p.mean(axis=0)
        best, highest = np.zeros(_SIDES, np.int64), np.full(_SIDES, -np.inf)
        for begin in range(0, len(p), _AT_ONCE):
            heights = sides @ (p[begin : begin + _AT_ONCE] - middle).T
            at = heights.argmax(axis=1)
            found = heights[np.arange(_SIDES), at]
            best, highest = np.where(found > highest, begin + at, best), np.maximum(highest, found)
        return p[np.unique(best)]

    @cached_property
    def calm_normals(self) -> np.ndarray:
        n = np.ascontiguousarray(self.mesh.normals)
        if self.exact:
            return n
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

    def depth(self, facets: np.ndarray, most: int = 4) -> np.ndarray:
        """How many rings each of some facets lies within what they cover together, up to ``most``."""
        mine = np.zeros(len(self.mesh.faces), bool)
        mine[facets] = True
        depth = np.zeros(len(facets), int)
        n = self.neighbours[facets]
        for _ in range(most):
            inner = mine[facets] & np.where(n >= 0, mine[n], False).all(axis=1)
            mine = np.zeros_like(mine)
            mine[facets] = inner
            depth += inner
        return depth

    def nearest_facet(self, place: np.ndarray, normal: np.ndarray | None = None) -> tuple[int, float]:
        """The facet nearest to a place (3,) and its distance in mm; with ``normal``, of those near by that face that
        way.
        """
        asked = (tuple(map(float, place)), None if normal is None else tuple(map(float, normal)))
        known = self._nearest
        if known is None or known[0] != asked:
            d = facet_distances(self.mesh.vertices, self.mesh.faces, np.asarray(place, float))
            if normal is None:
                i = int(np.argmin(d))
            else:
                i = int(np.argmin(np.where(self.calm_normals @ normal > 0, d, d + 2 * self.mesh.median_edge)))
            known = self._nearest = asked, (i, float(d[i]))
        return known[1]

    def corners(self, facets: np.ndarray) -> np.ndarray:
        """Distinct vertex numbers of some facets, in order."""
        faces = self.mesh.faces[facets]
        if len(faces) * _MANY < len(self.mesh.vertices):
            return np.unique(faces)
        used = np.zeros(len(self.mesh.vertices), bool)
        used[faces.ravel()] = True
        return np.flatnonzero(used)

    def warm(self) -> ScanIndex:
        """Make what picking needs now rather than at the first click."""
        _ = self.neighbours, self.calm_normals, self.mesh.centroids
        return self
