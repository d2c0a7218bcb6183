"""How much a fitted parameter may be off when neighbouring residuals are alike.

Scanner noise is correlated over millimetres, so (JᵀJ)⁻¹σ² promises far too much. The residuals' own correlation is
estimated as a function of distance, and the covariance grows by the variance inflation it implies.
"""

from __future__ import annotations

import numpy as np

__all__ = ["correlation_inflation"]

_SAMPLE = 1200
_BINS = 24


def correlation_inflation(points: np.ndarray, residuals: np.ndarray, *, seed: int = 7) -> float:
    """Factor (≥ 1) by which the variance of a mean grows over that of independent residuals.

    The factor is 1 + (n − 1)·mean ρ(d) over all pairs, with ρ the residuals' empirical correlation at distance d,
    cut where it first falls into its own noise (Cressie 1993, *Statistics for Spatial Data*, §1.3 and §2.4).

    Parameters
    ----------
    points : (n, 3) in mm.  residuals : (n,) in mm.
    """
    n = len(residuals)
    if n < 30:
        return 1.0
    r = residuals - residuals.mean()
    var = float(r @ r) / n
    size = float(np.linalg.norm(np.ptp(points, axis=0)))
    if var <= (1e-9 * max(size, 1e-9)) ** 2:
        return 1.0
    rng = np.random.default_rng(seed)
    centres = rng.choice(n, min(n, _SAMPLE), replace=False)
    others = rng.choice(n, min(n, _SAMPLE), replace=False)
    # Correlation is strongest at short range: distances counted on a logarithmic scale, from nearest neighbours on.
    from scipy.spatial import cKDTree

    near_d, near_i = cKDTree(points).query(points[centres], k=min(9, n))
    d1, prod1 = near_d[:, 1:].ravel(), (r[centres][:, None] * r[near_i[:, 1:]]).ravel()
    diff = points[centres][:, None, :] - points[others][None, :, :]
    d2 = np.sqrt(np.einsum("ijk,ijk->ij", diff, diff))
    prod2 = r[centres][:, None] * r[others][None, :]
    apart = centres[:, None] != others[None, :]
    d2, prod2 = d2[apart], prod2[apart]
    all_pairs = d2
    low = max(float(np.median(near_d[:, 1])), 1e-9)
    edges = np.geomspace(low * 0.5, max(size, low * 4), _BINS + 1)
    d, prod = np.concatenate([d1, d2]), np.concatenate([prod1, prod2])
    which = np.digitize(d, edges) - 1
    rho = np.zeros(_BINS)
    for b in range(_BINS):
        inside = which == b
        count = int(inside.sum())
        if count < 12:
            rho[b] = rho[b - 1] if b else 0.0
            continue
        rho[b] = prod[inside].mean() / var
        if b > 0 and rho[b] < 2.0 / np.sqrt(min(count, len(centres))):
            rho[b:] = 0.0
            break
    share = np.histogram(all_pairs, edges)[0] / max(len(all_pairs), 1)
    below = float(np.mean(all_pairs < edges[0]))
    mean_rho = float(np.sum(np.clip(rho, 0, 1) * share) + below * np.clip(rho[0], 0, 1))
    return float(max(1.0, 1.0 + (n - 1) * mean_rho))
