"""Triangles of a body, with the face and edge each belongs to: for the screen, and as candidates for distances."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.TopAbs import TopAbs_REVERSED
from OCP.TopLoc import TopLoc_Location

from .body import Body, EdgeName, as_array, faces_of
from .surfaces import face_surfaces

__all__ = ["FINE", "Facets", "tessellate", "edge_places", "edge_polylines", "bounds_of", "diagonal_of"]


#: Of a body's diagonal: how far facets and lines that are looked at may depart from it.
FINE = 5e-4


@dataclass(frozen=True)
class Facets:
    """``vertices`` (n, 3) mm, ``faces`` (m, 3) int32 outward, ``face_ids`` (m,) int32 into the body's face names.

    ``uv`` (n, 2) are the vertices' parameters on the surface of the face in ``vertex_faces`` (n,).
    """

    vertices: np.ndarray
    faces: np.ndarray
    face_ids: np.ndarray
    uv: np.ndarray
    vertex_faces: np.ndarray


def tessellate(body: Body, deflection: float, angle_deg: float = 20.0) -> Facets:
    """Triangles within ``deflection`` mm of the true surface."""
    BRepTools.Clean_s(body.shape)
    BRepMesh_IncrementalMesh(body.shape, float(deflection), False, float(np.radians(angle_deg)), True)
    vs, fs, ids, uvs, owners, base = [], [], [], [], [], 0
    for i, face in enumerate(faces_of(body.shape)):
        where = TopLoc_Location()
        t = BRep_Tool.Triangulation_s(face, where)
        if t is None:
            continue
        move = where.Transformation()
        n, m = t.NbNodes(), t.NbTriangles()
        p = np.empty((n, 3))
        uv = np.empty((n, 2))
        identity = where.IsIdentity()
        for k in range(1, n + 1):
            q = t.Node(k) if identity else t.Node(k).Transformed(move)
            p[k - 1] = q.X(), q.Y(), q.Z()
            w = t.UVNode(k)
            uv[k - 1] = w.X(), w.Y()
        f = np.array([t.Triangle(k).Get() for k in range(1, m + 1)], np.int32).reshape(-1, 3) - 1
        if face.Orientation() == TopAbs_REVERSED:
            f = f[:, ::-1]
        vs.append(p)
        fs.append(f + base)
        ids.append(np.full(m, i, np.int32))
        uvs.append(uv)
        owners.append(np.full(n, i, np.int32))
        base += n
    return Facets(
        np.concatenate(vs), np.concatenate(fs), np.concatenate(ids), np.concatenate(uvs), np.concatenate(owners)
    )


def bounds_of(body: Body, *, tight: bool = False) -> np.ndarray:
    """(2, 3): lowest and highest corner of a body's bounds in mm; ``tight`` ones touch it, others may lie a little
    outside.
    """
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    box.SetGap(0.0)
    if tight:
        BRepBndLib.AddOptimal_s(body.shape, box, False, False)
    else:
        BRepBndLib.Add_s(body.shape, box, False)
    return np.array([as_array(box.CornerMin()), as_array(box.CornerMax())])


def diagonal_of(body: Body) -> float:
    """Diagonal of a body's bounds in mm."""
    low, high = bounds_of(body)
    return float(np.linalg.norm(high - low))


def edge_polylines(body: Body, deflection: float) -> list[tuple[EdgeName, np.ndarray]]:
    """Each named edge as points (k, 3) within ``deflection`` mm of it."""
    out = []
    for name, edge in body.edges():
        curve = BRepAdaptor_Curve(edge)
        steps = GCPnts_TangentialDeflection(curve, 0.2, float(deflection), 2)
        out.append((name, np.array([as_array(steps.Value(i)) for i in range(1, steps.NbPoints() + 1)])))
    return out


def edge_places(body: Body, apart: float, sharp_deg: float = 0.0) -> np.ndarray:
    """Places (n, 3) along the named edges of a body, at most ``apart`` mm from one to the next; only along edges whose
    faces meet at ``sharp_deg`` or more at their middle, where it is known.
    """
    surfaces = {s.name: s for s in face_surfaces(body)}
    faces = body.edge_faces()
    out = [np.empty((0, 3))]
    for name, line in edge_polylines(body, 0.2 * apart):
        pair = [surfaces[n] for n in faces[name]]
        if sharp_deg > 0 and all(s.element is not None for s in pair):
            middle = line[[len(line) // 2]]
            a, b = (s.element.normals(middle)[0] * s.outward for s in pair if s.element is not None)
            if a @ b > np.cos(np.radians(sharp_deg)):
                continue
        run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        at = np.linspace(0.0, run[-1], int(np.ceil(run[-1] / apart)) + 1)
        out.append(np.column_stack([np.interp(at, run, line[:, k]) for k in range(3)]))
    return np.vstack(out)
