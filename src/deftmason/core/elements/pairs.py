"""What pairs of places have in common of a noise, summed over all of them, compiled."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["summed_over_pairs"]


@njit(cache=True, nogil=True)
def summed_over_pairs(places, jacobian, distances, common):  # pragma: no cover - compiled
    """Σ c(|p_a − p_b|) j_a j_bᵀ (p, p) over all pairs a ≠ b of ``places`` (n, 3) mm, in either order.

    ``common`` (k,) is c in mm² at ``distances`` (k,) mm, of which the first is 0 and the others grow evenly in their
    logarithm; between them it runs straight, and beyond the last it is none.
    """
    n, p = jacobian.shape
    out = np.zeros((p, p))
    row = np.empty(p)
    last = len(distances) - 1
    low = np.log(distances[1])
    per = (last - 1) / (np.log(distances[last]) - low)
    for a in range(n):
        row[:] = 0.0
        for b in range(a):
            x, y, z = places[a, 0] - places[b, 0], places[a, 1] - places[b, 1], places[a, 2] - places[b, 2]
            d = np.sqrt(x * x + y * y + z * z)
            if d > distances[last]:
                continue
            i = 0
            if d >= distances[1]:
                i = min(1 + int((np.log(d) - low) * per), last - 1)
            t = (d - distances[i]) / (distances[i + 1] - distances[i])
            c = common[i] + t * (common[i + 1] - common[i])
            for k in range(p):
                row[k] += c * jacobian[b, k]
        for k in range(p):
            for l in range(p):
                out[k, l] += jacobian[a, k] * row[l]
    return out + out.T
