"""Places of two scans that are the same, for settling: of faces, and where faces end.

Places of one scan are matched with the nearest of another where both were seen all around and face the same way. What
is to be small is the distance along the mean of both normals, which is zero for two places of one smooth surface
however far apart they were sampled (Rusinkiewicz 2019, *A symmetric objective function for ICP*). Where faces end, see
`ends`, it is the distance along the way out of the face.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .ends import END_REACH, END_SCATTER, ends_on
from .even import even_sample
from .nearest import closest
from .seen import Seen

__all__ = [
    "Matches",
    "both_sides",
    "matches",
    "end_matches",
    "end_reach",
    "firmness",
    "scatter",
    "picks_of",
    "least_reach",
    "COUNT",
    "RIM",
]

_FACING = 0.85
RIM = 1.2  # spacings from where seeing ended that a match needs, so that ends are not drawn onto ends
COUNT = 6000  # matches of a pair, each way


@dataclass(frozen=True)
class Matches:
    """Places on two scans (each in the joined frame), the direction between them and a weight; ``d`` half of what sets
    both normals apart, of which all would be noise did the places lie on one smooth surface.
    """

    p: np.ndarray
    q: np.ndarray
    n: np.ndarray
    w: np.ndarray
    d: np.ndarray

    @property
    def residual(self) -> np.ndarray:
        return np.einsum("ij,ij->i", self.p - self.q, self.n)


def picks_of(seen: Seen, count: int = COUNT) -> np.ndarray:
    """Places of a scan well inside what was seen, even over its directions as well as its area: where few
    places face some way they alone hold the scan that way (Rusinkiewicz, Levoy 2001, normal-space sampling)."""
    if count not in seen.picks:
        i = _picked(seen, count)
        # In the order of places, so that one answer's memory serves the next.
        rank = np.empty(len(seen.points), np.int32)
        rank[seen.nearest.order] = np.arange(len(rank), dtype=np.int32)
        seen.picks[count] = i[np.argsort(rank[i])]
    return seen.picks[count]


def _picked(seen: Seen, count: int) -> np.ndarray:
    pitch = max(seen.spacing, np.sqrt(seen.area / (3 * count)))
    i = even_sample(seen.points, pitch)
    i = i[seen.rim[i] > RIM * seen.spacing]
    if len(i) <= count:
        return i
    from scipy.spatial import cKDTree

    # Crowding of directions: how many of a few hundred others face the same way.
    n = seen.normals[i]
    some = n[:: max(1, len(n) // 600)]
    crowd = cKDTree(some).query_ball_point(n, 0.35, return_length=True, workers=-1)
    chance = 1.0 / np.maximum(crowd, 1)
    lot = np.random.default_rng(3)
    take = lot.choice(len(i), count, replace=False, p=chance / chance.sum())
    return i[take]


def matches(a: Seen, ia: np.ndarray, b: Seen, ma: RigidMotion, mb: RigidMotion, reach: float) -> Matches:
    """Places ``ia`` of ``a`` with their nearest on ``b`` within ``reach`` mm, both scans moved."""
    o, k = b.nearest, len(ia)
    p, q, n, d, w = (*(np.empty((k, 3)) for _ in range(4)), np.empty(k))
    used = _matched(
        a.points,
        a.normals,
        ia,
        mb.inverse().after(ma).matrix,
        mb.matrix,
        *o.grid,
        b.points,
        b.normals,
        b.rim,
        RIM * b.spacing,
        float(reach),
        b.spacing,
        p,
        q,
        n,
        d,
        w,
    )
    return Matches(p[:used], q[:used], n[:used], w[:used], d[:used])


def both_sides(there: Matches, back: Matches) -> Matches:
    """Matches asked of either scan, as of the first."""
    both = (there.p, back.q), (there.q, back.p), (there.n, back.n), (there.w, back.w), (there.d, back.d)
    return Matches(*map(np.concatenate, both))


@njit(cache=True, nogil=True)
def _matched(
    at,
    facing,
    ia,
    m,
    mb,
    p,
    order,
    start,
    dims,
    low,
    cell,
    b,
    bn,
    rim,
    least_rim,
    reach,
    spacing,
    to_p,
    to_q,
    to_n,
    to_d,
    to_w,
):  # pragma: no cover - compiled
    """Asked in b's own coordinates, where ``m`` takes places ``ia``; the answers in the joined frame, by ``mb``."""
    used = 0
    x, t, s, d = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for i in ia:
        for k in range(3):
            x[k] = m[k, 0] * at[i, 0] + m[k, 1] * at[i, 1] + m[k, 2] * at[i, 2] + m[k, 3]
        first, _, _, _ = closest(p, start, dims, low, cell, x[0], x[1], x[2], reach + 2 * spacing)
        if first < 0:
            continue
        j = order[first]
        if rim[j] <= least_rim:
            continue
        c = 0.0
        for k in range(3):
            t[k] = m[k, 0] * facing[i, 0] + m[k, 1] * facing[i, 1] + m[k, 2] * facing[i, 2]
            c += t[k] * bn[j, k]
        if c <= _FACING:
            continue
        size, apart, h = 0.0, 0.0, 0.0
        for k in range(3):
            s[k] = t[k] + bn[j, k]
            d[k] = x[k] - b[j, k]
            size += s[k] * s[k]
            apart += d[k] * d[k]
        size = np.sqrt(size)
        for k in range(3):
            s[k] /= size
            h += d[k] * s[k]
        if abs(h) >= reach or np.sqrt(max(apart - h * h, 0.0)) >= 2 * spacing + 0.3 * reach:
            continue
        _told(mb, x, b[j], s, to_p[used], to_q[used], to_n[used])
        for k in range(3):
            to_d[used, k] = 0.0
            for l in range(3):
                to_d[used, k] += 0.5 * mb[k, l] * (t[l] - bn[j, l])
        to_w[used] = c
        used += 1
    return used


@njit(cache=True, nogil=True)
def _told(m, x, y, n, out_x, out_y, out_n):  # pragma: no cover - compiled
    """Two places and a direction, moved by ``m``."""
    for k in range(3):
        out_x[k] = m[k, 0] * x[0] + m[k, 1] * x[1] + m[k, 2] * x[2] + m[k, 3]
        out_y[k] = m[k, 0] * y[0] + m[k, 1] * y[1] + m[k, 2] * y[2] + m[k, 3]
        out_n[k] = m[k, 0] * n[0] + m[k, 1] * n[1] + m[k, 2] * n[2]


def end_matches(a: Seen, b: Seen, ma: RigidMotion, mb: RigidMotion, reach: float) -> Matches:
    """Where faces of the one scan end with where those of the other do within ``reach`` mm, both scans moved."""
    p, q, n = ends_on(a.ends, b.ends, mb.inverse().after(ma), mb, reach)
    y, x, o = ends_on(b.ends, a.ends, ma.inverse().after(mb), ma, reach)
    k = len(p) + len(y)
    return Matches(np.vstack([p, x]), np.vstack([q, y]), np.vstack([n, o]), np.ones(k), np.zeros((k, 3)))


def end_reach(a: Seen, b: Seen) -> float:
    """Distance that chance explains between ends of two settled scans, mm."""
    return END_REACH * END_SCATTER * float(np.sqrt(0.5) * np.hypot(a.spacing, b.spacing))


def firmness(a: Seen, b: Seen, residual: np.ndarray) -> float:
    """What an end counts where a place on a face counts 1, by how far each scatters."""
    off = max(scatter(residual), 0.5 * float(np.hypot(a.noise, b.noise)))
    return min((END_REACH * off / end_reach(a, b)) ** 2, 1.0)


def scatter(r: np.ndarray) -> float:
    """Robust standard deviation of residuals about zero."""
    return 1.4826 * float(np.median(np.abs(r))) if len(r) else 0.0


def least_reach(a: Seen, b: Seen) -> float:
    """Distance that noise and sampling explain between two settled scans, mm."""
    return max(6 * float(np.hypot(a.noise, b.noise)), 0.2 * max(a.spacing, b.spacing))
