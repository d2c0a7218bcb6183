"""A curve along a wall from touches in order: a spline smoothed by no more than the device's noise, the ball taken off
square to it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import unit
from ..errors import BadInput
from .touched import Touches, one_side

__all__ = ["ProbedCurve", "probed_curve"]

_LEAST = 2
_SPLINE = 4  # touches from which on a cubic goes through them
_BETWEEN = 2  # places told from touch to touch


@dataclass(frozen=True)
class ProbedCurve:
    """``places`` (k, 3) on the surface, in order; ``scatter`` (mm, rms across the way) of the balls' middles about the
    spline, 0 where it goes through them.
    """

    places: np.ndarray
    scatter: float


def probed_curve(touches: Touches, normal, closed: bool, noise: float = 0.0) -> ProbedCurve:
    """The curve on the surface along touches in order, within the plane across ``normal``.

    The balls' middles are smoothed by a cubic spline of as few knots as leave ``noise`` (mm, one standard deviation of
    a touch in each direction) as their scatter, by chords (Dierckx 1993, *Curve and surface fitting with splines*, §5);
    through them where there is none. The surface lies a ball's radius off along the spline's own normal.

    Raises `BadInput` where there are too few, or where they were led to both sides.
    """
    n, p = unit(np.asarray(normal, float)), touches.balls
    if len(p) < _LEAST:
        raise BadInput("A curve takes two touches or more; take another.", field="touches")
    chords = np.linalg.norm(np.diff(np.vstack([p, p[:1]]) if closed else p, axis=0), axis=1)
    if not (chords > 0).all():
        raise BadInput("Two touches of the curve lie at one place; take the last one back.", field="touches")
    u = np.concatenate([[0], np.cumsum(chords)])
    middle, way, scatter = _smoothed(p, u, closed, noise)
    across = np.cross(n, way)
    across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-300)
    led = np.repeat(touches.along, _BETWEEN, axis=0)[: len(across)]
    return ProbedCurve(
        middle + one_side(np.einsum("ij,ij->i", across, led), "curve") * touches.radius * across, scatter
    )


def _smoothed(p: np.ndarray, u: np.ndarray, closed: bool, noise: float) -> tuple[np.ndarray, np.ndarray, float]:
    """Places on the spline and its derivative there, and the scatter about it; ``u`` (k + 1 where closed) by chords."""
    from scipy.interpolate import splev, splprep

    at = np.interp(np.arange(_BETWEEN * (len(u) - 1) + 1) / _BETWEEN, np.arange(len(u)), u)
    at = at[:-1] if closed else at
    ring = np.vstack([p, p[:1]]) if closed else p
    degree = 3 if len(p) >= _SPLINE else len(p) - 1
    # Across the way there are two directions; noise along it moves a place on the curve itself.
    spline, _ = splprep(ring.T, u=u, k=degree, s=2 * len(p) * noise**2, per=closed)
    off = p - np.column_stack(splev(u[: len(p)], spline))
    scatter = float(np.sqrt((off**2).sum() / (2 * len(p)))) if noise > 0 else 0.0
    return np.column_stack(splev(at, spline)), np.column_stack(splev(at, spline, der=1)), scatter
