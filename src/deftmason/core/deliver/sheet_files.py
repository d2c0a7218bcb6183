"""A drawing sheet as PDF, SVG or DXF, in mm at its paper's size."""

from __future__ import annotations

import os
from xml.sax.saxutils import escape

import numpy as np

from ..sketch.curve import curve_of
from .drawing_files import added, svg_of
from .sheet import LAYERS, Sheet

__all__ = ["write_sheet"]

_DASHES = {"hidden": (2.0, 1.0), "centre": (6.0, 1.2, 0.8, 1.2)}
_INK = "#23262A"
_COLOURS = {"seen": 7, "hidden": 8, "hatch": 9, "size": 5, "frame": 7, "centre": 1}  # of the format's own index


def write_sheet(path: str, sheet: Sheet) -> None:
    """By suffix (.pdf, .svg or .dxf), whole or not at all."""
    part = path + ".part"
    {".pdf": _pdf, ".svg": _svg, ".dxf": _dxf}[os.path.splitext(path)[1].lower()](part, sheet)
    os.replace(part, path)


def _pdf(path: str, sheet: Sheet) -> None:
    from reportlab.lib.colors import HexColor
    from reportlab.lib.units import mm
    from reportlab.pdfgen.canvas import Canvas

    c = Canvas(path, pagesize=(sheet.size[0] * mm, sheet.size[1] * mm))
    c.setTitle("Drawing")
    c.setLineCap(1)
    c.setStrokeColor(HexColor(_INK))
    c.setFillColor(HexColor(_INK))
    for layer, entities in sheet.lines.items():
        c.setLineWidth(LAYERS[layer] * mm)
        c.setDash([d * mm for d in _DASHES.get(layer, ())])
        for e in entities:
            curve = c.beginPath()
            p = curve_of({"id": "", **e}).at(np.linspace(0, 1, 2 if e["kind"] == "line" else 49)) * mm
            curve.moveTo(*p[0])
            for q in p[1:]:
                curve.lineTo(*q)
            c.drawPath(curve)
    for t in sheet.texts:
        c.saveState()
        c.translate(t.at[0] * mm, t.at[1] * mm)
        if t.turned:
            c.rotate(90)
        c.setFont("Helvetica", t.high * mm * 1.35)
        words = t.words.replace("⌀", "Ø")
        {"start": c.drawString, "middle": c.drawCentredString, "end": c.drawRightString}[t.anchor](0, 0, words)
        c.restoreState()
    c.save()


def _svg(path: str, sheet: Sheet) -> None:
    w, h = sheet.size
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{w:g}mm" height="{h:g}mm" viewBox="0 {-h:g} {w:g} {h:g}" '
        f'fill="none" stroke="{_INK}" stroke-linecap="round" font-family="Archivo, Helvetica, sans-serif">',
        f'<rect x="0" y="{-h:g}" width="{w:g}" height="{h:g}" fill="#FFFFFF" stroke="none"/>',
    ]
    for layer, entities in sheet.lines.items():
        dash = f' stroke-dasharray="{" ".join(f"{d:g}" for d in _DASHES[layer])}"' if layer in _DASHES else ""
        out.append(f'<g id="{layer}" stroke-width="{LAYERS[layer]:g}"{dash}>')
        out += [svg_of({"id": "", **e}) for e in entities]
        out.append("</g>")
    out.append(f'<g fill="{_INK}" stroke="none">')
    for t in sheet.texts:
        turn = f' transform="rotate(-90 {t.at[0]:.3f} {-t.at[1]:.3f})"' if t.turned else ""
        out.append(
            f'<text x="{t.at[0]:.3f}" y="{-t.at[1]:.3f}" font-size="{1.35 * t.high:g}" text-anchor="{t.anchor}"{turn}>'
            f"{escape(t.words)}</text>"
        )
    with open(path, "w", encoding="utf-8") as f:
        f.write("\n".join([*out, "</g>", "</svg>"]))


def _dxf(path: str, sheet: Sheet) -> None:
    import ezdxf
    from ezdxf.enums import TextEntityAlignment as Align

    doc = ezdxf.new("R2010", setup=True, units=ezdxf.units.MM)
    for name in LAYERS:
        line = {"hidden": "DASHED", "centre": "CENTER"}.get(name, "CONTINUOUS")
        doc.layers.add(name, color=_COLOURS[name], linetype=line, lineweight=int(100 * LAYERS[name]))
    doc.layers.add("text", color=7)
    m = doc.modelspace()
    for layer, entities in sheet.lines.items():
        for e in entities:
            added(m, e, layer)
    anchors = {"start": Align.LEFT, "middle": Align.CENTER, "end": Align.RIGHT}
    for t in sheet.texts:
        text = m.add_text(t.words, height=t.high, rotation=90 if t.turned else 0, dxfattribs={"layer": "text"})
        text.set_placement(t.at, align=anchors[t.anchor])
    doc.saveas(path)
