"""Which seen point is nearest to a place, in constant time; and with it placements scored and drawn closer by the
thousand.

A grid of cells around the seen surface holds the index of the point nearest to each cell's middle. A placement is
scored by
what it makes agree (same place, same facing) less what it makes contradict: a surface a little before or behind another
that
looks the same way, where both were seen, would have hidden it or been hidden by it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from .even import even_sample
from .seen import Seen

__all__ = ["Lookup", "Sample", "look_up", "sample_of", "score_all", "draw_closer"]

_BAND = 3.2  # pitches around the surface that the grid covers
_FACING = 0.86  # cosine between normals that agree
_PENALTY = 2.5  # what one contradicting point costs, in agreeing ones
_AGREE = 0.7  # pitches two surfaces may be apart and still agree


@dataclass(frozen=True)
class Sample:
    """Even points of a scan, in an order of chance so that any first part is even too."""

    points: np.ndarray
    normals: np.ndarray
    rim: np.ndarray
    rough: np.ndarray

    def first(self, count: int) -> Sample:
        return Sample(self.points[:count], self.normals[:count], self.rim[:count], self.rough[:count])


@dataclass(frozen=True)
class Lookup:
    """``grid`` (a, b, c) int32 indices into points, −1 outside the band; ``low`` (3,) its corner, ``cell`` its size in
    mm.
    """

    grid: np.ndarray
    low: np.ndarray
    cell: float
    points: np.ndarray
    normals: np.ndarray
    inner: np.ndarray  # seen well around: not next to where seeing ended
    pitch: float


def sample_of(seen: Seen, pitch: float, count: int | None = None) -> Sample:
    """Points of a scan no nearer than ``pitch`` mm; the first ``count`` of them."""
    i = even_sample(seen.points, pitch)[:count]
    return Sample(
        np.ascontiguousarray(seen.points[i]), np.ascontiguousarray(seen.normals[i]), seen.rim[i], seen.rough[i]
    )


def look_up(seen: Seen, pitch: float) -> Lookup:
    """A grid over a scan for placements to within a ``pitch`` (mm)."""
    fine = sample_of(seen, max(0.45 * pitch, 1e-9))
    cell = 0.5 * pitch
    wide = int(np.ceil(_BAND * pitch / cell))
    low = fine.points.min(axis=0) - (wide + 1.5) * cell
    dims = np.floor((fine.points.max(axis=0) - low) / cell).astype(np.int64) + wide + 3
    grid = np.full(tuple(dims), -1, np.int32)
    _spread(fine.points, low, cell, wide, (_BAND * pitch) ** 2, np.full(grid.shape, np.inf, np.float32), grid)
    return Lookup(grid, low, cell, fine.points, fine.normals, fine.rim > 1.2 * pitch, pitch)


@njit(cache=True, nogil=True)
def _spread(p, low, cell, wide, far, best, grid):  # pragma: no cover - compiled
    """Every point enters the cells around it whose middles no other is nearer to."""
    for i in range(p.shape[0]):
        a, b, c = int((p[i, 0] - low[0]) / cell), int((p[i, 1] - low[1]) / cell), int((p[i, 2] - low[2]) / cell)
        for u in range(a - wide, a + wide + 1):
            du = (low[0] + (u + 0.5) * cell - p[i, 0]) ** 2
            for v in range(b - wide, b + wide + 1):
                dv = du + (low[1] + (v + 0.5) * cell - p[i, 1]) ** 2
                if dv >= far:
                    continue
                for w in range(c - wide, c + wide + 1):
                    d = dv + (low[2] + (w + 0.5) * cell - p[i, 2]) ** 2
                    if d < far and d < best[u, v, w]:
                        best[u, v, w] = d
                        grid[u, v, w] = i


@njit(cache=True, inline="always")
def _nearest(grid, low, cell, x, y, z):  # pragma: no cover - compiled
    a = int(np.floor((x - low[0]) / cell))
    b = int(np.floor((y - low[1]) / cell))
    c = int(np.floor((z - low[2]) / cell))
    if a < 0 or b < 0 or c < 0 or a >= grid.shape[0] or b >= grid.shape[1] or c >= grid.shape[2]:
        return -1
    return grid[a, b, c]


@njit(cache=True)
def _score(m, p, n, inner, first, last, grid, low, cell, q, qn, qi, pitch, out):  # pragma: no cover - compiled
    """Adds agreeing and contradicting points of p[first:last] to out."""
    near = _AGREE * pitch
    for i in range(first, last):
        x = m[0, 0] * p[i, 0] + m[0, 1] * p[i, 1] + m[0, 2] * p[i, 2] + m[0, 3]
        y = m[1, 0] * p[i, 0] + m[1, 1] * p[i, 1] + m[1, 2] * p[i, 2] + m[1, 3]
        z = m[2, 0] * p[i, 0] + m[2, 1] * p[i, 1] + m[2, 2] * p[i, 2] + m[2, 3]
        j = _nearest(grid, low, cell, x, y, z)
        if j < 0:
            continue
        nx = m[0, 0] * n[i, 0] + m[0, 1] * n[i, 1] + m[0, 2] * n[i, 2]
        ny = m[1, 0] * n[i, 0] + m[1, 1] * n[i, 1] + m[1, 2] * n[i, 2]
        nz = m[2, 0] * n[i, 0] + m[2, 1] * n[i, 1] + m[2, 2] * n[i, 2]
        dx, dy, dz = x - q[j, 0], y - q[j, 1], z - q[j, 2]
        c = nx * qn[j, 0] + ny * qn[j, 1] + nz * qn[j, 2]
        h = dx * qn[j, 0] + dy * qn[j, 1] + dz * qn[j, 2]
        s = np.sqrt(max(dx * dx + dy * dy + dz * dz - h * h, 0.0))
        if s > 1.1 * pitch:
            continue
        if abs(h) < near and c > _FACING:
            out[0] += 1
        elif qi[j] and inner[i]:
            if abs(h) > 1.6 * near and (c > 0.5 or (h > 0 and c > -0.3)):
                out[1] += 1
            elif abs(h) < near and c < 0.0:
                out[1] += 1


@njit(cache=True, parallel=True, nogil=True)
def score_all(poses, p, n, inner, grid, low, cell, q, qn, qi, pitch, penalty):  # pragma: no cover - compiled
    """For each placement (k, 4, 4): agreeing points, contradicting points, and agreeing less ``penalty`` ×
    contradicting (k, 3).

    The first tenth of the points decides whether the rest are looked at.
    """
    k = poses.shape[0]
    out = np.zeros((k, 3))
    tenth = max(20, p.shape[0] // 8)
    for i in prange(k):
        _score(poses[i], p, n, inner, 0, tenth, grid, low, cell, q, qn, qi, pitch, out[i])
        if out[i, 0] >= 0.08 * tenth and out[i, 0] > penalty * 0.6 * out[i, 1]:
            _score(poses[i], p, n, inner, tenth, p.shape[0], grid, low, cell, q, qn, qi, pitch, out[i])
        else:
            out[i, 0] = 0.0
        out[i, 2] = out[i, 0] - penalty * out[i, 1]
    return out


@njit(cache=True)
def _solve(a, b):  # pragma: no cover - compiled
    """Symmetric positive system of six, by Cholesky with a little added to the diagonal."""
    l = np.zeros((6, 6))
    t = 0.0
    for i in range(6):
        t += a[i, i]
    for i in range(6):
        a[i, i] += 1e-9 * t + 1e-30
    for j in range(6):
        s = a[j, j]
        for k in range(j):
            s -= l[j, k] * l[j, k]
        l[j, j] = np.sqrt(max(s, 1e-30))
        for i in range(j + 1, 6):
            s = a[i, j]
            for k in range(j):
                s -= l[i, k] * l[j, k]
            l[i, j] = s / l[j, j]
    y = np.zeros(6)
    for i in range(6):
        s = b[i]
        for k in range(i):
            s -= l[i, k] * y[k]
        y[i] = s / l[i, i]
    x = np.zeros(6)
    for i in range(5, -1, -1):
        s = y[i]
        for k in range(i + 1, 6):
            s -= l[k, i] * x[k]
        x[i] = s / l[i, i]
    return x


@njit(cache=True)
def _closer(m, p, n, grid, low, cell, q, qn, pitch, rounds):  # pragma: no cover - compiled
    """Point-to-plane steps (Chen, Medioni 1992) over a narrowing reach, turning about the points' middle."""
    k = p.shape[0]
    for r in range(rounds):
        reach = pitch * max(3.0 - 2.6 * r / max(rounds - 3, 1), 0.5)
        a = np.zeros((6, 6))
        b = np.zeros(6)
        cx = cy = cz = 0.0
        for i in range(k):
            cx += p[i, 0]
            cy += p[i, 1]
            cz += p[i, 2]
        cx, cy, cz = cx / k, cy / k, cz / k
        gx = m[0, 0] * cx + m[0, 1] * cy + m[0, 2] * cz + m[0, 3]
        gy = m[1, 0] * cx + m[1, 1] * cy + m[1, 2] * cz + m[1, 3]
        gz = m[2, 0] * cx + m[2, 1] * cy + m[2, 2] * cz + m[2, 3]
        used = 0
        row = np.zeros(6)
        for i in range(k):
            x = m[0, 0] * p[i, 0] + m[0, 1] * p[i, 1] + m[0, 2] * p[i, 2] + m[0, 3]
            y = m[1, 0] * p[i, 0] + m[1, 1] * p[i, 1] + m[1, 2] * p[i, 2] + m[1, 3]
            z = m[2, 0] * p[i, 0] + m[2, 1] * p[i, 1] + m[2, 2] * p[i, 2] + m[2, 3]
            j = _nearest(grid, low, cell, x, y, z)
            if j < 0:
                continue
            nx = m[0, 0] * n[i, 0] + m[0, 1] * n[i, 1] + m[0, 2] * n[i, 2]
            ny = m[1, 0] * n[i, 0] + m[1, 1] * n[i, 1] + m[1, 2] * n[i, 2]
            nz = m[2, 0] * n[i, 0] + m[2, 1] * n[i, 1] + m[2, 2] * n[i, 2]
            ux, uy, uz = qn[j, 0], qn[j, 1], qn[j, 2]
            c = nx * ux + ny * uy + nz * uz
            if c < 0.7:
                continue
            dx, dy, dz = x - q[j, 0], y - q[j, 1], z - q[j, 2]
            h = dx * ux + dy * uy + dz * uz
            d2 = dx * dx + dy * dy + dz * dz
            if abs(h) > reach or d2 - h * h > 1.5 * pitch * pitch:
                continue
            w = 1 - (h / reach) ** 2
            w = w * w * c
            x, y, z = x - gx, y - gy, z - gz
            row[0] = y * uz - z * uy
            row[1] = z * ux - x * uz
            row[2] = x * uy - y * ux
            row[3], row[4], row[5] = ux, uy, uz
            for s in range(6):
                b[s] -= w * row[s] * h
                for t in range(s + 1):
                    a[s, t] += w * row[s] * row[t]
            used += 1
        if used < 12:
            return
        for s in range(6):
            for t in range(s + 1, 6):
                a[s, t] = a[t, s]
        v = _solve(a, b)
        angle = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2)
        if angle > 0.35:
            v *= 0.35 / angle
            angle = 0.35
        kx = ky = kz = 0.0
        if angle > 1e-15:
            kx, ky, kz = v[0] / angle, v[1] / angle, v[2] / angle
        s, c = np.sin(angle), 1 - np.cos(angle)
        r00, r01, r02 = 1 - c * (ky * ky + kz * kz), -s * kz + c * kx * ky, s * ky + c * kx * kz
        r10, r11, r12 = s * kz + c * kx * ky, 1 - c * (kx * kx + kz * kz), -s * kx + c * ky * kz
        r20, r21, r22 = -s * ky + c * kx * kz, s * kx + c * ky * kz, 1 - c * (kx * kx + ky * ky)
        for t in range(4):
            o0, o1, o2 = m[0, t], m[1, t], m[2, t]
            if t == 3:
                o0, o1, o2 = o0 - gx, o1 - gy, o2 - gz
            e0 = r00 * o0 + r01 * o1 + r02 * o2
            e1 = r10 * o0 + r11 * o1 + r12 * o2
            e2 = r20 * o0 + r21 * o1 + r22 * o2
            if t == 3:
                e0, e1, e2 = e0 + gx + v[3], e1 + gy + v[4], e2 + gz + v[5]
            m[0, t], m[1, t], m[2, t] = e0, e1, e2


@njit(cache=True, parallel=True, nogil=True)
def draw_closer(poses, p, n, grid, low, cell, q, qn, pitch, rounds):  # pragma: no cover - compiled
    """Each placement (k, 4, 4) settled onto the looked-up scan, in place."""
    for i in prange(poses.shape[0]):
        _closer(poses[i], p, n, grid, low, cell, q, qn, pitch, rounds)


def score(at: Lookup, poses: np.ndarray, sample: Sample) -> np.ndarray:
    """See `score_all`."""
    inner = sample.rim > 1.2 * at.pitch
    return score_all(
        poses,
        sample.points,
        sample.normals,
        inner,
        at.grid,
        at.low,
        at.cell,
        at.points,
        at.normals,
        at.inner,
        at.pitch,
        _PENALTY,
    )


def closer(at: Lookup, poses: np.ndarray, sample: Sample, rounds: int = 14) -> np.ndarray:
    """See `draw_closer`; a copy."""
    poses = np.array(poses)
    draw_closer(poses, sample.points, sample.normals, at.grid, at.low, at.cell, at.points, at.normals, at.pitch, rounds)
    return poses
