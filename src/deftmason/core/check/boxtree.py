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
from numba import njit, prange

from ..scan.onfacet import on_triangle

__all__ = ["DEEP", "BoxTree", "gather", "to_box"]

_LEAF = 4
_BINS = 16  # places along a box at which it may be parted
_SORTED = 32  # levels after which boxes are halved: so many serve any number of triangles with as many more
DEEP = 64  # levels a question may descend


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
        low, high = _bounds(np.ascontiguousarray(triangles, float))
        order = np.arange(len(triangles))
        room = 2 * max(len(triangles), 1)
        span, left = np.empty((room, 2), np.int64), np.full(room, -1, np.int64)
        k = _parted(low, high, order, span, left)
        span, left = span[:k].copy(), left[:k].copy()
        box_low, box_high, most = np.empty((k, 3)), np.empty((k, 3)), np.empty(k)
        _boxes(low[order], high[order], np.asarray(slack, float)[order], span, left, box_low, box_high, most)
        return BoxTree(box_low, box_high, most, left, span[:, 0].copy(), span[:, 1] - span[:, 0], order)


@njit(cache=True, parallel=True)
def _bounds(tris):  # pragma: no cover - compiled
    low, high = np.empty((len(tris), 3)), np.empty((len(tris), 3))
    for i in prange(len(tris)):
        for c in range(3):
            low[i, c] = min(tris[i, 0, c], tris[i, 1, c], tris[i, 2, c])
            high[i, c] = max(tris[i, 0, c], tris[i, 1, c], tris[i, 2, c])
    return low, high


@njit(cache=True, inline="always")
def _half_area(low, high):  # pragma: no cover - compiled
    x, y, z = high[0] - low[0], high[1] - low[1], high[2] - low[2]
    return x * y + y * z + z * x


@njit(cache=True)
def _parted(low, high, order, span, left):  # pragma: no cover - compiled
    """Fill ``span`` and ``left``, bring ``order`` into the tree's; returns how many boxes there are.

    Each box is parted where its halves' areas times their triangles are least, of a row of places along its longest
    side (Wald 2007, *On fast construction of SAH-based bounding volume hierarchies*).
    """
    number = np.empty(_BINS, np.int64)
    bin_low, bin_high = np.empty((_BINS, 3)), np.empty((_BINS, 3))
    right = np.empty(_BINS)
    box_low, box_high = np.empty(3), np.empty(3)
    mid_low, mid_high = np.empty(3), np.empty(3)
    open_boxes, depth = np.empty(2 * DEEP + 2, np.int64), np.empty(2 * DEEP + 2, np.int64)
    span[0, 0], span[0, 1] = 0, len(order)
    open_boxes[0], depth[0], top, made = 0, 0, 0, 1
    while top >= 0:
        k, deep = open_boxes[top], depth[top]
        top -= 1
        begin, end = span[k, 0], span[k, 1]
        if end - begin <= _LEAF:
            continue
        mid_low[:], mid_high[:] = np.inf, -np.inf
        for q in range(begin, end):
            t = order[q]
            for c in range(3):
                m = low[t, c] + high[t, c]
                mid_low[c], mid_high[c] = min(mid_low[c], m), max(mid_high[c], m)
        axis = 0
        for c in range(1, 3):
            if mid_high[c] - mid_low[c] > mid_high[axis] - mid_low[axis]:
                axis = c
        wide = mid_high[axis] - mid_low[axis]
        half = (begin + end) // 2
        if wide > 0 and deep < _SORTED:
            scale = _BINS / wide * (1 - 1e-9)
            number[:] = 0
            bin_low[:], bin_high[:] = np.inf, -np.inf
            for q in range(begin, end):
                t = order[q]
                b = min(int((low[t, axis] + high[t, axis] - mid_low[axis]) * scale), _BINS - 1)
                number[b] += 1
                for c in range(3):
                    bin_low[b, c], bin_high[b, c] = min(bin_low[b, c], low[t, c]), max(bin_high[b, c], high[t, c])
            box_low[:], box_high[:] = np.inf, -np.inf
            count = 0
            for b in range(_BINS - 1, 0, -1):
                count += number[b]
                for c in range(3):
                    box_low[c], box_high[c] = min(box_low[c], bin_low[b, c]), max(box_high[c], bin_high[b, c])
                right[b] = _half_area(box_low, box_high) * count if count else np.inf
            box_low[:], box_high[:] = np.inf, -np.inf
            best, cut, count = np.inf, -1, 0
            for b in range(_BINS - 1):
                count += number[b]
                for c in range(3):
                    box_low[c], box_high[c] = min(box_low[c], bin_low[b, c]), max(box_high[c], bin_high[b, c])
                cost = _half_area(box_low, box_high) * count + right[b + 1] if count else np.inf
                if cost < best:
                    best, cut = cost, b
            i, j = begin, end - 1
            while cut >= 0 and i <= j:
                t = order[i]
                if min(int((low[t, axis] + high[t, axis] - mid_low[axis]) * scale), _BINS - 1) <= cut:
                    i += 1
                else:
                    order[i], order[j] = order[j], t
                    j -= 1
            if begin < i < end:
                half = i
        elif wide > 0:  # deeper than a tree of that size has to be: halved
            mine = order[begin:end].copy()
            order[begin:end] = mine[np.argsort(low[mine, axis] + high[mine, axis])]
        left[k] = made
        span[made, 0], span[made, 1] = begin, half
        span[made + 1, 0], span[made + 1, 1] = half, end
        open_boxes[top + 1], depth[top + 1] = made + 1, deep + 1
        open_boxes[top + 2], depth[top + 2] = made, deep + 1
        top += 2
        made += 2
    return made


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
