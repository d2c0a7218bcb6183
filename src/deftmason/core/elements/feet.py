"""Distances and normals of `shapes`, their closed forms compiled for one place at a time."""

from __future__ import annotations

import numpy as np
from numba import njit

from .shapes import Cone, Cylinder, Element, Plane, Sphere, Torus

__all__ = ["foot", "packed"]


@njit(cache=True, nogil=True)
def foot(code, e, x, y, z):  # pragma: no cover - compiled
    """Signed distance and unit normal of the element at a place. ``code`` and ``e`` (8,) as `packed` gives them."""
    px, py, pz = x - e[0], y - e[1], z - e[2]
    if code == 3:
        r = max(np.sqrt(px * px + py * py + pz * pz), 1e-300)
        return r - e[6], px / r, py / r, pz / r
    t = px * e[3] + py * e[4] + pz * e[5]
    if code == 0:
        return t, e[3], e[4], e[5]
    rx, ry, rz = px - t * e[3], py - t * e[4], pz - t * e[5]
    rho = max(np.sqrt(rx * rx + ry * ry + rz * rz), 1e-300)
    rx, ry, rz = rx / rho, ry / rho, rz / rho
    if code == 1:
        return rho - e[6], rx, ry, rz
    if code == 2:
        c, s = np.cos(e[6]), np.sin(e[6])
        d = np.hypot(t, rho) if t * c + rho * s < 0 else rho * c - t * s
        return d, rx * c - e[3] * s, ry * c - e[4] * s, rz * c - e[5] * s
    u = rho - e[6]
    d = max(np.hypot(u, t), 1e-300)
    return d - e[7], (rx * u + t * e[3]) / d, (ry * u + t * e[4]) / d, (rz * u + t * e[5]) / d


def packed(e: Element) -> tuple[int, np.ndarray]:
    """The element as a code and eight numbers: origin, direction, two lengths."""
    if isinstance(e, Plane):
        return 0, np.array([*e.point, *e.normal, 0, 0], float)
    if isinstance(e, Cylinder):
        return 1, np.array([*e.point, *e.direction, e.radius, 0], float)
    if isinstance(e, Cone):
        return 2, np.array([*e.apex, *e.direction, np.radians(e.half_angle_deg), 0], float)
    if isinstance(e, Sphere):
        return 3, np.array([*e.center, 0, 0, 1, e.radius, 0], float)
    assert isinstance(e, Torus)
    return 4, np.array([*e.center, *e.direction, e.major_radius, e.minor_radius], float)
