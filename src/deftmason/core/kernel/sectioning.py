"""Where a plane meets a body, as lines, arcs, circles and splines in the plane: exact, so that they can be drawn."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Section
from OCP.GeomAbs import GeomAbs_Circle, GeomAbs_Line
from OCP.gp import gp_Ax3, gp_Pln, gp_Pnt
from scipy.interpolate import make_interp_spline

from .body import Body, as_array, edges_of
from .features import kernel_direction, kernel_point

__all__ = ["section_curves"]

_PLACES, _MOST = 33, 1025  # along a bent edge that is neither line nor circle, at first and at most
_NEAR = 1e-7  # of a bent edge's length: as near its spline comes between the places it goes through
_TURN = 2 * np.pi - 1e-9


def section_curves(body: Body, origin, normal, u) -> list[dict[str, Any]]:
    """Entities in contract keys (mm along ``u`` and ``normal`` × ``u`` from ``origin``), one an edge of the cut; empty
    where the plane misses. What is bent otherwise comes as a cubic spline through as many exact places as it takes to
    stay within a ten-millionth of its length between them, 1025 at most.
    """
    origin, normal, u = (np.asarray(x, float) for x in (origin, normal, u))
    v = np.cross(normal, u)
    plane = gp_Pln(gp_Ax3(kernel_point(origin), kernel_direction(normal), kernel_direction(u)))
    op = BRepAlgoAPI_Section(body.shape, plane, False)
    op.Build()

    def flat(p) -> list[float]:
        d = as_array(p) - origin
        return [float(d @ u), float(d @ v)]

    out: list[dict[str, Any]] = []
    for k, edge in enumerate(edges_of(op.Shape()), 1):
        c = BRepAdaptor_Curve(edge)
        a, b = c.FirstParameter(), c.LastParameter()
        kind, start, end = c.GetType(), flat(c.Value(a)), flat(c.Value(b))
        e: dict[str, Any]
        if kind == GeomAbs_Line:
            e = {"kind": "line", "start": start, "end": end}
        elif kind == GeomAbs_Circle:
            centre, radius = flat(c.Circle().Location()), float(c.Circle().Radius())
            if b - a > _TURN:
                e = {"kind": "circle", "center": centre, "radius": radius}
            else:
                axis = c.Circle().Axis().Direction()
                ccw = float(normal @ np.array([axis.X(), axis.Y(), axis.Z()])) > 0
                e = {"kind": "arc", "center": centre, "radius": radius, "start": start, "end": end, "ccw": ccw}
        else:
            e = _through(c, flat)
        out.append({"id": f"s{k}", **e})
    return out


def _through(c: BRepAdaptor_Curve, flat: Callable[[gp_Pnt], list[float]]) -> dict[str, Any]:
    """A cubic spline in the edge's own parameter, its places doubled until those between them lie on it too."""
    a, b = c.FirstParameter(), c.LastParameter()

    def at(x: np.ndarray) -> np.ndarray:
        return np.array([flat(c.Value(t)) for t in (a + (b - a) * x).tolist()])

    x = np.linspace(0.0, 1.0, _PLACES)
    places = at(x)
    length = float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())
    while True:
        s = make_interp_spline(x, places, k=3)
        between = (x[1:] + x[:-1]) / 2
        there = at(between)
        off = float(np.linalg.norm(s(between) - there, axis=1).max())
        if off <= _NEAR * length or 2 * len(x) - 1 > _MOST:
            return {"kind": "spline", "degree": 3, "knots": s.t.tolist(), "poles": s.c.tolist()}
        where = np.arange(1, len(x))
        x, places = np.insert(x, where, between), np.insert(places, where, there, axis=0)
