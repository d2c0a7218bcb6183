"""The analytic elements a scan is read as: small frozen records with signed distances and contract parameters.

Distances are orthogonal, in mm, positive on the side named in each class.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .motion import RigidMotion

__all__ = [
    "Element", "Plane", "Point", "Line", "Circle", "Slot", "Rectangle", "Cylinder", "Cone", "Sphere", "Torus",
    "element_from",
]  # fmt: skip


def _axis_split(p: np.ndarray, origin: np.ndarray, direction: np.ndarray):
    """Heights along the axis, radial vectors and radii of points (n, 3)."""
    d = p - origin
    t = d @ direction
    radial = d - t[:, None] * direction
    return t, radial, np.linalg.norm(radial, axis=1)


class Element:
    """Base of all elements: ``kind``, contract ``parameters`` and geometry queries."""

    kind: str = ""
    # What kinds of element have of these is their own matter; who knows the kind may ask.
    point: np.ndarray
    normal: np.ndarray
    center: np.ndarray
    direction: np.ndarray
    radius: float
    major_radius: float
    minor_radius: float

    def parameters(self) -> dict:
        """Contract keys to plain lists and numbers (mm, degrees)."""
        return {k: v.tolist() if isinstance(v, np.ndarray) else float(v) for k, v in self.__dict__.items()}

    def distance(self, points) -> np.ndarray:
        """Signed (surfaces) or plain (curves) orthogonal distances of points (n, 3), in mm."""
        raise NotImplementedError

    def normals(self, points) -> np.ndarray:
        """Unit surface normals at the feet of points (n, 3), on the positive side."""
        raise NotImplementedError

    def feet(self, points) -> np.ndarray:
        """The nearest places on the element to points (n, 3)."""
        p = np.asarray(points, float)
        return p - self.distance(p)[:, None] * self.normals(p)

    def moved(self, motion: RigidMotion) -> Element:
        values = {}
        for k, v in self.__dict__.items():
            if isinstance(v, np.ndarray):
                values[k] = motion.vectors(v) if k in ("normal", "direction", "up") else motion.points(v)
            else:
                values[k] = v
        return type(self)(**values)


@dataclass(frozen=True)
class Plane(Element):
    """Positive on the side the normal points to."""

    point: np.ndarray
    normal: np.ndarray
    kind = "plane"

    def distance(self, points):
        return (np.asarray(points, float) - self.point) @ self.normal

    def normals(self, points):
        return np.broadcast_to(self.normal, np.shape(points))


@dataclass(frozen=True)
class Point(Element):
    point: np.ndarray
    kind = "point"

    def distance(self, points):
        return np.linalg.norm(np.asarray(points, float) - self.point, axis=1)

    def feet(self, points):
        return np.broadcast_to(self.point, np.shape(points))


@dataclass(frozen=True)
class Line(Element):
    point: np.ndarray
    direction: np.ndarray
    kind = "line"

    def distance(self, points):
        return _axis_split(np.asarray(points, float), self.point, self.direction)[2]

    def feet(self, points):
        t, _, _ = _axis_split(np.asarray(points, float), self.point, self.direction)
        return self.point + t[:, None] * self.direction


@dataclass(frozen=True)
class Circle(Element):
    center: np.ndarray
    normal: np.ndarray
    radius: float
    kind = "circle"

    def distance(self, points):
        t, _, rho = _axis_split(np.asarray(points, float), self.center, self.normal)
        return np.hypot(t, rho - self.radius)

    def feet(self, points):
        _, radial, rho = _axis_split(np.asarray(points, float), self.center, self.normal)
        return self.center + radial * (self.radius / np.maximum(rho, 1e-300))[:, None]


class _Flat(Element):
    """An outline on a plane through ``center`` square to ``up``, its long axis along ``direction``."""

    center: np.ndarray
    up: np.ndarray
    length: float
    width: float

    def on_plane(self, points) -> tuple[np.ndarray, np.ndarray]:
        """Places along and across the long axis (n, 2), and heights over the plane (n,)."""
        d = np.asarray(points, float) - self.center
        return np.column_stack([d @ self.direction, d @ np.cross(self.up, self.direction)]), d @ self.up

    def inside_of(self, q: np.ndarray) -> np.ndarray:
        """Signed distances (n,) of places (n, 2) on the plane, positive outside."""
        raise NotImplementedError

    def distance(self, points):
        q, height = self.on_plane(points)
        return np.hypot(height, self.inside_of(q))


@dataclass(frozen=True)
class Slot(_Flat):
    """Two half circles joined by straight sides: ``length`` over all, ``width`` across."""

    center: np.ndarray
    up: np.ndarray
    direction: np.ndarray
    length: float
    width: float
    kind = "slot"

    def inside_of(self, q):
        beyond = np.maximum(np.abs(q[:, 0]) - 0.5 * (self.length - self.width), 0.0)
        return np.hypot(beyond, q[:, 1]) - 0.5 * self.width


@dataclass(frozen=True)
class Rectangle(_Flat):
    """Its corners rounded by ``corner`` mm, 0 where they are sharp."""

    center: np.ndarray
    up: np.ndarray
    direction: np.ndarray
    length: float
    width: float
    corner: float
    kind = "rectangle"

    def inside_of(self, q):
        beyond = np.abs(q) - 0.5 * np.array([self.length, self.width]) + self.corner
        return np.linalg.norm(np.maximum(beyond, 0), axis=1) + np.minimum(beyond.max(axis=1), 0) - self.corner


@dataclass(frozen=True)
class Cylinder(Element):
    """Positive outside."""

    point: np.ndarray
    direction: np.ndarray
    radius: float
    kind = "cylinder"

    def distance(self, points):
        return _axis_split(np.asarray(points, float), self.point, self.direction)[2] - self.radius

    def normals(self, points):
        _, radial, rho = _axis_split(np.asarray(points, float), self.point, self.direction)
        return radial / np.maximum(rho, 1e-300)[:, None]


@dataclass(frozen=True)
class Cone(Element):
    """One nappe; ``direction`` runs from the apex into the cone. Positive outside."""

    apex: np.ndarray
    direction: np.ndarray
    half_angle_deg: float
    kind = "cone"

    def distance(self, points):
        t, _, rho = _axis_split(np.asarray(points, float), self.apex, self.direction)
        a = np.radians(self.half_angle_deg)
        side = rho * np.cos(a) - t * np.sin(a)
        beyond = t * np.cos(a) + rho * np.sin(a) < 0
        return np.where(beyond, np.hypot(t, rho), side)

    def normals(self, points):
        _, radial, rho = _axis_split(np.asarray(points, float), self.apex, self.direction)
        a = np.radians(self.half_angle_deg)
        return radial / np.maximum(rho, 1e-300)[:, None] * np.cos(a) - self.direction * np.sin(a)


@dataclass(frozen=True)
class Sphere(Element):
    """Positive outside."""

    center: np.ndarray
    radius: float
    kind = "sphere"

    def distance(self, points):
        return np.linalg.norm(np.asarray(points, float) - self.center, axis=1) - self.radius

    def normals(self, points):
        d = np.asarray(points, float) - self.center
        return d / np.maximum(np.linalg.norm(d, axis=1), 1e-300)[:, None]


@dataclass(frozen=True)
class Torus(Element):
    """Positive outside the tube."""

    center: np.ndarray
    direction: np.ndarray
    major_radius: float
    minor_radius: float
    kind = "torus"

    def distance(self, points):
        t, _, rho = _axis_split(np.asarray(points, float), self.center, self.direction)
        return np.hypot(rho - self.major_radius, t) - self.minor_radius

    def normals(self, points):
        t, radial, rho = _axis_split(np.asarray(points, float), self.center, self.direction)
        u = radial / np.maximum(rho, 1e-300)[:, None]
        n = u * (rho - self.major_radius)[:, None] + t[:, None] * self.direction
        return n / np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]


_KINDS = {c.kind: c for c in (Plane, Point, Line, Circle, Slot, Rectangle, Cylinder, Cone, Sphere, Torus)}


def element_from(kind: str, parameters: dict) -> Element:
    """The element with these contract parameters."""
    values = {k: np.asarray(v, float) if isinstance(v, (list, tuple)) else float(v) for k, v in parameters.items()}
    return _KINDS[kind](**values)  # type: ignore[arg-type]
