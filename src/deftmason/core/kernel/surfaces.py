"""The true surface under each face, as an analytic element or as B-spline arrays, for distances in closed form."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.GeomAbs import GeomAbs_Cone, GeomAbs_Cylinder, GeomAbs_Plane, GeomAbs_Sphere, GeomAbs_Torus
from OCP.GeomConvert import GeomConvert
from OCP.TopAbs import TopAbs_REVERSED

from ..elements import Cone, Cylinder, Element, Plane, Sphere, Torus
from .body import Body, as_array, faces_of

__all__ = ["FaceSurface", "SplineSurface", "face_surfaces", "spline_of"]


@dataclass(frozen=True)
class SplineSurface:
    """Rational B-spline: ``poles`` (nu, nv, 4) homogeneous (wx, wy, wz, w), flat knots, degrees."""

    poles: np.ndarray
    u_knots: np.ndarray
    v_knots: np.ndarray
    u_degree: int
    v_degree: int


@dataclass(frozen=True)
class FaceSurface:
    """``kind`` as in the contract ('freeform' for splines); ``outward`` is +1 where the element's positive side
    is out.
    """

    name: str
    kind: str
    element: Element | None
    spline: SplineSurface | None
    outward: float


def _vec(d) -> np.ndarray:
    return np.array([d.X(), d.Y(), d.Z()])


def face_surfaces(body: Body) -> list[FaceSurface]:
    """One record a face, in the order of the body's face names."""
    out = []
    for name, face in zip(body.face_names, faces_of(body.shape)):
        s = BRepAdaptor_Surface(face)
        kind = s.GetType()
        flip = -1.0 if face.Orientation() == TopAbs_REVERSED else 1.0
        element: Element | None = None
        if kind == GeomAbs_Plane:
            p = s.Plane()
            n = _vec(p.Axis().Direction()) * (1.0 if p.Direct() else -1.0)
            element = Plane(as_array(p.Location()), n)
        elif kind == GeomAbs_Cylinder:
            c = s.Cylinder()
            element = Cylinder(as_array(c.Axis().Location()), _vec(c.Axis().Direction()), c.Radius())
            flip *= 1.0 if c.Direct() else -1.0
        elif kind == GeomAbs_Cone:
            c = s.Cone()
            apex, d, a = as_array(c.Apex()), _vec(c.Axis().Direction()), c.SemiAngle()
            if a < 0:
                d, a = -d, -a
            element = Cone(apex, d, float(np.degrees(a)))
            flip *= 1.0 if c.Direct() else -1.0
            mid_v = 0.5 * (s.FirstVParameter() + s.LastVParameter())
            if c.RefRadius() + mid_v * np.sin(c.SemiAngle()) < 0:  # the face lies on the other nappe
                element = Cone(apex, -d, float(np.degrees(a)))
                flip = -flip
        elif kind == GeomAbs_Sphere:
            c = s.Sphere()
            element = Sphere(as_array(c.Location()), c.Radius())
            flip *= 1.0 if c.Direct() else -1.0
        elif kind == GeomAbs_Torus:
            c = s.Torus()
            element = Torus(as_array(c.Location()), _vec(c.Axis().Direction()), c.MajorRadius(), c.MinorRadius())
            flip *= 1.0 if c.Direct() else -1.0
            if c.MinorRadius() > c.MajorRadius():
                element = None  # a self-crossing torus: its closed form is not the nearest sheet
        if element is not None:
            out.append(FaceSurface(name, element.kind, element, None, flip))
        else:
            out.append(FaceSurface(name, "freeform", None, spline_of(face), flip))
    return out


def spline_of(face) -> SplineSurface | None:
    """The surface under a face as a B-spline, as far as it goes or as the face reaches; none where it has none."""
    try:
        b = GeomConvert.SurfaceToBSplineSurface_s(_bounded(face))
    except Exception:  # a surface with no exact spline: distances stay those of its fine triangles
        return None
    if b.IsUPeriodic():
        b.SetUNotPeriodic()
    if b.IsVPeriodic():
        b.SetVNotPeriodic()
    nu, nv = b.NbUPoles(), b.NbVPoles()
    poles = np.empty((nu, nv, 4))
    for i in range(nu):
        for j in range(nv):
            w = b.Weight(i + 1, j + 1)
            poles[i, j] = (*(as_array(b.Pole(i + 1, j + 1)) * w), w)
    us = [b.UKnot(k) for k in range(1, b.NbUKnots() + 1) for _ in range(b.UMultiplicity(k))]
    vs = [b.VKnot(k) for k in range(1, b.NbVKnots() + 1) for _ in range(b.VMultiplicity(k))]
    return SplineSurface(poles, np.array(us), np.array(vs), b.UDegree(), b.VDegree())


def _bounded(face):
    from OCP.BRepTools import BRepTools
    from OCP.Geom import Geom_BSplineSurface, Geom_RectangularTrimmedSurface

    surface = BRep_Tool.Surface_s(face)
    if isinstance(surface, Geom_BSplineSurface):
        return surface
    u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
    return Geom_RectangularTrimmedSurface(surface, u0, u1, v0, v1)
