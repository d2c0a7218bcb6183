"""Features on bodies: push a profile through, combine, round edges; each hands its names on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp
from OCP.BRepOffsetAPI import BRepOffsetAPI_DraftAngle, BRepOffsetAPI_MakeOffset
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.collections import Array1_double, Array1_gp_Pnt, Array1_int, List_TopoDS_Shape
from OCP.GC import GC_MakeArcOfCircle
from OCP.Geom import Geom_BSplineCurve
from OCP.GeomAbs import GeomAbs_Intersection
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Elips, gp_Pln, gp_Pnt, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.ShapeFix import ShapeFix_Face
from OCP.StdFail import StdFail_NotDone
from OCP.TopAbs import TopAbs_FACE
from OCP.TopoDS import TopoDS

from ..errors import BadInput
from .body import Body, EdgeName, carry_names, edges_of, faces_of, listed, root_of

__all__ = [
    "Curve2D",
    "PaperPlane",
    "bevel_edges",
    "combine",
    "extrude",
    "fillet_edges",
    "history",
    "kernel_direction",
    "kernel_point",
    "paper_edge",
    "profile_face",
    "walled",
]


@dataclass(frozen=True)
class Curve2D:
    """One piece of a profile: a line (``start``, ``end``), an arc (and ``center``, ``radius``, ``ccw``), a circle, an
    ellipse (``center``, ``major`` end, ``minor_radius``) or a spline (``degree``, ``knots``, ``poles``).
    """

    id: str
    kind: str
    start: tuple[float, float] | None = None
    end: tuple[float, float] | None = None
    center: tuple[float, float] | None = None
    radius: float | None = None
    ccw: bool = True
    major: tuple[float, float] | None = None
    minor_radius: float | None = None
    degree: int = 3
    knots: tuple[float, ...] = ()
    poles: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class PaperPlane:
    """Where a profile lies: origin, normal and u direction (3,), v = normal × u, in mm."""

    origin: np.ndarray
    normal: np.ndarray
    u: np.ndarray

    def at(self, uv, height: float = 0.0) -> np.ndarray:
        v = np.cross(self.normal, self.u)
        return self.origin + uv[0] * self.u + uv[1] * v + height * self.normal


def kernel_point(p) -> gp_Pnt:
    return gp_Pnt(float(p[0]), float(p[1]), float(p[2]))


def kernel_direction(d) -> gp_Dir:
    return gp_Dir(float(d[0]), float(d[1]), float(d[2]))


def paper_edge(c: Curve2D, plane: PaperPlane, height: float):
    if c.kind == "line":
        return BRepBuilderAPI_MakeEdge(
            kernel_point(plane.at(c.start, height)), kernel_point(plane.at(c.end, height))
        ).Edge()
    if c.kind == "spline":
        return BRepBuilderAPI_MakeEdge(_spline(c, plane, height)).Edge()
    if c.kind == "ellipse":
        return BRepBuilderAPI_MakeEdge(_ellipse(c, plane, height)).Edge()
    axis = gp_Ax2(kernel_point(plane.at(c.center, height)), kernel_direction(plane.normal), kernel_direction(plane.u))
    circle = gp_Circ(axis, float(c.radius or 0.0))
    if c.kind == "circle":
        return BRepBuilderAPI_MakeEdge(circle).Edge()
    assert c.start is not None and c.end is not None and c.center is not None  # an arc has all three
    a = np.arctan2(c.start[1] - c.center[1], c.start[0] - c.center[0])
    b = np.arctan2(c.end[1] - c.center[1], c.end[0] - c.center[0])
    if c.ccw:
        arc = GC_MakeArcOfCircle(circle, float(a), float(b if b > a else b + 2 * np.pi), True)
    else:
        arc = GC_MakeArcOfCircle(circle, float(b), float(a if a > b else a + 2 * np.pi), False)
    return BRepBuilderAPI_MakeEdge(arc.Value()).Edge()


def _spline(c: Curve2D, plane: PaperPlane, height: float) -> Geom_BSplineCurve:
    knots, counts = np.unique(np.round(c.knots, 12), return_counts=True)
    poles, at, many = Array1_gp_Pnt(1, len(c.poles)), Array1_double(1, len(knots)), len(knots)
    for k, p in enumerate(c.poles):
        poles.SetValue(k + 1, kernel_point(plane.at(p, height)))
    times = Array1_int(1, many)
    for k in range(many):
        at.SetValue(k + 1, float(knots[k]))
        times.SetValue(k + 1, int(counts[k]))
    return Geom_BSplineCurve(poles, at, times, c.degree)


def _ellipse(c: Curve2D, plane: PaperPlane, height: float) -> gp_Elips:
    assert c.center is not None and c.major is not None and c.minor_radius is not None
    a = np.subtract(c.major, c.center)
    long, short = float(np.hypot(*a)), float(c.minor_radius)
    if short > long:  # the kernel wants the longer axis first
        a, long, short = np.array([-a[1], a[0]]), short, long
    along = a[0] * plane.u + a[1] * np.cross(plane.normal, plane.u)
    return gp_Elips(
        gp_Ax2(kernel_point(plane.at(c.center, height)), kernel_direction(plane.normal), kernel_direction(along)),
        long,
        short,
    )


def _wire(loop: list[Curve2D], plane: PaperPlane, height: float):
    maker = BRepBuilderAPI_MakeWire()
    edges = []
    for c in loop:
        maker.Add(paper_edge(c, plane, height))
        if not maker.IsDone():
            raise BadInput(f"The profile does not close at '{c.id}'; join its ends in the sketch.", field="profile")
        edges.append((maker.Edge(), c.id))
    if not maker.Wire().Closed():
        raise BadInput("The profile is open; a body needs closed loops. Join its ends in the sketch.", field="profile")
    return maker.Wire(), edges


def profile_face(outer: list[Curve2D], inner: list[list[Curve2D]], plane: PaperPlane, height: float):
    """A profile as a face at a height over its plane, and its edges each with the id of what it was drawn as."""
    wire, sources = _wire(outer, plane, height)
    maker = BRepBuilderAPI_MakeFace(wire, True)
    for loop in inner:
        hole, edges = _wire(loop, plane, height)
        maker.Add(hole)
        sources += edges
    fixer = ShapeFix_Face(maker.Face())
    fixer.FixOrientation()
    base = fixer.Face()
    return base, _matching(base, sources)


def walled(outer: list[Curve2D], plane: PaperPlane, height: float, thick: float):
    """A profile as a wall along its outline, ``thick`` mm inward (outward where less than 0), as `profile_face` gives
    it; what is drawn within is named ``in/ID`` after what it runs along. Raises `BadInput` where it does not fit.
    """
    wire, sources = _wire(outer, plane, height)
    filled, ids = profile_face(outer, [], plane, height)
    for sign in (-1.0, 1.0):  # which way is inward depends on how the outline runs
        op = BRepOffsetAPI_MakeOffset(filled, GeomAbs_Intersection)
        try:
            op.Perform(sign * abs(float(thick)))
            other = TopoDS.Wire(op.Shape())
        except Exception:
            continue
        within = BRepBuilderAPI_MakeFace(other, True).Face()
        if (_area(within) < _area(filled)) == (thick > 0):
            break
    else:
        raise BadInput(f"A wall of {abs(thick):g} mm does not fit this outline; take a thinner one.", field="wall")
    beside = []
    for edge, name in ids:
        beside += [(made, f"in/{name}") for made in listed(op.Generated(edge))]
    large, small = (wire, other) if thick > 0 else (other, wire)
    maker = BRepBuilderAPI_MakeFace(large, True)
    maker.Add(TopoDS.Wire(small.Reversed()))
    fixer = ShapeFix_Face(maker.Face())
    fixer.FixOrientation()
    base = fixer.Face()
    own = edges_of(base)
    named = [(next((e for e in own if e.IsSame(edge)), None), i) for edge, i in [*sources, *beside]]
    return base, [(edge, i) for edge, i in named if edge is not None]


def _area(face) -> float:
    props = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, props)
    return abs(float(props.Mass()))


def extrude(
    outer: list[Curve2D],
    inner: list[list[Curve2D]],
    plane: PaperPlane,
    start: float,
    end: float,
    feature: str,
    *,
    draft_deg: float = 0.0,
    wall: float = 0.0,
) -> Body:
    """Push a profile from ``start`` to ``end`` (heights in mm along the plane's normal).

    With draft, walls lean by ``draft_deg`` so that the body narrows upward (positive) and the profile keeps its size
    in its own plane (height 0). With ``wall`` only a wall of so many mm along the outline is pushed, see `walled`.
    Faces: ``feature/side/ID``, ``feature/bottom``, ``feature/top``.
    """
    low, high = min(start, end), max(start, end)
    if high - low < 1e-6:
        raise BadInput("The two ends of the extrusion are at the same height; give faces that lie apart.", field="to")
    base, matched = walled(outer, plane, low, wall) if wall else profile_face(outer, inner, plane, low)
    direction = plane.normal * (high - low)
    prism = BRepPrimAPI_MakePrism(base, gp_Vec(*map(float, direction)), True)
    named = [(edge, f"{feature}/side/{i}") for edge, i in matched]
    shape = prism.Shape()

    def images(edge):
        return listed(prism.Generated(edge))

    body = carry_names(shape, named, images, feature)
    names = list(body.face_names)
    for i, f in enumerate(faces_of(shape)):
        if f.IsSame(prism.FirstShape()):
            names[i] = f"{feature}/bottom"
        elif f.IsSame(prism.LastShape()):
            names[i] = f"{feature}/top"
    body = Body(shape, tuple(names))
    return _drafted(body, plane, feature, draft_deg) if abs(draft_deg) > 1e-9 else body


def _matching(base, sources):
    """The face may rebuild edges: find each named one among the face's own."""
    own = edges_of(base)
    out = []
    for edge, i in sources:
        same = next((e for e in own if e.IsSame(edge)), None)
        if same is not None:
            out.append((same, i))
    if len(out) != len(sources):
        raise BadInput("The profile's loops touch or cross each other; pull them apart in the sketch.", field="profile")
    return out


def _drafted(body: Body, plane: PaperPlane, feature: str, draft_deg: float) -> Body:
    if abs(draft_deg) > 45:
        raise BadInput(f"A draft of {draft_deg:.1f}° is more than walls can lean (45°).", field="draft")
    op = BRepOffsetAPI_DraftAngle(body.shape)
    neutral = gp_Pln(kernel_point(plane.origin), kernel_direction(plane.normal))
    for name, face in zip(body.face_names, faces_of(body.shape)):
        if "/side/" in name:
            op.Add(face, kernel_direction(plane.normal), float(np.radians(draft_deg)), neutral, True)
            if not op.AddDone():
                raise BadInput(
                    f"The wall '{name}' cannot lean by {draft_deg:.2f}°; try a smaller draft.", field="draft"
                )
    op.Build()
    if not op.IsDone():
        raise BadInput(f"The walls cannot lean by {draft_deg:.2f}°; try a smaller draft.", field="draft")
    result = op.Shape()
    return carry_names(
        result, list(zip(faces_of(body.shape), body.face_names)), lambda f: [op.ModifiedShape(f)], feature
    )


def history(op):
    """What an operation made of each face: itself where untouched."""

    def images(source):
        out = listed(op.Modified(source))
        if not out and not op.IsDeleted(source):
            out = [source]
        return out

    return images


#: Of a body's size: places this near count as one. Where faces nearly coincide a wider look may still combine them.
_FUZZY = (0.0, 1e-6, 1e-5)


def _could_be(out: Body, body: Body, tool: Body, how: str) -> bool:
    """Whether a result's volume is one that two solids can give; a kernel that lost a part of them shows here."""
    if not (body.solid_count and tool.solid_count):
        return True
    a, b, v = body.volume, tool.volume, out.volume
    slack = 1e-6 * (a + b)
    low, high = {"join": (max(a, b), a + b), "cut": (a - b, a), "intersect": (0.0, min(a, b))}[how]
    return low - slack <= v <= high + slack


def combine(body: Body | None, tool: Body, how: str, feature: str) -> Body:
    """Join the tool to the body, cut it from it, or keep what both share (``how``: 'join', 'cut', 'intersect')."""
    if body is None:
        if how != "join":
            raise BadInput("There is no body yet to work on; lay a body first.", field="body")
        return tool
    maker = {"join": BRepAlgoAPI_Fuse, "cut": BRepAlgoAPI_Cut, "intersect": BRepAlgoAPI_Common}[how]
    from .tessellate import diagonal_of

    sources = list(zip(faces_of(body.shape), body.face_names)) + list(zip(faces_of(tool.shape), tool.face_names))
    for fuzzy in _FUZZY:
        op = maker()
        arguments, tools = List_TopoDS_Shape(), List_TopoDS_Shape()
        arguments.Append(body.shape)
        tools.Append(tool.shape)
        op.SetArguments(arguments)
        op.SetTools(tools)
        if fuzzy:
            op.SetFuzzyValue(fuzzy * diagonal_of(body))
        op.Build()
        if not op.IsDone() or op.Shape().IsNull():
            continue
        try:
            op.SimplifyResult(True, True, 1e-6)
        except StdFail_NotDone:  # it says so only now
            continue
        result = op.Shape()
        if not faces_of(result):
            raise BadInput("Nothing would be left of the body; check heights and side of the cut.", field="body")
        out = carry_names(result, sources, history(op), feature)
        if _could_be(out, body, tool, how):
            break
    else:
        raise BadInput(
            "The two bodies meet in faces that nearly coincide and could not be combined; move one of them slightly.",
            field="body",
        )
    if abs(out.volume - body.volume) < 1e-9 * max(body.volume, 1.0):
        raise BadInput(
            f"The {how} changes nothing: the two do not meet. Check the heights and the loops.", field="body"
        )
    return out


def fillet_edges(body: Body, edges: list[tuple[EdgeName, float]], feature: str) -> Body:
    """Round named edges, each with its radius in mm. New faces: ``feature/FACE^FACE``."""
    return _blended(body, BRepFilletAPI_MakeFillet(body.shape), edges, feature, "fillet", "radius")


def bevel_edges(
    body: Body, edges: list[tuple[EdgeName, float]], feature: str, other: float | None = None, on: str = ""
) -> Body:
    """Cut named edges off, each by its leg in mm. New faces: ``feature/FACE^FACE``.

    With ``other`` the leg lies on the face ``on`` (or what it was split into), which all the edges have, and the
    ``other`` in mm on the faces across.
    """
    op = BRepFilletAPI_MakeChamfer(body.shape)
    if other is None:
        return _blended(body, op, edges, feature, "chamfer", "leg")
    if not other > 0:
        raise BadInput("The other leg of a chamfer is above 0 mm; choose another.", field="other")
    shapes = dict(zip(body.face_names, faces_of(body.shape)))
    sides = body.edge_faces()
    for name, _ in edges:
        if on not in map(root_of, sides.get(name, ())):
            raise BadInput(
                "Two different legs need one face that all the edges have; cut them off in turns.", field="edges"
            )

    def add(leg: float, edge, name: EdgeName) -> None:
        mine = next(f for f in sides[name] if root_of(f) == on)
        op.Add(leg, other, edge, TopoDS.Face(shapes[mine]))

    return _blended(body, op, edges, feature, "chamfer", "leg", add)


def _blended(
    body: Body,
    op,
    edges: list[tuple[EdgeName, float]],
    feature: str,
    what: str,
    field: str,
    add: Callable | None = None,
) -> Body:
    named = dict(body.edges())
    made = []
    for name, size in edges:
        edge = named.get((name[0], name[1], name[2]))
        if edge is None:
            raise BadInput(f"The body has no edge between '{name[0]}' and '{name[1]}' any more.", field="edges")
        if not size > 0:
            raise BadInput(f"The {field} of a {what} is above 0 mm; choose another.", field=field)
        if op.Contour(edge) == 0 and add is not None:
            add(float(size), edge, name)
        elif op.Contour(edge) == 0:
            op.Add(float(size), edge)
        made.append((edge, _blend_name(feature, name)))
    try:
        op.Build()
        shape = op.Shape()
    except Exception:
        sizes = ", ".join(sorted({f"{r:g}" for _, r in edges}))
        raise BadInput(
            f"A {what} of {sizes} mm does not fit these edges; take a smaller {field} or fewer edges.", field=field
        ) from None
    rest = [(e, _blend_name(feature, n)) for n, e in named.items()]
    sources = list(zip(faces_of(body.shape), body.face_names))

    def images(source):
        if source.ShapeType() == TopAbs_FACE:
            return history(op)(source)
        return listed(op.Generated(source))

    return carry_names(shape, sources + made + rest, images, feature)


def _blend_name(feature: str, edge: EdgeName) -> str:
    return f"{feature}/{edge[0]}^{edge[1]}" + (f"^{edge[2]}" if edge[2] else "")
