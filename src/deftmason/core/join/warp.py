"""How far two settled scans lie apart in long waves: what a false placement leaves and noise does not.

Averaged over neighbours the noise of two looks shrinks, and what one surface bends otherwise than the other stays. How
much of the noise is wide differs from scanner to scanner: the surest pairs of a set tell.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .nearest import closest
from .seen import Seen

__all__ = ["warp"]

_FACING = 0.8
_ROUNDS = 3  # of averaging over a place and its six neighbours: some two dozen places
_FEWEST = 80  # places that tell
_RIM = 1.0  # spacings from where seeing ended
_EDGE = 0.6  # spacings that neighbours of a place on no edge scatter beyond the noise
_FAR = 12.0  # scatters that what agrees may lie apart
_ALIKE = 0.3  # spacings of both, besides


@njit(cache=True, nogil=True)
def _apart(x, n, inner, p, order, start, dims, low, cell, q, m, q_inner, beside, most, out):  # pragma: no cover
    """Signed distances of places ``x`` with normals ``n`` from the surface that points ``q`` tell, along the mean of
    both normals, NaN where they are not of one surface; into ``out``.
    """
    reach = np.sqrt(beside * beside + most * most)
    for i in range(x.shape[0]):
        out[i] = np.nan
        if not inner[i]:
            continue
        first, _, d1, _ = closest(p, start, dims, low, cell, x[i, 0], x[i, 1], x[i, 2], reach)
        if first < 0:
            continue
        j = order[first]
        if not q_inner[j]:
            continue
        if n[i, 0] * m[j, 0] + n[i, 1] * m[j, 1] + n[i, 2] * m[j, 2] < _FACING:
            continue
        s, h = 0.0, 0.0
        for c in range(3):
            mid = n[i, c] + m[j, c]
            s += mid * mid
            h += (x[i, c] - q[j, c]) * mid
        h /= np.sqrt(s)
        if abs(h) < most and d1 - h * h < beside * beside:
            out[i] = h


@njit(cache=True, nogil=True)
def _averaged(h, near, rounds):  # pragma: no cover - compiled
    """Values (k,) averaged over their neighbours (k, 6) again and again; those that are NaN are none."""
    now, new = h.copy(), h.copy()
    for _ in range(rounds):
        for i in range(len(now)):
            if np.isnan(now[i]):
                continue
            total, count = now[i], 1
            for k in range(near.shape[1]):
                v = now[near[i, k]]
                if not np.isnan(v):
                    total += v
                    count += 1
            new[i] = total / count
        now, new = new, now
    return now


def _smooth(s: Seen) -> np.ndarray:
    """Which points were seen well around and lie on no edge."""
    return (s.rim > _RIM * s.spacing) & (s.rough - s.noise < _EDGE * s.spacing)


def warp(a: Seen, near_a: np.ndarray, b: Seen, near_b: np.ndarray, motion: RigidMotion, grain: float) -> float:
    """The ratio of long to short waves in how far ``a``, moved, and ``b`` lie apart where both are smooth; 0 where they
    share too little to tell.

    Parameters
    ----------
    near_a, near_b : the six nearest points (n, 6) of each of a scan's own.  grain : what sparse points of a curved
        surface lie apart, mm.
    """
    long = short = 0.0
    count = 0
    most = _FAR * float(np.hypot(a.noise, b.noise)) + _ALIKE * (a.spacing + b.spacing)
    for s, near, o, m in ((a, near_a, b, motion), (b, near_b, a, motion.inverse())):
        h = np.empty(len(s.points))
        t = o.nearest
        _apart(
            m.points(s.points), m.vectors(s.normals), _smooth(s), *t.grid,
            o.points, o.normals, _smooth(o), 2 * o.spacing, most, h,
        )  # fmt: skip
        wide = _averaged(h, near, _ROUNDS)
        ok = ~np.isnan(h)
        count += int(ok.sum())
        long += float((wide[ok] ** 2).sum())
        short += float(((h - wide)[ok] ** 2).sum())
    if count < 2 * _FEWEST:
        return 0.0
    return float(np.sqrt(long / max(short + count * grain**2, 1e-300)))
