"""All turns of a thread folded onto one ridge: the axis, phase and taper that leave least about its mean."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..progress import Progress
from .unrolling import cylindrical
from .winding import Wound

__all__ = ["BINS", "Fold", "Settled", "mean_ridge", "read_ridge", "settled"]

BINS = 72  # of a pitch that a mean ridge is told by


class Fold:
    """Samples of the thread folded onto one ridge, for axes and phases near those it began with."""

    def __init__(self, places, w: Wound, noise: float = 0.0, *, grows: bool = False):
        middle = 0.5 * (w.low + w.high)
        self.base = w.point + middle * w.direction
        _, _, _, self.u, self.v = cylindrical(places[:1], w.point, w.direction)
        self.d, self.starts, self.sign = w.direction, w.starts, 1.0 if w.right else -1.0
        shifted = np.polynomial.Polynomial(w.phase)(np.polynomial.Polynomial([middle, 1.0]))
        self.phase = np.zeros(len(w.phase))
        self.phase[: len(shifted.coef)] = shifted.coef
        self.half = 0.5 * (w.high - w.low)
        self.pitch = 1 / float(abs(self.phase[1]))
        self.places, self.noise = places, noise
        self.mask = np.ones(len(places), bool)
        self.grows = grows  # whether a ridge's depth may change with its height
        q = places - self.base
        out = np.linalg.norm(q - (q @ self.d)[:, None] * self.d, axis=1)
        self.foot = float(np.percentile(out, 5))  # the radius that a depth is counted from

    def numbers(self, held: bool) -> tuple[np.ndarray, list[str]]:
        """Steps for differences of what can change, and what each is."""
        p, h = self.pitch, self.half
        names = [] if held else ["x", "y", "lean x", "lean y"]
        steps = [] if held else [1e-3 * p, 1e-3 * p, 1e-3 * p / h, 1e-3 * p / h]
        for k in range(1, len(self.phase)):
            names.append(f"phase {k}")
            steps.append(1e-3 / h**k)
        more = [(1e-3 * p / h, "taper"), *([(1e-3 / h, "growth")] if self.grows else [])]
        return np.array([*steps, *(s for s, _ in more)]), [*names, *(n for _, n in more)]

    def growth(self, x: np.ndarray, z) -> np.ndarray:
        """How much deeper than at its middle a ridge is at heights, as a factor."""
        return np.maximum(1 + x[-1] * np.asarray(z), 0.05) if self.grows else np.ones_like(z)

    def placed(self, x: np.ndarray, held: bool):
        """Axis point and direction, phase and taper for changes ``x``."""
        k = 0 if held else 4
        point, d = self.base, self.d
        if not held:
            point = point + x[0] * self.u + x[1] * self.v
            d = d + x[2] * self.u + x[3] * self.v
            d = d / np.linalg.norm(d)
        phase = self.phase.copy()
        phase[1:] += x[k : k + len(phase) - 1]
        return point, d, phase, float(x[k + len(phase) - 1])

    def folded(self, x: np.ndarray, held: bool):
        """Place on the ridge (n,) from 0 to 1, radius without taper (n,) and height (n,) of the samples kept."""
        point, d, phase, taper = self.placed(x, held)
        u = self.u - (self.u @ d) * d
        u /= np.linalg.norm(u)
        v = np.cross(d, u)
        q = self.places[self.mask] - point
        z, a, b = q @ d, q @ u, q @ v
        at = np.polynomial.polynomial.polyval(z, phase) - self.sign * self.starts * np.arctan2(b, a) / (2 * np.pi)
        r = np.hypot(a, b) - taper * z
        return at % 1.0, self.foot + (r - self.foot) / self.growth(x, z), z

    def left(self, x: np.ndarray, held: bool) -> np.ndarray:
        """Distances from the mean ridge, across it (mm)."""
        at, r, z = self.folded(x, held)
        mean = mean_ridge(at, r)
        return (r - read_ridge(mean, at)) * _across(mean, at, self.pitch) * self.growth(x, z)


def mean_ridge(at: np.ndarray, r: np.ndarray, bins: int = BINS) -> np.ndarray:
    """Mean radius (bins,) by place on the ridge; bins that nothing falls in are between their neighbours."""
    i = np.minimum((at * bins).astype(int), bins - 1)
    n = np.bincount(i, minlength=bins)
    total = np.bincount(i, r, bins)
    out = total / np.maximum(n, 1)
    if (n == 0).any():
        there = np.nonzero(n)[0]
        k = np.arange(bins)
        out = np.interp(k, np.concatenate([there - bins, there, there + bins]), np.tile(out[there], 3))
    return out


def read_ridge(mean: np.ndarray, at: np.ndarray) -> np.ndarray:
    """The mean ridge between its bins' middles."""
    n = len(mean)
    s = at * n - 0.5
    i = np.floor(s).astype(int)
    t = s - i
    return (1 - t) * mean[i % n] + t * mean[(i + 1) % n]


def _across(mean: np.ndarray, at: np.ndarray, pitch: float) -> np.ndarray:
    """What a difference in radius is worth across the surface: the cosine of its slope."""
    n = len(mean)
    slope = (np.roll(mean, -1) - np.roll(mean, 1)) * n / (2 * pitch)
    i = np.minimum((at * n).astype(int), n - 1)
    return 1 / np.sqrt(1 + slope[i] ** 2)


@dataclass(frozen=True)
class Settled:
    """A fold with the changes ``x`` that leave least, its residuals (n,) mm and their slopes."""

    fold: Fold
    x: np.ndarray
    steps: np.ndarray
    names: list[str]
    res: np.ndarray
    jac: np.ndarray

    @property
    def cost(self) -> float:
        """Mean square that is left, mm²."""
        return float(np.mean(self.res**2))


def settled(fold: Fold, held: bool, progress: Progress) -> Settled:
    """Gauss and Newton, the mean ridge found anew at every step (variable projection: Golub, Pereyra 1973)."""
    steps, names = fold.numbers(held)
    x = np.zeros(len(steps))
    _trim(fold, x, held, first=True)
    jac = np.zeros((0, len(x)))
    res = fold.left(x, held)
    for turn in range(12):
        progress(0.5 + 0.4 * turn / 12, "Folding all turns onto one")
        jac = np.empty((len(res), len(x)))
        for k, s in enumerate(steps):
            y = x.copy()
            y[k] += s
            jac[:, k] = (fold.left(y, held) - res) / s
        scaled = jac * steps
        normal = scaled.T @ scaled
        step = -np.linalg.solve(normal + 1e-9 * np.trace(normal) * np.eye(len(x)), scaled.T @ res) * steps
        cost, fell = float(res @ res), 0.0
        for share in (1.0, 0.4, 0.1):
            other = fold.left(x + share * step, held)
            if float(other @ other) < cost:
                x, fell = x + share * step, cost - float(other @ other)
                break
        if turn in (1, 3, 6):
            _trim(fold, x, held)
        res = fold.left(x, held)
        if fell < 1e-6 * cost and turn > 6:
            break
    return Settled(fold, x, steps, names, res, jac)


def _trim(fold: Fold, x: np.ndarray, held: bool, *, first: bool = False) -> None:
    """Samples that lie far off the middle ridge for their scatter are of something else: wear, a head, a hole's rim."""
    fold.mask = np.ones(len(fold.places), bool)
    at, r, _ = fold.folded(x, held)
    i = np.minimum((at * BINS).astype(int), BINS - 1)
    order = np.lexsort((r, i))
    n = np.bincount(i, minlength=BINS)
    start = np.concatenate([[0], np.cumsum(n)[:-1]])
    middle = np.full(BINS, np.nan)
    full = n > 0
    middle[full] = r[order][(start + n // 2)[full]]
    k = np.arange(BINS)
    middle = np.interp(k, k[full], middle[full], period=BINS)
    off = (r - read_ridge(middle, at)) * _across(middle, at, fold.pitch)
    spread = 1.4826 * float(np.median(np.abs(off)))
    depth = float(np.ptp(middle))
    gate = max((6 if first else 4) * spread, (0.08 if first else 0.01) * depth, 4 * fold.noise)
    fold.mask = np.abs(off) < gate
