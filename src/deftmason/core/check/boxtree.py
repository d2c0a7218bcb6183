"""A tree of boxes over triangles, in double precision, each triangle standing for a curved patch that departs from it
by a known bound.

Lengths at which a nearest triangle must be right are a millionth of the part's size and less; on slivers single
precision
loses them. The tree halves the triangles at the median of their widest spread; questions descend the nearer side first
(Roussopoulos, Kelley, Vincent 1995, *Nearest neighbor queries*).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..scan.onfacet import on_triangle

__all__ = ["DEEP", "BoxTree", "gather", "to_box"]

_LEAF = 4
DEEP = 64  # levels a question may descend: far more than halving ever makes


@dataclass(frozen=True)
class BoxTree:
    """``low``, ``high`` (k, 3) boxes; ``slack`` (k,) largest departure inside; ``left`` (k,) first child (the other
    follows it), −1 at
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
def to_box(px, py, pz, low, high, k):  # pragma: no cover - compiled
    dx = max(low[k, 0] - px, 0.0, px - high[k, 0])
    dy = max(low[k, 1] - py, 0.0, py - high[k, 1])
    dz = max(low[k, 2] - pz, 0.0, pz - high[k, 2])
    return np.sqrt(dx * dx + dy * dy + dz * dz)


@njit(cache=True)
def gather(
    px, py, pz, tris, err, low, high, slack, left, begin, count, eps, stack, found, share, hint
):  # pragma: no cover - compiled
    """The triangles whose patches may hold the place of the surface nearest to a point.

    Fills ``found`` with their numbers and ``share`` with (v, w, distance) each; returns how many, and the bound that
    the nearest distance does not exceed. Where more would be found than there is room for, the nearest are not all
    among them. ``hint`` is a triangle that may be near (−1: none): the nearer it is, the less has to be looked at.
    """
    best = np.inf
    if hint >= 0:
        _, _, d = on_triangle(px, py, pz, tris[hint])
        best = d + err[hint]
    n, full = 0, False
    top = 0
    stack[0] = 0
    while top >= 0:
        k = stack[top]
        top -= 1
        if to_box(px, py, pz, low, high, k) - slack[k] > best + eps:
            continue
        if left[k] >= 0:
            i = left[k]
            j = i + 1
            if to_box(px, py, pz, low, high, i) < to_box(px, py, pz, low, high, j):
                i, j = j, i
            stack[top + 1], stack[top + 2] = i, j
            top += 2
            continue
        for i in range(begin[k], begin[k] + count[k]):
            v, w, d = on_triangle(px, py, pz, tris[i])
            best = min(best, d + err[i])
            if d - err[i] > best + eps:
                continue
            if n == len(found):
                n = _kept(found, share, err, n, best + eps)
                full = full or n == len(found)
            if n < len(found):
                found[n] = i
                share[n, 0], share[n, 1], share[n, 2] = v, w, d
                n += 1
    if full:  # what was passed over for want of room may be nearer than what was kept
        n = 0
        top = 0
        stack[0] = 0
        while top >= 0:
            k = stack[top]
            top -= 1
            if to_box(px, py, pz, low, high, k) - slack[k] > best + eps:
                continue
            if left[k] >= 0:
                stack[top + 1], stack[top + 2] = left[k], left[k] + 1
                top += 2
                continue
            for i in range(begin[k], begin[k] + count[k]):
                v, w, d = on_triangle(px, py, pz, tris[i])
                if d - err[i] <= best + eps and n < len(found):
                    found[n] = i
                    share[n, 0], share[n, 1], share[n, 2] = v, w, d
                    n += 1
    return _kept(found, share, err, n, best + eps), best


@njit(cache=True, inline="always")
def _kept(found, share, err, n, most):  # pragma: no cover - compiled
    """What of the first ``n`` may still be nearest, moved together."""
    m = 0
    for q in range(n):
        if share[q, 2] - err[found[q]] <= most:
            found[m] = found[q]
            share[m, 0], share[m, 1], share[m, 2] = share[q, 0], share[q, 1], share[q, 2]
            m += 1
    return m
