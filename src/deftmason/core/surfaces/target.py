"""What a surface is fitted to: places of a mesh with their normals and the area each stands for."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from ..scan.mesh import TriMesh

__all__ = ["Target", "target_of"]

_BOWED = 0.75
_SMOOTH_COS = 0.77  # corners whose normals lean farther from the facet are edges


@dataclass(frozen=True)
class Target:
    """``places`` (n, 3) mm, ``normals`` (n, 3), ``areas`` (n,) mm²."""

    places: np.ndarray
    normals: np.ndarray
    areas: np.ndarray

    @cached_property
    def size(self) -> float:
        return float(np.linalg.norm(np.ptp(self.places, axis=0)))

    @cached_property
    def spacing(self) -> float:
        """How far apart its places lie, mm."""
        return float(np.sqrt(self.areas.sum() / len(self.places)))

    def tree(self, turn: float) -> cKDTree:
        """A search tree in which normals that differ by 1 count as ``turn`` mm apart."""
        return cKDTree(np.hstack([self.places, turn * self.normals]), balanced_tree=False)

    def thinned(self, most: int, seed: int = 0) -> Target:
        """At most so many places, spread by chance; each stands for more area."""
        n = len(self.places)
        if n <= most:
            return self
        keep = np.sort(np.random.default_rng(seed).choice(n, most, replace=False))
        return Target(self.places[keep], self.normals[keep], self.areas[keep] * (n / most))


def target_of(mesh: TriMesh, least: int = 5000, seed: int = 0) -> Target:
    """The vertices of a mesh; where its facets are few and large, places on them besides, bowed out as the normals at
    their corners say (Boubekeur, Alexa 2008, *Phong tessellation*).

    ``least`` : how many places at least.
    """
    v, f = mesh.vertices, mesh.faces
    share = np.bincount(f.ravel(), np.repeat(mesh.areas / 3, 3), len(v))
    used = share > 0
    each = float(mesh.areas.sum()) / least
    large = np.flatnonzero(mesh.areas > 4 * each)
    if not len(large):
        return Target(v[used], mesh.angle_normals[used], share[used])
    rng = np.random.default_rng(seed)
    count = np.maximum(np.round(mesh.areas[large] / each), 1).astype(int)
    of = np.repeat(large, count)
    b = rng.dirichlet(np.ones(3), len(of))
    corners, normals = v[f[of]], mesh.angle_normals[f[of]]
    places = np.einsum("nk,nkc->nc", b, corners)
    height = np.einsum("nkc,nkc->nk", places[:, None] - corners, normals)
    bowed = places - _BOWED * np.einsum("nk,nk,nkc->nc", b, height, normals)
    facing = np.einsum("nkc,nc->nk", normals, mesh.normals[of]).min(axis=1) > _SMOOTH_COS
    places = np.where(facing[:, None], bowed, places)
    turned = np.einsum("nk,nkc->nc", b, normals)
    turned /= np.maximum(np.linalg.norm(turned, axis=1), 1e-300)[:, None]
    turned = np.where(facing[:, None], turned, mesh.normals[of])
    whole = np.bincount(large, minlength=len(f)).astype(bool)
    rest = np.bincount(f[~whole].ravel(), np.repeat(mesh.areas[~whole] / 3, 3), len(v))
    own = np.maximum(rest, 0.05 * each) * used
    return Target(
        np.vstack([v[used], places]),
        np.vstack([mesh.angle_normals[used], turned]),
        np.concatenate([own[used], (mesh.areas[large] / count)[np.searchsorted(large, of)]]),
    )
