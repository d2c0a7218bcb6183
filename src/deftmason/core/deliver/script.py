"""The history as a parametric script: numbers at the top, sketches that solve themselves, features one a paragraph.

The script stands alone: it needs build123d (and the numpy it brings), nothing of this program. Changing a number at
the top and running it again moves the sketches by the same relations and sizes the job holds.
"""

from __future__ import annotations

import base64
import re
import zlib
from collections.abc import Callable
from dataclasses import dataclass

from ..recipe.formulas import reworded, words_of
from ..recipe.ledger import formula_shown, ledger, slug
from ..recipe.records import one_line
from ..recipe.replay import Ran

__all__ = ["Block", "blocks_of", "model_script", "numbers_of", "preamble"]

_HELPER = '''
def solve(points, radii, entities, relations, sizes, still=()):
    """Move the sketch as little as possible so that every relation and size holds."""
    count = 2 * len(points)
    x0 = np.concatenate([np.array(points, float).ravel(), np.array(radii, float)])
    may = np.setdiff1d(np.arange(len(x0)), list(still))
    at = {e["id"]: e for e in entities}
    cross = lambda a, b: a[0] * b[1] - a[1] * b[0]

    def which(name):
        """The point a name stands for: an end, a centre, a pole; what is round by its centre."""
        who, _, part = name.partition(".")
        e = at[who]
        if part == "start":
            return e["points"][0]
        if part == "end":
            return e["points"][1 if e["kind"] in ("line", "arc") else -1]
        if part.startswith("p"):
            return e["points"][int(part[1:])]
        return e["points"][0] if e["kind"] == "ellipse" else e["points"][-1]

    def rows(x):
        p = lambda i: x[2 * i : 2 * i + 2]
        q = lambda name: p(which(name))
        r = lambda e: x[count + e["radius"]]
        centre = lambda e: q(e["id"])
        ends = lambda e: (p(e["points"][0]), p(e["points"][1]))
        along = lambda e: (ends(e)[1] - ends(e)[0]) / np.linalg.norm(ends(e)[1] - ends(e)[0])
        off = lambda s, e: cross(along(e), s - ends(e)[0])
        length = lambda e: np.linalg.norm(ends(e)[1] - ends(e)[0])

        def tip(e, i):
            """A direction of a curve at its end, and whether it is square to it."""
            if e["kind"] == "line":
                return along(e), False
            if e["kind"] == "spline":
                a, b = e["points"][:2] if i == e["points"][0] else e["points"][-2:]
                return (p(b) - p(a)) / np.linalg.norm(p(b) - p(a)), False
            return (p(i) - centre(e)) / np.linalg.norm(p(i) - centre(e)), True

        def away(s, e):
            """Signed distance of a place from a curve."""
            if e["kind"] == "line":
                return off(s, e)
            if e["kind"] in ("arc", "circle"):
                return np.linalg.norm(s - centre(e)) - r(e)
            size = r(e) if e["kind"] == "ellipse" else None
            f, t = curve_of({**e, "at": [p(i) for i in e["points"]], "radius": size})
            k = np.argmin(np.linalg.norm(f(t) - s, axis=1))
            a, b = f(np.array([t[max(k - 1, 0)], t[min(k + 1, len(t) - 1)]]))
            return cross((b - a) / np.linalg.norm(b - a), s - f(t[k : k + 1])[0])

        out = []
        for e in entities:
            if e["kind"] == "arc":
                out += [np.linalg.norm(s - centre(e)) - r(e) for s in ends(e)]
        for kind, of, by in relations:
            a, b = at[of[0].partition(".")[0]], at[of[-1].partition(".")[0]]
            if kind in ("horizontal", "vertical"):
                s, t = ends(a) if len(of) == 1 else (q(of[0]), q(of[1]))
                out.append((t - s)[1 if kind == "horizontal" else 0])
            elif kind == "parallel":
                out.append(10 * cross(along(a), along(b)))
            elif kind == "perpendicular":
                out.append(10 * (along(a) @ along(b)))
            elif kind == "collinear":
                out += [off(s, a) for s in ends(b)]
            elif kind in ("concentric", "coincident"):
                out += list(q(of[1]) - q(of[0]))
            elif kind == "equal":
                size = lambda e: length(e) if e["kind"] == "line" else r(e)
                out.append(size(b) - size(a))
            elif kind == "on_curve":
                out.append(away(q(of[0]), b))
            elif kind == "midpoint":
                out += list(q(of[0]) - sum(ends(b)) / 2)
            elif kind == "symmetric":
                s, t = q(of[0]), q(of[1])
                out += [(t - s) @ along(b), (off(s, b) + off(t, b)) / 2]
                other = at[of[1].partition(".")[0]]
                if "." not in of[0] and a["radius"] is not None:
                    out.append(r(other) - r(a))
            elif kind == "turned":
                c, s = np.cos(np.radians(by)), np.sin(np.radians(by))
                out += list(q(of[1]) - q(of[2]) - np.array([[c, -s], [s, c]]) @ (q(of[0]) - q(of[2])))
            elif kind == "stepped":
                out += list(q(of[3]) - q(of[2]) - by * (q(of[1]) - q(of[0])))
            elif kind == "offset" and a["kind"] == "line":
                out += [off(s, a) - by for s in ends(b)]
            elif kind == "offset":
                out += [*(q(of[1]) - q(of[0])), r(b) - r(a) - by]
            elif kind == "tangent":
                if a["kind"] != "line" and b["kind"] == "line":
                    a, b = b, a
                tips = lambda e: set() if e["kind"] == "circle" else {e["points"][0], which(e["id"] + ".end")}
                shared = tips(a) & tips(b)
                if shared:
                    (u, square), (v, also) = tip(a, min(shared)), tip(b, min(shared))
                    out.append((u @ v if square != also else cross(u, v)) * 10)
                elif a["kind"] == "line":
                    out.append(abs(off(centre(b), a)) - r(b))
                else:
                    d = np.linalg.norm(centre(b) - centre(a))
                    out.append(min(d - r(a) - r(b), d - abs(r(a) - r(b)), key=abs))
        for kind, of, value in sizes:
            a, b = at[of[0].partition(".")[0]], at[of[-1].partition(".")[0]]
            if kind in ("radius", "diameter", "minor_radius"):
                out.append(r(a) * (2 if kind == "diameter" else 1) - value)
            elif kind in ("length", "major_radius"):
                out.append(length(a) - value)
            elif kind == "width":
                out.append(abs(sum(off(s, a) for s in ends(b)) / 2) - value)
            elif kind == "angle":
                shared = set(a["points"][:2]) & set(b["points"][:2])
                s, t = ((1 if not shared or min(shared) == e["points"][0] else -1) for e in (a, b))
                turn = np.arccos(np.clip(s * t * (along(a) @ along(b)), -1, 1))
                out.append(np.degrees(turn if shared or turn < np.pi / 2 else np.pi - turn) - value)
            elif kind == "distance" and "." not in of[1] and b["kind"] == "line":
                out.append(abs(off(q(of[0]), b)) - value)
            elif kind in ("distance", "spacing"):
                out.append(np.linalg.norm(q(of[1]) - q(of[0])) - value)
            elif kind.startswith("spacing"):
                out.append(abs((q(of[1]) - q(of[0]))[int(kind.endswith("_y"))]) - value)
            else:
                out.append(q(of[0])[int(kind.endswith("_y"))] - value)
        return np.array(out)

    x = x0.copy()
    for _ in range(50):
        c = rows(x)
        if not len(c) or not len(may) or np.abs(c).max() < 1e-12:
            break
        j = np.column_stack([(rows(x + h) - rows(x - h)) / 2e-6 for h in 1e-6 * np.eye(len(x))[may]])
        step = np.linalg.pinv(j, rcond=1e-7) @ -c
        x[may] += step
        if np.abs(step).max() < 1e-13:
            break
    return {e["id"]: {**e, "at": [tuple(x[2 * i : 2 * i + 2]) for i in e["points"]],
                      "radius": None if e["radius"] is None else x[count + e["radius"]]} for e in entities}


def knots_of(e):
    n = len(e["points"])
    even = [0] * 3 + list(np.linspace(0, 1, n - 2)) + [1] * 3
    return np.array(e.get("knots") or even, float)


def curve_of(e):
    """An ellipse or spline as a function of its parameter, and fine parameters along it."""
    if e["kind"] == "ellipse":
        c, a = np.array(e["at"][0]), np.array(e["at"][1]) - np.array(e["at"][0])
        b = e["radius"] * np.array([-a[1], a[0]]) / np.linalg.norm(a)
        return lambda t: c + np.cos(t)[:, None] * a + np.sin(t)[:, None] * b, np.linspace(0, 2 * np.pi, 2001)
    from scipy.interpolate import BSpline

    k = knots_of(e)
    degree = len(k) - len(e["at"]) - 1
    return BSpline(k, np.array(e["at"], float), degree), np.linspace(k[degree], k[-degree - 1], 2001)


def spline_edge(e):
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge
    from OCP.Geom import Geom_BSplineCurve
    from OCP.collections import Array1_double, Array1_gp_Pnt, Array1_int
    from OCP.gp import gp_Pnt

    knots, times = np.unique(np.round(knots_of(e), 12), return_counts=True)
    poles = Array1_gp_Pnt(1, len(e["at"]))
    for i, p in enumerate(e["at"]):
        poles.SetValue(i + 1, gp_Pnt(float(p[0]), float(p[1]), 0.0))
    at, many = Array1_double(1, len(knots)), Array1_int(1, len(knots))
    for i in range(len(knots)):
        at.SetValue(i + 1, float(knots[i]))
        many.SetValue(i + 1, int(times[i]))
    return Edge(BRepBuilderAPI_MakeEdge(Geom_BSplineCurve(poles, at, many, len(knots_of(e)) - len(e["at"]) - 1)).Edge())


def space_spline(degree, knots, poles):
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge
    from OCP.Geom import Geom_BSplineCurve
    from OCP.collections import Array1_double, Array1_gp_Pnt, Array1_int
    from OCP.gp import gp_Pnt

    values, times = np.unique(np.round(knots, 12), return_counts=True)
    held, at = Array1_gp_Pnt(1, len(poles)), Array1_double(1, len(values))
    many = Array1_int(1, len(values))
    for i, p in enumerate(poles):
        held.SetValue(i + 1, gp_Pnt(*map(float, p)))
    for i in range(len(values)):
        at.SetValue(i + 1, float(values[i]))
        many.SetValue(i + 1, int(times[i]))
    return Edge(BRepBuilderAPI_MakeEdge(Geom_BSplineCurve(held, at, many, degree)).Edge())


def swept(profile, path, hold, up, guide, solid=True, stepwise=None):
    """A profile carried along a path: square to it, upright, as it was drawn, or looking at a guide."""
    if hold == "square" and guide is None and stepwise is None:
        bent = any(e.geom_type == GeomType.BSPLINE for e in path.edges())
        try:
            return swept(profile, path, hold, up, None, solid, bent)
        except Exception:
            return swept(profile, path, hold, up, None, solid, not bent)
    from OCP.BRepBuilderAPI import BRepBuilderAPI_RightCorner
    from OCP.BRepFill import BRepFill_NoContact
    from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipeShell
    from OCP.gp import gp_Ax2, gp_Dir

    op = BRepOffsetAPI_MakePipeShell(path.wrapped)
    op.SetTransitionMode(BRepBuilderAPI_RightCorner)
    if guide is not None:
        op.SetMode(guide.wrapped, False, BRepFill_NoContact)
    elif hold == "as drawn":
        at, way = path @ 0, path % 0
        op.SetMode(gp_Ax2(at.to_pnt(), way.to_dir()))
    elif hold == "upright":
        op.SetMode(gp_Dir(*map(float, up)))
    elif stepwise:
        op.SetDiscreteMode()
    else:
        op.SetMode(False)
    op.Add(profile.wrapped, False, False)
    op.Build()
    if solid:
        op.MakeSolid()
    return Solid(op.Shape()) if solid else Shell(op.Shape())


def shell_in(shape):
    """The first shell of what sewing gave; a single face as a shell."""
    from OCP.BRep import BRep_Builder
    from OCP.TopAbs import TopAbs_SHELL
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS, TopoDS_Shell

    walk = TopExp_Explorer(shape, TopAbs_SHELL)
    if walk.More():
        return TopoDS.Shell(walk.Current())
    shell = TopoDS_Shell()
    BRep_Builder().MakeShell(shell)
    BRep_Builder().Add(shell, shape)
    return shell


def trimmed_by(surface, rims):
    """A surface inside its first rim and outside the others: closed cubic splines (knots, poles) in its parameters."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
    from OCP.BRepLib import BRepLib
    from OCP.Geom2d import Geom2d_BSplineCurve
    from OCP.ShapeFix import ShapeFix_Face
    from OCP.collections import Array1_double, Array1_gp_Pnt2d, Array1_int
    from OCP.gp import gp_Pnt2d

    made = None
    for knots, poles in rims:
        held = Array1_gp_Pnt2d(1, len(poles))
        for i, p in enumerate(poles):
            held.SetValue(i + 1, gp_Pnt2d(*p))
        values, counts = np.unique(knots, return_counts=True)
        at, many = Array1_double(1, len(values)), Array1_int(1, len(values))
        for i in range(len(values)):
            at.SetValue(i + 1, float(values[i]))
            many.SetValue(i + 1, int(counts[i]))
        wire = BRepBuilderAPI_MakeWire(
            BRepBuilderAPI_MakeEdge(Geom2d_BSplineCurve(held, at, many, 3), surface).Edge()
        ).Wire()
        BRepLib.BuildCurves3d_s(wire)
        if made is None:
            made = BRepBuilderAPI_MakeFace(surface, wire, True)
        else:
            made.Add(wire)
    fix = ShapeFix_Face(made.Face())
    fix.Perform()
    return fix.Face()


def patched(degree, spans, patches, rims=()):
    """Spline patches that share their rims, sewn: a solid where they close; one alone trimmed by rims in parameters."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
    from OCP.Geom import Geom_BSplineSurface
    from OCP.ShapeFix import ShapeFix_Solid
    from OCP.collections import Array1_double, Array1_int, Array2_gp_Pnt
    from OCP.gp import gp_Pnt

    at, many = Array1_double(1, spans + 1), Array1_int(1, spans + 1)
    for k in range(spans + 1):
        at.SetValue(k + 1, k / spans)
        many.SetValue(k + 1, degree + 1 if k in (0, spans) else 1)
    places = np.concatenate([np.array(p).reshape(-1, 3) for p in patches])
    sewing = BRepBuilderAPI_Sewing(max(1e-6 * float(np.linalg.norm(np.ptp(places, axis=0))), 1e-6))
    for poles in patches:
        held = Array2_gp_Pnt(1, spans + degree, 1, spans + degree)
        for i, row in enumerate(poles):
            for j, p in enumerate(row):
                held.SetValue(i + 1, j + 1, gp_Pnt(*p))
        surface = Geom_BSplineSurface(held, at, at, many, many, degree, degree)
        sewing.Add(trimmed_by(surface, rims) if rims else BRepBuilderAPI_MakeFace(surface, 1e-9).Face())
    sewing.Perform()
    if sewing.NbFreeEdges():
        return Shell(shell_in(sewing.SewedShape()))
    fix = ShapeFix_Solid(BRepBuilderAPI_MakeSolid(shell_in(sewing.SewedShape())).Solid())
    fix.Perform()
    return Solid(fix.Solid())


def skinned(strips, solid=True):
    """A skin through grids of places, its ends closed where it is a solid."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
    from OCP.Geom import Geom_BSplineSurface
    from OCP.ShapeFix import ShapeFix_Solid
    from OCP.collections import Array1_double, Array1_int, Array2_gp_Pnt
    from OCP.gp import gp_Pnt
    from scipy.interpolate import make_interp_spline

    grids = np.concatenate([np.array(g).reshape(-1, 3) for _, _, g, _ in strips])
    sewing = BRepBuilderAPI_Sewing(max(1e-6 * float(np.linalg.norm(np.ptp(grids, axis=0))), 1e-6))
    rims = [[], []]
    for u, v, grid, straight in strips:
        ku, kv = 1 if straight else 3, min(3, len(v) - 1)
        a = make_interp_spline(u, np.array(grid), k=ku)
        b = make_interp_spline(v, np.swapaxes(a.c, 0, 1), k=kv)
        poles = np.swapaxes(b.c, 0, 1)
        held = Array2_gp_Pnt(1, poles.shape[0], 1, poles.shape[1])
        for i in range(poles.shape[0]):
            for k in range(poles.shape[1]):
                held.SetValue(i + 1, k + 1, gp_Pnt(*map(float, poles[i, k])))
        args = []
        for t in (a.t, b.t):
            values, counts = np.unique(t, return_counts=True)
            at, many = Array1_double(1, len(values)), Array1_int(1, len(values))
            for i in range(len(values)):
                at.SetValue(i + 1, float(values[i]))
                many.SetValue(i + 1, int(counts[i]))
            args.append((at, many))
        surface = Geom_BSplineSurface(held, args[0][0], args[1][0], args[0][1], args[1][1], ku, kv)
        sewing.Add(BRepBuilderAPI_MakeFace(surface, 1e-9).Face())
        for k, at in ((0, 0), (1, -1)):
            rim = make_interp_spline(u, np.array(grid)[:, at], k=ku)
            rims[k].append(space_spline(ku, rim.t, rim.c))
    if solid:
        for rim in rims:
            sewing.Add(Face(Wire(rim)).wrapped)
    sewing.Perform()
    if not solid:
        return Shell(shell_in(sewing.SewedShape()))
    fix = ShapeFix_Solid(BRepBuilderAPI_MakeSolid(shell_in(sewing.SewedShape())).Solid())
    fix.Perform()
    return Solid(fix.Solid())


def stitched(parts, gap):
    """Surfaces as one; a solid where they close."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
    from OCP.ShapeFix import ShapeFix_Solid

    sewing = BRepBuilderAPI_Sewing(float(gap))
    for part in parts:
        for f in part.faces():
            sewing.Add(f.wrapped)
    sewing.Perform()
    shell = shell_in(sewing.SewedShape())
    if sewing.NbFreeEdges():
        return Shell(shell)
    fix = ShapeFix_Solid(BRepBuilderAPI_MakeSolid(shell).Solid())
    fix.Perform()
    return Solid(fix.Solid())


def thickened(surface, thickness):
    """A surface as a solid of one thickness."""
    from OCP.BRepOffset import BRepOffset_MakeSimpleOffset

    op = BRepOffset_MakeSimpleOffset(surface.wrapped, float(thickness))
    op.SetBuildSolidFlag(True)
    op.Perform()
    made = Solid(op.GetResultShape())
    return made if thickness < 0 else Solid(op.GetResultShape().Reversed())


def edge_of(e):
    if e["kind"] == "line":
        return Line(*e["at"])
    if e["kind"] == "circle":
        return Edge.make_circle(e["radius"], Plane((*e["at"][0], 0)))
    if e["kind"] == "spline":
        return spline_edge(e)
    if e["kind"] == "ellipse":
        a = np.array(e["at"][1]) - np.array(e["at"][0])
        turned = Plane((*e["at"][0], 0), x_dir=(*a, 0))
        return Edge.make_ellipse(np.linalg.norm(a), e["radius"], turned)
    start, end, centre = (np.array(q) for q in e["at"])
    a = np.arctan2(*(start - centre)[::-1])
    b = np.arctan2(*(end - centre)[::-1])
    turn = (b - a) % (2 * np.pi) if e["ccw"] else -((a - b) % (2 * np.pi))
    middle = centre + e["radius"] * np.array([np.cos(a + turn / 2), np.sin(a + turn / 2)])
    return ThreePointArc(tuple(start), tuple(middle), tuple(end))


def face_of(sketch, loop, holes=()):
    wires = [Wire([edge_of(sketch[i]) for i in ids]) for ids in (loop, *holes)]
    return Face(wires[0], wires[1:])


def wall_of(sketch, loop, thick):
    """A wall along an outline, inward; outward where its thickness is less than 0."""
    whole = face_of(sketch, loop)
    other = offset(whole, -thick, kind=Kind.INTERSECTION)
    return (whole - other) if thick > 0 else (other - whole)


def push(face, plane, start, end, lean=0.0):
    """From one height to another along the plane's normal; the outline keeps its size in the plane itself."""
    low, high = min(start, end), max(start, end)
    body = Solid.extrude(plane.offset(low) * face, plane.z_dir * (high - low))
    if lean:
        walls = [f for f in body.faces() if abs(f.normal_at().dot(plane.z_dir)) < 1e-6]
        body = draft(walls, plane, lean)
    return body


def wires_of(sketch, chains, plane):
    return [plane * Wire([edge_of(sketch[i]) for i in ids]) for ids in chains]


def sheer(sketch, chains, plane, start, end):
    """What is drawn, open or closed, from one height to another as a surface."""
    way = plane.z_dir * (max(start, end) - min(start, end))
    return together_sewn([Shell.extrude(w, way) for w in wires_of(sketch, chains, plane.offset(min(start, end)))])


def whirled(sketch, chains, plane, axis, angle):
    """What is drawn, open or closed, turned about an axis as a surface."""
    return together_sewn([Shell.revolve(w, angle, axis) for w in wires_of(sketch, chains, plane)])


def together_sewn(shells):
    return shells[0] if len(shells) == 1 else Compound(shells)


def ended(body, poles, beyond):
    """What of a body does not lie beyond a bent face."""
    return body - Solid.extrude(Face.make_bezier_surface([[Vector(*p) for p in row] for row in poles]), Vector(*beyond))


def drill(at, past, radius, depth, through=False, tip=0.0,
          head="plain", head_radius=0.0, head_depth=0.0, head_angle=90.0):
    """What a drill takes out below a plane, from ``past`` over it."""
    deep = head_depth if head == "counterbore" else (head_radius - radius) / np.tan(np.radians(head_angle / 2))
    line = {"plain": [(radius, past)], "counterbore": [(head_radius, past), (head_radius, -deep), (radius, -deep)],
            "countersink": [(head_radius, past), (head_radius, 0), (radius, -deep)]}[head]
    bottom = -depth - (past if through else 0)
    tall = radius / np.tan(np.radians(tip / 2)) if tip and not through else 0
    line = [(0, past), *line, (radius, bottom), (0, bottom - tall)]
    outline = Plane(at.origin, x_dir=at.x_dir, z_dir=-at.y_dir)  # its second axis runs out of the body
    face = Face(Wire.make_polygon([Vector(x, y, 0) for x, y in line]))
    return Solid.revolve(outline * face, 360, Axis(at.origin, at.z_dir))


def edges_at(body, places):
    return [min(body.edges(), key=lambda e: e.distance_to(Vector(*p))) for p in places]


def faces_at(body, places):
    return [min(body.faces(), key=lambda f: f.distance_to(Vector(*p))) for p in places]


def cut_off_unevenly(body, places, beside, leg, other):
    """Edges cut off by a leg on the faces ``beside`` and another on those across."""
    from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer

    op = BRepFilletAPI_MakeChamfer(body.wrapped)
    for edge, face in zip(edges_at(body, places), faces_at(body, beside)):
        if op.Contour(edge.wrapped) == 0:
            op.Add(leg, other, edge.wrapped, face.wrapped)
    op.Build()
    return Compound(op.Shape())


def without_faces(body, faces):
    """A body without some faces, those around them grown until they meet."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Defeaturing

    op = BRepAlgoAPI_Defeaturing()
    op.SetShape(body.wrapped)
    for f in faces:
        op.AddFaceToRemove(f.wrapped)
    op.Build()
    return Compound(op.Shape())


def up(solid):
    """A solid that stands on its plane instead of having its middle there."""
    return Pos(0, 0, -solid.bounding_box().min.Z) * solid


def bare(solid, direction):
    """A plain solid's surface without its ends."""
    flat = [f for f in solid.faces() if f.geom_type == GeomType.PLANE]
    ends = [f for f in flat if abs(f.normal_at().dot(Vector(*direction))) > 0.5]
    sides = [f for f in solid.faces() if f not in ends]
    return sides[0] if len(sides) == 1 else Shell(sides)


def across(plane):
    """A plane whose first axis is the one a box's width runs along."""
    d = np.array(tuple(plane.z_dir))
    u = np.eye(3)[int(np.argmin(np.abs(d)))]
    return Plane(plane.origin, x_dir=tuple(u - (u @ d) * d), z_dir=plane.z_dir)
'''


_SHAPE_HELPER = '''
def shape_of(text):
    """A body from its packed binary B-rep."""
    import base64
    import io
    import zlib

    from OCP.BinTools import BinTools
    from OCP.TopoDS import TopoDS_Shape

    shape = TopoDS_Shape()
    BinTools.Read_s(shape, io.BytesIO(zlib.decompress(base64.b64decode(text))))
    return Compound(shape) if shape.ShapeType().name.endswith("COMPOUND") else (
        Solid(shape) if shape.ShapeType().name.endswith("SOLID") else Shell(shell_in(shape))
    )
'''


@dataclass(frozen=True)
class Block:
    """One step as the script writes it: its ``lines``; ``makes`` the variable of its body, none for sketches; ``rests``
    that of the body it began from, if any. ``told`` is false where it is given as its shape.
    """

    id: str
    name: str
    kind: str
    lines: list[str]
    makes: str | None
    rests: str | None
    told: bool = True


def numbers_of(ran: list[Ran]) -> tuple[list[str], dict[tuple[str, str], str]]:
    """The numbers as assignments with their evidence, and each value's variable by step and name."""
    values: dict[tuple[str, str], str] = {}
    numbers = []
    table = ledger(ran)
    formulas = formula_shown(table)
    words: dict[str, str] = {}
    for full, r, v in table:
        if r.step.produces not in ("sketch", "body") or not r.done:
            continue
        word = words[full] = full.replace(".", "_")
        values[(r.step.id, v.name)] = word
        unit = "°" if v.unit == "deg" else "mm"
        seen = "" if v.measured is None else f"measured {v.measured:.3f} ± {2 * (v.uncertainty or 0):.3f} {unit}, "
        numbers.append(f"{word} = {_number(full, v.chosen, formulas, words)}  # {seen}{v.source}")
    return numbers, values


def blocks_of(
    ran: list[Ran], values: dict[tuple[str, str], str], shape_of: Callable[[str], bytes] | None = None
) -> list[Block]:
    """The steps in order. One that cannot be said is given as its shape, where ``shape_of`` tells its bytes."""
    out = []
    by_id = {r.step.id: r for r in ran}
    for r in ran:
        if not r.done or r.step.produces not in ("sketch", "body"):
            continue
        writer = _Script(r, by_id, values)
        lines = r.step.in_script(r.summary, writer)
        told = bool(lines)
        body = r.step.produces == "body"
        if not lines and body and shape_of is not None:
            text = base64.b64encode(zlib.compress(shape_of(r.step.id), 9)).decode()
            lines = [f"# This step cannot be said here: its shape as it was.\n{_word(r.step)} = shape_of({text!r})"]
        if lines:
            under = r.step.stands_for() or getattr(r.step, "body", None)
            rests = writer.named(under) if body and isinstance(under, str) and under in by_id else None
            out.append(Block(r.step.id, r.step.name, r.step.kind, lines, _word(r.step) if body else None, rests, told))
    return out


def preamble() -> str:
    """What every script begins with: imports and the helpers its blocks use."""
    helpers = [_HELPER.rstrip(), "", _SHAPE_HELPER.rstrip(), ""]
    return "\n".join(["import os", "", "import numpy as np", "from build123d import *", "", *helpers])


def model_script(name: str, ran: list[Ran], shape_of: Callable[[str], bytes] | None = None) -> str:
    """A Python script that builds the last body of a replayed recipe as ``model``.

    Raises nothing for steps without a body; a job without one gives a script that says so and builds nothing.
    ``shape_of`` gives the binary B-rep of a step that cannot be said in the language.
    """
    numbers, values = numbers_of(ran)
    blocks = blocks_of(ran, values, shape_of)
    carried = any("shape_of(" in line for b in blocks for line in b.lines)
    shapes = [_SHAPE_HELPER.rstrip(), ""] if carried else []
    out = [
        '"""A model rebuilt from a scan. Run it with Python and build123d; it writes model.step beside itself."""',
        "",
        _comment(f"{name}"),
        "",
        "import os",
        "",
        "import numpy as np",
        "from build123d import *",
        "",
        "# The numbers (mm, degrees).",
        *numbers,
        "",
        _HELPER.rstrip(),
        "",
        *shapes,
    ]
    body = None
    for b in blocks:
        out += ["", _comment(b.name), *b.lines]
        body = b.makes or body
    if body:
        out += ["", f"model = {body}"]
    else:
        out += ["", "model = None  # the job has no body yet"]
    out += [
        "",
        'if __name__ == "__main__" and model is not None:',
        '    export_step(model, os.path.join(os.path.dirname(os.path.abspath(__file__)), "model.step"))',
        '    print(f"volume {model.volume:.6f} mm3, area {model.area:.6f} mm2")',
        "",
    ]
    return "\n".join(out)


def _number(full: str, chosen: float, formulas: dict[str, str], words: dict[str, str]) -> str:
    """A number as the script writes it: by its formula where that uses only numbers written above and plain sums."""
    text = formulas.get(full)
    plain = text is not None and not re.search(r"\w\s*\(", text)
    if text is None or not plain or any(w not in words or w == full for w in words_of(text)):
        return repr(chosen)
    return reworded(text, words)


def _comment(text: str) -> str:
    """A name as a comment: one line of printable ASCII, so that nothing in it is ever read as code."""
    return f"# {''.join(c if ' ' <= c <= '~' else '?' for c in one_line(text))}"


def _word(step) -> str:
    return f"{slug(step.name)}_{step.id}"


class _Script:
    """What one step of a replayed recipe may ask for while it is written."""

    def __init__(self, r: Ran, ran: dict[str, Ran], values: dict[tuple[str, str], str]):
        self.word, self._id, self._ran, self._values = _word(r.step), r.step.id, ran, values

    def _standing(self, step_id: str) -> Ran:
        r = self._ran[step_id]
        while not r.step.enabled and (under := r.step.stands_for()):
            r = self._ran[under]
        return r

    def named(self, step_id: str) -> str:
        return _word(self._standing(step_id).step)

    def value(self, name: str) -> str | None:
        return self._values.get((self._id, name))

    def told(self, step_id: str) -> dict:
        return self._standing(step_id).summary
