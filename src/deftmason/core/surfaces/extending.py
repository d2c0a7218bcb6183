"""Spline surfaces continued past their sides: straight on as they end there, or on as they bend."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import BSpline

__all__ = ["SplinePatch", "extended"]


@dataclass(frozen=True)
class SplinePatch:
    """A B-spline surface: ``poles`` (nu, nv, 3), flat clamped knots, degrees."""

    poles: np.ndarray
    u_knots: np.ndarray
    v_knots: np.ndarray
    u_degree: int
    v_degree: int

    def turned(self) -> SplinePatch:
        """u and v exchanged."""
        return SplinePatch(np.swapaxes(self.poles, 0, 1), self.v_knots, self.u_knots, self.v_degree, self.u_degree)

    def reversed(self) -> SplinePatch:
        """u run backwards, as −u."""
        return SplinePatch(self.poles[::-1], -self.u_knots[::-1], self.v_knots, self.u_degree, self.v_degree)


def extended(patch: SplinePatch, side: int, length: float, bends: bool) -> SplinePatch:
    """Continued past a side (0: u begins, 1: u ends, 2: v begins, 3: v ends) by ``length`` mm.

    ``bends`` : on as it bends there; else straight on. Lines that run faster than most reach farther by as much.
    """
    if side == 0:
        return extended(patch.reversed(), 1, length, bends).reversed()
    if side in (2, 3):
        return extended(patch.turned(), side - 2, length, bends).turned()
    knots, p = patch.u_knots, patch.u_degree
    bends = bends and p > 1
    end = float(knots[-1])
    s = BSpline(knots, patch.poles, p)
    at, d1 = s(end), s(end, nu=1)
    d2 = s(end, nu=2) if bends else np.zeros_like(at)
    step = length / max(float(np.median(np.linalg.norm(d1, axis=-1))), 1e-300)
    times = max(p - (2 if bends else 1), 1)  # of the old end among the knots: as smooth there as it goes on
    new = np.r_[knots[: -p - 1], np.full(times, end), np.full(p + 1, end + step)]
    n = len(new) - p - 1
    t = np.array([new[i + 1 : i + p + 1].mean() for i in range(n)])
    past = np.clip(t - end, 0, None)[:, None, None]
    places = np.where(past > 0, at + past * d1 + 0.5 * past**2 * d2, s(np.minimum(t, end)))
    table = BSpline(new, np.eye(n), p)(t)
    poles = np.linalg.solve(table, places.reshape(n, -1)).reshape(n, -1, 3)
    return SplinePatch(poles, new, patch.v_knots, p, patch.v_degree)
