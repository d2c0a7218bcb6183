"""Facets of a body that know the border curves they end on, and those curves as closed forms or B-spline arrays.

Each facet side that lies on an edge of the body names it, with the edge's own parameters at both ends, so that whoever
starts from a facet can go on to the exact curve. Seams within one face are no borders.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepGProp import BRepGProp
from OCP.BRepLib import BRepLib
from OCP.GeomAbs import GeomAbs_Circle, GeomAbs_Line
from OCP.GeomConvert import GeomConvert
from OCP.GProp import GProp_GProps
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS

from .body import Body, _mapped, as_array, faces_of
from .tessellate import Facets, tessellate

__all__ = ["LINE", "CIRCLE", "SPLINE", "POINT", "EdgeCurve", "Bordered", "bordered_facets", "face_areas"]

LINE, CIRCLE, SPLINE, POINT = 0, 1, 2, 3


@dataclass(frozen=True)
class EdgeCurve:
    """One edge. ``code`` LINE: ``origin`` + t ``x``; CIRCLE: about ``origin`` from ``x`` to ``y``, parameter the angle,
    ``radius`` mm;
    SPLINE: rational ``poles`` (n, 4) as (wx, wy, wz, w), flat ``knots``, ``degree``; POINT: only its ends are known.
    ``low`` and ``high`` bound the parameter."""

    code: int
    low: float
    high: float
    origin: np.ndarray
    x: np.ndarray
    y: np.ndarray
    radius: float = 0.0
    poles: np.ndarray | None = None
    knots: np.ndarray | None = None
    degree: int = 0


@dataclass(frozen=True)
class Bordered:
    """``facets``; ``edge`` (m, 3) the body's edge along the side from corner k to k + 1, −1 for none; ``part`` (m, 3)
    which stretch of
    that edge, counted along it; ``nodes`` of each edge, in order along it, once for each face it borders; ``curves``
    one an edge."""

    facets: Facets
    edge: np.ndarray
    part: np.ndarray
    nodes: list[list[np.ndarray]]
    curves: list[EdgeCurve]


def face_areas(body: Body) -> np.ndarray:
    """True area of each face, mm²."""
    out = []
    for face in faces_of(body.shape):
        g = GProp_GProps()
        BRepGProp.SurfaceProperties_s(face, g, 1e-6, True)
        out.append(abs(g.Mass()))
    return np.array(out)


def _curve(edge) -> EdgeCurve:
    zero = np.zeros(3)
    nothing = EdgeCurve(POINT, 0.0, 1.0, zero, zero, zero)
    if BRep_Tool.Degenerated_s(edge):
        return nothing
    low, high = BRep_Tool.Range_s(edge)
    curve = BRep_Tool.Curve_s(edge, low, high)
    if curve is None:
        return nothing
    try:
        a = BRepAdaptor_Curve(edge)
        kind, low, high = a.GetType(), a.FirstParameter(), a.LastParameter()
        if kind == GeomAbs_Line:
            line = a.Line()
            d = line.Direction()
            return EdgeCurve(LINE, low, high, as_array(line.Location()), np.array([d.X(), d.Y(), d.Z()]), zero)
        if kind == GeomAbs_Circle:
            c = a.Circle()
            x, y = c.XAxis().Direction(), c.YAxis().Direction()
            return EdgeCurve(
                CIRCLE,
                low,
                high,
                as_array(c.Location()),
                np.array([x.X(), x.Y(), x.Z()]),
                np.array([y.X(), y.Y(), y.Z()]),
                c.Radius(),
            )
        return _spline(curve, low, high)
    except Exception:  # a curve with no exact spline: its ends and stretches still stand
        return nothing


def _spline(curve, low: float, high: float) -> EdgeCurve:
    from OCP.Geom import Geom_TrimmedCurve

    b = GeomConvert.CurveToBSplineCurve_s(Geom_TrimmedCurve(curve, low, high))
    if b.IsPeriodic():
        b.SetNotPeriodic()
    poles = np.array([[*(as_array(b.Pole(i)) * b.Weight(i)), b.Weight(i)] for i in range(1, b.NbPoles() + 1)])
    knots = np.array([b.Knot(k) for k in range(1, b.NbKnots() + 1) for _ in range(b.Multiplicity(k))])
    zero = np.zeros(3)
    return EdgeCurve(SPLINE, knots[b.Degree()], knots[len(poles)], zero, zero, zero, 0.0, poles, knots, b.Degree())


def bordered_facets(body: Body, deflection: float, angle_deg: float) -> Bordered:
    """Facets within about ``deflection`` mm of the body with their borders."""
    BRepLib.BuildCurves3d_s(body.shape)
    f = tessellate(body, deflection, angle_deg)
    edges = _mapped(body.shape, TopAbs_EDGE)
    count = edges.Extent()
    curves = [_curve(TopoDS.Edge(edges(i + 1))) for i in range(count)]
    nodes: list[list[np.ndarray]] = [[] for _ in range(count)]
    first = np.searchsorted(f.vertex_faces, np.arange(len(body.face_names)))
    rows: list[np.ndarray] = []
    for i, face in enumerate(faces_of(body.shape)):
        at = TopLoc_Location()
        t = BRep_Tool.Triangulation_s(face, at)
        if t is None:
            continue
        it = TopExp_Explorer(face, TopAbs_EDGE)
        while it.More():
            edge = TopoDS.Edge(it.Current())
            it.Next()
            e = edges.FindIndex(edge) - 1
            p = BRep_Tool.PolygonOnTriangulation_s(edge, t, at)
            if p is None or p.NbNodes() < 2:
                continue
            mine = np.array([p.Node(k) for k in range(1, p.NbNodes() + 1)], np.int64) - 1 + first[i]
            if nodes[e] and len(nodes[e][0]) == len(
                mine
            ):  # the two faces of an edge may list its nodes either way round
                same, other = (np.abs(f.vertices[nodes[e][0]] - f.vertices[m]).sum() for m in (mine, mine[::-1]))
                mine = mine[::-1] if other < same else mine
            nodes[e].append(mine)
            if curves[e].code == POINT or BRep_Tool.IsClosed_s(edge, face):
                continue
            k = np.arange(len(mine) - 1)
            rows.append(
                np.column_stack(
                    [np.minimum(mine[:-1], mine[1:]), np.maximum(mine[:-1], mine[1:]), np.full(len(k), e), k]
                )
            )
    side_edge = np.full((len(f.faces), 3), -1, np.int64)
    side_part = np.zeros((len(f.faces), 3), np.int64)
    if rows:
        table = np.concatenate(rows)
        n = len(f.vertices)
        key = table[:, 0] * n + table[:, 1]
        order = np.argsort(key)
        key, table = key[order], table[order]
        for side in range(3):
            a, b = f.faces[:, side].astype(np.int64), f.faces[:, (side + 1) % 3].astype(np.int64)
            mine = np.minimum(a, b) * n + np.maximum(a, b)
            at = np.minimum(np.searchsorted(key, mine), len(key) - 1)
            hit = key[at] == mine
            side_edge[hit, side], side_part[hit, side] = table[at[hit], 2], table[at[hit], 3]
    return Bordered(f, side_edge, side_part, nodes, curves)
