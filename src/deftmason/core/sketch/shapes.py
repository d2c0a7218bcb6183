"""Shapes drawn by hand from a few places: lines, arcs, circles, rectangles, slots, polygons, splines and the like.

A place that was meant to lie on something (an end, a centre, the middle of a line, a curve, the origin, an axis) takes
that place and keeps it by a relation. A shape of several entities is held together by relations, not by being a shape.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import BadInput
from .board import Board
from .curve import interpolated
from .drawing import uniform_knots

__all__ = ["SHAPES", "draw_shape", "snap"]

_LEVEL = np.radians(2.0)  # a line drawn this near to level or upright is meant so

#: What each shape is drawn from, in the order the places are asked for.
SHAPES: dict[str, tuple[str, ...]] = {
    "point": ("where it lies",),
    "line": ("where it begins", "where it ends"),
    "centre line": ("where it begins", "where it ends"),
    "polyline": ("where it begins", "where it goes on", "…"),
    "arc": ("where it begins", "where it ends", "a place it passes"),
    "arc about a centre": ("its centre", "where it begins", "where it ends"),
    "arc that runs on": ("the end it runs on from", "where it ends"),
    "circle": ("its centre", "a place on it"),
    "circle through three": ("a place on it", "another", "a third"),
    "ellipse": ("its centre", "the end of one axis", "a place on it"),
    "rectangle": ("a corner", "the opposite corner"),
    "rounded rectangle": ("a corner", "the opposite corner"),
    "slot": ("the middle of one end", "the middle of the other", "a place on its side"),
    "polygon": ("its centre", "a corner"),
    "spline": ("where it begins", "a place it passes", "…"),
    "spline by poles": ("where it begins", "a pole", "…"),
}


def snap(board: Board, place, reach: float, *, ignore=None) -> tuple[np.ndarray, tuple[str, str] | None]:
    """Where a place was meant to be, and how it is held there: ('coincident' | 'midpoint' | 'on_curve', to what).

    Ends, centres and poles come before middles, those before curves; the paper's origin and axes count like them.
    ``ignore`` : a place (2,) whose own marks do not count: it is what is put down.
    """
    p = np.asarray(place, float)
    best: tuple[float, np.ndarray, tuple[str, str]] | None = None
    marks = [("origin", np.zeros(2)), *(h for s in board.strokes if s.at is not None for h in board.handles(s.id))]
    for name, ref in board.references.items():
        if ref["kind"] == "point":
            marks.append((name, np.array(ref["at"], float)))
        elif ref["kind"] in ("circle", "arc"):
            marks.append((f"{name}.center", np.array(ref["center"], float)))
    for name, q in marks:
        d = float(np.linalg.norm(q - p))
        own = ignore is not None and float(np.linalg.norm(q - ignore)) < 1e-6 * reach
        if not own and d <= reach and (best is None or d < best[0]):
            best = (d, q, ("coincident", name))
    if best:
        return best[1], best[2]
    for c in board.curves():
        if c.kind == "line" and np.linalg.norm(c.at(0.5) - p) <= reach and c.id not in board.references:
            return c.at(0.5), ("midpoint", c.id)
    for c in board.curves():
        if c.kind == "point":
            continue
        q = c.at(c.nearest(p[None]))[0]
        d = float(np.linalg.norm(q - p))
        if d <= 0.7 * reach and (best is None or d < best[0]):
            best = (d, q, ("on_curve", c.id))
    for k, axis in enumerate(("axis_y", "axis_x")):
        if abs(p[k]) <= 0.7 * reach and (best is None or abs(p[k]) < best[0]):
            q = p.copy()
            q[k] = 0.0
            best = (abs(float(p[k])), q, ("on_curve", axis))
    return (best[1], best[2]) if best else (p, None)


def _hold(board: Board, handle: str, to: tuple[str, str] | None) -> None:
    if to:
        board.hold(to[0], handle, to[1])


def _circle_through(a, b, c) -> tuple[np.ndarray, float]:
    m = 2 * np.array([b - a, c - a])
    if abs(np.linalg.det(m)) < 1e-12 * max(float(np.abs(m).max()), 1e-300) ** 2:
        raise BadInput("The three places lie on one line; give another.", field="places")
    centre = np.linalg.solve(m, [b @ b - a @ a, c @ c - a @ a])
    return centre, float(np.linalg.norm(a - centre))


def _turns_left(a, b, c) -> bool:
    return float((b - a)[0] * (c - a)[1] - (b - a)[1] * (c - a)[0]) > 0


def _line(a, b) -> dict[str, Any]:
    return {"kind": "line", "start": a.tolist(), "end": b.tolist()}


def _round(a, b, centre, radius: float, ccw: bool = True) -> dict[str, Any]:
    ends = {"start": a.tolist(), "end": b.tolist(), "center": centre.tolist()}
    return {"kind": "arc", **ends, "radius": radius, "ccw": ccw}


def _lines(board: Board, corners: list[np.ndarray], closed: bool, construction: bool) -> list[str]:
    n = len(corners)
    names = [
        board.add(
            {"kind": "line", "start": corners[k].tolist(), "end": corners[(k + 1) % n].tolist()},
            construction=construction,
        )
        for k in range(n if closed else n - 1)
    ]
    for k, name in enumerate(names):
        if k + 1 < len(names) or closed:
            board.join(f"{name}.end", f"{names[(k + 1) % len(names)]}.start")
    return names


def _level(board: Board, name: str) -> None:
    d = board.curve(name).along(0.0)
    w = float(np.arctan2(abs(d[1]), abs(d[0])))
    if w < _LEVEL:
        board.hold("horizontal", name)
    elif w > np.pi / 2 - _LEVEL:
        board.hold("vertical", name)


def _rectangle(board: Board, a, b, construction: bool) -> list[str]:
    corners = [a, np.array([b[0], a[1]]), b, np.array([a[0], b[1]])]
    if min(abs(b[0] - a[0]), abs(b[1] - a[1])) < 1e-9:
        raise BadInput("The two corners make no rectangle; give one farther off.", field="places")
    names = _lines(board, corners, True, construction)
    for k, n in enumerate(names):
        board.hold("horizontal" if k % 2 == 0 else "vertical", n)
    return names


def draw_shape(
    board: Board,
    shape: str,
    places,
    *,
    reach: float = 0.0,
    sides: int = 6,
    radius: float | None = None,
    construction: bool = False,
) -> list[str]:
    """Add a shape through places (n, 2) on the paper; the names of its entities.

    ``reach`` : how near a place is taken for one that is there, mm.  ``sides`` : of a polygon.  ``radius`` : of a
    rounded rectangle's corners; a fifth of its shorter side where none is given. Raises `BadInput` where the places
    make none.
    """
    if shape not in SHAPES:
        raise BadInput(f"There is no shape '{shape}'; one of {', '.join(SHAPES)}.", field="shape")
    asked = SHAPES[shape]
    open_ended = asked[-1] == "…"
    fewest = 2 if open_ended else len(asked)
    got = [snap(board, p, reach) for p in places]
    if len(got) < fewest or (not open_ended and len(got) > fewest):
        raise BadInput(f"A {shape} is drawn from {fewest} places, and {len(got)} were given.", field="places")
    p = [q for q, _ in got]
    held = [h for _, h in got]
    span = float(np.ptp(np.array(p), axis=0).max()) if len(p) > 1 else 1.0
    if len(p) > 1 and not span > 1e-9:
        raise BadInput(f"The places of the {shape} lie on one spot; give them apart.", field="places")
    more: dict[str, Any] = {"construction": construction}
    if shape == "point":
        name = board.add({"kind": "point", "at": p[0].tolist()}, **more)
        _hold(board, name, held[0])
        return [name]
    if shape in ("line", "centre line", "polyline"):
        closed = len(p) > 3 and held[-1] is None and bool(np.linalg.norm(p[-1] - p[0]) <= max(reach, 1e-9 * span))
        corners = p[:-1] if closed else p
        names = _lines(board, corners, closed, construction or shape == "centre line")
        _hold(board, f"{names[0]}.start", held[0])
        for k, n in enumerate(names):
            if not (closed and k == len(names) - 1):
                _hold(board, f"{n}.end", held[k + 1])
            _level(board, n)
        return names
    if shape in ("arc", "arc about a centre", "arc that runs on"):
        return [_arc(board, shape, p, held, more)]
    if shape in ("circle", "circle through three"):
        centre, r = (p[0], float(np.linalg.norm(p[1] - p[0]))) if shape == "circle" else _circle_through(*p)
        name = board.add({"kind": "circle", "center": centre.tolist(), "radius": r}, **more)
        if shape == "circle":
            _hold(board, f"{name}.center", held[0])
            held = held[1:]
        for h in held:
            if h and h[0] == "coincident":
                board.hold("on_curve", h[1], name)
        return [name]
    if shape == "ellipse":
        a = p[1] - p[0]
        u = a / max(float(np.hypot(*a)), 1e-300)
        v = np.array([-u[1], u[0]])
        x, y = (p[2] - p[0]) @ u / np.hypot(*a), (p[2] - p[0]) @ v
        minor = abs(y) / np.sqrt(1 - x * x) if abs(x) < 0.999 else abs(y)
        if not minor > 1e-9 * span:
            raise BadInput("The third place lies on the axis; give one beside it.", field="places")
        name = board.add(
            {"kind": "ellipse", "center": p[0].tolist(), "major": p[1].tolist(), "minor_radius": float(minor)}, **more
        )
        _hold(board, f"{name}.center", held[0])
        return [name]
    if shape == "rectangle":
        names = _rectangle(board, p[0], p[1], construction)
        _hold(board, f"{names[0]}.start", held[0])
        _hold(board, f"{names[1]}.end", held[1])
        return names
    if shape == "rounded rectangle":
        return _rounded_rectangle(board, p[0], p[1], radius, construction)
    if shape == "slot":
        return _slot(board, p, held, more)
    if shape == "polygon":
        return _polygon(board, p, held, sides, more)
    if len(p) < 3 and shape == "spline by poles":
        raise BadInput("A spline by poles takes four or more; give more places.", field="places")
    if shape == "spline":
        e = interpolated(np.array(p), "")
        if e["degree"] < 3:
            t = np.linspace(0, 1, 4)
            from .curve import curve_of

            e = interpolated(curve_of(e).at(t), "")
    else:
        poles = np.array(p if len(p) > 3 else [p[0], 0.5 * (p[0] + p[1]), p[1], p[-1]])
        e = {"kind": "spline", "degree": 3, "knots": uniform_knots(len(poles)).tolist(), "poles": poles.tolist()}
    name = board.add({**e, "id": ""}, **more)
    _hold(board, f"{name}.start", held[0])
    _hold(board, f"{name}.end", held[-1])
    return [name]


def _arc(board: Board, shape: str, p, held, more) -> str:
    if shape == "arc":
        a, b, through = p
        centre, r = _circle_through(a, through, b)
        ccw, hold = _turns_left(a, through, b), {"start": held[0], "end": held[1]}
    elif shape == "arc about a centre":
        centre, a, toward = p
        r = float(np.linalg.norm(a - centre))
        off = toward - centre
        b = centre + r * off / max(float(np.hypot(*off)), 1e-300)
        ccw, hold = _turns_left(centre, a, b), {"center": held[0], "start": held[1]}
    else:
        a, b = p
        if not held[0] or held[0][0] != "coincident" or "." not in held[0][1]:
            raise BadInput("An arc that runs on begins at an end of a line or an arc; click one.", field="places")
        from_, _, which = held[0][1].partition(".")
        c = board.curve(from_)
        at_end = which == "end"
        d = c.along(float(at_end)) * (1 if at_end else -1)
        n = np.array([-d[1], d[0]]) / max(float(np.hypot(*d)), 1e-300)
        chord = b - a
        lean = float(chord @ n)
        if abs(lean) < 1e-9 * float(np.hypot(*chord)):
            raise BadInput("Straight on there is no arc; give a place to one side.", field="places")
        r = abs(float(chord @ chord) / (2 * lean))
        centre = a + np.sign(lean) * r * n
        ccw, hold = lean > 0, {"start": held[0], "end": held[1]}
    name = board.add(
        {"kind": "arc", "start": a.tolist(), "end": b.tolist(), "center": centre.tolist(), "radius": r, "ccw": ccw},
        **more,
    )
    for which, h in hold.items():
        _hold(board, f"{name}.{which}", h)
    if shape == "arc that runs on":
        board.hold("tangent", held[0][1].partition(".")[0], name)
    return name


def _rounded_rectangle(board: Board, a, b, radius: float | None, construction: bool) -> list[str]:
    low, high = np.minimum(a, b), np.maximum(a, b)
    w, h = high - low
    r = 0.2 * min(w, h) if radius is None else radius
    if not 0 < 2 * r < min(w, h):
        raise BadInput("The corners are rounder than the rectangle is wide; give a smaller radius.", field="radius")
    lines, arcs = [], []
    more = {"construction": construction}
    for k in range(4):
        u = np.array([[1, 0], [0, 1], [-1, 0], [0, -1]])[k]
        corner = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])[k]
        ahead = np.array([[high[0], low[1]], high, [low[0], high[1]], low])[k]
        n = np.array([-u[1], u[0]])
        s, e = corner + r * u, ahead - r * u
        lines.append(board.add(_line(s, e), **more))
        c = ahead - r * u + r * n
        arcs.append(board.add(_round(e, ahead + r * n, c, float(r)), **more))
    for k in range(4):
        board.join(f"{lines[k]}.end", f"{arcs[k]}.start")
        board.join(f"{arcs[k]}.end", f"{lines[(k + 1) % 4]}.start")
        board.hold("tangent", lines[k], arcs[k])
        board.hold("tangent", lines[(k + 1) % 4], arcs[k])
        board.hold("horizontal" if k % 2 == 0 else "vertical", lines[k])
        if k:
            board.hold("equal", arcs[0], arcs[k])
    return [*lines, *arcs]


def _slot(board: Board, p, held, more) -> list[str]:
    d = p[1] - p[0]
    u = d / np.hypot(*d)
    n = np.array([-u[1], u[0]])
    r = abs(float((p[2] - p[0]) @ n))
    if not r > 1e-9:
        raise BadInput("The third place lies on the slot's axis; give one beside it.", field="places")
    a, b = (board.add(_line(s - k * r * n, e - k * r * n), **more) for k, s, e in ((1, p[0], p[1]), (-1, p[1], p[0])))
    one, two = (board.add(_round(c - k * r * n, c + k * r * n, c, r), **more) for k, c in ((1, p[1]), (-1, p[0])))
    for x, y in ((a, one), (one, b), (b, two), (two, a)):
        board.join(f"{x}.end", f"{y}.start")
        board.hold("tangent", x, y)
    board.hold("equal", one, two)
    _level(board, a)
    _hold(board, f"{two}.center", held[0])
    _hold(board, f"{one}.center", held[1])
    return [a, one, b, two]


def _polygon(board: Board, p, held, sides: int, more) -> list[str]:
    if not 3 <= sides <= 100:
        raise BadInput("A polygon has 3 to 100 sides.", field="sides")
    v = p[1] - p[0]
    w = 2 * np.pi * np.arange(sides) / sides
    corners = [p[0] + np.array([np.cos(t) * v[0] - np.sin(t) * v[1], np.sin(t) * v[0] + np.cos(t) * v[1]]) for t in w]
    names = _lines(board, corners, True, more["construction"])
    round_it = board.add({"kind": "circle", "center": p[0].tolist(), "radius": float(np.hypot(*v))}, construction=True)
    for k, n in enumerate(names):
        board.hold("on_curve", f"{n}.start", round_it)
        if k:
            board.hold("equal", names[0], n)
    _hold(board, f"{round_it}.center", held[0])
    _hold(board, f"{names[0]}.start", held[1])
    return [*names, round_it]
