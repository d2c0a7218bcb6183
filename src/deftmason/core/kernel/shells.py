"""Surfaces as bodies without volume: stitched where their rims meet, thickened to solids."""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
from OCP.BRepLProp import BRepLProp_SLProps
from OCP.BRepOffset import BRepOffset_MakeSimpleOffset
from OCP.ShapeFix import ShapeFix_Solid
from OCP.TopAbs import TopAbs_REVERSED, TopAbs_SHELL
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

from ..errors import BadInput
from .body import Body, as_array, carry_names, edge_faces, edges_of, faces_of
from .tessellate import diagonal_of
from .whole import together

__all__ = ["Stitched", "folds", "open_rims", "stitched", "thickened"]


class Stitched:
    """What stitching gave: the ``body``, how many rims stay ``open``, and the widest ``gap`` that was closed, mm."""

    def __init__(self, body: Body, open_rims: int, gap: float):
        self.body, self.open, self.gap = body, open_rims, gap


_GRID = 14  # places each way at which a face is asked whether it folds


def folds(face, thickness: float) -> bool:
    """Whether a face bends tighter than it is to be thickened: places beside it would change their order."""
    s = BRepAdaptor_Surface(face)
    u = np.linspace(s.FirstUParameter(), s.LastUParameter(), _GRID)
    v = np.linspace(s.FirstVParameter(), s.LastVParameter(), _GRID)
    props = BRepLProp_SLProps(s, 1, 1e-9)
    sign = -1.0 if face.Orientation() == TopAbs_REVERSED else 1.0
    p, n = np.zeros((_GRID, _GRID, 3)), np.zeros((_GRID, _GRID, 3))
    for i in range(_GRID):
        for j in range(_GRID):
            props.SetParameters(float(u[i]), float(v[j]))
            p[i, j] = as_array(props.Value())
            if props.IsNormalDefined():
                d = props.Normal()
                n[i, j] = sign * np.array([d.X(), d.Y(), d.Z()])
    q = p + thickness * n
    return any((np.einsum("ijk,ijk->ij", np.diff(q, axis=a), np.diff(p, axis=a)) < 0).any() for a in (0, 1))


def open_rims(body: Body) -> list:
    """Edges of a body that only one face has."""
    return [e for e, ids in edge_faces(body.shape) if len(ids) == 1]


def stitched(bodies: list[Body], gap: float, feature: str) -> Stitched:
    """Surfaces as one, sewn where rims lie within ``gap`` mm; a solid where they close."""
    sewing = BRepBuilderAPI_Sewing(float(gap))
    whole = together(bodies)
    faces = list(zip(faces_of(whole.shape), whole.face_names))
    for f, _ in faces:
        sewing.Add(f)
    sewing.Perform()
    shape = sewing.SewedShape()
    named = [(sewing.ModifiedSubShape(f), name) for f, name in faces]
    rims = sewing.NbFreeEdges()
    walk = TopExp_Explorer(shape, TopAbs_SHELL)
    if rims == 0 and walk.More():
        fix = ShapeFix_Solid(BRepBuilderAPI_MakeSolid(TopoDS.Shell(walk.Current())).Solid())
        fix.Perform()
        shape = fix.Solid()
        context = fix.Context()
        named = [(context.Apply(f), name) for f, name in named]
    closed = max((BRep_Tool.Tolerance_s(TopoDS.Edge(e)) for e in edges_of(shape)), default=0.0)
    return Stitched(carry_names(shape, named, lambda f: [f], feature), rims, float(closed))


def thickened(body: Body, thickness: float, feature: str) -> Body:
    """A surface as a solid ``thickness`` mm thick, to the side its faces look to (the other where less than 0).

    Faces: what was there keeps its name, what lies over it is ``feature/over/NAME``, rims ``feature/rim``. Raises
    `BadInput` where it folds.
    """
    if abs(thickness) < 1e-9:
        raise BadInput("A surface is thickened by more than 0 mm.", field="thickness")
    if any(folds(f, thickness) for f in faces_of(body.shape)):
        raise BadInput(
            f"The surface bends tighter than {abs(thickness):g} mm; thicken it less, or to its other side.",
            field="thickness",
        )
    try:
        op = BRepOffset_MakeSimpleOffset(body.shape, float(thickness))
        op.SetBuildSolidFlag(True)
        op.Perform()
        shape = op.GetResultShape()
        done = op.IsDone() and bool(faces_of(shape))
    except Exception:
        done = False
    if not done:
        raise BadInput(
            f"The surface bends tighter than {abs(thickness):g} mm; thicken it less, or to its other side.",
            field="thickness",
        )
    if Body(shape, ("",) * len(faces_of(shape))).volume < 0:
        shape = shape.Reversed()  # thickened to the side its faces look to, a shell comes out inside out
    own = list(zip(faces_of(body.shape), body.face_names))
    out = carry_names(shape, own, lambda f: [f], f"{feature}/rim")
    over = carry_names(shape, [(f, f"{feature}/over/{n}") for f, n in own], lambda f: [op.Generated(f)], "")
    names = [
        o if n.startswith(f"{feature}/rim") and o.startswith(f"{feature}/over") else n
        for n, o in zip(out.face_names, over.face_names)
    ]
    result = Body(shape, tuple(names))
    least = 0.2 * abs(thickness) * body.area
    if not result.is_valid or not np.isfinite(result.volume) or result.volume < least:
        raise BadInput(
            f"The surface cannot be thickened by {abs(thickness):g} mm without folding; take less.", field="thickness"
        )
    if diagonal_of(result) > diagonal_of(body) + 10 * abs(thickness):
        raise BadInput("The thickened surface runs away at its rim; thicken it less.", field="thickness")
    return result
