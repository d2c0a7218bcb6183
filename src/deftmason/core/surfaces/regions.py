"""Which parts of a mesh a net of curves encloses: each of its regions as facets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix, diags
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu
from scipy.spatial import cKDTree

from ..scan.mesh import TriMesh
from ..scan.topology import facet_neighbours
from .netting import Net

__all__ = ["Regions", "regions_on"]

_FACETS = 30_000  # a mesh of fewer is made finer before it is parted
_LEAST = 24  # facets of a region that is laid flat
_WALL = 0.8  # of its median edge: facets so near a curve part it
_BESIDE = 2.5  # of its median edge, how far beside a curve its sides are told


@dataclass(frozen=True)
class Regions:
    """``areas`` (r,) mm² of the net's regions, 0 where one is too small to tell; a place inside each (r, 3)."""

    areas: np.ndarray
    places: np.ndarray
    mesh: TriMesh
    nearest: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]
    label: np.ndarray

    def at(self, places: np.ndarray) -> np.ndarray:
        """Which region places (n, 3) lie in; −1 on its curves or outside it all."""
        return self.label[self.nearest(places)[0]]

    def laid_flat(self, r: int, rim: np.ndarray, flat: np.ndarray) -> Callable[[np.ndarray], np.ndarray] | None:
        """A region over the plane, its rim (n, 3) at ``flat`` (n, 2): what tells the places (k, 3) over (k, 2).

        Each vertex lies among its neighbours as evenly as their edges are long (Tutte 1963, *How to draw a graph*;
        Floater 1997), so that no triangle turns over. None where the region is too small to be told from its curves.
        """
        own = np.flatnonzero(self.label == r)
        if len(own) < _LEAST:
            return None
        used, faces = np.unique(self.mesh.faces[own], return_inverse=True)
        faces = faces.reshape(-1, 3)
        v = self.mesh.vertices[used]
        e = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
        e, count = np.unique(np.sort(e, axis=1), axis=0, return_counts=True)
        edge = self.mesh.median_edge
        gap, near = cKDTree(rim).query(v, workers=-1)
        at_rim = np.zeros(len(v), bool)
        at_rim[e[count == 1]] = True
        at_rim &= gap < 4 * edge
        if not at_rim.any():
            return None
        uv = flat[near].astype(float)
        free = np.flatnonzero(~at_rim)
        if len(free):
            w = 1 / np.maximum(np.linalg.norm(v[e[:, 0]] - v[e[:, 1]], axis=1), 1e-3 * edge)
            m = coo_matrix((np.tile(w, 2), (e.T.ravel(), e[:, ::-1].T.ravel())), (len(v),) * 2).tocsr()
            laplace = (diags(np.asarray(m.sum(axis=1)).ravel()) - m).tocsr()[free]
            uv[free] = splu(laplace[:, free].tocsc()).solve(-(laplace[:, at_rim] @ uv[at_rim]))
        keep = ~at_rim
        from scipy.interpolate import LinearNDInterpolator

        told = LinearNDInterpolator(np.vstack([uv[keep], flat]), np.vstack([v[keep], rim]))
        nearest = cKDTree(np.vstack([uv[keep], flat]))
        places = np.vstack([v[keep], rim])

        def over(p: np.ndarray) -> np.ndarray:
            out = told(p)
            lost = ~np.isfinite(out).all(axis=1)
            out[lost] = places[nearest.query(p[lost])[1]]
            return out

        return over


def _nearest_on(mesh: TriMesh) -> Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """The facet nearest to places (n, 3), and how far it is, mm."""
    import open3d

    o3d: Any = open3d
    scene = o3d.t.geometry.RaycastingScene()
    middle = mesh.bounds.mean(axis=0)
    scene.add_triangles(
        o3d.core.Tensor((mesh.vertices - middle).astype(np.float32)), o3d.core.Tensor(mesh.faces.astype(np.uint32))
    )

    def nearest(p: np.ndarray):
        q = (p - middle).astype(np.float32)
        got = scene.compute_closest_points(o3d.core.Tensor(q))
        gap = np.linalg.norm(got["points"].numpy() - q, axis=1)
        return got["primitive_ids"].numpy().astype(np.int64), gap

    return nearest


def _finer(mesh: TriMesh) -> TriMesh:
    from trimesh.remesh import subdivide

    v, f = mesh.vertices, mesh.faces
    while len(f) < _FACETS:
        v, f = subdivide(v, f)
    return TriMesh(v, np.asarray(f, np.int32))


def regions_on(mesh: TriMesh, net: Net) -> Regions:
    """The regions of a net on the mesh it was drawn on."""
    fine = _finer(mesh)
    edge = fine.median_edge
    c = fine.centroids
    nearest = _nearest_on(fine)
    drawn = np.vstack([_dense(a, 0.3 * edge) for a in net.arcs])
    near = cKDTree(drawn).query(c, workers=-1)[0]
    clear = near > _WALL * edge
    clear[nearest(drawn)[0]] = False
    pairs = _pairs(facet_neighbours(fine.faces, len(fine.vertices)))
    both = clear[pairs[:, 0]] & clear[pairs[:, 1]]
    graph = coo_matrix((np.ones(int(both.sum())), (pairs[both, 0], pairs[both, 1])), (len(c),) * 2)
    _, piece = connected_components(graph, directed=False)
    piece = np.where(clear, piece, -1)
    label = np.full(len(c), -1)
    areas = np.zeros(len(net.regions))
    votes: dict[int, np.ndarray] = {}
    for r, walk in enumerate(net.regions):
        for k, back in walk:
            a = net.arcs[k][::-1] if back else net.arcs[k]
            a = _dense(a, edge)
            d = np.gradient(a, axis=0)
            d /= np.maximum(np.linalg.norm(d, axis=1), 1e-300)[:, None]
            n = fine.normals[nearest(a)[0]]
            facet, gap = nearest(a + _BESIDE * edge * np.cross(n, d))
            hit = piece[facet[gap < 2 * edge]]
            for p, count in zip(*np.unique(hit[hit >= 0], return_counts=True)):
                votes.setdefault(int(p), np.zeros(len(net.regions)))[r] += count
    for p, v in votes.items():
        r = int(np.argmax(v))
        own = piece == p
        label[own] = r
        areas[r] += float(fine.areas[own].sum())
    return Regions(areas, _insides(fine, net, label, near), fine, nearest, label)


def _insides(fine: TriMesh, net: Net, label: np.ndarray, near: np.ndarray) -> np.ndarray:
    """Of each region the place farthest from the curves; where there is none, the middle of its curves."""
    out = np.array([np.vstack([net.arcs[k] for k, _ in walk]).mean(axis=0) for walk in net.regions])
    for r in range(len(out)):
        own = np.flatnonzero(label == r)
        if len(own):
            out[r] = fine.centroids[own[np.argmax(near[own])]]
    return out


def _dense(line: np.ndarray, step: float) -> np.ndarray:
    s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    t = np.linspace(0, s[-1], max(3, int(np.ceil(s[-1] / max(step, 1e-300))) + 1))
    return np.stack([np.interp(t, s, line[:, k]) for k in range(3)], axis=1)


def _pairs(beside: np.ndarray) -> np.ndarray:
    """Neighbouring facets (p, 2) from a table of each facet's neighbours (m, 3), below 0 for none."""
    own = np.repeat(np.arange(len(beside)), beside.shape[1])
    other = beside.ravel()
    keep = other > own
    return np.column_stack([own[keep], other[keep]])
