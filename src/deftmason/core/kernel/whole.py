"""Whole bodies: combined with many tools, repeated, mirrored, moved, cut off by a plane, hollowed."""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Defeaturing
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_Transform
from OCP.BRepOffset import BRepOffset_Skin
from OCP.BRepOffsetAPI import BRepOffsetAPI_DraftAngle, BRepOffsetAPI_MakeThickSolid
from OCP.BRepPrimAPI import BRepPrimAPI_MakeHalfSpace, BRepPrimAPI_MakePrism
from OCP.collections import Array2_gp_Pnt, List_TopoDS_Shape
from OCP.Geom import Geom_BezierSurface
from OCP.GeomAbs import GeomAbs_Intersection
from OCP.gp import gp_Ax1, gp_Ax2, gp_Pln, gp_Trsf, gp_Vec
from OCP.TopoDS import TopoDS_Compound

from ..errors import BadInput
from .body import Body, carry_names, faces_of, listed
from .features import combine, history, kernel_direction, kernel_point

__all__ = [
    "bounded",
    "combine_all",
    "cut_off",
    "healed",
    "hollowed",
    "leaning",
    "mirrored",
    "moved",
    "parted",
    "repeated",
    "together",
    "turned",
]


def combine_all(body: Body, tools: list[Body], how: str, feature: str) -> Body:
    """The body joined with each tool in turn, cut by each, or what it shares with all of them together."""
    if how == "intersect" and len(tools) > 1:
        tools = [together(tools)]
    for tool in tools:
        body = combine(body, tool, how, feature)
    return body


def together(bodies: list[Body]) -> Body:
    """Several bodies as one that has them all, apart; names that come twice are told apart by a number."""
    builder, whole = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(whole)
    names: list[str] = []
    for b in bodies:
        builder.Add(whole, b.shape)
        taken = set(names)
        for n in b.face_names:
            k, name = 1, n
            while name in taken:
                k += 1
                name = f"{n}*{k}"
            names.append(name)
    return Body(whole, tuple(names))


def _laid(body: Body, t: gp_Trsf) -> Body:
    op = BRepBuilderAPI_Transform(body.shape, t, True)
    sources = list(zip(faces_of(body.shape), body.face_names))
    return carry_names(op.Shape(), sources, lambda f: [op.ModifiedShape(f)], "moved")


def moved(body: Body, step) -> Body:
    """The body moved by ``step`` (3,) mm."""
    t = gp_Trsf()
    t.SetTranslation(gp_Vec(*map(float, step)))
    return _laid(body, t)


def turned(body: Body, point, direction, angle_deg: float) -> Body:
    """The body turned about an axis through ``point`` (3,) along ``direction`` (3,)."""
    t = gp_Trsf()
    t.SetRotation(gp_Ax1(kernel_point(point), kernel_direction(direction)), float(np.radians(angle_deg)))
    return _laid(body, t)


def mirrored(body: Body, point, normal) -> Body:
    """The body's image in a plane through ``point`` (3,)."""
    t = gp_Trsf()
    t.SetMirror(gp_Ax2(kernel_point(point), kernel_direction(normal)))
    return _laid(body, t)


def repeated(body: Body, copies: list[Body], feature: str) -> Body:
    """A body and its copies as one; a copy's faces are ``feature/K/NAME``, K from 2."""
    named = [Body(c.shape, tuple(f"{feature}/{k}/{n}" for n in c.face_names)) for k, c in enumerate(copies, start=2)]
    return together([body, *named])


def cut_off(body: Body, point, normal, feature: str) -> Body:
    """What of a body lies behind a plane through ``point``, seen against its ``normal``. New face: ``feature/cut``."""
    p, n = np.asarray(point, float), np.asarray(normal, float)
    n = n / np.linalg.norm(n)
    face = BRepBuilderAPI_MakeFace(gp_Pln(kernel_point(p), kernel_direction(n))).Face()
    half = BRepPrimAPI_MakeHalfSpace(face, kernel_point(p + n)).Solid()
    op = BRepAlgoAPI_Cut(body.shape, half)
    if not op.IsDone() or op.Shape().IsNull():
        raise BadInput("The body cannot be cut by this plane; move it slightly.", field="plane")
    if not faces_of(op.Shape()):
        raise BadInput("Nothing of the body lies on the side that is kept; keep the other one.", field="keep")
    sources = [*zip(faces_of(body.shape), body.face_names), *((f, f"{feature}/cut") for f in faces_of(half))]
    out = carry_names(op.Shape(), sources, history(op), feature)
    size = (out.volume, body.volume) if body.solid_count else (out.area, body.area)
    if abs(size[0] - size[1]) < 1e-9 * max(size[1], 1.0):
        raise BadInput("The plane does not meet the body; move it or keep the other side.", field="plane")
    return out


def parted(body: Body, point, normal, feature: str) -> Body:
    """The body cut in two by a plane, both sides kept apart: what lies before the plane is told by ``feature/``."""
    behind = cut_off(body, point, normal, feature)
    before = cut_off(body, point, -np.asarray(normal, float), feature)
    return together([behind, Body(before.shape, tuple(f"{feature}/{n}" for n in before.face_names))])


def _faces_called(body: Body, given: list[str], field: str) -> list:
    known = dict(zip(body.face_names, faces_of(body.shape)))
    gone = [n for n in given if not body.faces_named(n)]
    if gone:
        raise BadInput(f"The body has no face '{gone[0]}' any more; pick the faces again.", field=field)
    if not given:
        raise BadInput("Pick at least one face of the body.", field=field)
    return [known[m] for m in dict.fromkeys(m for n in given for m in body.faces_named(n))]


def healed(body: Body, faces: list[str], feature: str) -> Body:
    """The body without some faces, those around them grown until they close the gap.

    Raises `BadInput` where they cannot.
    """
    gone = _faces_called(body, faces, "faces")
    op = BRepAlgoAPI_Defeaturing()
    op.SetShape(body.shape)
    for f in gone:
        op.AddFaceToRemove(f)
    op.SetToFillHistory(True)
    op.Build()
    shape = op.Shape() if op.IsDone() else body.shape
    out = carry_names(shape, list(zip(faces_of(body.shape), body.face_names)), history(op), feature)
    if not op.IsDone() or not out.is_valid or len(out.face_names) >= len(body.face_names):
        raise BadInput(
            "The faces around these cannot be grown to close the gap; pick all faces of one feature, with its "
            "roundings.",
            field="faces",
        )
    return out


def leaning(body: Body, faces: list[str], point, pull, angle_deg: float, feature: str) -> Body:
    """The body with some faces leaned by an angle, so that it narrows along ``pull`` (3,) and keeps its size in the
    plane through ``point`` (3,) across it. Raises `BadInput` where a face cannot lean.
    """
    if not 0 < abs(angle_deg) <= 45:
        raise BadInput("Faces lean by more than 0° and at most 45°.", field="angle")
    op = BRepOffsetAPI_DraftAngle(body.shape)
    neutral = gp_Pln(kernel_point(point), kernel_direction(pull))
    names = dict(zip(map(hash, faces_of(body.shape)), body.face_names))
    for f in _faces_called(body, faces, "faces"):
        op.Add(f, kernel_direction(pull), float(np.radians(angle_deg)), neutral, True)
        if not op.AddDone():
            raise BadInput(
                f"'{names[hash(f)]}' cannot lean; pick upright faces without roundings at them.", field="faces"
            )
    op.Build()
    if not op.IsDone():
        raise BadInput(f"The faces cannot lean by {angle_deg:g}°; try a smaller angle.", field="angle")
    sources = list(zip(faces_of(body.shape), body.face_names))
    out = carry_names(op.Shape(), sources, lambda f: [op.ModifiedShape(f)], feature)
    if not out.is_valid:
        raise BadInput(f"The faces cannot lean by {angle_deg:g}°; try a smaller angle.", field="angle")
    return out


def bounded(body: Body, poles: np.ndarray, beyond, face: str, feature: str) -> Body:
    """What of a body does not lie beyond a Bézier patch: ``poles`` (n, m, 3) mm, ``beyond`` (3,) from the patch to past
    the body. The new face is called ``face``. Raises `BadInput` where the patch does not part the body.
    """
    grid = Array2_gp_Pnt(1, poles.shape[0], 1, poles.shape[1])
    for i in range(poles.shape[0]):
        for k in range(poles.shape[1]):
            grid.SetValue(i + 1, k + 1, kernel_point(poles[i, k]))
    sheet = BRepBuilderAPI_MakeFace(Geom_BezierSurface(grid), 1e-7).Face()
    prism = BRepPrimAPI_MakePrism(sheet, gp_Vec(*map(float, beyond)), True)
    op = BRepAlgoAPI_Cut(body.shape, prism.Shape())
    if not op.IsDone() or op.Shape().IsNull() or not faces_of(op.Shape()):
        raise BadInput("The body cannot be ended on this surface; pick another face.", field="to")
    tool = [(f, face if f.IsSame(prism.FirstShape()) else f"{feature}/face") for f in faces_of(prism.Shape())]
    out = carry_names(op.Shape(), [*zip(faces_of(body.shape), body.face_names), *tool], history(op), feature)
    if not out.is_valid or not 0 < out.volume < body.volume:
        raise BadInput("The body cannot be ended on this surface; pick another face.", field="to")
    return out


def hollowed(body: Body, thickness: float, open_faces: list[str], feature: str) -> Body:
    """The body with walls of ``thickness`` mm inside its faces, open where ``open_faces`` were.

    Faces: what stays keeps its name, walls within are ``feature/in/NAME``. Raises `BadInput` where walls meet.
    """
    if not thickness > 0:
        raise BadInput("Walls are thicker than 0 mm.", field="thickness")
    opened = List_TopoDS_Shape()
    for f in _faces_called(body, open_faces, "open_faces"):
        opened.Append(f)
    op = BRepOffsetAPI_MakeThickSolid()
    try:
        op.MakeThickSolidByJoin(
            body.shape, opened, -float(thickness), 1e-4, BRepOffset_Skin, False, False, GeomAbs_Intersection
        )
        shape = op.Shape()
    except Exception:
        raise BadInput(
            f"Walls of {thickness:g} mm do not fit inside this body; take thinner ones.", field="thickness"
        ) from None

    sources = list(zip(faces_of(body.shape), body.face_names))
    out = carry_names(shape, sources, lambda f: [f, *listed(op.Modified(f))], feature)
    names = list(out.face_names)
    within = carry_names(
        shape, [(f, f"{feature}/in/{n}") for f, n in sources], lambda f: listed(op.Generated(f)), feature
    )
    for i, n in enumerate(names):
        if n.startswith(f"{feature}/face"):
            names[i] = within.face_names[i]
    out = Body(shape, tuple(names))
    if not out.is_valid or not 0 < out.volume < body.volume:
        raise BadInput(f"Walls of {thickness:g} mm do not fit inside this body; take thinner ones.", field="thickness")
    return out
