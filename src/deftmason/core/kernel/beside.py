"""What runs beside a rim: a body's nearest places, with the normal and the bending of its surface there."""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
from OCP.BRepExtrema import BRepExtrema_DistShapeShape, BRepExtrema_IsInFace, BRepExtrema_IsOnEdge
from OCP.gp import gp_Pnt, gp_Vec
from OCP.ShapeAnalysis import ShapeAnalysis_Surface
from OCP.TopAbs import TopAbs_REVERSED, TopAbs_VERTEX
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

from .body import Body, as_array, edge_faces, faces_of

__all__ = ["beside", "normals_on"]


def _forms(surface: BRepAdaptor_Surface, u: float, v: float) -> tuple[np.ndarray, np.ndarray]:
    """The unit normal, and the second fundamental form as a form on space (3, 3), per mm (do Carmo 1976, *Differential
    geometry of curves and surfaces*, 3.3)."""
    p = gp_Pnt()
    du, dv, duu, dvv, duv = (gp_Vec() for _ in range(5))
    surface.D2(u, v, p, du, dv, duu, dvv, duv)
    x = np.array([[d.X(), d.Y(), d.Z()] for d in (du, dv)]).T
    second = [np.array([d.X(), d.Y(), d.Z()]) for d in (duu, duv, dvv)]
    n = np.cross(x[:, 0], x[:, 1])
    n /= max(float(np.linalg.norm(n)), 1e-300)
    b = np.array([[n @ second[0], n @ second[1]], [n @ second[1], n @ second[2]]])
    dual = x @ np.linalg.pinv(x.T @ x)
    return n, dual @ b @ dual.T


def beside(bodies: list[Body], within: float):
    """Asks for places (n, 3): which lie within so many mm of a body (n,), their feet on it (n, 3), its normals (n, 3)
    and second fundamental forms (n, 3, 3) there, 0 where there is none."""
    parts = []
    for body in bodies:
        faces = [TopoDS.Face(f) for f in faces_of(body.shape)]
        owners = [(TopoDS.Edge(e), ids) for e, ids in edge_faces(body.shape)]
        surfaces = [(BRepAdaptor_Surface(f), ShapeAnalysis_Surface(BRep_Tool.Surface_s(f))) for f in faces]
        parts.append((body.shape, faces, owners, surfaces))

    def at(places: np.ndarray):
        n = len(places)
        on, feet = np.zeros(n, bool), places.copy()
        normals, bends = np.zeros((n, 3)), np.zeros((n, 3, 3))
        for k, p in enumerate(places):
            vertex = BRepBuilderAPI_MakeVertex(gp_Pnt(*map(float, p))).Vertex()
            best = within
            for shape, faces, owners, surfaces in parts:
                near = BRepExtrema_DistShapeShape(vertex, shape)
                if not near.IsDone() or near.NbSolution() == 0 or near.Value() > best:
                    continue
                own = _face_of(near, faces, owners)
                if own is None:
                    continue
                best = near.Value()
                foot = near.PointOnShape2(1)
                surface, finder = surfaces[own]
                uv = finder.ValueOfUV(foot, 1e-9)
                on[k], feet[k] = True, as_array(foot)
                normals[k], bends[k] = _forms(surface, uv.X(), uv.Y())
        return on, feet, normals, bends

    return at


def _face_of(near: BRepExtrema_DistShapeShape, faces, owners) -> int | None:
    """The face that a nearest place lies on, or on whose edge."""
    kind, support = near.SupportTypeShape2(1), near.SupportOnShape2(1)
    if kind == BRepExtrema_IsInFace:
        return next((i for i, f in enumerate(faces) if f.IsSame(support)), None)
    if kind == BRepExtrema_IsOnEdge:
        return next((ids[0] for e, ids in owners if e.IsSame(support)), None)
    # At a corner: the first face that has it.
    for i, f in enumerate(faces):
        walk = TopExp_Explorer(f, TopAbs_VERTEX)
        while walk.More():
            if walk.Current().IsSame(support):
                return i
            walk.Next()
    return None


def normals_on(body: Body, face: str, places: np.ndarray) -> np.ndarray:
    """Outward normals (n, 3) of a face's surface at the places on it nearest to those given (n, 3)."""
    f = TopoDS.Face(faces_of(body.shape)[body.face_names.index(face)])
    surface, finder = BRepAdaptor_Surface(f), ShapeAnalysis_Surface(BRep_Tool.Surface_s(f))
    sign = -1.0 if f.Orientation() == TopAbs_REVERSED else 1.0
    out = np.empty((len(places), 3))
    for k, p in enumerate(places):
        uv = finder.ValueOfUV(gp_Pnt(*map(float, p)), 1e-9)
        out[k] = sign * _forms(surface, uv.X(), uv.Y())[0]
    return out
