"""Who is next to whom on a mesh: merged vertices, facet neighbours, components, open rims.

Neighbours come from a counting sort of half-edges by their lower vertex, linear in the number of facets.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .mesh import TriMesh

__all__ = ["compact", "merge_vertices", "facet_neighbours", "components", "open_rims", "vertex_rings", "rim_length"]


_CROWD = 60  # half-edges at a vertex above which they are sorted


@njit(cache=True)
def _hash_merge(bits, size):  # pragma: no cover - compiled
    mask = size - 1
    table = np.full(size, -1, np.int32)
    n = bits.shape[0]
    index = np.empty(n, np.int32)
    first = np.empty(n, np.int32)
    count = 0
    for i in range(n):
        h = (
            np.uint64(bits[i, 0]) * np.uint64(0x9E3779B97F4A7C15)
            ^ np.uint64(bits[i, 1]) * np.uint64(0xC2B2AE3D27D4EB4F)
            ^ np.uint64(bits[i, 2]) * np.uint64(0x165667B19E3779F9)
        )
        h ^= h >> np.uint64(29)
        slot = np.int64(h & np.uint64(mask))
        while True:
            k = table[slot]
            if k < 0:
                table[slot] = count
                first[count] = i
                index[i] = count
                count += 1
                break
            j = first[k]
            if bits[j, 0] == bits[i, 0] and bits[j, 1] == bits[i, 1] and bits[j, 2] == bits[i, 2]:
                index[i] = k
                break
            slot = (slot + 1) & mask
    return index, first[:count]


def merge_vertices(corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Merge bit-for-bit equal points, keeping the order of first appearance.

    Parameters
    ----------
    corners : (n, 3) float32 or float64.

    Returns
    -------
    unique : (u, 3) of the same type.  index : (n,) int32 into it.
    """
    corners = corners + np.asarray(0, corners.dtype)  # −0 becomes 0
    bits = np.ascontiguousarray(corners).view(np.int32 if corners.dtype == np.float32 else np.int64)
    if len(corners) < 20_000:
        _, first, index = np.unique(bits, axis=0, return_index=True, return_inverse=True)
        order = np.argsort(first, kind="stable")
        rank = np.empty(len(order), np.int32)
        rank[order] = np.arange(len(order), dtype=np.int32)
        return corners[first[order]], rank[index.ravel()]
    size = 1 << int(np.ceil(np.log2(len(corners) * 1.3 + 16)))
    index, first = _hash_merge(bits.astype(np.int64), size)
    return corners[first], index


@njit(cache=True)
def _neighbours(faces, nv):  # pragma: no cover - compiled
    m = faces.shape[0]
    start = np.zeros(nv + 1, np.int32)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            start[min(a, b) + 1] += 1
    for v in range(nv):
        start[v + 1] += start[v]
    fill = start[:-1].copy()
    half = np.empty(3 * m, np.int32)
    other = np.empty(3 * m, np.int32)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            lo, hi = min(a, b), max(a, b)
            half[fill[lo]] = 3 * f + k
            other[fill[lo]] = hi
            fill[lo] += 1
    out = np.full((m, 3), -1, np.int32)
    shared = 0
    for v in range(nv):
        first, last = start[v], start[v + 1]
        if last - first > _CROWD:
            shared += _mates_in_order(
                np.argsort(other[first:last], kind="mergesort"), half[first:last], other[first:last], out
            )
            continue
        for i in range(first, last):
            uses, mate = 1, -1
            earlier = False
            for j in range(first, last):
                if j != i and other[j] == other[i]:
                    uses += 1
                    mate = j
                    if j < i:
                        earlier = True
            h = half[i]
            if uses == 2:
                out[h // 3, h % 3] = half[mate] // 3
            elif uses > 2:
                out[h // 3, h % 3] = -2
                if not earlier:
                    shared += 1
    return out, shared


@njit(cache=True)
def _mates_in_order(order, half, other, out):  # pragma: no cover - compiled
    """As in `_neighbours`, for a vertex with so many half-edges that comparing all with all would never end; how many
    edges are shared by more than two.
    """
    shared, i, n = 0, 0, order.shape[0]
    while i < n:
        j = i + 1
        while j < n and other[order[j]] == other[order[i]]:
            j += 1
        if j - i == 2:
            a, b = half[order[i]], half[order[i + 1]]
            out[a // 3, a % 3] = b // 3
            out[b // 3, b % 3] = a // 3
        elif j - i > 2:
            shared += 1
            for k in range(i, j):
                out[half[order[k]] // 3, half[order[k]] % 3] = -2
        i = j
    return shared


def facet_neighbours(faces: np.ndarray, vertex_count: int) -> np.ndarray:
    """Facet across each edge (m, 3) int32; edge k joins corners k and k+1; −1 at a rim, −2 where more than two meet."""
    return _neighbours(np.ascontiguousarray(faces, np.int32), vertex_count)[0]


@njit(cache=True)
def _rings(faces, n):  # pragma: no cover - compiled
    start = np.zeros(n + 1, np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            start[faces[f, k] + 1] += 2
    for v in range(n):
        start[v + 1] += start[v]
    many = np.empty(start[n], np.int32)
    count = np.zeros(n, np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            crowded = start[v + 1] - start[v] > _CROWD
            for j in range(1, 3):
                w = faces[f, (k + j) % 3]
                known = False
                if not crowded:
                    for i in range(start[v], start[v] + count[v]):
                        if many[i] == w:
                            known = True
                            break
                if not known:
                    many[start[v] + count[v]] = w
                    count[v] += 1
    for v in range(n):
        if start[v + 1] - start[v] > _CROWD:
            all_of_them = many[start[v] : start[v] + count[v]].copy()
            last, left = -1, 0
            for i in np.argsort(all_of_them, kind="mergesort"):
                if all_of_them[i] != last:
                    last = all_of_them[i]
                    many[start[v] + left] = last
                    left += 1
            count[v] = left
    first = np.zeros(n + 1, np.int32)
    for v in range(n):
        first[v + 1] = first[v] + count[v]
    ring = np.empty(first[n], np.int32)
    for v in range(n):
        for i in range(count[v]):
            ring[first[v] + i] = many[start[v] + i]
    return first, ring


def vertex_rings(faces: np.ndarray, vertex_count: int) -> tuple[np.ndarray, np.ndarray]:
    """Vertices joined to each by an edge: ``ring[first[v]:first[v + 1]]``."""
    return _rings(np.ascontiguousarray(faces, np.int32), vertex_count)


def components(neighbours: np.ndarray) -> np.ndarray:
    """Component label of each facet (m,) int32, joined across shared edges."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    m = len(neighbours)
    row = np.repeat(np.arange(m), 3)
    col = neighbours.ravel()
    ok = col >= 0
    graph = coo_matrix((np.ones(ok.sum(), bool), (row[ok], col[ok])), shape=(m, m))
    return connected_components(graph, directed=False)[1]


def open_rims(mesh: TriMesh, neighbours: np.ndarray) -> list[np.ndarray]:
    """Open loops as vertex indices in order, shortest (by length) first."""
    f, k = np.nonzero(neighbours == -1)
    a, b = mesh.faces[f, k], mesh.faces[f, (k + 1) % 3]
    following: dict[int, list[int]] = {}
    for i, j in zip(a.tolist(), b.tolist()):
        following.setdefault(i, []).append(j)
    rims = []
    while following:
        at = next(iter(following))
        loop, seen = [at], {at: 0}
        while True:
            ways = following.get(loop[-1])
            if not ways:
                if len(loop) > 1:
                    rims.append(np.array(loop))
                break
            nxt = ways.pop()
            if not ways:
                del following[loop[-1]]
            if nxt in seen:  # a vertex met again closes a loop; what led there goes on
                cut = seen[nxt]
                rims.append(np.array(loop[cut:]))
                for v in loop[cut + 1 :]:
                    seen.pop(v, None)
                loop = loop[: cut + 1]
                if len(loop) == 1 and loop[0] not in following:
                    break
                continue
            seen[nxt] = len(loop)
            loop.append(nxt)
    lengths = [rim_length(mesh, r) for r in rims]
    return [rims[i] for i in np.argsort(lengths, kind="stable")]


def rim_length(mesh: TriMesh, rim: np.ndarray) -> float:
    p = mesh.vertices[rim]
    return float(np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1).sum())


def compact(vertices: np.ndarray, faces: np.ndarray, *more: np.ndarray | None):
    """Vertices, facets and per-vertex arrays without vertices no facet uses."""
    used = np.zeros(len(vertices), bool)
    used[faces] = True
    if used.all():
        return vertices, np.ascontiguousarray(faces, np.int32), *more
    rank = np.cumsum(used) - 1
    kept = [None if a is None else np.asarray(a)[used] for a in more]
    return np.asarray(vertices)[used], np.ascontiguousarray(rank[faces], np.int32), *kept
