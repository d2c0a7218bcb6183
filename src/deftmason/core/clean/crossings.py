"""Which triangles of a mesh cross each other: cells as the broad phase, open-segment tests as the narrow one."""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..errors import BadInput

__all__ = ["TooCrowded", "crossing_pairs"]

_MOST_LOOKS = 1.5e9  # pairs of triangles whose boxes are compared: about a minute


class TooCrowded(BadInput):
    """So many long triangles lie in one place that comparing all with all would never end."""


@njit(cache=True)
def _edge_hits(a, b, t):  # pragma: no cover - compiled
    """Does the open segment a–b pass through triangle t, its sides included?"""
    e1x, e1y, e1z = t[1, 0] - t[0, 0], t[1, 1] - t[0, 1], t[1, 2] - t[0, 2]
    e2x, e2y, e2z = t[2, 0] - t[0, 0], t[2, 1] - t[0, 1], t[2, 2] - t[0, 2]
    nx, ny, nz = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    da = nx * (a[0] - t[0, 0]) + ny * (a[1] - t[0, 1]) + nz * (a[2] - t[0, 2])
    db = nx * (b[0] - t[0, 0]) + ny * (b[1] - t[0, 1]) + nz * (b[2] - t[0, 2])
    if not ((da > 0 and db < 0) or (da < 0 and db > 0)):
        return False
    s = da / (da - db)
    px, py, pz = (
        a[0] + s * (b[0] - a[0]) - t[0, 0],
        a[1] + s * (b[1] - a[1]) - t[0, 1],
        a[2] + s * (b[2] - a[2]) - t[0, 2],
    )
    d11 = e1x * e1x + e1y * e1y + e1z * e1z
    d12 = e1x * e2x + e1y * e2y + e1z * e2z
    d22 = e2x * e2x + e2y * e2y + e2z * e2z
    dp1 = px * e1x + py * e1y + pz * e1z
    dp2 = px * e2x + py * e2y + pz * e2z
    det = d11 * d22 - d12 * d12
    if det <= 0:
        return False
    u, v = (d22 * dp1 - d12 * dp2) / det, (d11 * dp2 - d12 * dp1) / det
    return u >= -1e-12 and v >= -1e-12 and u + v <= 1 + 1e-12


@njit(cache=True)
def _pair_crosses(tri, faces, f, g):  # pragma: no cover - compiled
    for x in range(3):
        for y in range(3):
            if faces[f, x] == faces[g, y]:
                return False
    for k in range(3):
        if _edge_hits(tri[f, k], tri[f, (k + 1) % 3], tri[g]) or _edge_hits(tri[g, k], tri[g, (k + 1) % 3], tri[f]):
            return True
    return False


@njit(cache=True)
def _home(lows, highs, cell, low, dims, f, g):  # pragma: no cover - compiled
    """The cell where two triangles' boxes begin to overlap, where alone the pair is looked at; −1 where they do not."""
    home = 0
    for k in range(3):
        at = max(lows[f, k], lows[g, k])
        if at > highs[f, k] or at > highs[g, k]:
            return -1
        home = home * dims[k] + int((at - low[k]) / cell)
    return home


@njit(cache=True, parallel=True)
def _count_cells(tri, lows, highs, faces, asked, cell, low, start, items, dims, count):  # pragma: no cover - compiled
    """Crossing pairs whose boxes' overlap begins in each cell."""
    for c in prange(len(start) - 1):
        hits = 0
        for i in range(start[c], start[c + 1]):
            f = items[i]
            for j in range(i + 1, start[c + 1]):
                g = items[j]
                if not (asked[f] or asked[g]) or _home(lows, highs, cell, low, dims, f, g) != c:
                    continue
                if _pair_crosses(tri, faces, f, g):
                    hits += 1
        count[c] = hits


@njit(cache=True)
def _list_cells(
    tri, lows, highs, faces, asked, cell, low, start, items, dims, cells, out
):  # pragma: no cover - compiled
    hits = 0
    for c in cells:
        for i in range(start[c], start[c + 1]):
            f = items[i]
            for j in range(i + 1, start[c + 1]):
                g = items[j]
                if not (asked[f] or asked[g]) or _home(lows, highs, cell, low, dims, f, g) != c:
                    continue
                if _pair_crosses(tri, faces, f, g):
                    out[hits, 0], out[hits, 1] = f, g
                    hits += 1


@njit(cache=True)
def _fill_cells(lows, highs, cell, low, dims, start, items, count_only):  # pragma: no cover - compiled
    for f in range(lows.shape[0]):
        for x in range(int((lows[f, 0] - low[0]) / cell), int((highs[f, 0] - low[0]) / cell) + 1):
            for y in range(int((lows[f, 1] - low[1]) / cell), int((highs[f, 1] - low[1]) / cell) + 1):
                for z in range(int((lows[f, 2] - low[2]) / cell), int((highs[f, 2] - low[2]) / cell) + 1):
                    c = (x * dims[1] + y) * dims[2] + z
                    if count_only:
                        start[c + 1] += 1
                    else:
                        items[start[c]] = f
                        start[c] += 1


def crossing_pairs(vertices: np.ndarray, faces: np.ndarray, asked: np.ndarray | None = None) -> np.ndarray:
    """Pairs of triangles (k, 2) that cross without sharing a vertex.

    ``asked`` (m,) bool: only pairs with at least one of these triangles. Raises `TooCrowded` where there are too many
    to compare.
    """
    if len(faces) == 0:
        return np.zeros((0, 2), np.int32)
    tri = np.ascontiguousarray(vertices[faces])
    lows = np.minimum(np.minimum(tri[:, 0], tri[:, 1]), tri[:, 2])
    highs = np.maximum(np.maximum(tri[:, 0], tri[:, 1]), tri[:, 2])
    low, high = lows.min(axis=0), highs.max(axis=0)
    size = (highs - lows).max(axis=1)
    some = size[:: max(1, len(size) // 50_000)]
    cell = float(max(2.0 * np.median(some), np.percentile(some, 99), np.prod(high - low + 1e-9) ** (1 / 3) / 200, 1e-9))
    dims = np.floor((high - low) / cell).astype(np.int64) + 1
    if asked is not None:  # triangles far from all that are asked of need not be looked at
        reach_low, reach_high = lows[asked].min(axis=0), highs[asked].max(axis=0)
        near = ((highs >= reach_low) & (lows <= reach_high)).all(axis=1)
        if near.sum() < 0.5 * len(faces):
            ids = np.nonzero(near)[0]
            return ids[crossing_pairs(vertices, faces[ids], asked[ids])].astype(np.int32)
    start = np.zeros(int(np.prod(dims)) + 1, np.int64)
    none = np.empty(0, np.int32)
    _fill_cells(lows, highs, cell, low, dims, start, none, True)
    looks = float((start.astype(np.float64) * (start - 1) / 2).sum())
    if looks > _MOST_LOOKS:
        raise TooCrowded(
            f"Crossings were not looked for: {int(start.max()):,} triangles crowd one place; remesh, "
            "or drop what is not the part."
        )
    start = np.cumsum(start)
    items = np.empty(int(start[-1]), np.int32)
    fill = start.copy()
    _fill_cells(lows, highs, cell, low, dims, fill, items, False)
    wanted = np.ones(len(faces), bool) if asked is None else asked
    args = tri, lows, highs, np.ascontiguousarray(faces), wanted, cell, low, start, items, dims
    count = np.zeros(len(start) - 1, np.int32)
    _count_cells(*args, count)
    out = np.empty((int(count.sum()), 2), np.int32)
    if len(out):
        _list_cells(*args, np.nonzero(count)[0], out)
    return out
