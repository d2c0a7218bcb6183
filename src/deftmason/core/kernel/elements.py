"""Fitted elements as shapes for other programs: planes, cylinders, cones, balls and rings as faces, axes and circles as
edges, points as vertices; drawings as wires. Their geometry is the element's own; only where they end is chosen.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeVertex
from OCP.gp import gp_Ax2, gp_Ax3, gp_Circ, gp_Cone, gp_Cylinder, gp_Pln, gp_Sphere, gp_Torus
from OCP.TopoDS import TopoDS_Compound, TopoDS_Shape

from ..elements import Circle, Cone, Cylinder, Element, Line, Plane, Point, Sphere, Torus
from ..errors import BadInput
from .features import Curve2D, PaperPlane, kernel_direction, kernel_point, paper_edge

__all__ = ["curves_shape", "element_shape"]

_BEYOND = 1.1  # of what it was read from


def element_shape(e: Element, places: np.ndarray, size: float) -> TopoDS_Shape:
    """The element over the ``places`` (n, 3) it was read from, or ``size`` mm across where there are none."""
    if isinstance(e, Point):
        return BRepBuilderAPI_MakeVertex(kernel_point(e.point)).Vertex()
    if isinstance(e, Plane):
        plane = gp_Pln(gp_Ax3(kernel_point(e.point), kernel_direction(e.normal)))
        x, y = (np.array([d.X(), d.Y(), d.Z()]) for d in (plane.XAxis().Direction(), plane.YAxis().Direction()))
        off = places - e.point
        a = _reach(off @ x, size)
        b = _reach(off @ y, size)
        return BRepBuilderAPI_MakeFace(plane, *a, *b).Face()
    if isinstance(e, Line):
        low, high = _reach((places - e.point) @ e.direction, size)
        ends = [kernel_point(e.point + t * e.direction) for t in (low, high)]
        return BRepBuilderAPI_MakeEdge(*ends).Edge()
    if isinstance(e, Circle):
        return BRepBuilderAPI_MakeEdge(
            gp_Circ(gp_Ax2(kernel_point(e.center), kernel_direction(e.normal)), float(e.radius))
        ).Edge()
    turn = 2 * np.pi
    if isinstance(e, Cylinder):
        low, high = _reach((places - e.point) @ e.direction, size)
        at = gp_Ax3(kernel_point(e.point), kernel_direction(e.direction))
        return BRepBuilderAPI_MakeFace(gp_Cylinder(at, float(e.radius)), 0.0, turn, low, high).Face()
    if isinstance(e, Cone):
        low, high = _reach((places - e.apex) @ e.direction, size)
        low = max(low, 0.02 * high)
        angle = np.radians(e.half_angle_deg)
        foot = e.apex + low * e.direction
        at = gp_Ax3(kernel_point(foot), kernel_direction(e.direction))
        surface = gp_Cone(at, float(angle), float(low * np.tan(angle)))
        return BRepBuilderAPI_MakeFace(surface, 0.0, turn, 0.0, float((high - low) / np.cos(angle))).Face()
    if isinstance(e, Sphere):
        at = gp_Ax3(kernel_point(e.center), kernel_direction((0, 0, 1)))
        return BRepBuilderAPI_MakeFace(gp_Sphere(at, float(e.radius))).Face()
    if isinstance(e, Torus):
        at = gp_Ax3(kernel_point(e.center), kernel_direction(e.direction))
        return BRepBuilderAPI_MakeFace(gp_Torus(at, float(e.major_radius), float(e.minor_radius))).Face()
    raise BadInput(f"A {e.kind} cannot be handed on as a shape.")


def _reach(along: np.ndarray, size: float) -> tuple[float, float]:
    """Where an element ends along a direction: a little beyond what it was read from."""
    if len(along) < 2 or np.ptp(along) < 1e-9 * size:
        return -0.5 * size, 0.5 * size
    middle, half = 0.5 * (along.min() + along.max()), 0.5 * np.ptp(along) * _BEYOND
    return float(middle - half), float(middle + half)


def curves_shape(curves: list[Curve2D], plane: Any) -> TopoDS_Shape:
    """A drawing's entities as edges in its plane (``origin``, ``normal``, ``u``)."""
    paper = PaperPlane(plane.origin, plane.normal, plane.u)
    builder, whole = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(whole)
    for c in curves:
        builder.Add(whole, paper_edge(c, paper, 0.0))
    return whole
