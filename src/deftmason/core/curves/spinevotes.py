"""Where could tubes run? Small patches of the surface vote for a radius and a place on an axis.

On a tube the normal's tangential part grows linearly across the patch, by one over the radius, whatever the patch's
width, so wide patches may be taken and the noise averaged (the shape operator by least squares on normals:
Rusinkiewicz 2004, *Estimating curvatures and their derivatives on triangle meshes*).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..scan.index import ScanIndex

__all__ = ["Votes", "radii_of", "votes_of"]

_SAMPLES = 4000
_PATCH = 64  # facets a patch is read from
_STEP = 1.5  # between widths that are tried
_WIDE = 0.8  # radii a patch ought to reach from its middle
_FLAT = 0.62  # most that the lesser curvature may be of the greater: bends of three radii
_ROUGH = 0.16  # of the normals, that a patch may scatter about its fit
_WIDTH = 0.05  # of a radius that one peak of votes is wide
_FEWEST = 24


@dataclass(frozen=True)
class Votes:
    """Places (n, 3) on the surface, outward normals (n, 3), radii (n,) mm, directions (n, 3) of the axis there."""

    places: np.ndarray
    normals: np.ndarray
    radii: np.ndarray
    along: np.ndarray

    def some(self, mask: np.ndarray) -> Votes:
        return Votes(self.places[mask], self.normals[mask], self.radii[mask], self.along[mask])

    @property
    def feet(self) -> np.ndarray:
        """The places on the axis."""
        return self.places - self.radii[:, None] * self.normals


def votes_of(index: ScanIndex, *, within: tuple[float, float] | None = None, seed: int = 3) -> Votes:
    """What patches all over the mesh say, of radii ``within`` limits (mm)."""
    m = index.mesh
    rng = np.random.default_rng(seed)
    size = index.size
    areas = m.areas
    sound = np.nonzero(areas > 0)[0]
    share = np.cumsum(areas[sound])
    total = float(share[-1])

    def drawn(n):
        at = (np.arange(n) + rng.uniform(size=n)) * (total / n)
        return sound[np.minimum(np.searchsorted(share, at), len(sound) - 1)]

    mine = np.unique(drawn(min(_SAMPLES, len(sound))))
    centres, normals = m.centroids, m.normals
    p0 = centres[mine]
    best = np.full(len(mine), np.inf)
    radii, along, mean = np.zeros(len(mine)), np.zeros((len(mine), 3)), np.zeros((len(mine), 3))
    low = 2.5 * m.median_edge if within is None else max(2.0 * m.median_edge, 0.5 * within[0])
    high = 0.5 * size if within is None else min(0.5 * size, 2.0 * within[1])
    h = low
    while h <= max(high, low):
        many = int(np.clip(1.2 * _PATCH * total / (np.pi * h * h), 500, 300_000))
        some = np.unique(drawn(min(many, 4 * len(sound))))
        tree = cKDTree(centres[some])
        far, near = tree.query(p0, k=min(int(1.5 * _PATCH), len(some)), distance_upper_bound=h, workers=-1)
        k1, k2, d, n0, off = _shape(p0, centres[some], normals[some], near, np.isfinite(far), normals[mine])
        with np.errstate(divide="ignore", invalid="ignore"):
            fits = np.abs(np.log(h * k1 / _WIDE))
        ok = (k1 > 0) & (np.abs(k2) < _FLAT * k1) & (off < _ROUGH) & (fits < 0.5) & (fits < best)
        best[ok], radii[ok], along[ok], mean[ok] = fits[ok], 1 / k1[ok], d[ok], n0[ok]
        h *= _STEP
    got = np.isfinite(best)
    if within is not None:
        got &= (radii >= within[0]) & (radii <= within[1])
    return Votes(p0[got], mean[got], radii[got], along[got])


def _shape(p0, centres, normals, near, there, own):
    """Curvatures (n,) greater and lesser, direction (n, 3) of the lesser, mean normal (n, 3), and the scatter (n,)."""
    near = np.where(there, near, 0)
    q, nn = centres[near] - p0[:, None, :], normals[near]
    w = there & (np.einsum("ijk,ik->ij", nn, own) > 0.2)
    n0 = np.einsum("ij,ijk->ik", w, nn)
    n0 /= np.maximum(np.linalg.norm(n0, axis=1), 1e-300)[:, None]
    w = there & (np.einsum("ijk,ik->ij", nn, n0) > 0.2)
    pick = np.eye(3)[np.argmin(np.abs(n0), axis=1)]
    u = np.cross(n0, pick)
    u /= np.maximum(np.linalg.norm(u, axis=1), 1e-300)[:, None]
    v = np.cross(n0, u)
    x, y = np.einsum("ijk,ik->ij", q, u), np.einsum("ijk,ik->ij", q, v)
    a, b = np.einsum("ijk,ik->ij", nn, u), np.einsum("ijk,ik->ij", nn, v)
    wf = w.astype(float)
    n = np.maximum(wf.sum(axis=1), 1e-300)

    def mean(z):
        return (wf * z).sum(axis=1) / n

    x, y, a, b = (z - mean(z)[:, None] for z in (x, y, a, b))
    xx, yy, xy = mean(x * x), mean(y * y), mean(x * y)
    # a = k x + m y, b = m x + l y
    zero = np.zeros_like(xx)
    lhs = np.stack([np.stack([xx, xy, zero], -1), np.stack([xy, xx + yy, xy], -1), np.stack([zero, xy, yy], -1)], -2)
    rhs = np.stack([mean(a * x), mean(a * y) + mean(b * x), mean(b * y)], -1)
    tiny = 1e-9 * (xx + yy) + 1e-300
    k, m, l = np.linalg.solve(lhs + tiny[:, None, None] * np.eye(3), rhs[:, :, None])[:, :, 0].T
    ra = a - k[:, None] * x - m[:, None] * y
    rb = b - m[:, None] * x - l[:, None] * y
    off = np.sqrt(np.maximum(mean(ra * ra + rb * rb), 0))
    values, vectors = np.linalg.eigh(np.stack([np.stack([k, m], -1), np.stack([m, l], -1)], -2))
    # The greater by size is the tube's own.
    first = np.argmax(np.abs(values), axis=1)
    r = np.arange(len(k))
    k1, k2 = values[r, first], values[r, 1 - first]
    e = vectors[r, :, 1 - first]
    few = wf.sum(axis=1) < _FEWEST
    k1 = np.where(few, -1.0, k1)
    return k1, k2, e[:, :1] * u + e[:, 1:] * v, n0, off


def radii_of(votes: Votes, most: int = 12) -> list[tuple[float, np.ndarray]]:
    """Radii that many patches agree on, the most agreed first, each with the mask of its votes."""
    out: list[tuple[float, np.ndarray]] = []
    if not len(votes.radii):
        return out
    x = np.log(votes.radii)
    free = np.ones(len(x), bool)
    for _ in range(most):
        if free.sum() < _FEWEST:
            break
        grid = np.linspace(x[free].min() - 0.1, x[free].max() + 0.1, 600)
        density = np.exp(-0.5 * ((grid[:, None] - x[free][None]) / _WIDTH) ** 2).sum(axis=1)
        at = grid[np.argmax(density)]
        for _ in range(5):
            near = free & (np.abs(x - at) < 2.5 * _WIDTH)
            at = float(np.median(x[near]))
        near = free & (np.abs(x - at) < 3.5 * _WIDTH)
        if near.sum() < _FEWEST:
            break
        out.append((float(np.exp(at)), near))
        free &= ~near
    return out
