"""Networks of spline patches as faces, sewn to a shell or a solid; and how bodies' faces meet along their edges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Curve2d, BRepAdaptor_Surface
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_REVERSED
from OCP.TopoDS import TopoDS

from ..surfaces.network import Network
from .body import Body, as_array, edge_faces, faces_of
from .lofted import sewn
from .splined import surface_face

__all__ = ["Joints", "joints_of", "network_body", "rims_of"]

_PLACES = 40  # on an edge


def network_body(net: Network, feature: str, *, solid: bool) -> Body:
    """The patches as one body. Faces: ``feature/patch/K`` in the layout's order. Raises `BadInput` where they are to
    close and do not."""
    faces = []
    for k, ids in enumerate(net.ids):
        f = surface_face(net.poles[ids], net.knots, net.knots, net.degree, net.degree)
        faces.append((f, f"{feature}/patch/{k + 1}"))
    size = float(np.linalg.norm(np.ptp(net.poles, axis=0)))
    return sewn(faces, feature, size, solid=solid)


@dataclass(frozen=True)
class Joints:
    """How faces meet along the edges they share, ``places`` (e, n, 3): ``names`` of both faces, ``gap`` (e, n) mm
    between them, ``angle`` (e, n) degrees between their normals, ``step`` (e, n) mm of edge each place stands for."""

    names: list[tuple[str, str]]
    places: np.ndarray
    gap: np.ndarray
    angle: np.ndarray
    step: np.ndarray

    def quantile(self, share: float) -> float:
        """The angle, degrees, that so large a share of the edges' length stays under."""
        if not self.angle.size:
            return 0.0
        order = np.argsort(self.angle.ravel())
        length = np.cumsum(self.step.ravel()[order])
        k = int(np.searchsorted(length, share * length[-1]))
        return float(self.angle.ravel()[order][min(k, len(order) - 1)])


def joints_of(body: Body, among: set[str] | None = None) -> Joints:
    """Measured on the faces' own surfaces at places of every shared edge, off its ends by half a step.

    ``among`` : only edges between faces of these names.
    """
    faces = faces_of(body.shape)
    names, places, gap, angle, step = [], [], [], [], []
    surfaces = [BRepAdaptor_Surface(f) for f in faces]
    for edge, ids in edge_faces(body.shape):
        if len(ids) != 2:
            continue
        pair = (body.face_names[ids[0]], body.face_names[ids[1]])
        if among is not None and not (pair[0] in among and pair[1] in among):
            continue
        e = TopoDS.Edge(edge)
        if BRep_Tool.Degenerated_s(e):
            continue
        curve = BRepAdaptor_Curve(e)
        t = curve.FirstParameter() + (np.arange(_PLACES) + 0.5) / _PLACES * (
            curve.LastParameter() - curve.FirstParameter()
        )
        at = np.array([as_array(curve.Value(float(x))) for x in t])
        seen, normals = [], []
        for i in ids:
            own = BRepAdaptor_Curve2d(e, TopoDS.Face(faces[i]))
            sign = -1.0 if faces[i].Orientation() == TopAbs_REVERSED else 1.0
            p, n = np.empty((_PLACES, 3)), np.empty((_PLACES, 3))
            for k, x in enumerate(t):
                uv = own.Value(float(x))
                q, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
                surfaces[i].D1(uv.X(), uv.Y(), q, du, dv)
                c = np.cross([du.X(), du.Y(), du.Z()], [dv.X(), dv.Y(), dv.Z()])
                p[k], n[k] = as_array(q), sign * c / max(float(np.linalg.norm(c)), 1e-300)
            seen.append(p)
            normals.append(n)
        names.append(pair)
        places.append(at)
        gap.append(np.linalg.norm(seen[0] - seen[1], axis=1))
        sin = np.linalg.norm(np.cross(normals[0], normals[1]), axis=1)
        angle.append(np.degrees(np.arctan2(sin, np.einsum("ij,ij->i", normals[0], normals[1]))))
        step.append(np.linalg.norm(np.gradient(at, axis=0), axis=1))
    empty = np.zeros((0, _PLACES))
    return Joints(
        names,
        np.array(places) if places else np.zeros((0, _PLACES, 3)),
        np.array(gap) if gap else empty,
        np.array(angle) if angle else empty,
        np.array(step) if step else empty,
    )


def rims_of(body: Body) -> tuple[list[np.ndarray], list[float]]:
    """Edges only one face has, as places (n, 3) along each, and their lengths, mm; seams of a face with itself are
    none."""
    from OCP.GCPnts import GCPnts_AbscissaPoint

    rims, lengths = [], []
    for edge, ids in edge_faces(body.shape):
        e = TopoDS.Edge(edge)
        if len(ids) != 1 or BRep_Tool.Degenerated_s(e):
            continue
        if BRep_Tool.IsClosed_s(e, TopoDS.Face(faces_of(body.shape)[ids[0]])):
            continue
        curve = BRepAdaptor_Curve(e)
        t = np.linspace(curve.FirstParameter(), curve.LastParameter(), _PLACES)
        rims.append(np.array([as_array(curve.Value(float(x))) for x in t]))
        lengths.append(float(GCPnts_AbscissaPoint.Length_s(curve)))
    return rims, lengths
