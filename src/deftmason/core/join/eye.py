"""Where a scan was seen from: the place that hides none of it and leaves fewest gaps beside its steps.

A look from one place shows one surface along each ray. Seen from elsewhere, some of the scan would be hidden by the
rest of it, and the
ground that a step hid shows as a gap beside the step. Both together, with the places that would face away, are least at
the true
place; how much they rise around it tells how sure it is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import binary_closing, maximum_filter

from .even import even_sample

__all__ = ["Eye", "find_eye", "project"]

_NEAR = 0.75  # spans from the middle of a scan that an eye lies at least
_DISTANCES = (1.0, 1.5, 2.3, 4.0, 12.0, 1000.0)  # spans, tried first
_COUNT = 9000  # points that an eye is judged by
_WORST = 0.06  # of a scan hidden, turned away or gone: no one place has seen it
_WORST_KNOWN = 0.3  # the same of one that its raster says: a grazing look leaves many gaps
_FARTHER = (0.63, 0.8, 1.0, 1.25, 1.6)  # times the best's distance, tried around it
_AROUND, _AS_GOOD = 8, 0.002  # directions tried around the best; what costs no more may as well be the place
_LEANS = (0.05, 0.1, 0.2, 0.35)  # tangents tried around the best


@dataclass(frozen=True)
class Eye:
    """``place`` (3,) mm in the scan's coordinates; ``lean``: tangent of the angle by which the rays may be off."""

    place: np.ndarray
    toward: np.ndarray
    lean: float

    def facing(self, points: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """Cosine (k,) between each normal and the ray to the eye."""
        ray = self.place - points
        return np.einsum("ij,ij->i", ray, normals) / np.linalg.norm(ray, axis=1)


def project(points: np.ndarray, eye: np.ndarray, toward: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places on the plane square to ``toward`` at unit depth (k, 2), and depths before the eye (k,) mm."""
    u = np.linalg.svd(toward[None])[2][1:]
    v = points - eye
    depth = -(v @ toward)
    return (v @ u.T) / depth[:, None], depth


def _cost(p: np.ndarray, n: np.ndarray, centre: np.ndarray, pitch: float, offset: np.ndarray) -> float:
    """Share of a scan (``p``, ``n``) that an eye ``offset`` from its centre would not have seen, and of gaps it would
    have left.
    """
    far = float(np.linalg.norm(offset))
    toward, eye = offset / far, centre + offset
    flat, depth = project(p, eye, toward)
    if depth.min() < 0.05 * far:
        return 9.0
    ray = eye - p
    facing = np.einsum("ij,ij->i", ray, n) / np.linalg.norm(ray, axis=1)
    away = float((facing < 0.02).mean())
    pixel = 1.3 * pitch / far
    at = np.floor((flat - flat.min(axis=0)) / pixel).astype(np.int64) + 4
    shape = tuple(at.max(axis=0) + 5)
    if shape[0] * shape[1] > 4_000_000:
        return 9.0
    top = np.full(shape, np.inf)
    np.minimum.at(top, (at[:, 0], at[:, 1]), depth)
    known = np.isfinite(top)
    joined = binary_closing(known, np.ones((2, 2)))
    # What lies behind the farthest of all that was seen around its ray is hidden.
    over = maximum_filter(np.where(known, top, np.where(joined, -np.inf, np.inf)), 3)
    slope = np.sqrt(np.maximum(1 / np.maximum(facing, 0.15) ** 2 - 1, 0))
    hidden = float((depth - over[at[:, 0], at[:, 1]] > (1 + slope) * pitch).mean())
    gaps = binary_closing(joined, np.ones((7, 7))) & ~joined
    return away + hidden + 0.5 * float(gaps.sum()) / max(int(joined.sum()), 1)


def _evenness(p: np.ndarray, n: np.ndarray, crowd: np.ndarray, eye: np.ndarray) -> float:
    """How unevenly an eye's rays would be spread, as a share of how unevenly the points are: below 1 where the points
    are those of
    a camera's even rays, which lie the denser the nearer and the squarer to them a surface is."""
    ray = eye - p
    far = np.linalg.norm(ray, axis=1)
    expected = np.log(np.maximum(np.einsum("ij,ij->i", ray, n) / far, 0.1)) - 2 * np.log(far)
    left = crowd - expected
    spread = lambda x: float(np.subtract(*np.quantile(x, (0.84, 0.16))))  # noqa: E731
    return spread(left) / max(spread(crowd), 1e-9)


def find_eye(
    points: np.ndarray,
    normals: np.ndarray,
    spacing: float,
    area: float,
    crowd: np.ndarray | None = None,
    known: Eye | None = None,
) -> Eye | None:
    """The eye of a scan's points (k, 3) with normals over ``area`` mm²; None where no one place can have seen it.

    ``crowd`` (k,): how many points lie around each, NaN where seeing ended near by. ``known`` : where its raster says
    that it is, which is so where it can have seen the scan.
    """
    pitch = max(float(np.sqrt(area / _COUNT)), spacing)
    i = even_sample(points, pitch) if pitch > spacing else np.arange(len(points))
    p, n = points[i], normals[i]
    if len(p) < 200:
        return None
    centre = p.mean(axis=0)
    if known is not None and _cost(p, n, centre, pitch, known.place - centre) <= _WORST_KNOWN:
        return known
    span = float(np.linalg.norm(np.ptp(p, axis=0)))
    mean = n.mean(axis=0)
    mean /= max(np.linalg.norm(mean), 1e-12)
    u = np.linalg.svd(mean[None])[2][1:]

    dense: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None
    if crowd is not None:
        whole = np.nonzero(np.isfinite(crowd))[0]
        whole = whole[:: max(1, len(whole) // 1200)]
        if len(whole) >= 300 and np.ptp(np.quantile(crowd[whole], (0.05, 0.95))) > 0:
            dense = points[whole], normals[whole], np.log(crowd[whole])
    even = 0.0

    def cost(offset: np.ndarray) -> float:
        if np.linalg.norm(offset) < _NEAR * span:
            return 9.0
        more = even * _evenness(*dense, centre + offset) if even and dense else 0.0
        return _cost(p, n, centre, pitch, offset) + more

    # Directions over the half room that the normals lean to; far, where only the direction matters, then nearer.
    tries = [mean] + [
        mean * np.cos(a) + np.sin(a) * (np.cos(b) * u[0] + np.sin(b) * u[1])
        for a, m in ((0.25, 6), (0.5, 10), (0.8, 14), (1.15, 16))
        for b in np.arange(m) * 2 * np.pi / m
    ]
    worth = [(cost(5 * span * t), t) for t in tries]
    worth.sort(key=lambda w: w[0])
    best = min(((cost(d * span * t), d, t) for _, t in worth[:5] for d in _DISTANCES), key=lambda w: w[0])
    value, d, t = best
    if dense is not None:
        by = [(_evenness(*dense, centre + e * span * w), e, w) for w in tries for e in _DISTANCES]
        if min(by, key=lambda w: w[0])[0] < 0.75:
            even = 0.1
            near = sorted(by, key=lambda w: w[0])[:12]
            value, d, t = min(((cost(e * span * w), e, w) for _, e, w in [*near, (0.0, d, t)]), key=lambda w: w[0])
    for step in (0.15, 0.08, 0.04, 0.02):
        for _ in range(6):
            a = np.linalg.svd(t[None])[2][1:]
            around = [(t + step * (np.cos(b) * a[0] + np.sin(b) * a[1]), d) for b in np.arange(6) * np.pi / 3]
            # By inverse distance, which the rays' directions go by.
            around += [(t, 1 / max(1 / d + s * step, 1e-3)) for s in (-1, 1) if 1 / d + s * step < 1 / _NEAR]
            new = min(
                ((cost(e * span * w / np.linalg.norm(w)), e, w / np.linalg.norm(w)) for w, e in around),
                key=lambda w: w[0],
            )
            if new[0] >= value:
                break
            value, d, t = new
    if _cost(p, n, centre, pitch, d * span * t) > _WORST:
        return None
    a = np.linalg.svd(t[None])[2][1:]
    lean = _LEANS[0]
    for step, wider in zip(_LEANS, (*_LEANS[1:], _LEANS[-1])):
        # To one side and farther, or nearer, may cost as little as to stay; and so may another place a ridge away.
        ring = [
            cost(d * far * span * (w / np.linalg.norm(w)))
            for w in (
                t + step * (np.cos(b) * a[0] + np.sin(b) * a[1]) for b in np.arange(_AROUND) * 2 * np.pi / _AROUND
            )
            for far in _FARTHER
        ]
        if min(ring) <= value + _AS_GOOD:
            lean = wider
    return Eye(centre + d * span * t, t, lean)
