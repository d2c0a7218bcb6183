"""Where a ball that touches two surfaces stands beside each of many places, compiled."""

from __future__ import annotations

import numpy as np
from numba import njit

from .feet import foot, packed
from .shapes import Element

__all__ = ["Beside", "balls_beside"]

_STEPS = 4


class Beside:
    """The balls beside places (n, 3): their middles ``centres`` (n, 3); how ``far`` each place is from its ball's, mm;
    how squarely to the middle of the ball's arc it lies, ``along`` (n,), and the cosine of half that arc, ``half``
    (n,); ``slopes`` (n, 3) of ``far`` less the radius by the radius and by either side's shift.
    """

    def __init__(self, centres: np.ndarray, told: np.ndarray):
        self.centres = centres
        self.far, self.along, self.half, self.slopes = told[:, 0], told[:, 1], told[:, 2], told[:, 3:]

    @property
    def between(self) -> np.ndarray:
        """Which places lie on the ball between where it touches (n,)."""
        return self.along >= self.half


def balls_beside(
    places: np.ndarray, sides: tuple[Element, Element], signs: tuple[float, float], radius: float, shifts=(0.0, 0.0)
) -> Beside:
    """The ball of a radius (mm) beside each place (n, 3), in the plane of both sides' normals there, by Newton steps.

    The sides lie ``shifts`` mm along their normals from where they were fitted; ``signs`` tell on which side of each.
    """
    (one, e), (two, f) = packed(sides[0]), packed(sides[1])
    p = np.ascontiguousarray(places, float)
    return Beside(*_balls(p, one, e, two, f, signs[0], signs[1], float(radius), float(shifts[0]), float(shifts[1])))


@njit(cache=True, nogil=True)
def _balls(p, one, e, two, f, sign1, sign2, radius, shift1, shift2):  # pragma: no cover - compiled
    n = len(p)
    centres, told = np.empty((n, 3)), np.empty((n, 6))
    steps = 1 if one == 0 and two == 0 else _STEPS
    for i in range(n):
        x, y, z = p[i, 0], p[i, 1], p[i, 2]
        cos, square = 0.0, 1.0
        ax = ay = az = bx = by = bz = 0.0
        for _ in range(steps):
            d1, ax, ay, az = foot(one, e, x, y, z)
            d2, bx, by, bz = foot(two, f, x, y, z)
            off1, off2 = sign1 * radius + shift1 - d1, sign2 * radius + shift2 - d2
            cos = ax * bx + ay * by + az * bz
            square = max(1 - cos * cos, 1e-6)
            s, t = (off1 - cos * off2) / square, (off2 - cos * off1) / square
            x, y, z = x + s * ax + t * bx, y + s * ay + t * by, z + s * az + t * bz
        centres[i, 0], centres[i, 1], centres[i, 2] = x, y, z
        mx, my, mz = -sign1 * ax - sign2 * bx, -sign1 * ay - sign2 * by, -sign1 * az - sign2 * bz
        half = np.sqrt(mx * mx + my * my + mz * mz) / 2
        whole = max(2 * half, 1e-9)
        ux, uy, uz = p[i, 0] - x, p[i, 1] - y, p[i, 2] - z
        far = np.sqrt(ux * ux + uy * uy + uz * uz)
        long = max(far, 1e-300)
        ux, uy, uz = ux / long, uy / long, uz / long
        along = (ux * mx + uy * my + uz * mz) / whole
        u1, u2 = ux * ax + uy * ay + uz * az, ux * bx + uy * by + uz * bz
        told[i, 0], told[i, 1], told[i, 2] = far, along, half
        told[i, 3] = along / max(half, 1e-9) - 1
        told[i, 4], told[i, 5] = -(u1 - cos * u2) / square, -(u2 - cos * u1) / square
    return centres, told
