"""Curves in space as wires, and edges of bodies, or where bodies meet, as curves."""

from __future__ import annotations

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Section
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.collections import Array1_double, Array1_gp_Pnt, Array1_int
from OCP.GC import GC_MakeArcOfCircle
from OCP.Geom import Geom_BSplineCurve
from OCP.GeomAbs import GeomAbs_Circle, GeomAbs_Line

from ..curves.drawn import through_points
from ..curves.spatial import CurvePiece, SpaceCurve, arc_through, joined, line
from ..errors import BadInput
from .body import Body, EdgeName, as_array, edges_of
from .features import kernel_point

__all__ = ["curve_of_edges", "edge_piece", "meeting", "piece_edge", "wire_of"]

_DENSE = 200
_STRAIGHT = 1e-9  # of its length that an edge leaves its chord by


def _bspline(piece: CurvePiece) -> Geom_BSplineCurve:
    assert piece.knots is not None and piece.poles is not None
    knots, counts = np.unique(np.round(piece.knots, 12), return_counts=True)
    poles, at, times = Array1_gp_Pnt(1, len(piece.poles)), Array1_double(1, len(knots)), Array1_int(1, len(knots))
    for k, p in enumerate(piece.poles):
        poles.SetValue(k + 1, kernel_point(p))
    for k in range(len(knots)):
        at.SetValue(k + 1, float(knots[k]))
        times.SetValue(k + 1, int(min(counts[k], piece.degree + 1)))
    return Geom_BSplineCurve(poles, at, times, piece.degree)


def piece_edge(piece: CurvePiece):
    """A piece as an edge."""
    if piece.kind == "spline":
        return BRepBuilderAPI_MakeEdge(_bspline(piece)).Edge()
    places = np.asarray(piece.places)
    if piece.kind == "line":
        return BRepBuilderAPI_MakeEdge(kernel_point(places[0]), kernel_point(places[1])).Edge()
    return BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(*map(kernel_point, places)).Value()).Edge()


def wire_of(curve: SpaceCurve):
    """The curve as a wire. Raises `BadInput` where its pieces do not hang together."""
    maker = BRepBuilderAPI_MakeWire()
    for p in curve.pieces:
        if p.length > 1e-9 * max(curve.length, 1e-12):
            maker.Add(piece_edge(p))
            if not maker.IsDone():
                raise BadInput("The curve does not hang together; join its pieces first.", field="path")
    return maker.Wire()


def edge_piece(edge) -> list[CurvePiece]:
    """An edge as pieces: lines and arcs as they are, all else as a spline along it."""
    c = BRepAdaptor_Curve(edge)
    a, b = c.FirstParameter(), c.LastParameter()

    def at(t: float) -> np.ndarray:
        return as_array(c.Value(float(t)))

    if c.GetType() == GeomAbs_Line:
        return [line(at(a), at(b))]
    if c.GetType() == GeomAbs_Circle:
        # A whole circle, or most of one, as two arcs.
        cuts = np.linspace(a, b, 3 if b - a > 1.5 * np.pi else 2)
        return [arc_through(at(s), at(0.5 * (s + e)), at(e)) for s, e in zip(cuts, cuts[1:])]
    points = np.array([at(t) for t in np.linspace(a, b, _DENSE)])
    way = points[-1] - points[0]
    off = np.linalg.norm(np.cross(points - points[0], way), axis=1).max() / max(float(way @ way), 1e-300)
    if off < _STRAIGHT:
        return [line(points[0], points[-1])]
    return list(through_points(points, 0.0).pieces)


def curve_of_edges(body: Body, names: list[EdgeName]) -> SpaceCurve:
    """Edges of a body that follow each other, as one curve. Raises `BadInput` where they are gone or lie apart."""
    known = dict(body.edges())
    found = []
    for name in names:
        now = body.edges_named((name[0], name[1], name[2]))
        if not now:
            raise BadInput(f"The body has no edge between '{name[0]}' and '{name[1]}' any more.", field="edges")
        found += [known[n] for n in now]
    if not found:
        raise BadInput("Click at least one edge of the body.", field="edges")
    return joined([SpaceCurve(tuple(edge_piece(e))) for e in found], reach=None)


def meeting(body: Body, other: Body, near=None) -> SpaceCurve:
    """The line where two bodies' or surfaces' faces meet, nearest to a place (3,) where there are several.

    Raises `BadInput` where they do not meet.
    """
    op = BRepAlgoAPI_Section(body.shape, other.shape, False)
    op.Approximation(True)
    op.Build()
    edges = edges_of(op.Shape()) if op.IsDone() else []
    if not edges:
        raise BadInput("These two do not meet anywhere; take two that cross.", field="other")
    rest = [SpaceCurve(tuple(edge_piece(e))) for e in edges]
    chains: list[SpaceCurve] = []
    reach = 1e-4 * max(max(c.length for c in rest), 1e-12)
    for c in rest:
        for k, chain in enumerate(chains):
            try:
                chains[k] = joined([chain, c], reach)
                break
            except BadInput:
                continue
        else:
            chains.append(c)
    if near is None:
        return max(chains, key=lambda c: c.length)
    place = np.asarray(near, float)
    return min(chains, key=lambda c: float(np.linalg.norm(c.drawn() - place, axis=1).min()))
