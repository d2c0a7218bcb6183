"""Nearest points on rational B-spline surfaces by Newton's method, many at once.

Piegl, Tiller 1997, *The NURBS Book*, algorithms A2.1–A2.3, §4.5 (rational derivatives) and §6.1 (point inversion).
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..kernel.surfaces import SplineSurface

__all__ = ["spline_grid", "spline_feet"]


@njit(cache=True)
def _span(knots, degree, count, u):  # pragma: no cover - compiled
    if u >= knots[count]:
        return count - 1
    lo, hi = degree, count
    while hi - lo > 1:
        mid = (lo + hi) // 2
        if u < knots[mid]:
            hi = mid
        else:
            lo = mid
    return lo


@njit(cache=True)
def _basis(knots, degree, span, u, ders):  # pragma: no cover - compiled
    """Basis functions and their first two derivatives at u: ders (3, degree + 1)."""
    p = degree
    ndu = np.zeros((p + 1, p + 1))
    left, right = np.zeros(p + 1), np.zeros(p + 1)
    ndu[0, 0] = 1.0
    for j in range(1, p + 1):
        left[j] = u - knots[span + 1 - j]
        right[j] = knots[span + j] - u
        saved = 0.0
        for r in range(j):
            ndu[j, r] = right[r + 1] + left[j - r]
            t = ndu[r, j - 1] / ndu[j, r]
            ndu[r, j] = saved + right[r + 1] * t
            saved = left[j - r] * t
        ndu[j, j] = saved
    for j in range(p + 1):
        ders[0, j] = ndu[j, p]
        ders[1, j] = 0.0
        ders[2, j] = 0.0
    a = np.zeros((2, p + 1))
    for r in range(p + 1):
        s1, s2 = 0, 1
        a[0, 0] = 1.0
        for k in range(1, min(2, p) + 1):
            d = 0.0
            rk, pk = r - k, p - k
            if r >= k:
                a[s2, 0] = a[s1, 0] / ndu[pk + 1, rk]
                d = a[s2, 0] * ndu[rk, pk]
            j1 = 1 if rk >= -1 else -rk
            j2 = k - 1 if r - 1 <= pk else p - r
            for j in range(j1, j2 + 1):
                a[s2, j] = (a[s1, j] - a[s1, j - 1]) / ndu[pk + 1, rk + j]
                d += a[s2, j] * ndu[rk + j, pk]
            if r <= pk:
                a[s2, k] = -a[s1, k - 1] / ndu[pk + 1, r]
                d += a[s2, k] * ndu[r, pk]
            ders[k, r] = d
            s1, s2 = s2, s1
    if p >= 1:
        for j in range(p + 1):
            ders[1, j] *= p
    if p >= 2:
        for j in range(p + 1):
            ders[2, j] *= p * (p - 1)


@njit(cache=True)
def _evaluate(poles, uk, vk, pu, pv, u, v, out):  # pragma: no cover - compiled
    """S, Su, Sv, Suu, Suv, Svv into out (6, 3)."""
    su = _span(uk, pu, poles.shape[0], u)
    sv = _span(vk, pv, poles.shape[1], v)
    nu, nv = np.zeros((3, pu + 1)), np.zeros((3, pv + 1))
    _basis(uk, pu, su, u, nu)
    _basis(vk, pv, sv, v, nv)
    a = np.zeros((6, 4))
    for i in range(pu + 1):
        for j in range(pv + 1):
            for c in range(4):
                w = poles[su - pu + i, sv - pv + j, c]
                a[0, c] += nu[0, i] * nv[0, j] * w
                a[1, c] += nu[1, i] * nv[0, j] * w
                a[2, c] += nu[0, i] * nv[1, j] * w
                a[3, c] += nu[2, i] * nv[0, j] * w
                a[4, c] += nu[1, i] * nv[1, j] * w
                a[5, c] += nu[0, i] * nv[2, j] * w
    w = a[0, 3]
    for c in range(3):
        s = a[0, c] / w
        du = (a[1, c] - a[1, 3] * s) / w
        dv = (a[2, c] - a[2, 3] * s) / w
        out[0, c], out[1, c], out[2, c] = s, du, dv
        out[3, c] = (a[3, c] - 2 * a[1, 3] * du - a[3, 3] * s) / w
        out[4, c] = (a[4, c] - a[1, 3] * dv - a[2, 3] * du - a[4, 3] * s) / w
        out[5, c] = (a[5, c] - 2 * a[2, 3] * dv - a[5, 3] * s) / w


@njit(cache=True, parallel=True)
def _feet(points, start, poles, uk, vk, pu, pv, foot, normal, uv):  # pragma: no cover - compiled
    u0, u1, v0, v1 = uk[pu], uk[poles.shape[0]], vk[pv], vk[poles.shape[1]]
    for n in prange(points.shape[0]):
        s = np.zeros((6, 3))
        u, v = start[n, 0], start[n, 1]
        for _ in range(30):
            _evaluate(poles, uk, vk, pu, pv, u, v, s)
            r = s[0] - points[n]
            g0, g1 = np.dot(r, s[1]), np.dot(r, s[2])
            a = np.dot(s[1], s[1]) + np.dot(r, s[3])
            b = np.dot(s[1], s[2]) + np.dot(r, s[4])
            c = np.dot(s[2], s[2]) + np.dot(r, s[5])
            det = a * c - b * b
            if det <= 0 or a <= 0:  # not convex here: Gauss–Newton instead
                a, b, c = np.dot(s[1], s[1]), np.dot(s[1], s[2]), np.dot(s[2], s[2])
                det = a * c - b * b
            if det <= 1e-300:
                break
            du, dv = -(c * g0 - b * g1) / det, -(a * g1 - b * g0) / det
            un, vn = min(max(u + du, u0), u1), min(max(v + dv, v0), v1)
            move = abs(un - u) * np.sqrt(np.dot(s[1], s[1])) + abs(vn - v) * np.sqrt(np.dot(s[2], s[2]))
            u, v = un, vn
            if move < 1e-12:
                break
        _evaluate(poles, uk, vk, pu, pv, u, v, s)
        nx = np.array(
            [
                s[1, 1] * s[2, 2] - s[1, 2] * s[2, 1],
                s[1, 2] * s[2, 0] - s[1, 0] * s[2, 2],
                s[1, 0] * s[2, 1] - s[1, 1] * s[2, 0],
            ]
        )
        length = np.sqrt(np.dot(nx, nx))
        for k in range(3):
            foot[n, k] = s[0, k]
            normal[n, k] = nx[k] / length if length > 1e-300 else 0.0
        uv[n, 0], uv[n, 1] = u, v


def spline_feet(surface: SplineSurface, points: np.ndarray, start: np.ndarray):
    """Feet (n, 3), unit normals (n, 3) along Su × Sv and parameters (n, 2), from starting parameters (n, 2)."""
    foot, normal, uv = np.empty_like(points), np.empty_like(points), np.empty((len(points), 2))
    _feet(
        np.ascontiguousarray(points),
        np.ascontiguousarray(start),
        surface.poles,
        surface.u_knots,
        surface.v_knots,
        surface.u_degree,
        surface.v_degree,
        foot,
        normal,
        uv,
    )
    return foot, normal, uv


def spline_grid(surface: SplineSurface):
    """A search tree over places of the surface and their parameters (k, 2): where to start Newton from."""
    from scipy.spatial import cKDTree

    def steps(knots):
        k = np.unique(knots)
        return np.unique(np.concatenate([np.linspace(a, b, 17) for a, b in zip(k[:-1], k[1:])]))

    s = surface
    grid = np.stack(np.meshgrid(steps(s.u_knots), steps(s.v_knots), indexing="ij"), -1).reshape(-1, 2)
    out, at = np.zeros((6, 3)), np.empty((len(grid), 3))
    for i, (u, v) in enumerate(grid):
        _evaluate(s.poles, s.u_knots, s.v_knots, s.u_degree, s.v_degree, u, v, out)
        at[i] = out[0]
    return cKDTree(at), grid
