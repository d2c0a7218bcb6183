"""Restricted likelihood of noise that is alike from place to place, for many shares of it at once, compiled.

The correlation is brought to three diagonals and to its eigenvalues (Householder 1958; Bowdler et al. 1968, *Numerische
Mathematik* 11, 293-306), and the few columns that are asked are turned with it, where the eigenvectors themselves would
cost several times as much.
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["restricted_costs", "turned_to_eigenvectors"]

_TURNS = 60  # each eigenvalue settles in two or three


@njit(cache=True, nogil=True)
def _to_three_diagonals(a, z):  # pragma: no cover - compiled
    """The lower half of a symmetric matrix (k, k) turned in place until only its middle diagonals are left (what lies
    below them then counts not), and some columns (k, c) turned with it.
    """
    k, columns = z.shape
    v, w = np.empty(k), np.empty(k)
    for at in range(k - 2):
        square = 0.0
        for i in range(at + 1, k):
            v[i] = a[i, at]
            square += v[i] * v[i]
        length = np.sqrt(square)
        if square - v[at + 1] * v[at + 1] <= 1e-300:
            continue
        end = -length if v[at + 1] > 0 else length
        half = square - end * v[at + 1]
        v[at + 1] -= end
        inner = 0.0
        w[at + 1 :] = 0.0
        for i in range(at + 1, k):
            mine, s = v[i], a[i, i] * v[i]
            for j in range(at + 1, i):
                s += a[i, j] * v[j]
                w[j] += a[i, j] * mine
            w[i] += s
        for i in range(at + 1, k):
            w[i] /= half
            inner += w[i] * v[i]
        inner /= 2 * half
        for i in range(at + 1, k):
            w[i] -= inner * v[i]
        for i in range(at + 1, k):
            v_i, w_i = v[i], w[i]
            for j in range(at + 1, i + 1):
                a[i, j] -= v_i * w[j] + w_i * v[j]
        a[at + 1, at] = end
        for c in range(columns):
            s = 0.0
            for i in range(at + 1, k):
                s += v[i] * z[i, c]
            s /= half
            for i in range(at + 1, k):
                z[i, c] -= s * v[i]


@njit(cache=True, nogil=True)
def _to_eigenvalues(d, e, z):  # pragma: no cover - compiled
    """Eigenvalues in place of a symmetric matrix's diagonal ``d`` (k,), beside it ``e`` (k,), whose last counts not;
    columns (k, c) turned into the eigenvectors with it.
    """
    k, columns = z.shape
    for at in range(k):
        for _ in range(_TURNS):
            end = at
            while end < k - 1 and abs(e[end]) > 1e-16 * (abs(d[end]) + abs(d[end + 1])):
                end += 1
            if end == at:
                break
            g = (d[at + 1] - d[at]) / (2 * e[at])
            g = d[end] - d[at] + e[at] / (g + (np.hypot(g, 1.0) if g >= 0 else -np.hypot(g, 1.0)))
            s, c, moved = 1.0, 1.0, 0.0
            early = False
            for i in range(end - 1, at - 1, -1):
                f, b = s * e[i], c * e[i]
                r = np.sqrt(f * f + g * g)
                e[i + 1] = r
                if r == 0.0:
                    d[i + 1] -= moved
                    e[end] = 0.0
                    early = True
                    break
                s, c = f / r, g / r
                g = d[i + 1] - moved
                r = (d[i] - g) * s + 2 * c * b
                moved = s * r
                d[i + 1] = g + moved
                g = c * r - b
                for j in range(columns):
                    above, below = z[i, j], z[i + 1, j]
                    z[i + 1, j] = s * above + c * below
                    z[i, j] = c * above - s * below
            if not early:
                d[at] -= moved
                e[at] = g
                e[end] = 0.0


@njit(cache=True, nogil=True)
def turned_to_eigenvectors(a, z):  # pragma: no cover - compiled
    """Eigenvalues (k,) of a symmetric matrix ``a`` (k, k), which is lost, and columns ``z`` (k, c) turned in place to
    what they are along its eigenvectors.
    """
    k = len(a)
    _to_three_diagonals(a, z)
    d, e = np.empty(k), np.zeros(k)
    for i in range(k):
        d[i] = a[i, i]
        if i < k - 1:
            e[i] = a[i + 1, i]
    _to_eigenvalues(d, e, z)
    return d


@njit(cache=True, nogil=True)
def restricted_costs(rho, x, y, shares, white, within, inside, least):  # pragma: no cover - compiled
    """Twice the negative restricted log-likelihood of ``y`` (k,) for each of some shares (s,), and the variance.

    Parameters
    ----------
    rho : (k, k) correlation.  x : (k, p) orthonormal, what was fitted.
    white : of a value's variance what is its own.  within : variance (mm²) inside the cells whose means ``y`` are,
        whose own places correlate by ``inside``; below 0 for single places.  least : no variance along any way is less.
    """
    k, p = x.shape
    z = np.empty((k, p + 1))
    z[:, :p] = x
    z[:, p] = y
    values = turned_to_eigenvectors(rho.astype(np.float64), z)
    costs, variances = np.empty(len(shares)), np.empty(len(shares))
    m = np.empty((p + 1, p + 1))
    for s in range(len(shares)):
        log = 0.0
        m[:] = 0.0
        for i in range(k):
            v = max(shares[s] * values[i] + white * (1 - shares[s]), least)
            log += np.log(v)
            for c in range(p + 1):
                for d in range(c + 1):
                    m[c, d] += z[i, c] * z[i, d] / v
        # What is fitted is taken out: the last of these is what is left of y.
        for c in range(p + 1):
            for d in range(c + 1):
                t = m[c, d]
                for e in range(d):
                    t -= m[c, e] * m[d, e]
                if c > d:
                    m[c, d] = t / m[d, d]
                elif c < p:
                    m[c, c] = np.sqrt(max(t, 1e-300))
                    log += 2 * np.log(m[c, c])
                else:
                    m[p, p] = max(t, 1e-300)
        left = m[p, p]
        sigma2 = left / (k - p) if within < 0 else within / max(1 - shares[s] * inside, 1e-6)
        costs[s] = (k - p) * np.log(sigma2) + left / sigma2 + log
        variances[s] = sigma2
    return costs, variances
