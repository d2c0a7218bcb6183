"""Circles through places moved along their normals, compiled: where a ring's spine may lie."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["circles_moved"]


@njit(cache=True)
def circles_moved(p, normals, moves):  # pragma: no cover - compiled
    """Circles near places (n, 3) moved along their normals by each of some lengths (k,): centres (k, 3), normals
    (k, 3), radii and mean square distances (k,); Kåsa 1976 in the places' own plane.
    """
    k, n = len(moves), len(p)
    centres, along, radii, off = np.empty((k, 3)), np.empty((k, 3)), np.empty(k), np.empty(k)
    q = np.empty((n, 3))
    for i in range(k):
        c = np.zeros(3)
        for j in range(n):
            for d in range(3):
                q[j, d] = p[j, d] + moves[i] * normals[j, d]
                c[d] += q[j, d] / n
        cov = np.zeros((3, 3))
        for j in range(n):
            for d in range(3):
                q[j, d] -= c[d]
            for d in range(3):
                for e in range(3):
                    cov[d, e] += q[j, d] * q[j, e]
        axes = np.linalg.eigh(cov)[1]
        u, v, w = axes[:, 2].copy(), axes[:, 1].copy(), axes[:, 0].copy()
        gram, side, mean_h2 = np.zeros((3, 3)), np.zeros(3), 0.0
        for j in range(n):
            x, y, h = 0.0, 0.0, 0.0
            for d in range(3):
                x += q[j, d] * u[d]
                y += q[j, d] * v[d]
                h += q[j, d] * w[d]
            q[j, 0], q[j, 1] = x, y
            s = x * x + y * y
            gram[0, 0] += x * x
            gram[0, 1] += x * y
            gram[1, 1] += y * y
            gram[0, 2] += x
            gram[1, 2] += y
            side[0] += x * s
            side[1] += y * s
            side[2] += s
            mean_h2 += h * h / n
        gram[1, 0], gram[2, 0], gram[2, 1], gram[2, 2] = gram[0, 1], gram[0, 2], gram[1, 2], n
        little = 1e-14 * (gram[0, 0] + gram[1, 1] + 1e-300)
        gram[0, 0] += little
        gram[1, 1] += little
        f = np.linalg.solve(gram, side)
        cx, cy = f[0] / 2, f[1] / 2
        r = np.sqrt(max(f[2] + cx * cx + cy * cy, 1e-12))
        away = 0.0
        for j in range(n):
            away += (np.sqrt((q[j, 0] - cx) ** 2 + (q[j, 1] - cy) ** 2) - r) ** 2 / n
        centres[i] = c + cx * u + cy * v
        along[i] = w
        radii[i], off[i] = r, away + mean_h2
    return centres, along, radii, off
