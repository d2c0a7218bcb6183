"""A sketch as DXF or SVG, in millimetres: true lines, arcs, circles, ellipses and splines; and DXF read as a sketch."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..errors import BadInput
from ..sketch.curve import curve_of

__all__ = ["added", "read_dxf", "svg_of", "write_dxf", "write_svg"]

_COLOURS = {"sketch": 5, "construction": 8, "trace": 30}  # of the format's own index
_TO_MM = {1: 25.4, 2: 304.8, 4: 1.0, 5: 10.0, 6: 1000.0}  # units a file may say it is in; none said: mm


def _angles(e: dict) -> tuple[float, float]:
    (cx, cy), s, t = e["center"], e["start"], e["end"]
    a, b = (math.degrees(math.atan2(p[1] - cy, p[0] - cx)) for p in (s, t))
    return (a, b) if e["ccw"] else (b, a)


def write_dxf(path: str, geometry: list[dict], loops: Sequence[list] = ()) -> None:
    """Entities on layer 'sketch', those that only guide on 'construction', trace loops (lists of (u, v)) on layer
    'trace'; units are mm.
    """
    import ezdxf

    doc = ezdxf.new("R2010", units=ezdxf.units.MM)
    for name, colour in _COLOURS.items():
        doc.layers.add(name, color=colour)
    m = doc.modelspace()
    for e in geometry:
        added(m, e, "construction" if e.get("construction") else "sketch")
    for loop in loops:
        m.add_lwpolyline(loop, dxfattribs={"layer": "trace"})
    doc.saveas(path + ".part")
    os.replace(path + ".part", path)


def added(m, e: dict, layer: str) -> None:
    """An entity put into a DXF's model space, true to its kind."""
    at = {"layer": layer}
    if e["kind"] == "line":
        m.add_line(e["start"], e["end"], dxfattribs=at)
    elif e["kind"] == "circle":
        m.add_circle(e["center"], e["radius"], dxfattribs=at)
    elif e["kind"] == "arc":
        m.add_arc(e["center"], e["radius"], *_angles(e), dxfattribs=at)
    elif e["kind"] == "point":
        m.add_point(e["at"], dxfattribs=at)
    elif e["kind"] == "ellipse":
        major = np.subtract(e["major"], e["center"])
        long = float(np.hypot(*major))
        if e["minor_radius"] > long:  # the format wants the longer axis first
            turned = e["minor_radius"] / long * np.array([-major[1], major[0]])
            m.add_ellipse(e["center"], (*turned, 0), long / e["minor_radius"], dxfattribs=at)
        else:
            m.add_ellipse(e["center"], (*major, 0), e["minor_radius"] / long, dxfattribs=at)
    else:
        s = m.add_spline(degree=e["degree"], dxfattribs=at)
        s.control_points, s.knots = [(*p, 0) for p in e["poles"]], e["knots"]


def _unreadable(why: Exception) -> BadInput:
    return BadInput(f"The file is no DXF that can be read ({type(why).__name__}); save it again as DXF.")


def read_dxf(path: str) -> list[dict[str, Any]]:
    """The lines, arcs, circles, ellipses, splines, polylines and points of a DXF as entities in contract keys, mm.

    Those on a layer named 'construction' only guide; what lies on 'trace' is left out. Raises `BadInput` where the file
    is none, or holds nothing that can be drawn.
    """
    import ezdxf

    try:
        doc = ezdxf.readfile(path)
    except Exception as why:  # the library's errors on damaged files are many
        raise _unreadable(why) from None
    f = _TO_MM.get(int(doc.header.get("$INSUNITS", 4)), 1.0)
    out: list[dict[str, Any]] = []

    def xy(p) -> list[float]:
        return [f * float(p[0]), f * float(p[1])]

    def take(e, layer: str) -> None:
        kind = e.dxftype()
        new: dict[str, Any] | None = None
        if kind == "LINE":
            new = {"kind": "line", "start": xy(e.dxf.start), "end": xy(e.dxf.end)}
        elif kind == "CIRCLE":
            new = {"kind": "circle", "center": xy(e.dxf.center), "radius": f * e.dxf.radius}
        elif kind == "ARC":
            new = {
                "kind": "arc",
                "center": xy(e.dxf.center),
                "radius": f * e.dxf.radius,
                "start": xy(e.start_point),
                "end": xy(e.end_point),
                "ccw": True,
            }
        elif kind == "POINT":
            new = {"kind": "point", "at": xy(e.dxf.location)}
        elif kind == "ELLIPSE" and abs(e.dxf.end_param - e.dxf.start_param) > 2 * math.pi - 1e-6:
            c, a = np.array(xy(e.dxf.center)), f * np.array(e.dxf.major_axis)[:2]
            minor = float(np.hypot(*a)) * e.dxf.ratio
            new = {"kind": "ellipse", "center": c.tolist(), "major": (c + a).tolist(), "minor_radius": minor}
        elif kind in ("SPLINE", "ELLIPSE"):
            s = e.construction_tool()
            s = s if kind == "SPLINE" else ezdxf.math.BSpline.ellipse_approximation(s)
            knots = np.array(list(s.knots()), float)
            knots = (knots - knots[0]) / max(knots[-1] - knots[0], 1e-300)
            poles = [xy(p) for p in s.control_points]
            new = {"kind": "spline", "degree": s.degree, "knots": knots.tolist(), "poles": poles}
        elif kind in ("LWPOLYLINE", "POLYLINE"):
            for part in e.virtual_entities():
                take(part, layer)
        if new:
            new = {"id": f"e{len(out) + 1}", **new}
            if layer == "construction":
                new["construction"] = True
            out.append(new)

    try:
        for e in doc.modelspace():
            if e.dxf.layer != "trace":
                take(e, e.dxf.layer)
    except Exception as why:
        raise _unreadable(why) from None
    if not out:
        raise BadInput("The DXF holds no line, arc, circle, ellipse, spline or polyline; give one with a drawing.")
    return out


def _path_of(e: dict) -> str:
    """An entity as a path with y upward turned down: arcs as arcs, splines as Bézier pieces."""
    if e["kind"] == "spline":
        from scipy.interpolate import BSpline

        t, poles, k = np.array(e["knots"]), np.array(e["poles"], float), e["degree"]
        s = BSpline(t, poles, k)
        at = np.unique(t[k : len(t) - k])
        out = f"M{poles[0][0]:.6f},{-poles[0][1]:.6f}"
        for a, b in zip(at[:-1], at[1:]):
            d = s.derivative()
            p, q, h = s(a), s(b), (b - a) / 3
            edge = 1e-9 * (b - a)  # a degree of one has corners at its knots
            one, two = p + h * d(a + edge), q - h * d(b - edge)
            out += f" C{one[0]:.6f},{-one[1]:.6f} {two[0]:.6f},{-two[1]:.6f} {q[0]:.6f},{-q[1]:.6f}"
        return out
    a, b = _angles(e)
    large = 1 if (b - a) % 360 > 180 else 0
    (x, y), (u, v), r = e["start"], e["end"], e["radius"]
    return f"M{x:.6f},{-y:.6f} A{r:.6f},{r:.6f} 0 {large} {0 if e['ccw'] else 1} {u:.6f},{-v:.6f}"


def svg_of(e: dict, style: str = "") -> str:
    """An entity as an element of an SVG with y upward; ``style`` are attributes of its own."""
    if e["kind"] == "line":
        (x, y), (u, v) = e["start"], e["end"]
        return f'<line x1="{x:.6f}" y1="{-y:.6f}" x2="{u:.6f}" y2="{-v:.6f}"{style}/>'
    if e["kind"] == "circle":
        (x, y), r = e["center"], e["radius"]
        return f'<circle cx="{x:.6f}" cy="{-y:.6f}" r="{r:.6f}"{style}/>'
    if e["kind"] == "point":
        x, y = e["at"]
        return f'<circle cx="{x:.6f}" cy="{-y:.6f}" r="0.2" fill="#1E3C66" stroke="none"/>'
    if e["kind"] == "ellipse":
        (x, y), major = e["center"], np.subtract(e["major"], e["center"])
        turn = -math.degrees(math.atan2(major[1], major[0]))
        return (
            f'<ellipse cx="{x:.6f}" cy="{-y:.6f}" rx="{np.hypot(*major):.6f}" ry="{e["minor_radius"]:.6f}" '
            f'transform="rotate({turn:.6f} {x:.6f} {-y:.6f})"{style}/>'
        )
    return f'<path d="{_path_of(e)}"{style}/>'


def write_svg(path: str, geometry: list[dict], loops: Sequence[list] = ()) -> None:
    """One SVG in mm with y upward."""
    points = [tuple(p) for l in loops for p in l]
    points += [tuple(p) for e in geometry for p in curve_of(e).at(np.linspace(0, 1, 33))]
    xs, ys = [p[0] for p in points] or [0, 1], [p[1] for p in points] or [0, 1]
    x0, x1, y0, y1 = min(xs) - 2, max(xs) + 2, min(ys) - 2, max(ys) + 2
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{x1 - x0:.3f}mm" height="{y1 - y0:.3f}mm" '
        f'viewBox="{x0:.4f} {-y1:.4f} {x1 - x0:.4f} {y1 - y0:.4f}" fill="none" stroke="#1E3C66" stroke-width="0.2">'
    ]
    for loop in loops:
        text = " ".join(f"{p[0]:.4f},{-p[1]:.4f}" for p in loop)
        out.append(f'<polyline points="{text}" stroke="#C9B48A"/>')
    for e in geometry:
        out.append(svg_of(e, ' stroke="#6A655C" stroke-dasharray="2 0.6 0.4 0.6"' if e.get("construction") else ""))
    with open(path + ".part", "w") as f:
        f.write("\n".join(out + ["</svg>"]))
    os.replace(path + ".part", path)
