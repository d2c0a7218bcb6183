"""One scan settled on others that stay.

The distances of matched places, see `matching`, are made small in weighted squares; weights are Tukey's, at the
residuals' own scatter.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .ends import END_SCATTER
from .matching import (
    Matches,
    both_sides,
    end_matches,
    end_reach,
    firmness,
    least_reach,
    matches,
    picks_of,
    scatter,
)
from .seen import Seen

__all__ = ["equations", "feigned_by", "settle_onto", "small_motion", "step_of", "with_ends", "LEVER", "ROUNDS", "TUKEY"]

_UNSURE = 0.06  # spacings: faces that hold a way less surely are helped out by their ends
_FIRM = (END_SCATTER / _UNSURE) ** 2
_FEIGNED = 4.0  # times what noise feigns that faces hold to which ends count in full, and twice that, not at all
_NOISE_AT_MOST = 1.5  # times what noise feigns that chance makes of it
_FEW_ENDS = 4.0  # that hold a way which nothing else holds
LEVER = 0.3  # of a scan's span: how far from its middle most of it lies
ROUNDS = 30
TUKEY = 4.685  # scatters at which a match counts for nothing


def small_motion(x: np.ndarray, about: np.ndarray) -> RigidMotion:
    """The motion turning by x[:3] (rad) about a place and moving by x[3:] (mm)."""
    m = np.eye(4)
    _small_motion(x, about, m)
    return RigidMotion(m)


@njit(cache=True, nogil=True)
def _small_motion(x, about, m):  # pragma: no cover - compiled
    """See `small_motion`, into ``m`` (4, 4), a unit matrix."""
    angle = np.sqrt(x[0] * x[0] + x[1] * x[1] + x[2] * x[2])
    # sin(a) / a and (1 - cos(a)) / a², well behaved about zero
    a = 1.0 - angle * angle / 6 if angle < 1e-5 else np.sin(angle) / angle
    b = 0.5 - angle * angle / 24 if angle < 1e-5 else 2 * (np.sin(0.5 * angle) / angle) ** 2
    u, v, w = x[0], x[1], x[2]
    m[0, 0], m[0, 1], m[0, 2] = 1 - b * (v * v + w * w), b * u * v - a * w, b * u * w + a * v
    m[1, 0], m[1, 1], m[1, 2] = b * u * v + a * w, 1 - b * (u * u + w * w), b * v * w - a * u
    m[2, 0], m[2, 1], m[2, 2] = b * u * w - a * v, b * v * w + a * u, 1 - b * (u * u + v * v)
    for k in range(3):
        m[k, 3] = x[3 + k] + about[k] - (m[k, 0] * about[0] + m[k, 1] * about[1] + m[k, 2] * about[2])


@njit(cache=True, nogil=True)
def _move(m, points):  # pragma: no cover - compiled
    for i in range(points.shape[0]):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        for k in range(3):
            points[i, k] = m[k, 0] * x + m[k, 1] * y + m[k, 2] * z + m[k, 3]


@njit(cache=True, nogil=True)
def _row(x, n, ca, cb, row):  # pragma: no cover - compiled
    """How a distance along ``n`` at place ``x`` grows with both scans' small motions about ``ca`` and ``cb``, into
    (12,).
    """
    u, v, t = n[0], n[1], n[2]
    a, b, c = x[0] - ca[0], x[1] - ca[1], x[2] - ca[2]
    row[0], row[1], row[2] = b * t - c * v, c * u - a * t, a * v - b * u
    a, b, c = x[0] - cb[0], x[1] - cb[1], x[2] - cb[2]
    row[6], row[7], row[8] = c * v - b * t, a * t - c * u, b * u - a * v
    row[3], row[4], row[5], row[9], row[10], row[11] = u, v, t, -u, -v, -t


@njit(cache=True, nogil=True)
def equations(x, y, n, w0, reach, ca, cb, h, g):  # pragma: no cover - compiled
    """Adds the normal equations (12, 12), (12,) of two scans' small motions about ``ca`` and ``cb``; returns Σ w and Σ
    w r².
    """
    row = np.empty(12)
    total, squares = 0.0, 0.0
    for i in range(x.shape[0]):
        r = (x[i, 0] - y[i, 0]) * n[i, 0] + (x[i, 1] - y[i, 1]) * n[i, 1] + (x[i, 2] - y[i, 2]) * n[i, 2]
        e = min(abs(r) / reach, 1.0)
        w = (1 - e * e) ** 2 * w0[i]
        total += w
        squares += w * r * r
        if w == 0.0:
            continue
        _row(x[i], n[i], ca, cb, row)
        for k in range(12):
            f = w * row[k]
            g[k] += f * r
            for l in range(k + 1):
                h[k, l] += f * row[l]
    for k in range(12):
        for l in range(k):
            h[l, k] = h[k, l]
    return total, squares


@njit(cache=True, nogil=True)
def feigned_by(x, y, n, d, w0, reach, ca, cb):  # pragma: no cover - compiled
    """How much of what `equations` hold (12, 12) noise in the normals alone would: two looks' noises are not alike, so
    that of a mean normal's square as much is noise as of half their difference ``d`` (k, 3).
    """
    h = np.zeros((12, 12))
    row = np.empty(12)
    for i in range(x.shape[0]):
        r = (x[i, 0] - y[i, 0]) * n[i, 0] + (x[i, 1] - y[i, 1]) * n[i, 1] + (x[i, 2] - y[i, 2]) * n[i, 2]
        e = min(abs(r) / reach, 1.0)
        w = (1 - e * e) ** 2 * w0[i]
        _row(x[i], d[i], ca, cb, row)
        for k in range(12):
            for l in range(12):
                h[k, l] += w * row[k] * row[l]
    return h


@njit(cache=True, nogil=True)
def _levers(size, lever):  # pragma: no cover - compiled
    """What turns (rad) are measured by, beside shifts (mm), (size,)."""
    out = np.ones(size)
    for k in range(size):
        if k % 6 < 3:
            out[k] = lever
    return out


@njit(cache=True, nogil=True)
def step_of(h, g, lever, damping=1e-9):  # pragma: no cover - compiled
    """The motions (6 k,) of k scans, turns (rad) and shifts (mm) in turn, that normal equations ``h``, ``g`` ask for.
    Turns are measured by what they move at ``lever`` mm, so that damping is alike at every size.
    """
    scale = _levers(len(g), lever)
    hs = h / np.outer(scale, scale)
    more = damping * np.trace(hs) / len(g) + 1e-12
    for k in range(len(g)):
        hs[k, k] += more
    return np.linalg.solve(hs, -g / scale) / scale


@njit(cache=True, nogil=True)
def with_ends(h, g, feigned, h_ends, g_ends, lever, firm):  # pragma: no cover - compiled
    """Normal equations of faces, helped out by those of their ends, each ``firm`` of a face's place, in the ways that
    faces hardly hold: ends lie where pixels end, up to half a spacing off the true ones all alike, and faces are surer
    wherever they hold to a part of that. In ways in which they hold no more than noise in their normals may feign, see
    `feigned_by`, ends alone count, for what is feigned pulls on and on; where few ends are, nothing moves that way
    (solution remapping: Zhang, Kaess, Singh 2016, *On degeneracy of optimization-based state estimation problems*).
    """
    scale = _levers(len(g), lever)
    both = np.outer(scale, scale)
    faces, pull, noise = h / both, g / scale, feigned / both
    values, ways = np.linalg.eigh(faces)
    ends, ends_pull = h_ends / both, g_ends / scale
    onto = np.zeros_like(h)
    for k in range(len(g)):
        way = np.ascontiguousarray(ways[:, k])
        above = values[k] / max(way @ noise @ way, 1e-300)
        share = 1.0 if values[k] < firm * _FIRM else min(max(2 - above / _FEIGNED, 0.0), 1.0)
        if share == 0.0:
            continue
        square = np.outer(way, way)
        trust = min(max(above - _NOISE_AT_MOST, 0.0), 1.0)
        faces -= (1 - trust) * values[k] * square
        pull = pull - (1 - trust) * (way @ pull) * way
        if trust > 0.0 or way @ ends @ way >= _FEW_ENDS * firm:
            onto += np.sqrt(share) * square
    return (faces + onto @ ends @ onto) * both, (pull + onto @ ends_pull) * scale


@njit(cache=True, nogil=True)
def _steps(
    x, y, n, w, reach, ex, ey, en, ew, end_look, centre, motion, lever, firm, feigned, span
):  # pragma: no cover - compiled
    """A few steps with the same matches, of faces and of ends, whose places on the moving scan and whose ``motion``
    (4, 4) are moved; the information (6, 6), the distance moved in all, mm, and Σ w and Σ w r² before the last step.
    """
    moved, weight, squares = 0.0, 0.0, 0.0
    info = np.zeros((6, 6))
    for _ in range(3):
        h, g = np.zeros((12, 12)), np.zeros(12)
        weight, squares = equations(x, y, n, w, reach, centre, centre, h, g)
        he, ge = np.zeros((12, 12)), np.zeros(12)
        equations(ex, ey, en, ew, end_look, centre, centre, he, ge)
        info, force = with_ends(
            np.ascontiguousarray(h[:6, :6]), g[:6], feigned, np.ascontiguousarray(he[:6, :6]), ge[:6], lever, firm
        )
        step = step_of(info, force, lever)
        turn = np.eye(4)
        _small_motion(step, centre, turn)
        _move(turn, x)
        _move(turn, ex)
        motion[:] = turn @ motion
        moved += np.sqrt((step[3:] ** 2).sum()) + np.sqrt((step[:3] ** 2).sum()) * 0.4 * span
    return info, moved, weight, squares


def _as_one(several: list[Matches]) -> Matches:
    if len(several) == 1:
        return several[0]
    return Matches(*(np.concatenate([getattr(m, k) for m in several]) for k in ("p", "q", "n", "w", "d")))


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
            here = both_sides(matches(moving, i, s, motion, m, reach), matches(s, k, moving, m, motion, reach))
            both.append(here)
            firm = firmness(moving, s, here.residual)
            e = end_matches(moving, s, motion, m, max(end_look, f))
            ends.append(replace(e, w=firm * e.w))
        faces, ended = _as_one(both), _as_one(ends)
        off = faces.residual
        if len(off) < 20 or np.abs(off).min() >= reach:
            return motion, np.zeros((6, 6)), np.inf
        # Much of a scanner's noise is wider than a look at one scan tells; two scans together tell it.
        least = max(least, min(TUKEY * scatter(off), reach))
        matrix, centre = motion.matrix.copy(), motion.points(moving.centre)
        feigned = feigned_by(faces.p, faces.q, faces.n, faces.d, faces.w, reach, centre, centre)
        info, moved, weight, squares = _steps(
            faces.p,
            faces.q,
            faces.n,
            faces.w,
            reach,
            ended.p,
            ended.q,
            ended.n,
            ended.w,
            end_look,
            centre,
            matrix,
            LEVER * moving.span,
            firm,
            np.ascontiguousarray(feigned[:6, :6]),
            moving.span,
        )
        motion = RigidMotion(matrix)
        rms = float(np.sqrt(squares / max(weight, 1e-12)))
        # The reach narrows only as fast as the scan comes to rest.
        reach = max(min(reach, max(0.7 * reach, 4 * moved)), least)
        end_look = max(min(end_look, max(0.8 * end_look, 4 * moved)), *far)
        calm = calm + 1 if moved < 2e-5 * moving.span and reach == least and end_look == max(far) else 0
        if calm == 2:
            break
    return motion, info, rms
