"""A proof as a PDF for somebody who was not there: title block, verdict, legend, views, tables, notes, values."""

from __future__ import annotations

import io
import os
from collections.abc import Iterable
from dataclasses import replace
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
from reportlab.graphics.shapes import Drawing, Line, Rect, String
from reportlab.lib.colors import Color, HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import (
    BaseDocTemplate,
    CondPageBreak,
    Flowable,
    Frame,
    Image,
    KeepTogether,
    PageBreak,
    PageTemplate,
    Paragraph,
    Spacer,
    Table,
    TableStyle,
)

from ..check.tide import tide_colors
from .proof import Proof, full_colour, picture_of
from .rendering import SIX_SIDES, Eye, png_of

__all__ = ["write_report"]

_INK, _SOFT, _RULE, _SHEET = HexColor("#23262A"), HexColor("#6A655C"), HexColor("#D5CCBC"), HexColor("#FBF9F4")
_GOOD, _BAD = HexColor("#4F7A4A"), HexColor("#A24A2B")
_WIDE = A4[0] - 32 * mm
_ROWS = 400  # of a table in the report: the rest is in the table's own file

_BODY = ParagraphStyle("body", fontName="Helvetica", fontSize=9, leading=12, textColor=_INK)
_SMALL = ParagraphStyle("small", parent=_BODY, fontSize=7.5, leading=9.5)
_QUIET = ParagraphStyle("quiet", parent=_SMALL, textColor=_SOFT)
_HEAD = ParagraphStyle(
    "head",
    parent=_BODY,
    fontName="Helvetica-Bold",
    fontSize=11,
    leading=14,
    spaceBefore=8,
    spaceAfter=3,
)
_ROOM = 30 * mm  # that a heading has below it, so that it does not stand alone at a page's foot
_TITLE = ParagraphStyle("title", parent=_BODY, fontName="Helvetica-Bold", fontSize=18, leading=22)


def _signed(v: float | None, digits: int = 3) -> str:
    return "–" if v is None else f"{v:+.{digits}f}"


def _plain(v: float | None, digits: int = 3) -> str:
    return "–" if v is None else f"{v:.{digits}f}"


def _share(v: float | None) -> str:
    return "–" if v is None else f"{100 * v:.1f} %"


def _digits(proof: Proof) -> int:
    """Decimals that a thousandth of the tolerance band asks for: small parts are told more finely."""
    t = proof.summary["tolerance"]
    return int(np.clip(2 - np.floor(np.log10(max(t, 1e-9))), 2, 6))


def write_report(path: str, proof: Proof) -> None:
    """Written whole or not at all."""
    d = _digits(proof)
    doc = BaseDocTemplate(path + ".part", pagesize=A4, title=proof.title, author="Deft Mason")
    frame = Frame(16 * mm, 16 * mm, _WIDE, A4[1] - 34 * mm, 0, 0, 0, 0)

    def foot(canvas, page) -> None:
        canvas.setFont("Helvetica", 7.5)
        canvas.setFillColor(_SOFT)
        canvas.drawString(16 * mm, 10 * mm, f"{proof.job} · {proof.title} · {proof.made}")
        canvas.drawRightString(A4[0] - 16 * mm, 10 * mm, f"page {page.page}")

    doc.addPageTemplates(PageTemplate("page", [frame], onPage=foot))
    parts: list[Flowable] = [Paragraph(escape(proof.title), _TITLE), _block(proof), Spacer(1, 8)]
    parts += _numbers(proof, d)
    parts += [Spacer(1, 6), _iso(proof), Paragraph("Distances in mm, proud of the model positive.", _QUIET)]
    parts += _position(proof, d) + _rules(proof, d)
    parts += [PageBreak(), Paragraph("From six sides", _HEAD), _six(proof), _legend(proof, d)]
    parts += _views(proof) + _pins(proof, d) + _regions(proof, d)
    for title, rows in (("Face by face", "faces"), ("Step by step", "steps"), ("Zone by zone", "zones")):
        parts += _table(title, proof.summary.get(rows) or [], d)
    parts += _values(proof)
    doc.build(parts)
    os.replace(path + ".part", path)


def _rows(cells: list[list[Any]], widths: list[float], *, head: bool = True, right: Iterable[int] = ()) -> Table:
    style: list[tuple] = [
        ("FONT", (0, 0), (-1, -1), "Helvetica", 7.5),
        ("TEXTCOLOR", (0, 0), (-1, -1), _INK),
        ("LINEBELOW", (0, 0), (-1, -1), 0.3, _RULE),
        ("TOPPADDING", (0, 0), (-1, -1), 2),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
        ("LEFTPADDING", (0, 0), (-1, -1), 2),
        ("RIGHTPADDING", (0, 0), (-1, -1), 4),
        ("VALIGN", (0, 0), (-1, -1), "MIDDLE"),
    ]
    if head:
        style += [("TEXTCOLOR", (0, 0), (-1, 0), _SOFT), ("LINEBELOW", (0, 0), (-1, 0), 0.6, _INK)]
    style += [("ALIGN", (k, 0), (k, -1), "RIGHT") for k in right]
    return Table(cells, widths, repeatRows=1 if head else 0, style=TableStyle(style), hAlign="LEFT")


def _headed(words: str, *parts: Flowable) -> list[Flowable]:
    """What stands under a heading; a long table goes on over pages."""
    return [CondPageBreak(_ROOM), Paragraph(escape(words), _HEAD), *parts]


def _block(proof: Proof) -> Table:
    """Who was compared with what, when, and by what settings."""
    s = proof.settings
    band = f"+{s['tolerance']:g} / −{s.get('low') or s['tolerance']:g} mm"
    limits = [f"reach {s['reach']:g} mm" if s.get("reach") else "no reach"]
    limits.append(f"angle {s['angle_deg']:g}°" if s.get("angle_deg") else "any angle")
    if s.get("fineness"):
        limits.append(f"fineness {s['fineness']:g} mm")
    if s.get("near_edges"):
        limits.append(f"without {s['near_edges']:g} mm by edges")
    if s.get("left_out"):
        limits.append("without what was marked")
    if s.get("laid") == "best fit":
        limits.append("laid by best fit")
    cells = [
        ["job", proof.job, "scan", proof.scan_name],
        ["made", proof.made, "model", proof.model_name],
        ["tolerance", band, "limits", ", ".join(limits)],
    ]
    shown = [[Paragraph(escape(str(c)), _QUIET if k % 2 == 0 else _SMALL) for k, c in enumerate(row)] for row in cells]
    return _rows(shown, [16 * mm, _WIDE / 2 - 16 * mm, 16 * mm, _WIDE / 2 - 16 * mm], head=False)


def _numbers(proof: Proof, d: int) -> list[Flowable]:
    s = proof.summary
    head = ["points", "answered", "within", "mean", "spread", "rms", "95 % under", "least", "most", "unseen area"]
    answered = s["answered"] / max(s["points"], 1)
    row = [f"{s['points']:,}", _share(answered), _share(s["within"]), _signed(s["mean"], d)]
    row += [_plain(s.get(k), d) for k in ("spread", "rms", "p95")]
    row += [_signed(s["min"], d), _signed(s["max"], d), f"{s['unseen_area']:.4g} mm²"]
    return [_rows([head, row], [_WIDE / 10] * 10, right=range(10))]


def _picture(proof: Proof, eye: Eye, wide: float, size: tuple[int, int]) -> Image:
    data = png_of(picture_of(proof, eye, size))
    return Image(io.BytesIO(data), wide, wide * size[1] / size[0])


def _iso(proof: Proof) -> Table:
    size = (1000, 700)
    picture = _picture(proof, Eye.fitted(proof.points, (0.55, -0.75, 0.6), (0, 0, 1), size), _WIDE - 52 * mm, size)
    return Table(
        [[picture, _tide(proof, 48 * mm, picture.drawHeight)]],
        [_WIDE - 50 * mm, 50 * mm],
        style=TableStyle([("LEFTPADDING", (0, 0), (-1, -1), 0), ("VALIGN", (0, 0), (-1, -1), "TOP")]),
    )


def _tide(proof: Proof, wide: float, high: float) -> Drawing:
    """The legend: the histogram upright, bars by the square root of their count, the band marked."""
    counts, edges = (np.array(proof.summary["histogram"][k], float) for k in ("counts", "edges"))
    reach, t = full_colour(proof), proof.summary["tolerance"]
    low, d = proof.summary.get("low") or t, _digits(proof)
    board = Drawing(wide, high)
    left, y = 15 * mm, lambda v: 6 + (high - 12) * (v + reach) / (2 * reach)
    fill = tide_colors((edges[:-1] + edges[1:]) / 2, t, reach, low) / 255
    most = max(float(np.sqrt(counts.max())), 1.0) if len(counts) else 1.0
    for c, a, b, rgb in zip(counts, edges[:-1], edges[1:], fill):
        long = max((wide - left - 2) * float(np.sqrt(c)) / most, 0.4)
        board.add(
            Rect(left, y(a), long, y(b) - y(a), fillColor=Color(*rgb), strokeColor=HexColor("#8A8578"), strokeWidth=0.2)
        )
    for v in (reach, t, 0.0, -low, -reach):
        inside = v in (t, -low)
        board.add(String(0, y(v) - 2.5, _signed(v, d), fontName="Helvetica", fontSize=6.5, fillColor=_INK))
        if inside:
            board.add(Line(left - 3, y(v), wide, y(v), strokeColor=_INK, strokeWidth=0.6))
    return board


def _legend(proof: Proof, d: int) -> Flowable:
    t, low = proof.summary["tolerance"], proof.summary.get("low") or proof.summary["tolerance"]
    reach = full_colour(proof)
    board, steps = Drawing(_WIDE, 26), 60
    at = np.linspace(-reach, reach, steps + 1)
    for a, rgb in zip(at[:-1], tide_colors((at[:-1] + at[1:]) / 2, t, reach, low) / 255):
        x = (a + reach) / (2 * reach) * _WIDE
        board.add(Rect(x, 12, _WIDE / steps, 10, fillColor=Color(*rgb), strokeColor=None))
    for v, anchor in ((-reach, "start"), (-low, "middle"), (t, "middle"), (reach, "end")):
        x = (v + reach) / (2 * reach) * _WIDE
        board.add(String(x, 2, _signed(v, d), textAnchor=anchor, fontName="Helvetica", fontSize=7, fillColor=_INK))
    return board


def _six(proof: Proof) -> Table:
    size, wide = (620, 480), (_WIDE - 4 * mm) / 2
    eyes = [(name, Eye.fitted(proof.points, toward, up, size)) for name, toward, up in SIX_SIDES]
    span = max(e.span for _, e in eyes)  # all at one scale
    shown = [[_picture(proof, replace(e, span=span), wide, size), Paragraph(name, _QUIET)] for name, e in eyes]
    style = TableStyle([("LEFTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 2)])
    return Table([shown[k : k + 2] for k in (0, 2, 4)], [wide + 2 * mm] * 2, style=style)


def _views(proof: Proof) -> list[Flowable]:
    size, out = (1100, 780), []
    for v in proof.views:
        out.append(KeepTogether([Paragraph(escape(v.name), _HEAD), _picture(proof, v.eye(), _WIDE, size)]))
    return out


def _position(proof: Proof, d: int) -> list[Flowable]:
    p = proof.summary.get("position")
    if not p or p["share"] < 0.05:
        return []
    shift, turn = float(np.linalg.norm(p["shift"])), float(np.linalg.norm(p["turn"]))
    says = (
        f"Of what is off, {_share(p['share'])} is position, not form: with the scan moved by {shift:.{d}f} mm and "
        f"turned by {turn:.3f}°, rms would be {p['rms_after']:.{d}f} in place of {p['rms_before']:.{d}f} mm."
    )
    return _headed("Form and position", Paragraph(says, _BODY))


def _rules(proof: Proof, d: int) -> list[Flowable]:
    rules = proof.summary.get("rules") or []
    if not rules:
        return []
    cells: list[list[Any]] = [["rule", "about", "allowed", "share asked", "share within", ""]]
    for r in rules:
        verdict = "not judged" if r["passes"] is None else "passes" if r["passes"] else "fails"
        colour = {"passes": _GOOD, "fails": _BAD}.get(verdict, _SOFT)
        about = ", ".join(r["faces"]) or "all faces"
        cells.append(
            [
                Paragraph(escape(r["name"]), _SMALL), Paragraph(escape(about), _SMALL),
                f"+{r['tolerance']:.{d}f} −{r['low']:.{d}f}", _share(r["share"]), _share(r["within"]),
                Paragraph(f'<font color="{colour.hexval().replace("0x", "#")}"><b>{verdict}</b></font>', _SMALL),
            ]
        )  # fmt: skip
    widths = [34 * mm, _WIDE - 34 * mm - 96 * mm, 30 * mm, 22 * mm, 22 * mm, 22 * mm]
    return _headed("Rules", _rows(cells, widths, right=(2, 3, 4)))


def _pins(proof: Proof, d: int) -> list[Flowable]:
    if not proof.pins:
        return []
    cells: list[list[Any]] = [["", "distance", "place", "face", "step", "note"]]
    for k, p in enumerate(proof.pins, 1):
        place = " ".join(f"{c:.2f}" for c in p.place)
        words = [Paragraph(escape(t), _SMALL) for t in (p.face, p.step, p.text)]
        cells.append([str(k), "no answer" if p.value is None else _signed(p.value, d), place, *words])
    widths = [7 * mm, 18 * mm, 38 * mm, 42 * mm, 28 * mm, _WIDE - 133 * mm]
    return _headed("Notes", _rows(cells, widths, right=(1,)))


def _regions(proof: Proof, d: int) -> list[Flowable]:
    regions = proof.summary.get("regions") or []
    if not regions:
        return []
    cells: list[list[Any]] = [["worst places", "mean", "area mm²", "place", "face"]]
    for r in regions:
        place = " ".join(f"{c:.2f}" for c in r["place"])
        area = f"{r['area']:.4g}" if r["area"] else "–"
        cells.append([_signed(r["worst"], d), _signed(r["mean"], d), area, place, Paragraph(escape(r["face"]), _SMALL)])
    widths = [24 * mm, 20 * mm, 22 * mm, 42 * mm, _WIDE - 108 * mm]
    return _headed("Where it lies worst", _rows(cells, widths, right=(0, 1, 2)))


def _table(title: str, rows: list[dict], d: int) -> list[Flowable]:
    if not rows:
        return []
    head = ["name", "kind", "points", "mean", "spread", "rms", "95 % under", "worst", "within", "verdict"]
    cells: list[list[Any]] = [head]
    for r in rows[:_ROWS]:
        cells.append(
            [
                Paragraph(escape(r["face"]), _SMALL), r["kind"], f"{r['points']:,}", _signed(r["mean"], d),
                _plain(r.get("spread"), d), _plain(r["rms"], d), _plain(r["p95"], d), _signed(r.get("worst"), d),
                _share(r["within"]), r.get("verdict", ""),
            ]
        )  # fmt: skip
    widths = [_WIDE - 131 * mm, 15 * mm, 14 * mm, 14 * mm, 14 * mm, 14 * mm, 16 * mm, 14 * mm, 13 * mm, 17 * mm]
    more = [Paragraph(f"And {len(rows) - _ROWS} more, in the table's own file.", _QUIET)] if len(rows) > _ROWS else []
    return _headed(title, _rows(cells, widths, right=range(2, 9)), *more)


def _values(proof: Proof) -> list[Flowable]:
    if not proof.values:
        return []
    cells: list[list[Any]] = [["value", "measured", "±", "chosen", "from"]]
    for v in proof.values:
        measured = "–" if v["measured"] is None else f"{v['measured']:.4f}"
        sure = "–" if v["uncertainty"] is None else f"{2 * v['uncertainty']:.4f}"
        cells.append([Paragraph(escape(v["name"]), _SMALL), measured, sure, f"{v['chosen']:.6g}", v["source"]])
    widths = [_WIDE - 96 * mm, 24 * mm, 22 * mm, 24 * mm, 26 * mm]
    return _headed("Values of the model", _rows(cells, widths, right=(1, 2, 3)))
