"""Form apart from position: how much of a deviation would vanish by moving the scan as it is.

The best small rigid motion, by least squares on distances along the surface's normals, solved again and again with far
places counting less (Huber 1981); motions that the surface does not resist (along a plane, about an axis) are left out,
as are those a sampled direction cannot decide.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

__all__ = ["Position", "position_of"]

_PLACES = 60_000
_ROUNDS = 8
_HUBER = 2.5
_PLAIN = 0.5  # of the rms: where most faces lie exactly right, the rest is not noise
_FREE = 1e-4  # of the firmest direction: below, nothing holds it


@dataclass(frozen=True)
class Position:
    """The motion that would lay the scan best: ``shift`` (3,) mm of its middle, ``turn`` (3,) degrees about it;
    rms in mm as it lies and as it would. ``share`` of the mean square that would vanish.
    """

    shift: list[float]
    turn: list[float]
    rms_before: float
    rms_after: float
    share: float


def position_of(points: np.ndarray, normals: np.ndarray, distance: np.ndarray) -> Position | None:
    """``normals`` (n, 3) are the surface's own at each place; unanswered places are NaN. None for too few places."""
    ok = np.flatnonzero(np.isfinite(distance) & (np.linalg.norm(normals, axis=1) > 0.5))
    if len(ok) < 12:
        return None
    ok = ok if len(ok) <= _PLACES else np.sort(np.random.default_rng(3).permutation(ok)[:_PLACES])
    p, n, d = points[ok], normals[ok], distance[ok]
    middle = p.mean(axis=0)
    size = max(float(np.linalg.norm(np.ptp(p, axis=0))), 1e-12)
    a = np.hstack([n, np.cross((p - middle) / size, n)])
    x = np.zeros(6)
    for _ in range(_ROUNDS):
        r = d + a @ x
        plain = float(np.sqrt(np.mean(r**2)))
        scatter = max(1.4826 * float(np.median(np.abs(r - np.median(r)))), _PLAIN * plain, 1e-15 * size)
        w = np.minimum(1.0, _HUBER * scatter / np.maximum(np.abs(r), 1e-300))
        values, vectors = np.linalg.eigh(a.T @ (w[:, None] * a))
        held = values > _FREE * values[-1]
        step = vectors[:, held] @ ((vectors[:, held].T @ (a.T @ (w * r))) / values[held])
        x = x - step
        if np.abs(step).max() < 1e-9 * size:
            break
    before, after = float(np.sqrt(np.mean(d**2))), float(np.sqrt(np.mean((d + a @ x) ** 2)))
    if after >= before:
        return Position([0.0] * 3, [0.0] * 3, before, before, 0.0)
    share = 1 - (after / before) ** 2 if before > 0 else 0.0
    return Position(x[:3].tolist(), np.degrees(x[3:] / size).tolist(), before, after, share)
