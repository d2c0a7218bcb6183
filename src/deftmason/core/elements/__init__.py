"""Analytic elements, rigid motions and the least-squares fits that read them from points."""

from .fits import FIT_KINDS, Fit, fit
from .motion import UNITS_IN_MM, RigidMotion, perpendicular_pair, unit
from .rolling import RollingBall, Side, middle_of_tube, rolling_ball
from .shapes import Circle, Cone, Cylinder, Element, Line, Plane, Point, Rectangle, Slot, Sphere, Torus, element_from

__all__ = [
    "FIT_KINDS",
    "UNITS_IN_MM",
    "Circle",
    "Cone",
    "Cylinder",
    "Element",
    "Fit",
    "Line",
    "Plane",
    "Point",
    "Rectangle",
    "RigidMotion",
    "RollingBall",
    "Side",
    "Slot",
    "Sphere",
    "Torus",
    "element_from",
    "fit",
    "middle_of_tube",
    "perpendicular_pair",
    "rolling_ball",
    "unit",
]
