"""A sketch as DXF or SVG, in millimetres."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence

__all__ = ["write_dxf", "write_svg"]


def _angles(e: dict) -> tuple[float, float]:
    (cx, cy), s, t = e["center"], e["start"], e["end"]
    a, b = (math.degrees(math.atan2(p[1] - cy, p[0] - cx)) for p in (s, t))
    return (a, b) if e["ccw"] else (b, a)


def write_dxf(path: str, geometry: list[dict], loops: Sequence[list] = ()) -> None:
    """Entities on layer 'sketch', trace loops (lists of (u, v)) on layer 'trace'; units are mm."""
    import ezdxf

    doc = ezdxf.new("R2010", units=ezdxf.units.MM)
    doc.layers.add("sketch")
    doc.layers.add("trace")
    m = doc.modelspace()
    for e in geometry:
        at = {"layer": "sketch"}
        if e["kind"] == "line":
            m.add_line(e["start"], e["end"], dxfattribs=at)
        elif e["kind"] == "circle":
            m.add_circle(e["center"], e["radius"], dxfattribs=at)
        else:
            m.add_arc(e["center"], e["radius"], *_angles(e), dxfattribs=at)
    for loop in loops:
        m.add_lwpolyline(loop, dxfattribs={"layer": "trace"})
    doc.saveas(path + ".part")
    os.replace(path + ".part", path)


def write_svg(path: str, geometry: list[dict], loops: Sequence[list] = ()) -> None:
    """One SVG in mm with y upward."""
    points = [p for l in loops for p in l] + [p for e in geometry for p in (e.get("start"), e.get("end")) if p]
    for e in geometry:
        if e["kind"] == "circle":
            (x, y), r = e["center"], e["radius"]
            points += [(x - r, y - r), (x + r, y + r)]
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
        if e["kind"] == "line":
            (x, y), (u, v) = e["start"], e["end"]
            out.append(f'<line x1="{x:.6f}" y1="{-y:.6f}" x2="{u:.6f}" y2="{-v:.6f}"/>')
        elif e["kind"] == "circle":
            (x, y), r = e["center"], e["radius"]
            out.append(f'<circle cx="{x:.6f}" cy="{-y:.6f}" r="{r:.6f}"/>')
        else:
            a, b = _angles(e)
            large = 1 if (b - a) % 360 > 180 else 0
            (x, y), (u, v), r = e["start"], e["end"], e["radius"]
            out.append(
                f'<path d="M{x:.6f},{-y:.6f} A{r:.6f},{r:.6f} 0 {large} {0 if e["ccw"] else 1} {u:.6f},{-v:.6f}"/>'
            )
    with open(path + ".part", "w") as f:
        f.write("\n".join(out + ["</svg>"]))
    os.replace(path + ".part", path)
