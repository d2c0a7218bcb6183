"""A tree of boxes over triangles, in double precision, each triangle standing for a curved patch that departs from it by a known bound.

Lengths at which a nearest triangle must be right are a millionth of the part's size and less; on slivers single precision
loses them. The tree halves the triangles at the median of their widest spread; questions descend the nearer side first
(Roussopoulos, Kelley, Vincent 1995, *Nearest neighbor queries*).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

__all__ = ["BoxTree", "on_triangle", "gather"]

_LEAF = 4
DEEP = 64  # levels a question may descend: far more than halving ever makes


@dataclass(frozen=True)
class BoxTree:
    """``low``, ``high`` (k, 3) boxes; ``slack`` (k,) largest departure inside; ``left`` (k,) first child (the other follows it), −1 at
    leaves; ``begin``, ``count`` (k,) their triangles, which lie in the order ``order`` (m,)."""

    low: np.ndarray
    high: np.ndarray
    slack: np.ndarray
    left: np.ndarray
    begin: np.ndarray
    count: np.ndarray
    order: np.ndarray

    @staticmethod
    def of(triangles: np.ndarray, slack: np.ndarray) -> BoxTree:
        """A tree over ``triangles`` (m, 3, 3) mm with departures ``slack`` (m,) mm."""
        low, high = triangles.min(axis=1), triangles.max(axis=1)
        middle = 0.5 * (low + high)
        nodes: list[tuple[int, int]] = [(0, len(triangles))]
        left: list[int] = [-1]
        order = np.arange(len(triangles))
        k = 0
        while k < len(nodes):
            begin, end = nodes[k]
            if end - begin > _LEAF:
                mine = order[begin:end]
                axis = int(np.argmax(np.ptp(middle[mine], axis=0)))
                half = (end - begin) // 2
                order[begin:end] = mine[np.argpartition(middle[mine, axis], half)]
                left[k] = len(nodes)
                nodes += [(begin, begin + half), (begin + half, end)]
                left += [-1, -1]
            k += 1
        span = np.array(nodes)
        leaves = np.array(left, np.int64)
        box_low, box_high, most = np.empty((len(nodes), 3)), np.empty((len(nodes), 3)), np.empty(len(nodes))
        _boxes(low[order], high[order], slack[order], span, leaves, box_low, box_high, most)
        return BoxTree(box_low, box_high, most, leaves, span[:, 0].copy(), span[:, 1] - span[:, 0], order)


@njit(cache=True)
def _boxes(low, high, slack, span, left, out_low, out_high, most):  # pragma: no cover - compiled
    for k in range(len(span) - 1, -1, -1):
        if left[k] < 0:
            b, e = span[k, 0], span[k, 1]
            most[k] = slack[b]
            for c in range(3):
                out_low[k, c], out_high[k, c] = low[b, c], high[b, c]
            for i in range(b + 1, e):
                most[k] = max(most[k], slack[i])
                for c in range(3):
                    out_low[k, c] = min(out_low[k, c], low[i, c])
                    out_high[k, c] = max(out_high[k, c], high[i, c])
        else:
            i, j = left[k], left[k] + 1
            most[k] = max(most[i], most[j])
            for c in range(3):
                out_low[k, c] = min(out_low[i, c], out_low[j, c])
                out_high[k, c] = max(out_high[i, c], out_high[j, c])


@njit(cache=True, inline="always")
def _to_box(px, py, pz, low, high, k):  # pragma: no cover - compiled
    dx = max(low[k, 0] - px, 0.0, px - high[k, 0])
    dy = max(low[k, 1] - py, 0.0, py - high[k, 1])
    dz = max(low[k, 2] - pz, 0.0, pz - high[k, 2])
    return np.sqrt(dx * dx + dy * dy + dz * dz)


@njit(cache=True)
def on_triangle(px, py, pz, tri):  # pragma: no cover - compiled
    """Shares (v, w) of corners 1 and 2 in the nearest place of a triangle (3, 3), and its distance (Ericson 2005, *Real-Time Collision
    Detection*, §5.1.5); a triangle without area is taken as its sides."""
    ax, ay, az = tri[0, 0], tri[0, 1], tri[0, 2]
    abx, aby, abz = tri[1, 0] - ax, tri[1, 1] - ay, tri[1, 2] - az
    acx, acy, acz = tri[2, 0] - ax, tri[2, 1] - ay, tri[2, 2] - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    bpx, bpy, bpz = apx - abx, apy - aby, apz - abz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    cpx, cpy, cpz = apx - acx, apy - acy, apz - acz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    v = w = 0.0
    va = d3 * d6 - d5 * d4
    vb = d5 * d2 - d1 * d6
    vc = d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        pass
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / max(d1 - d3, 1e-300)
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / max(d2 - d6, 1e-300)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-300)
        v = 1.0 - w
    else:
        s = 1.0 / max(va + vb + vc, 1e-300)
        v, w = vb * s, vc * s
    dx, dy, dz = apx - v * abx - w * acx, apy - v * aby - w * acy, apz - v * abz - w * acz
    return v, w, np.sqrt(dx * dx + dy * dy + dz * dz)


@njit(cache=True)
def gather(px, py, pz, tris, err, low, high, slack, left, begin, count, eps, stack, found, share):  # pragma: no cover - compiled
    """The triangles whose patches may hold the place of the surface nearest to a point.

    Fills ``found`` with their numbers and ``share`` with (v, w, distance) each; returns how many, and the bound that the nearest
    distance does not exceed. Where more would be found than there is room for, the nearest are not all among them.
    """
    best = np.inf
    top = 0
    stack[0] = 0
    while top >= 0:
        k = stack[top]
        top -= 1
        if _to_box(px, py, pz, low, high, k) - slack[k] > best:
            continue
        if left[k] < 0:
            for i in range(begin[k], begin[k] + count[k]):
                _, _, d = on_triangle(px, py, pz, tris[i])
                best = min(best, d + err[i])
        else:
            i = left[k]
            j = i + 1
            if _to_box(px, py, pz, low, high, i) < _to_box(px, py, pz, low, high, j):
                i, j = j, i
            stack[top + 1], stack[top + 2] = i, j
            top += 2
    n = 0
    top = 0
    stack[0] = 0
    while top >= 0:
        k = stack[top]
        top -= 1
        if _to_box(px, py, pz, low, high, k) - slack[k] > best + eps:
            continue
        if left[k] < 0:
            for i in range(begin[k], begin[k] + count[k]):
                v, w, d = on_triangle(px, py, pz, tris[i])
                if d - err[i] <= best + eps and n < len(found):
                    found[n] = i
                    share[n, 0], share[n, 1], share[n, 2] = v, w, d
                    n += 1
        else:
            stack[top + 1], stack[top + 2] = left[k], left[k] + 1
            top += 2
    return n, best
