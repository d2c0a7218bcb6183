"""Levenberg–Marquardt's steps compiled, for the quick fits that steer a search: thousands of small patches a scan.

The same parametrisations, residuals and damping as `models` and `fits` have, without what only whole fits need: holds,
steps to machine precision, Jacobians kept. A model goes in and out as a row of numbers, its ``state``.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .models import CONE, ROUND, SPHERE

__all__ = ["followed", "undamped"]

_TRIES = 12  # dampings a step


@njit(cache=True)
def _across(a):  # pragma: no cover - compiled
    """Two unit directions square to one (3,) and to each other."""
    least = 0
    for i in range(1, 3):
        if abs(a[i]) < abs(a[least]):
            least = i
    e = np.zeros(3)
    e[least] = 1.0
    u = e - (e @ a) * a
    u /= np.sqrt(u @ u)
    v = np.empty(3)
    v[0] = a[1] * u[2] - a[2] * u[1]
    v[1] = a[2] * u[0] - a[0] * u[2]
    v[2] = a[0] * u[1] - a[1] * u[0]
    return u, v


@njit(cache=True)
def _basis(code, s):  # pragma: no cover - compiled
    """The origin that a model counts from, its axis, and two directions across."""
    if code == ROUND:
        a, n = s[3:6].copy(), s[6:9].copy()
        m = np.empty(3)
        m[0] = a[1] * n[2] - a[2] * n[1]
        m[1] = a[2] * n[0] - a[0] * n[2]
        m[2] = a[0] * n[1] - a[1] * n[0]
        return s[:3].copy(), a, n, m
    if code == CONE:
        a = s[:3].copy()
        u, v = _across(a)
        return s[3:6].copy(), a, u, v
    a = s[3:6].copy()
    u, v = _across(a)
    return s[:3].copy(), a, u, v


@njit(cache=True)
def _normal_equations(code, s, p, w, h, g):  # pragma: no cover - compiled
    """Fills ``h`` (k, k) = JᵀWJ and ``g`` (k,) = JᵀWr of places p (n, 3) weighed by w (n,); returns rᵀWr."""
    o, a, u, v = _basis(code, s)
    k = len(g)
    row = np.empty(k)
    h[:] = 0.0
    g[:] = 0.0
    cost = 0.0
    if code == CONE:
        ca, sa, off = np.cos(s[6]), np.sin(s[6]), s[7]
    elif code == ROUND:
        ca, sa, off = s[9], s[10], s[9] * s[10] + 1.0
    else:
        ca, sa, off = s[6], s[7], s[6] * s[7] + 1.0
    for i in range(len(p)):
        x0, x1, x2 = p[i, 0] - o[0], p[i, 1] - o[1], p[i, 2] - o[2]
        t = x0 * a[0] + x1 * a[1] + x2 * a[2]
        y = x0 * u[0] + x1 * u[1] + x2 * u[2]
        z = x0 * v[0] + x1 * v[1] + x2 * v[2]
        if code == ROUND:
            rho, bend = ca, sa
            q2 = y * y + z * z
            m = q2 - 2 * rho * y + rho * rho
            d = 0.5 * bend * m + rho - y
            b = np.sqrt(max(1 + 2 * bend * d, 1e-12))
            r = 2 * d / (1 + b)
            row[0] = t * (off - bend * y) / b
            row[1] = -bend * t * z / b
            row[2] = -off * z / b
            row[3] = (off - bend * y) / b
            row[4] = 0.5 * (m - r * r) / b
        elif code == SPHERE:
            rho, bend = ca, sa
            q2 = t * t + y * y + z * z
            m = q2 - 2 * rho * t + rho * rho
            d = 0.5 * bend * m + rho - t
            b = np.sqrt(max(1 + 2 * bend * d, 1e-12))
            r = 2 * d / (1 + b)
            row[0] = -off * y / b
            row[1] = -off * z / b
            row[2] = (bend * (rho - t) + 1) / b
            row[3] = 0.5 * (m - r * r) / b
        else:
            rho = max(np.sqrt(y * y + z * z), 1e-12)
            y1, z1 = y / rho, z / rho
            if code == CONE:
                r = rho * ca - t * sa - off
                row[0] = -t * y1 * ca - y * sa
                row[1] = -t * z1 * ca - z * sa
                row[2] = -y1 * ca
                row[3] = -z1 * ca
                row[4] = -rho * sa - t * ca
                row[5] = -1.0
            else:
                q = rho - ca
                b = max(np.sqrt(q * q + t * t), 1e-12)
                r = b - sa
                tilt = t * ca / b
                row[0] = tilt * y1
                row[1] = tilt * z1
                row[2] = -q * y1 / b
                row[3] = -q * z1 / b
                row[4] = -t / b
                row[5] = -q / b
                row[6] = -1.0
        wi = w[i]
        cost += wi * r * r
        for j in range(k):
            wr = wi * row[j]
            g[j] += wr * r
            for c in range(j + 1):
                h[j, c] += wr * row[c]
    for j in range(k):
        for c in range(j):
            h[c, j] = h[j, c]
    return cost


@njit(cache=True)
def _moved(code, s, d):  # pragma: no cover - compiled
    """The state after a step d (k,)."""
    _, a, u, v = _basis(code, s)
    out = s.copy()
    if code == SPHERE:
        n = a + d[0] * u + d[1] * v
        out[3:6] = n / np.sqrt(n @ n)
        out[6] += d[2]
        out[7] += d[3]
        return out
    a2 = a + d[0] * u + d[1] * v
    a2 /= np.sqrt(a2 @ a2)
    if code == ROUND:
        n = u - (u @ a2) * a2
        n /= np.sqrt(n @ n)
        m = np.empty(3)
        m[0] = a2[1] * n[2] - a2[2] * n[1]
        m[1] = a2[2] * n[0] - a2[0] * n[2]
        m[2] = a2[0] * n[1] - a2[1] * n[0]
        n = np.cos(d[2]) * n + np.sin(d[2]) * m
        out[3:6] = a2
        out[6:9] = n / np.sqrt(n @ n)
        out[9] += d[3]
        out[10] += d[4]
    elif code == CONE:
        c = s[3:6] + d[2] * u + d[3] * v
        shift = -(c @ a2)  # c stays square to the axis from the origin
        out[:3] = a2
        out[3:6] = c + shift * a2
        out[6] += d[4]
        out[7] += d[5] + shift * np.sin(out[6])
    else:
        out[:3] = s[:3] + d[2] * u + d[3] * v + d[4] * a
        out[3:6] = a2
        out[6] += d[5]
        out[7] += d[6]
    return out


@njit(cache=True)
def _step(h, g, damping, d):  # pragma: no cover - compiled
    """Fills ``d`` (k,) with the damped step by Cholesky's factors of the scaled h; False where there is none."""
    k = len(g)
    scale = np.empty(k)
    for j in range(k):
        scale[j] = np.sqrt(h[j, j])
        if not scale[j] > 0.0:
            scale[j] = 1.0
    low = np.zeros((k, k))
    for j in range(k):
        for c in range(j + 1):
            x = h[j, c] / (scale[j] * scale[c])
            if j == c:
                x += damping + 1e-15
            for i in range(c):
                x -= low[j, i] * low[c, i]
            if j == c:
                if not x > 0.0:
                    return False
                low[j, j] = np.sqrt(x)
            else:
                low[j, c] = x / low[c, c]
    for j in range(k):
        x = -g[j] / scale[j]
        for i in range(j):
            x -= low[j, i] * d[i]
        d[j] = x / low[j, j]
    for j in range(k - 1, -1, -1):
        x = d[j]
        for i in range(j + 1, k):
            x -= low[i, j] * d[i]
        d[j] = x / low[j, j]
    for j in range(k):
        d[j] /= scale[j]
        if not np.isfinite(d[j]):
            return False
    return True


@njit(cache=True)
def followed(code, state, p, w, steps, enough, damping):  # pragma: no cover - compiled
    """The state that damped steps lead to while each gains more than ``enough`` of the cost, and that cost.

    Parameters
    ----------
    code : which model.  state : (11,) `ROUND`, else (8,).  p : (n, 3), w : (n,) weights, in the fit's scaled frame.
    """
    k = (5, 4, 6, 7)[code]
    h, g, th, tg, d = np.empty((k, k)), np.empty(k), np.empty((k, k)), np.empty(k), np.empty(k)
    s = state.copy()
    cost = _normal_equations(code, s, p, w, h, g)
    for _ in range(steps):
        improved = False
        for _ in range(_TRIES):
            if _step(h, g, damping, d):
                if -(2 * (g @ d) + d @ (h @ d)) <= 0.1 * enough * cost:
                    break  # not even the linear model gains
                trial = _moved(code, s, d)
                tc = _normal_equations(code, trial, p, w, th, tg)
                if np.isfinite(tc) and tc < cost:
                    gain = cost - tc
                    s, cost = trial, tc
                    h[:] = th
                    g[:] = tg
                    damping = max(damping * 0.2, 1e-12)
                    improved = gain > enough * cost
                    break
            damping *= 5
        if not improved:
            break
    return s, cost


@njit(cache=True)
def undamped(code, state, p, w, shortest):  # pragma: no cover - compiled
    """The state after undamped steps until they stop shrinking or are ``shortest``: of so many places that normal
    equations tell as much as their Jacobian's own factors.
    """
    k = (5, 4, 6, 7)[code]
    h, g, d = np.empty((k, k)), np.empty(k), np.empty(k)
    s, last = state.copy(), np.inf
    for _ in range(60):
        cost = _normal_equations(code, s, p, w, h, g)
        if not _step(h, g, 0.0, d):
            break
        step = np.max(np.abs(d))
        if step >= last or step > 0.1:
            break
        s, last = _moved(code, s, d), step
        if step < max(1e-15, min(shortest, 1e-6 * np.sqrt(cost) / len(p))):
            break
    return s
