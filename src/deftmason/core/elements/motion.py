"""Rigid motions, unit vectors and length units.

A motion is a 4×4 float64 matrix (rotation and translation in mm) wrapped so that it cannot be scaled or sheared.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadArgument

__all__ = ["UNITS_IN_MM", "RigidMotion", "unit", "perpendicular_pair"]

#: Length units a file may be in, in millimetres.
UNITS_IN_MM = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4}


def unit(v, *, field: str = "direction") -> np.ndarray:
    """The unit vector along ``v`` (3,). Raises `BadArgument` for a zero or non-finite one."""
    v = np.asarray(v, float).reshape(3)
    length = np.linalg.norm(v)
    if not np.isfinite(length) or length < 1e-12:
        raise BadArgument(f"The {field} {v.tolist()} has no length; give a vector that is not zero.", field=field)
    return v / length


def perpendicular_pair(n) -> tuple[np.ndarray, np.ndarray]:
    """Two unit vectors e1, e2 with e1 × e2 = n, continuous except near one pole (n a unit vector)."""
    n = np.asarray(n, float)
    # Branchless basis (Duff et al. 2017, "Building an orthonormal basis, revisited", JCGT 6/1).
    sign = 1.0 if n[2] >= 0 else -1.0
    a = -1.0 / (sign + n[2])
    b = n[0] * n[1] * a
    return (
        np.array([1.0 + sign * n[0] * n[0] * a, sign * b, -sign * n[0]]),
        np.array([b, sign + n[1] * n[1] * a, -n[1]]),
    )


@dataclass(frozen=True)
class RigidMotion:
    """x ↦ R x + t, lengths in mm. ``matrix`` is (4, 4)."""

    matrix: np.ndarray

    @staticmethod
    def identity() -> RigidMotion:
        return RigidMotion(np.eye(4))

    @staticmethod
    def of(rotation, translation) -> RigidMotion:
        m = np.eye(4)
        m[:3, :3] = rotation
        m[:3, 3] = translation
        return RigidMotion(m)

    @property
    def rotation(self) -> np.ndarray:
        return self.matrix[:3, :3]

    @property
    def translation(self) -> np.ndarray:
        return self.matrix[:3, 3]

    def points(self, p) -> np.ndarray:
        """Move points (…, 3)."""
        return np.asarray(p, float) @ self.rotation.T + self.translation

    def vectors(self, v) -> np.ndarray:
        """Turn directions (…, 3)."""
        return np.asarray(v, float) @ self.rotation.T

    def inverse(self) -> RigidMotion:
        r = self.rotation.T
        return RigidMotion.of(r, -r @ self.translation)

    def after(self, first: RigidMotion) -> RigidMotion:
        """This motion done after ``first``."""
        return RigidMotion(self.matrix @ first.matrix)
