"""How much a fitted parameter may be off when neighbouring residuals are alike.

Scanner noise is correlated over millimetres, so (JᵀJ)⁻¹σ² promises far too much. How alike the residuals are, and over
which length, is estimated by restricted maximum likelihood (Patterson, Thompson 1971; Cressie 1993, *Statistics for
Spatial Data*, §2.6), which knows that the fit itself has taken the slow waves out of them. The covariance of the
parameters is then that of least squares under such noise, (JᵀJ)⁻¹ JᵀCJ (JᵀJ)⁻¹.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

__all__ = ["NoiseModel", "by_blocks", "correlated_covariance", "correlation_inflation", "noise_model", "shared_normal"]

_LEVELS, _FEW, _MANY = 6, 6, 16_384  # 2**levels cells, so many points of each for distances, of this many
_LENGTHS, _TABLE = 9, 160
_SHARES = np.array([0.0, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.98, 0.998])
_LEAST = 1e-9  # of the variance, along any way
_PAIRS = 400  # places whose pairs stand for all
_FEWEST = 30
_LONGEST = 0.4  # of the data's size: waves longer than that are part of the surface
_SAMPLE, _BINS = 1200, 24  # of the quick estimate
_SURE = 2.0  # how much likelier alike must be than independent


@dataclass(frozen=True)
class NoiseModel:
    """Noise of variance ``sigma2`` mm², and by distance in mm how much of it two places have in common; of the
    distances the first is 0 and the others grow evenly in their logarithm.
    """

    sigma2: float
    distances: np.ndarray | None = None
    common: np.ndarray | None = None

    def covariance(self, distance: np.ndarray) -> np.ndarray:
        """Covariance in mm² of the noise at places so far apart, without what each has of its own."""
        if self.distances is None or self.common is None:
            return np.zeros(np.shape(distance))
        return np.interp(distance, self.distances, self.common, right=0.0)

    def times(self, factor: float) -> NoiseModel:
        """The same waves, their variance so many times as large."""
        common = None if self.common is None else self.common * factor
        return NoiseModel(self.sigma2 * factor, self.distances, common)


def _apart(places: np.ndarray) -> np.ndarray:
    """Distances between all places (n, 3)."""
    from scipy.spatial.distance import cdist

    return cdist(places, places)


def _alike(distance: np.ndarray, length: float, smooth: bool) -> np.ndarray:
    """Correlation by distance: Gaussian where smooth, else exponential."""
    t = distance * (-1 / length)
    if smooth:
        t *= t
        t *= -0.5
    return np.exp(t, out=t)


def _cells(points: np.ndarray, levels: int) -> np.ndarray:
    """Cells of equally many neighbouring points, by halving across the longest side: (2**levels, m) indices."""
    cells = np.arange(len(points) - len(points) % 2**levels)[None, :]
    places = np.ascontiguousarray(points.T)
    for _ in range(levels):
        q = places[:, cells]
        longest = np.argmax(q.max(axis=2) - q.min(axis=2), axis=0)
        along = q[longest, np.arange(len(cells))]
        half = np.argpartition(along, cells.shape[1] // 2, axis=1)
        cells = np.take_along_axis(cells, half, axis=1).reshape(2 * len(cells), -1)
    return cells


def _paired(distance: np.ndarray, each: int) -> np.ndarray:
    """Distances (k each, k each) between ``each`` points of every cell as one (k, k) for each two of a cell's points,
    first those of a point with its own likes: the others' mirror images would say the same.
    """
    k = len(distance) // each
    blocks = distance.reshape(k, each, k, each)
    own, other = range(each), [(a, b) for a in range(each) for b in range(a)]
    return np.stack([blocks[:, a, :, a] for a in own] + [blocks[:, a, :, b] for a, b in other])


def _between(rho: np.ndarray, each: int, white: float) -> tuple[np.ndarray, float]:
    """Correlation (k, k) between cells from that of some points of each, `_paired`, and the mean one inside."""
    if each == 1:
        return rho[0], 0.0
    other = rho[each:].sum(axis=0)
    mean = (rho[:each].sum(axis=0) + other + other.T).astype(float) / each**2
    k = len(mean)
    inside = float((np.trace(mean) / k * each - 1) / (each - 1))
    np.fill_diagonal(mean, white + (1 - white) * inside)
    return mean, inside


def noise_model(points: np.ndarray, residuals: np.ndarray, jacobian: np.ndarray, *, seed: int = 7) -> NoiseModel:
    """The noise that left these residuals after a fit.

    Many points are taken together in cells: their means carry the waves, their scatter inside the rest.

    Parameters
    ----------
    points : (n, 3) places on the element, in mm.  residuals : (n,) in mm.
    jacobian : (n, p) of the residuals by the free parameters.
    """
    from .restricted import restricted_costs  # compiled: not for what only tells of elements

    n, p = jacobian.shape
    plain = NoiseModel(float(residuals @ residuals) / max(n - p, 1))
    size = float(np.linalg.norm(np.ptp(points, axis=0)))
    if n < max(_FEWEST, 3 * p) or plain.sigma2 <= (1e-9 * max(size, 1e-9)) ** 2:
        return plain
    some = np.random.default_rng(seed).permutation(n)[:_MANY]
    q, y, j = points[some], residuals[some], jacobian[some]
    within, white, each = -1.0, 1.0, 1  # of single places nothing is within
    if len(q) >= 2 * 2**_LEVELS:
        cells = _cells(q, _LEVELS)
        m = cells.shape[1]
        white = 1.0 / m
        means = y[cells].mean(axis=1)
        within = float(np.sum((y[cells] - means[:, None]) ** 2)) / (cells.size - len(cells))
        each = min(m, _FEW)
        q, y, j = q[cells[:, :each]].reshape(-1, 3), means, j[cells].mean(axis=1)
    u, s, _ = np.linalg.svd(j, full_matrices=False)
    x = u[:, s > 1e-9 * s[0]]
    d = _apart(q)
    low = 0.5 * float(np.median(np.sort(d[::each], axis=1)[:, 1]))
    if each > 1:
        d = d.astype(np.float32)  # of means: the last digits do not count
    d = _paired(d, each)
    lengths = np.geomspace(max(low, 1e-4 * size), _LONGEST * size, _LENGTHS)

    def told_by(waves: tuple[bool, float]) -> tuple[np.ndarray, np.ndarray]:
        smooth, length = waves
        rho, inside = _between(_alike(d, length, smooth), each, white)
        return restricted_costs(rho, x, y, _SHARES, white, within, inside, _LEAST)

    with ThreadPoolExecutor(2) as both:
        told = list(both.map(told_by, [(smooth, length) for smooth in (True, False) for length in lengths]))
    cost, sigma2 = np.array([c for c, _ in told]), np.array([v for _, v in told])
    if cost.min() > cost[:, 0].min() - _SURE:
        return plain
    # Which waves they are is known no better than the data tell: the mean over all of them, as likely as each is.
    # Long waves are what least tells itself: they are believed less (Fuglstad et al. 2019, JASA 114, 445-452).
    weight = np.exp(-0.5 * (cost - cost.min())) / np.tile(lengths, 2)[:, None]
    weight /= weight.sum()
    common = (weight * sigma2 * _SHARES).sum(axis=1)
    far = np.concatenate([[0.0], np.geomspace(0.05 * lengths[0], 3 * size, _TABLE)])
    table = np.array([_alike(far, length, smooth) for smooth in (True, False) for length in lengths])
    return NoiseModel(float((weight * sigma2).sum()), far, common @ table)


def correlated_covariance(
    points: np.ndarray, jacobian: np.ndarray, noise: NoiseModel, *, seed: int = 3, each: float = 1.0
) -> tuple[np.ndarray, float]:
    """Covariance (p, p) of least-squares parameters under such noise, and by how much it grew over that of independent
    noise, on average.

    ``jacobian`` (n, p) of the residuals at ``points`` (n, 3), each of which stands for so many.
    """
    normal = each * (jacobian.T @ jacobian)
    inverse = np.linalg.pinv(normal, rcond=1e-14)
    middle = shared_normal(points, jacobian, noise, seed=seed, each=each)
    inflation = float(np.trace(inverse @ middle) / (len(normal) * noise.sigma2)) if noise.sigma2 > 0 else 1.0
    return inverse @ middle @ inverse, max(inflation, 1.0)


def shared_normal(
    points: np.ndarray, jacobian: np.ndarray, noise: NoiseModel, *, seed: int = 3, each: float = 1.0
) -> np.ndarray:
    """JᵀCJ (p, p) for ``jacobian`` J (n, p) at ``points`` (n, 3), each of which stands for so many, under such noise,
    from a sample of pairs.
    """
    from .pairs import summed_over_pairs  # compiled: not for what only tells of elements

    n = len(points)
    middle = jacobian.T @ jacobian * noise.sigma2 * each
    if noise.common is not None and noise.distances is not None and n > 1:
        some = np.random.default_rng(seed).choice(n, min(n, _PAIRS), replace=False)
        m = len(some)
        together = summed_over_pairs(points[some], jacobian[some], noise.distances, noise.common)
        middle += (n * each * (n * each - 1) / (m * (m - 1.0))) * together
    return middle


def by_blocks(places: np.ndarray, weighted: np.ndarray, jacobian: np.ndarray, residuals: np.ndarray) -> np.ndarray:
    """Covariance (p, p) of weighted least-squares parameters from what blocks of neighbouring places say one against
    the other, whatever their noise has in common within a block (Liang, Zeger 1986, *Biometrika* 73, 13-22).

    Parameters
    ----------
    places : (n, 3), by whose nearness blocks are cut.  weighted : (n, p) the Jacobian times the weights.
    jacobian : (n, p) of the residuals (n,).
    """
    cells = _cells(places, _LEVELS)
    inverse = np.linalg.pinv(weighted.T @ jacobian, rcond=1e-14)
    pulls = np.einsum("bmp,bm->bp", weighted[cells], residuals[cells])
    k, p = pulls.shape
    return inverse @ (pulls.T @ pulls) @ inverse.T * k / max(k - p, 1)


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
