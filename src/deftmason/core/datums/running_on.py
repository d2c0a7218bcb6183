"""What of a surface a reading took is only a part: where it goes on beyond the reading as gently as within it.

An element follows a free surface for a while and stops where the two part; the surface itself does not stop there. How
strongly a mesh bends about each facet is told by how much normals scatter against how much places do, over a few rings.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.csgraph import connected_components

from ..elements import Element
from ..scan.index import ScanIndex

__all__ = ["all_of", "running_on"]

_RINGS = 6
_TURN_COS = np.cos(np.radians(12.0))  # neighbours that turn more have an edge between them
_ALIKE = 2.5  # times what it bends within the reading: more is another surface
_RUNS_ON = 0.5  # of a reading's border that has to go on before it is only a part
_OFTEN = 0.9
_CRUMB = 0.05
_LEANS_COS = np.cos(np.radians(25.0))  # facets of an element that lean more against it are not on it


def _spread(index: ScanIndex) -> csr_matrix:
    """Means over a facet and its neighbours, as a matrix."""
    beside = index.neighbours
    m = len(beside)
    own = np.repeat(np.arange(m), 3)
    other = beside.ravel()
    keep = other >= 0
    rows, cols = np.concatenate([own[keep], np.arange(m)]), np.concatenate([other[keep], np.arange(m)])
    a = coo_matrix((index.mesh.areas[cols], (rows, cols)), (m, m)).tocsr()
    return diags(1 / np.maximum(np.asarray(a.sum(axis=1)).ravel(), 1e-300)) @ a


def _bends(index: ScanIndex) -> np.ndarray:
    """How strongly the mesh bends about each facet, per mm."""
    mean = _spread(index)
    p = index.mesh.centroids - index.mesh.centroids.mean(axis=0)
    n = index.mesh.normals
    stack = np.column_stack([n, p, np.einsum("ij,ij->i", p, p)])
    for _ in range(_RINGS):
        stack = mean @ stack
    turned = np.maximum(1 - np.einsum("ij,ij->i", stack[:, :3], stack[:, :3]), 0)
    apart = np.maximum(stack[:, 6] - np.einsum("ij,ij->i", stack[:, 3:6], stack[:, 3:6]), 1e-300)
    return np.sqrt(turned / apart)


def running_on(index: ScanIndex, gathered: np.ndarray) -> np.ndarray:
    """A reading's facets (k,), with what its surface goes on into; as they are where it ends at its border."""
    beside = index.neighbours
    facets = np.zeros(len(beside), bool)
    facets[gathered] = True
    own = np.repeat(np.flatnonzero(facets), 3)
    other = beside[facets].ravel()
    border = (other >= 0) & ~facets[np.maximum(other, 0)]
    if not border.any():
        return gathered
    bends = _bends(index)
    gentle = bends <= _ALIKE * np.quantile(bends[facets], _OFTEN)
    n = index.steady_normals
    straight = np.einsum("ij,ij->i", n[own[border]], n[other[border]]) > _TURN_COS
    if (straight & gentle[other[border]]).mean() < _RUNS_ON:
        return gathered
    allowed = gentle | facets
    a = np.repeat(np.arange(len(beside)), 3)
    b = beside.ravel()
    keep = (b > a) & allowed[a] & allowed[np.maximum(b, 0)]
    a, b = a[keep], b[keep]
    smooth = np.einsum("ij,ij->i", n[a], n[b]) > _TURN_COS
    graph = coo_matrix((np.ones(int(smooth.sum())), (a[smooth], b[smooth])), (len(beside),) * 2)
    _, label = connected_components(graph, directed=False)
    # The surface itself, not crumbs of it that lie apart.
    count = np.bincount(label[facets])
    return np.flatnonzero(facets | np.isin(label, np.flatnonzero(count > _CRUMB * len(gathered))))


def all_of(index: ScanIndex, gathered: np.ndarray, element: Element, within: float) -> np.ndarray:
    """A reading's facets (k,) with all that lie within so many mm of its element and hang together with them: a spread
    keeps off edges, and so parts a face where it is narrow."""
    c, n = index.mesh.centroids, index.steady_normals
    on = (np.abs(element.distance(c)) < within) & (np.abs(np.einsum("ij,ij->i", element.normals(c), n)) > _LEANS_COS)
    on[gathered] = True
    a = np.repeat(np.arange(len(c)), 3)
    b = index.neighbours.ravel()
    keep = (b > a) & on[a] & on[np.maximum(b, 0)]
    graph = coo_matrix((np.ones(int(keep.sum())), (a[keep], b[keep])), (len(c),) * 2)
    _, label = connected_components(graph, directed=False)
    return np.flatnonzero(on & np.isin(label, np.unique(label[gathered])))
