"""A body as a drawing shows it: its edges seen along a direction, those that lie behind it apart, as exact entities.

Hidden lines by the kernel's own algorithm on the exact shape; lines come back as lines, circles seen square as circles
and arcs, the rest as splines through exact places.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepLib import BRepLib
from OCP.GeomAbs import GeomAbs_Circle, GeomAbs_Line
from OCP.gp import gp_Ax2, gp_Ax3, gp_Trsf
from OCP.HLRAlgo import HLRAlgo_Projector
from OCP.HLRBRep import HLRBRep_Algo, HLRBRep_HLRToShape
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS

from .body import Body, EdgeName, as_array, edges_of
from .features import kernel_direction, kernel_point

__all__ = ["Projected", "edges_seen", "projected"]

_PLACES = 33
_SQUARE = 1e-10  # of a cosine: a circle that leans less is seen as one
_TURN = 2 * np.pi - 1e-6
_DIGITS = 6  # of coordinates in mm, by which the same piece is known


@dataclass(frozen=True)
class Projected:
    """Entities in contract keys, mm right and up in the picture: what is seen, and what lies behind it."""

    seen: list[dict[str, Any]] = field(default_factory=list)
    hidden: list[dict[str, Any]] = field(default_factory=list)


def projected(body: Body, toward, up) -> Projected:
    """The body seen from ``toward`` (3,) with ``up`` (3,) upward; the origin stays the origin."""
    t = np.asarray(toward, float) / np.linalg.norm(toward)
    right = np.cross(up, t)
    right /= np.linalg.norm(right)
    frame = gp_Ax2(kernel_point((0, 0, 0)), kernel_direction(t), kernel_direction(right))
    algo = HLRBRep_Algo()
    algo.Add(body.shape)
    algo.Projector(HLRAlgo_Projector(frame))
    algo.Update()
    algo.Hide()
    shapes = HLRBRep_HLRToShape(algo)
    seen = [shapes.VCompound(), shapes.OutLineVCompound()]
    hidden = [shapes.HCompound(), shapes.OutLineHCompound()]
    out = [_entities(every) for every in (seen, hidden)]
    known = {_label(e) for e in out[0]}
    return Projected(out[0], [e for e in out[1] if _label(e) not in known])


def edges_seen(body: Body, origin, normal, u, names: list[EdgeName] | None = None) -> list[tuple[EdgeName, dict]]:
    """Edges of a body laid square onto a plane (``origin``, ``normal``, ``u`` (3,)), hidden or not: those that are
    lines or round as seen from there, as entities in contract keys; of those that lie over one another the first.
    """
    there = gp_Ax3(kernel_point(origin), kernel_direction(normal), kernel_direction(u))
    flat = gp_Trsf()
    flat.SetTransformation(there)
    place = TopLoc_Location(flat)
    out, labels = [], set()
    for name, edge in sorted(body.edges(), key=lambda e: tuple(map(str, e[0]))):
        if names is not None and name not in names:
            continue
        moved = TopoDS.Edge(edge.Moved(place))
        c = BRepAdaptor_Curve(moved)
        square = c.GetType() != GeomAbs_Circle or abs(c.Circle().Axis().Direction().Z()) > 1 - _SQUARE
        if square:
            e = _entity(moved)
        else:
            e = _through([_flat(c.Value(t)) for t in np.linspace(c.FirstParameter(), c.LastParameter(), _PLACES)])
        if e is None or e["kind"] == "spline" or _label(e) in labels:
            continue
        labels.add(_label(e))
        out.append((name, e))
    return out


def _entities(shapes: list) -> list[dict[str, Any]]:
    out: list[dict[str, Any]] = []
    labels = set()
    for shape in shapes:
        if shape is None or shape.IsNull():
            continue
        BRepLib.BuildCurves3d_s(shape)
        for edge in edges_of(shape):
            e = _entity(edge)
            if e is not None and _label(e) not in labels:
                labels.add(_label(e))
                out.append(e | {"id": f"p{len(out) + 1}"})
    return out


def _flat(p) -> list[float]:
    a = as_array(p)
    return [float(a[0]), float(a[1])]


def _entity(edge) -> dict[str, Any] | None:
    c = BRepAdaptor_Curve(edge)
    a, b = c.FirstParameter(), c.LastParameter()
    start, end = _flat(c.Value(a)), _flat(c.Value(b))
    if c.GetType() == GeomAbs_Line:
        return None if np.hypot(*np.subtract(end, start)) < 1e-9 else {"kind": "line", "start": start, "end": end}
    if c.GetType() == GeomAbs_Circle:
        centre, radius = _flat(c.Circle().Location()), float(c.Circle().Radius())
        if b - a > _TURN:
            return {"kind": "circle", "center": centre, "radius": radius}
        ccw = c.Circle().Axis().Direction().Z() > 0
        return {"kind": "arc", "center": centre, "radius": radius, "start": start, "end": end, "ccw": ccw}
    return _through([_flat(c.Value(t)) for t in np.linspace(a, b, _PLACES)])


def _through(places: list[list[float]]) -> dict[str, Any] | None:
    """A line where they lie on one, an arc or circle where they lie on one, else a cubic spline through them."""
    from scipy.interpolate import make_interp_spline

    p = np.array(places)
    long = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    if long[-1] < 1e-9:
        return None
    chord = p[-1] - p[0]
    span = float(np.hypot(*chord))
    if span > 1e-9 and np.abs(np.cross(chord / span, p - p[0])).max() < 1e-7 * long[-1]:
        return {"kind": "line", "start": p[0].tolist(), "end": p[-1].tolist()}
    a = np.column_stack([2 * p, np.ones(len(p))])
    x, y, w = np.linalg.lstsq(a, (p**2).sum(axis=1), rcond=None)[0]
    radius = float(np.sqrt(max(w + x * x + y * y, 0.0)))
    if np.abs(np.hypot(*(p - [x, y]).T) - radius).max() < 1e-6 * radius and radius < 1e3 * long[-1]:
        if span < 1e-7 * radius:
            return {"kind": "circle", "center": [float(x), float(y)], "radius": radius}
        ccw = float(np.cross(p[1] - p[0], p[2] - p[1])) > 0
        ends = {"start": p[0].tolist(), "end": p[-1].tolist(), "ccw": ccw}
        return {"kind": "arc", "center": [float(x), float(y)], "radius": radius, **ends}
    keep = np.append(True, np.diff(long) > 1e-12)
    s = make_interp_spline(long[keep] / long[-1], p[keep], k=min(3, int(keep.sum()) - 1))
    return {"kind": "spline", "degree": s.k, "knots": s.t.tolist(), "poles": s.c.tolist()}


def _label(e: dict[str, Any]) -> tuple:
    """What tells pieces apart: the same line drawn the other way is the same."""
    keys = ("start", "end", "center", "radius")
    flat = [np.round(np.atleast_1d(e[k]), _DIGITS).tolist() for k in keys if k in e]
    if e["kind"] == "spline":
        flat = [np.round(e["poles"][0], _DIGITS).tolist(), np.round(e["poles"][-1], _DIGITS).tolist()]
        flat.append(np.round(e["poles"][len(e["poles"]) // 2], _DIGITS).tolist())
    ends = sorted(map(tuple, flat[:2])) if e["kind"] in ("line", "spline", "arc") else [tuple(flat[0])]
    return (e["kind"], *ends, *map(tuple, flat[2:]))
