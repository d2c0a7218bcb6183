"""One scan settled on others that stay.

Places of one scan are matched with the nearest of another where both were seen all around and face the same way. What
is made
small is the distance along the mean of both normals, which is zero for two places of one smooth surface however far
apart
they were sampled (Rusinkiewicz 2019, *A symmetric objective function for ICP*). Where faces end, see `ends`, the
distance along the way out of the face is made small too. Weights are Tukey's, at the residuals' own scatter.
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
    "matches",
    "end_matches",
    "end_reach",
    "firmness",
    "equations",
    "scatter",
    "picks_of",
    "settle_onto",
    "least_reach",
    "small_motion",
    "step_of",
    "with_ends",
    "COUNT",
    "LEVER",
    "ROUNDS",
    "TUKEY",
]

_FACING = 0.85
_RIM = 1.2  # spacings from where seeing ended that a match needs, so that ends are not drawn onto ends
_UNSURE = 0.06  # spacings: faces that hold a way less surely are helped out by their ends
LEVER = 0.3  # of a scan's span: how far from its middle most of it lies
COUNT = 6000  # matches of a pair, each way
ROUNDS = 30
TUKEY = 4.685  # scatters at which a match counts for nothing


def small_motion(x: np.ndarray, about: np.ndarray) -> RigidMotion:
    """The motion turning by x[:3] (rad) about a place and moving by x[3:] (mm)."""
    from scipy.spatial.transform import Rotation

    turn = Rotation.from_rotvec(x[:3]).as_matrix()
    return RigidMotion.of(turn, x[3:] + about - turn @ about)


@dataclass(frozen=True)
class Matches:
    """Places on two scans (each in the joined frame), the direction between them and a weight."""

    p: np.ndarray
    q: np.ndarray
    n: np.ndarray
    w: np.ndarray

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
    i = i[seen.rim[i] > _RIM * seen.spacing]
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
    p, q, n, w = np.empty((k, 3)), np.empty((k, 3)), np.empty((k, 3)), np.empty(k)
    # Asked in b's own coordinates; the answers in the joined frame.
    m = mb.inverse().after(ma)
    x, t = m.points(a.points[ia]), m.vectors(a.normals[ia])
    used = _matched(
        x,
        t,
        o.points,
        o.order,
        o.start,
        o.dims,
        o.low,
        o.cell,
        b.points,
        b.normals,
        b.rim,
        _RIM * b.spacing,
        float(reach),
        b.spacing,
        p,
        q,
        n,
        w,
    )
    return Matches(mb.points(p[:used]), mb.points(q[:used]), mb.vectors(n[:used]), w[:used])


@njit(cache=True, nogil=True)
def _matched(
    x, t, p, order, start, dims, low, cell, b, bn, rim, least_rim, reach, spacing, out_p, out_q, out_n, out_w
):  # pragma: no cover - compiled
    used = 0
    for i in range(x.shape[0]):
        first, _, _, _ = closest(p, start, dims, low, cell, x[i, 0], x[i, 1], x[i, 2], reach + 2 * spacing)
        if first < 0:
            continue
        j = order[first]
        if rim[j] <= least_rim:
            continue
        c = t[i, 0] * bn[j, 0] + t[i, 1] * bn[j, 1] + t[i, 2] * bn[j, 2]
        if c <= _FACING:
            continue
        sx, sy, sz = t[i, 0] + bn[j, 0], t[i, 1] + bn[j, 1], t[i, 2] + bn[j, 2]
        s = np.sqrt(sx * sx + sy * sy + sz * sz)
        sx, sy, sz = sx / s, sy / s, sz / s
        dx, dy, dz = x[i, 0] - b[j, 0], x[i, 1] - b[j, 1], x[i, 2] - b[j, 2]
        h = dx * sx + dy * sy + dz * sz
        aside = np.sqrt(max(dx * dx + dy * dy + dz * dz - h * h, 0.0))
        if abs(h) >= reach or aside >= 2 * spacing + 0.3 * reach:
            continue
        for k in range(3):
            out_p[used, k], out_q[used, k] = x[i, k], b[j, k]
        out_n[used, 0], out_n[used, 1], out_n[used, 2], out_w[used] = sx, sy, sz, c
        used += 1
    return used


def end_matches(a: Seen, b: Seen, ma: RigidMotion, mb: RigidMotion, reach: float) -> Matches:
    """Where faces of the one scan end with where those of the other do within ``reach`` mm, both scans moved."""
    m = mb.inverse().after(ma)
    p, q, n = ends_on(a.ends, b.ends, m, reach)
    y, x, o = ends_on(b.ends, a.ends, m.inverse(), reach)
    return Matches(
        np.vstack([mb.points(p), ma.points(x)]),
        np.vstack([mb.points(q), ma.points(y)]),
        np.vstack([mb.vectors(n), ma.vectors(o)]),
        np.ones(len(p) + len(y)),
    )


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


@njit(cache=True, nogil=True)
def equations(x, y, n, w0, reach, ca, cb, h, g):  # pragma: no cover - compiled
    """Adds the normal equations (12, 12), (12,) of two scans' small motions about ``ca`` and ``cb``; returns Σ w and Σ
    w r².
    """
    row = np.empty(12)
    total, squares = 0.0, 0.0
    for i in range(x.shape[0]):
        u, v, t = n[i, 0], n[i, 1], n[i, 2]
        r = (x[i, 0] - y[i, 0]) * u + (x[i, 1] - y[i, 1]) * v + (x[i, 2] - y[i, 2]) * t
        e = min(abs(r) / reach, 1.0)
        w = (1 - e * e) ** 2 * w0[i]
        total += w
        squares += w * r * r
        if w == 0.0:
            continue
        a, b, c = x[i, 0] - ca[0], x[i, 1] - ca[1], x[i, 2] - ca[2]
        row[0], row[1], row[2] = b * t - c * v, c * u - a * t, a * v - b * u
        a, b, c = x[i, 0] - cb[0], x[i, 1] - cb[1], x[i, 2] - cb[2]
        row[6], row[7], row[8] = c * v - b * t, a * t - c * u, b * u - a * v
        row[3], row[4], row[5], row[9], row[10], row[11] = u, v, t, -u, -v, -t
        for k in range(12):
            f = w * row[k]
            g[k] += f * r
            for l in range(k + 1):
                h[k, l] += f * row[l]
    for k in range(12):
        for l in range(k):
            h[l, k] = h[k, l]
    return total, squares


def step_of(h: np.ndarray, g: np.ndarray, lever: float, damping: float = 1e-9) -> np.ndarray:
    """The motions (6 k,) of k scans, turns (rad) and shifts (mm) in turn, that normal equations ``h``, ``g`` ask for.
    Turns are measured by what they move at ``lever`` mm, so that damping is alike at every size.
    """
    scale = np.tile([lever, lever, lever, 1.0, 1.0, 1.0], len(g) // 6)
    hs = h / np.outer(scale, scale)
    hs += (damping * np.trace(hs) / len(g) + 1e-12) * np.eye(len(g))
    return np.linalg.solve(hs, -g / scale) / scale


def with_ends(
    h: np.ndarray, g: np.ndarray, h_ends: np.ndarray, g_ends: np.ndarray, lever: float, firm: float
) -> tuple[np.ndarray, np.ndarray]:
    """Normal equations of faces, helped out by those of their ends, each ``firm`` of a face's place, in the ways that
    faces hardly hold: ends lie where pixels end, up to half a spacing off the true ones all alike, and faces are surer
    wherever they hold to a part of that (Zhang, Kaess, Singh 2016, *On degeneracy of optimization-based state
    estimation problems*).
    """
    scale = np.tile([lever, lever, lever, 1.0, 1.0, 1.0], len(g) // 6)
    both = np.outer(scale, scale)
    values, ways = np.linalg.eigh(h / both)
    weak = ways[:, values < firm * (END_SCATTER / _UNSURE) ** 2]
    if not weak.shape[1]:
        return h, g
    onto = weak @ weak.T
    return h + onto @ (h_ends / both) @ onto * both, g + onto @ (g_ends / scale) * scale


def _as_one(several: list[Matches]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    p, q, n, w = (np.concatenate([getattr(m, k) for m in several]) for k in ("p", "q", "n", "w"))
    return p, q, n, w


def settle_onto(
    moving: Seen,
    motion: RigidMotion,
    fixed: list[tuple[Seen, RigidMotion]],
    *,
    reach: float,
    count: int = 1500,
    rounds: int = ROUNDS,
) -> tuple[RigidMotion, np.ndarray, float]:
    """One scan settled on others that stay, from a rough placement within ``reach`` mm; all in the joined frame.

    Returns the motion, its information (6, 6) about the scan's moved middle per mm² of noise, and the rms left in mm.
    """
    i = picks_of(moving, count)
    theirs = [picks_of(s, count) for s, _ in fixed]
    info, rms = np.zeros((6, 6)), np.inf
    least = max(least_reach(moving, s) for s, _ in fixed)
    far = [end_reach(moving, s) for s, _ in fixed]
    end_look = max(1.2 * reach, *far)
    calm = 0
    for _ in range(rounds):
        both, ends = [], []
        for (s, m), k, f in zip(fixed, theirs, far):
            there = matches(moving, i, s, motion, m, reach)
            back = matches(s, k, moving, m, motion, reach)
            here = [there, Matches(back.q, back.p, back.n, back.w)]
            both += here
            firm = firmness(moving, s, np.concatenate([h.residual for h in here]))
            e = end_matches(moving, s, motion, m, max(end_look, f))
            ends.append(Matches(e.p, e.q, e.n, firm * e.w))
        x, y, n, w0 = _as_one(both)
        ex, ey, en, ew = _as_one(ends)
        if len(x) < 20 or np.abs(np.einsum("ij,ij->i", x - y, n)).min() >= reach:
            return motion, np.zeros((6, 6)), np.inf
        # Much of a scanner's noise is wider than a look at one scan tells; two scans together tell it.
        least = max(least, min(TUKEY * scatter(np.einsum("ij,ij->i", x - y, n)), reach))
        c = motion.points(moving.centre)
        moved = 0.0
        for _ in range(3):  # the same matches serve a few steps
            h, g = np.zeros((12, 12)), np.zeros(12)
            weight, squares = equations(x, y, n, w0, reach, c, c, h, g)
            he, ge = np.zeros((12, 12)), np.zeros(12)
            equations(ex, ey, en, ew, end_look, c, c, he, ge)
            info, force = with_ends(h[:6, :6], g[:6], he[:6, :6], ge[:6], LEVER * moving.span, firm)
            step = step_of(info, force, LEVER * moving.span)
            turn = small_motion(step, c)
            x, ex, motion = turn.points(x), turn.points(ex), turn.after(motion)
            moved += float(np.linalg.norm(step[3:]) + np.linalg.norm(step[:3]) * 0.4 * moving.span)
        rms = float(np.sqrt(squares / max(weight, 1e-12)))
        # The reach narrows only as fast as the scan comes to rest.
        reach = max(min(reach, max(0.7 * reach, 4 * moved)), least)
        end_look = max(min(end_look, max(0.8 * end_look, 4 * moved)), *far)
        calm = calm + 1 if moved < 2e-5 * moving.span and reach == least and end_look == max(far) else 0
        if calm == 2:
            break
    return motion, info, rms


def least_reach(a: Seen, b: Seen) -> float:
    """Distance that noise and sampling explain between two settled scans, mm."""
    return max(6 * float(np.hypot(a.noise, b.noise)), 0.2 * max(a.spacing, b.spacing))
