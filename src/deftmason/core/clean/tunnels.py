"""Tunnels: small handles a scanner invents, found as short closed paths that cut no piece off.

A breadth-first tree of the edges and a spanning tree of the dual graph over the edges left, heaviest first, leave two
edges
for every handle; each closes a loop through the tree that no facets fill (Erickson, Whittlesey 2005, *Greedy optimal
homotopy and homology generators*). Only loops far shorter than any bore are tunnels.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ..scan.mesh import TriMesh
from ..scan.topology import components, vertex_rings

__all__ = ["find_tunnels", "handle_count"]

#: A loop of at most this many edges counts as a tunnel; a bore of a part has far more.
LONGEST_LOOP = 16


def handle_count(mesh: TriMesh, neighbours: np.ndarray, rims: int) -> int:
    """Handles of all pieces together, bores of the part included, from the Euler characteristic."""
    faces = mesh.faces
    open_edges = int((neighbours < 0).sum())
    edges = (3 * len(faces) + open_edges) // 2
    used = np.zeros(len(mesh.vertices), bool)
    used[faces] = True
    pieces = int(components(neighbours).max(initial=-1)) + 1
    return max(0, (2 * pieces - rims - (int(used.sum()) - edges + len(faces))) // 2)


@njit(cache=True)
def _tree(start, other, hop, before):  # pragma: no cover - compiled
    """Breadth-first hops and parents over vertices, every piece from its first vertex."""
    n = hop.shape[0]
    queue = np.empty(n, np.int32)
    for s in range(n):
        if hop[s] >= 0:
            continue
        hop[s] = 0
        queue[0] = s
        head, tail = 0, 1
        while head < tail:
            v = queue[head]
            head += 1
            for i in range(start[v], start[v + 1]):
                w = other[i]
                if hop[w] < 0:
                    hop[w] = hop[v] + 1
                    before[w] = v
                    queue[tail] = w
                    tail += 1


@njit(cache=True)
def _root(parent, i):  # pragma: no cover - compiled
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@njit(cache=True)
def _left(order, a, b, f, g, before, parent):  # pragma: no cover - compiled
    """Edges in neither the tree nor the dual spanning tree."""
    out = []
    for k in range(order.shape[0]):
        e = order[k]
        if before[a[e]] == b[e] or before[b[e]] == a[e]:
            continue
        p, q = _root(parent, f[e]), _root(parent, g[e])
        if p == q:
            out.append(e)
        else:
            parent[p] = q
    return out


def find_tunnels(mesh: TriMesh, neighbours: np.ndarray, rims: list[np.ndarray]) -> list[np.ndarray]:
    """Loops of vertex numbers, one for each tunnel of at most `LONGEST_LOOP` edges."""
    if not handle_count(mesh, neighbours, len(rims)):
        return []
    faces, n, m = mesh.faces, len(mesh.vertices), len(mesh.faces)
    f, k = np.nonzero((neighbours < 0) | (neighbours > np.arange(m)[:, None]))
    a, b, g = faces[f, k], faces[f, (k + 1) % 3], neighbours[f, k].astype(np.int64)
    # Each rim is closed by a face of its own.
    cap = np.full(n, -1, np.int64)
    for i, r in enumerate(rims):
        cap[r] = i
    g = np.where(g < 0, m + np.maximum(cap[a], 0), g)
    first, ring = vertex_rings(faces, n)
    hop, before = np.full(n, -1, np.int32), np.full(n, -1, np.int32)
    _tree(first, ring, hop, before)
    order = np.argsort(-(hop[a] + hop[b]), kind="stable")
    left = _left(order, a, b, f.astype(np.int64), g, before, np.arange(m + len(rims) + 1))
    loops: list[np.ndarray] = []
    taken: set[int] = set()
    for e in left:
        one, two = [int(a[e])], [int(b[e])]
        while one[-1] != two[-1]:
            side = one if hop[one[-1]] >= hop[two[-1]] else two
            side.append(int(before[side[-1]]))
            if len(one) + len(two) > LONGEST_LOOP + 2:
                break
        loop = one + two[-2::-1]
        if one[-1] == two[-1] and 3 <= len(loop) <= LONGEST_LOOP and not taken.intersection(loop):
            loops.append(np.array(loop))
            taken.update(np.unique(faces[np.isin(faces, loop).any(axis=1)]).tolist())
    return loops
