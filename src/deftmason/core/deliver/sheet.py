"""A drawing sheet of a body: three views with hidden lines, a section, a view from the corner, sizes, values, title.

Views stand as ISO 128 has them in first angle: that from above lies below the front, that from the left to its right.
All is laid on the paper in mm, y upward, as entities and texts on layers; `sheet_files` writes it.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..kernel.body import Body
from ..kernel.projecting import Projected, projected
from ..kernel.sectioning import section_curves
from ..kernel.tessellate import bounds_of
from ..kernel.whole import cut_off
from ..sketch.curve import curve_of

__all__ = ["Sheet", "Text", "drawing_sheet"]

_PAPER = (420.0, 297.0)  # A3
_EDGE, _GAP, _ROOM = 10.0, 14.0, 12.0  # mm: to the paper's edge, between views, round a view for its sizes
_BLOCK = (180.0, 40.0)
_SCALES = [m * 10.0**e for e in range(4, -6, -1) for m in (5.0, 2.0, 1.0)]
_HATCH = 2.5
_MOST_VALUES = 22
_CORNER = (0.62, -0.7, 0.55)

#: Layers, and how wide their lines are, mm; hidden lines are dashed.
LAYERS = {"seen": 0.5, "hidden": 0.25, "hatch": 0.18, "size": 0.18, "frame": 0.35, "centre": 0.18}


@dataclass(frozen=True)
class Text:
    """Words at (x, y) on the paper, ``high`` mm; ``anchor`` start, middle or end; ``turned`` by 90°."""

    at: tuple[float, float]
    words: str
    high: float = 2.5
    anchor: str = "start"
    turned: bool = False


@dataclass
class Sheet:
    """``size`` (w, h) mm; ``scale`` paper to part; entities in contract keys by layer; texts."""

    size: tuple[float, float]
    scale: float
    lines: dict[str, list[dict[str, Any]]] = field(default_factory=lambda: {name: [] for name in LAYERS})
    texts: list[Text] = field(default_factory=list)

    def line(self, layer: str, a, b) -> None:
        self.lines[layer].append({"kind": "line", "start": list(map(float, a)), "end": list(map(float, b))})

    def box(self, layer: str, x: float, y: float, w: float, h: float) -> None:
        corners = [(x, y), (x + w, y), (x + w, y + h), (x, y + h)]
        for a, b in zip(corners, corners[1:] + corners[:1]):
            self.line(layer, a, b)


@dataclass(frozen=True)
class _View:
    """What is drawn of a view, its bounds (x0, y0, x1, y1) in the part's mm."""

    name: str
    lines: Projected
    bounds: tuple[float, float, float, float]

    @property
    def wide(self) -> float:
        return self.bounds[2] - self.bounds[0]

    @property
    def high(self) -> float:
        return self.bounds[3] - self.bounds[1]


def drawing_sheet(
    body: Body, title: str, values: list[dict[str, Any]], notes: dict[str, str], section_at: float | None = None
) -> Sheet:
    """The sheet of a body in the frame's coordinates.

    ``values`` are lines of the ledger (``name``, ``chosen``, ``unit``); ``notes`` go into the title block;
    ``section_at`` is where on y the section lies, its middle where none is given.
    """
    low, high = bounds_of(body, tight=True)
    at = 0.5 * (low[1] + high[1]) if section_at is None else section_at
    front, left, top = (
        _view(n, projected(body, t, u))
        for n, t, u in (("", (0, -1, 0), (0, 0, 1)), ("", (-1, 0, 0), (0, 0, 1)), ("", (0, 0, 1), (0, 1, 0)))
    )
    corner = _view("", Projected(projected(body, _CORNER, (0, 0, 1)).seen, []))
    half = cut_off(body, (0.0, at, 0.0), (0.0, -1.0, 0.0), "half")
    cut = _view("A – A", Projected(projected(half, (0, -1, 0), (0, 0, 1)).seen, []))
    outline = section_curves(body, (0.0, at, 0.0), (0.0, -1.0, 0.0), (1.0, 0.0, 0.0))
    scale = _scale(front, left, top, cut)
    sheet = Sheet(_PAPER, scale)
    sheet.box("frame", _EDGE, _EDGE, _PAPER[0] - 2 * _EDGE, _PAPER[1] - 2 * _EDGE)
    x0, y1 = _EDGE + _ROOM + 6, _PAPER[1] - _EDGE - _ROOM
    columns = [x0, x0 + front.wide * scale + _GAP + _ROOM]
    columns.append(columns[1] + left.wide * scale + _GAP + _ROOM)
    row = y1 - front.high * scale
    below = row - _GAP - _ROOM - top.high * scale
    places = [(front, columns[0], row), (left, columns[1], row), (cut, columns[2], row), (top, columns[0], below)]
    shifts = [_draw(sheet, v, x, y, scale) for v, x, y in places]
    _hatched(sheet, outline, shifts[2], scale)
    _overall(sheet, places, scale)
    for v, shift in ((front, shifts[0]), (left, shifts[1]), (top, shifts[3])):
        _bores(sheet, v, shift, scale)
    _where_cut(sheet, top, shifts[3], at, scale)
    _from_corner(sheet, corner, columns[1], _EDGE + _ROOM, row - _GAP)
    _title_block(sheet, title, notes)
    _table(sheet, values)
    return sheet


def _view(name: str, lines: Projected) -> _View:
    p = np.vstack([curve_of(e).at(np.linspace(0, 1, 17)) for e in (*lines.seen, *lines.hidden)])
    return _View(name, lines, (*p.min(axis=0), *p.max(axis=0)))


def _scale(front: _View, left: _View, top: _View, cut: _View) -> float:
    """The largest usual scale at which the views find room."""
    wide = _PAPER[0] - 2 * _EDGE - 3 * (_GAP + _ROOM) - 10
    tall = _PAPER[1] - 2 * _EDGE - 2 * (_GAP + _ROOM) - 6
    need = max((front.wide + left.wide + cut.wide) / wide, (front.high + top.high) / tall, 1e-12)
    return next((s for s in _SCALES if s * need <= 1), _SCALES[-1])


def _moved(e: dict[str, Any], scale: float, shift: np.ndarray) -> dict[str, Any]:
    out = dict(e)
    for k in ("start", "end", "center", "major", "at"):
        if k in e:
            out[k] = (scale * np.array(e[k]) + shift).tolist()
    for k in ("radius", "minor_radius"):
        if k in e:
            out[k] = scale * e[k]
    if "poles" in e:
        out["poles"] = (scale * np.array(e["poles"]) + shift).tolist()
    return out


def _draw(sheet: Sheet, v: _View, x: float, y: float, scale: float) -> np.ndarray:
    """Draw a view with its lower left corner at (x, y); the shift that carries its mm onto the paper."""
    shift = np.array([x, y]) - scale * np.array(v.bounds[:2])
    for layer, entities in (("seen", v.lines.seen), ("hidden", v.lines.hidden)):
        sheet.lines[layer] += [_moved(e, scale, shift) for e in entities]
    if v.name:
        sheet.texts.append(Text((x + 0.5 * v.wide * scale, y + v.high * scale + 4), v.name, 3.5, "middle"))
    return shift


def _hatched(sheet: Sheet, outline: list[dict[str, Any]], shift: np.ndarray, scale: float) -> None:
    """What the plane cuts, hatched at 45°."""
    from shapely import line_merge
    from shapely.geometry import LineString, MultiLineString
    from shapely.ops import polygonize, unary_union

    runs = [np.round(curve_of(e).at(np.linspace(0, 1, 2 if e["kind"] == "line" else 65)), 7) for e in outline]
    if not runs:
        return
    drawn = unary_union([LineString(scale * r + shift) for r in runs])
    rings = sorted(polygonize(line_merge(drawn)), key=lambda p: -p.area)
    solid = [p for p in rings if _is_solid(p, rings)]
    for p in solid:
        x0, y0, x1, y1 = p.bounds
        tall = y1 - y0
        steps = np.arange(0.5 * _HATCH, x1 - x0 + tall, _HATCH * np.sqrt(2))
        lines = [LineString([(x0 + t - tall, y0), (x0 + t, y1)]) for t in steps]
        hit = p.intersection(MultiLineString(lines))
        for piece in getattr(hit, "geoms", [hit]):
            if piece.geom_type == "LineString" and piece.length > 0.2:
                sheet.line("hatch", piece.coords[0], piece.coords[-1])


def _is_solid(p, rings: list) -> bool:
    """Whether a region that the outlines part is matter: by how many outer rings hold it."""
    from shapely.geometry import Polygon

    inside = p.representative_point()
    return sum(Polygon(r.exterior).contains(inside) for r in rings) % 2 == 1


def _arrow(sheet: Sheet, tip: np.ndarray, along: np.ndarray) -> None:
    side = np.array([-along[1], along[0]])
    for s in (0.5, -0.5):
        sheet.line("size", tip, tip + 2.2 * along + s * 0.9 * side)


def _number(v: float) -> str:
    return f"{v:.3f}".rstrip("0").rstrip(".")


def _sized(sheet: Sheet, a, b, off: float, value: float) -> None:
    """A size between two places that lie level or upright, its line ``off`` mm beside them."""
    a, b = np.array(a, float), np.array(b, float)
    upright = abs(a[0] - b[0]) < abs(a[1] - b[1])
    way = np.array([off, 0.0]) if upright else np.array([0.0, off])
    p, q = a + way, b + way
    for c, d in ((a, p), (b, q)):
        sheet.line("size", c + 0.15 * way, d + 0.12 * way)
    sheet.line("size", p, q)
    along = (q - p) / max(float(np.linalg.norm(q - p)), 1e-9)
    _arrow(sheet, p, along)
    _arrow(sheet, q, -along)
    middle = 0.5 * (p + q) + (np.array([-1.2, 0.0]) if upright else np.array([0.0, 1.0]))
    sheet.texts.append(Text((float(middle[0]), float(middle[1])), _number(value), 3.0, "middle", upright))


def _overall(sheet: Sheet, places: list, scale: float) -> None:
    """Width and height of the front, depth of the view from above."""
    front, x, y = places[0]
    _sized(sheet, (x, y), (x + front.wide * scale, y), -8.0, front.wide)
    _sized(sheet, (x, y), (x, y + front.high * scale), -8.0, front.high)
    top, x, y = places[3]
    _sized(sheet, (x, y), (x, y + top.high * scale), -8.0, top.high)


def _bores(sheet: Sheet, v: _View, shift: np.ndarray, scale: float) -> None:
    """Centre lines of circles, and one size for each width, with how many there are."""
    by = defaultdict(list)
    for e in v.lines.seen:
        if e["kind"] == "circle":
            by[round(2 * e["radius"], 4)].append(scale * np.array(e["center"]) + shift)
    used = 0
    for diameter, centres in sorted(by.items()):
        r = 0.5 * diameter * scale
        for c in {tuple(np.round(c, 6)) for c in centres}:
            for d in (np.array([r + 2, 0.0]), np.array([0.0, r + 2])):
                sheet.line("centre", c - d, c + d)
        count = len({tuple(np.round(c, 6)) for c in centres})
        # Led out to the right of the view, each a line of its own.
        c = max(centres, key=lambda p: (p[0], p[1]))
        way = np.array([np.cos(0.9), np.sin(0.9)])
        knee = np.array([scale * v.bounds[2] + shift[0] + 7, c[1] + (r + 5) * way[1] + 4.5 * used])
        start = c + r * (knee - c) / max(float(np.linalg.norm(knee - c)), 1e-9)
        sheet.line("size", start, knee)
        _arrow(sheet, start, (knee - start) / max(float(np.linalg.norm(knee - start)), 1e-9))
        many = f"{count} × " if count > 1 else ""
        sheet.texts.append(Text((float(knee[0] + 0.8), float(knee[1] - 1)), f"{many}⌀ {_number(diameter)}", 3.0))
        used += 1


def _where_cut(sheet: Sheet, top: _View, shift: np.ndarray, at: float, scale: float) -> None:
    """Where the section lies, on the view from above."""
    y = scale * at + shift[1]
    x0, x1 = scale * top.bounds[0] + shift[0], scale * top.bounds[2] + shift[0]
    sheet.line("centre", (x0 - 4, y), (x1 + 4, y))
    for x in (x0 - 4, x1 + 4):
        sheet.line("size", (x, y - 6), (x, y))
        _arrow(sheet, np.array([x, y]), np.array([0.0, -1.0]))
        sheet.texts.append(Text((x, y - 10.5), "A", 3.5, "middle"))


def _from_corner(sheet: Sheet, v: _View, x: float, y: float, top: float) -> None:
    """The view from the corner, in what room there is beside the view from above."""
    right = _PAPER[0] - _EDGE - _BLOCK[0] - 4
    wide, tall = max(right - x - 8, 30.0), max(top - y, 30.0)
    scale = min(wide / v.wide, tall / v.high, 2 * sheet.scale)
    _draw(sheet, v, x + 8 + 0.5 * (wide - v.wide * scale), y + 0.5 * (tall - v.high * scale), scale)


def _title_block(sheet: Sheet, title: str, notes: dict[str, str]) -> None:
    w, h = _BLOCK
    x, y = _PAPER[0] - _EDGE - w, _EDGE
    sheet.box("frame", x, y, w, h)
    sheet.line("frame", (x, y + 26), (x + w, y + 26))
    sheet.texts.append(Text((x + 4, y + 30), title[:60], 5.0))
    scale = f"{_number(sheet.scale)} : 1" if sheet.scale >= 1 else f"1 : {_number(1 / sheet.scale)}"
    told = {"scale": scale, "units": "mm", "projection": "first angle", **notes}
    for k, (name, words) in enumerate(list(told.items())[:8]):
        column, row = divmod(k, 4)
        at = (x + 4 + column * w / 2, y + 20.5 - 5.6 * row)
        sheet.texts.append(Text(at, f"{name}: {words}"[:52], 2.6))


def _table(sheet: Sheet, values: list[dict[str, Any]]) -> None:
    """Sizes of the model as chosen, over the title block."""
    shown = values[:_MOST_VALUES]
    columns = 2 if len(shown) > _MOST_VALUES / 2 else 1
    rows = -(-len(shown) // columns)
    x, y = _PAPER[0] - _EDGE - _BLOCK[0], _EDGE + _BLOCK[1] + 5 + 4.6 * rows
    for k, v in enumerate(shown):
        column, row = divmod(k, rows)
        left, base = x + column * _BLOCK[0] / columns, y - 4.6 * row
        unit = "°" if v.get("unit") == "deg" else ""
        sheet.texts.append(Text((left + 2, base), v["name"][:34], 2.5))
        end = left + _BLOCK[0] / columns - 4
        sheet.texts.append(Text((end, base), f"{_number(v['chosen'])}{unit}", 2.5, "end"))
    if len(values) > _MOST_VALUES:
        sheet.texts.append(Text((x + 2, y + 5), f"and {len(values) - _MOST_VALUES} more, in the script", 2.5))
