"""Relations, sizes and distances as equations with exact derivatives.

An equation is a value and its gradient by column of the unknowns; values in mm (an angle is told as a displacement at
the shorter line's half length; the value of a size of kind 'angle' is in degrees).
"""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .distances import bent_block
from .drawing import Drawing, Entity, Relation, Size, line_of

__all__ = ["Row", "end_direction", "relation_equations", "size_value", "structure"]

_TOUCH = 0.01  # of the span: ends this near are meant to meet

Row = tuple[float, dict[int, float]]


def _add(g: dict[int, float], i: int, v, f: float = 1.0) -> None:
    a, b = 2 * i, 2 * i + 1
    g[a] = g.get(a, 0.0) + f * float(v[0])
    g[b] = g.get(b, 0.0) + f * float(v[1])


def structure(d: Drawing, x) -> list[Row]:
    """An arc's ends lie on its circle."""
    rows: list[Row] = []
    for e in (*d.entities.values(), *d.references.values()):
        if e.kind != "arc":
            continue
        for p in e.points[:2]:
            rows.append(_on_round(d, p, e, x))
    return rows


def _on_round(d: Drawing, p: int, e: Entity, x) -> Row:
    """Signed distance of point p from a circle or arc."""
    v = d.point(p, x) - d.point(e.centre, x)
    r = max(float(np.hypot(*v)), 1e-12)
    g: dict[int, float] = {}
    _add(g, p, v / r)
    _add(g, e.centre, v / r, -1)
    g[e.column] = g.get(e.column, 0.0) - 1.0
    return r - float(x[e.column]), g


def _angle_row(d, e1, e2, x, quarter: int) -> Row:
    """Angle between two lines, less quarter turns, as a displacement in mm at the shorter line's half length."""
    (_, t1, n1, l1), (_, t2, n2, l2) = line_of(d, e1, x), line_of(d, e2, x)
    angle = np.arctan2(t1[0] * t2[1] - t1[1] * t2[0], t1 @ t2) - quarter * np.pi / 2
    angle = (angle + np.pi / 2) % np.pi - np.pi / 2
    s = 0.5 * min(line_of(d, e1, d.x)[3], line_of(d, e2, d.x)[3])  # a fixed lever, so that the gradient is exact
    g: dict[int, float] = {}
    _add(g, e2.points[1], n2 / l2, s)
    _add(g, e2.points[0], n2 / l2, -s)
    _add(g, e1.points[1], n1 / l1, -s)
    _add(g, e1.points[0], n1 / l1, s)
    return s * float(angle), g


def _point_line(d, p: int, e: Entity, x) -> Row:
    """Signed distance of point p from the line."""
    a, t, n, length = line_of(d, e, x)
    v = d.point(p, x) - a
    s = float(v @ t) / length
    g: dict[int, float] = {}
    _add(g, p, n)
    _add(g, e.points[0], n, -(1 - s))
    _add(g, e.points[1], n, -s)
    return float(v @ n), g


def end_direction(d: Drawing, e: Entity, p: int, x):
    """A direction of a curve at its end p: unnormalised vector (2,), and what it is made of as (point, weight) pairs,
    the second for its square turn (arcs).
    """
    if e.kind == "line":
        return d.point(e.points[1], x) - d.point(e.points[0], x), ((e.points[1], 1.0), (e.points[0], -1.0)), False
    if e.kind == "spline":
        near = (e.points[0], e.points[1]) if p == e.points[0] else (e.points[-2], e.points[-1])
        return d.point(near[1], x) - d.point(near[0], x), ((near[1], 1.0), (near[0], -1.0)), False
    return d.point(p, x) - d.point(e.centre, x), ((p, 1.0), (e.centre, -1.0)), True


def _tangent_at_end(d: Drawing, e1: Entity, e2: Entity, p: int, q: int, x) -> Row:
    """Two curves run on smoothly, the one at its end p, the other at its end q."""
    u, of_u, turned_u = end_direction(d, e1, p, x)
    v, of_v, turned_v = end_direction(d, e2, q, x)
    if turned_u != turned_v:  # a radius is square to its tangent
        value, du, dv = float(u @ v), v, u
    else:
        value = float(u[0] * v[1] - u[1] * v[0])
        du, dv = np.array([v[1], -v[0]]), np.array([-u[1], u[0]])
    s = 1.0 / max(float(np.hypot(*u)), float(np.hypot(*v)), 1e-12)
    long = u if np.hypot(*u) >= np.hypot(*v) else v
    g: dict[int, float] = {}
    for i, f in of_u:
        _add(g, i, du, s * f)
    for i, f in of_v:
        _add(g, i, dv, s * f)
    # The scale moves with the longer one: its share of the gradient.
    for i, f in of_u if long is u else of_v:
        _add(g, i, long, -value * s**3 * f)
    return value * s, g


def _tangent(d, e1: Entity, e2: Entity, x) -> Row:
    if e1.kind != "line" and e2.kind == "line":
        e1, e2 = e2, e1
    ends1, ends2 = e1.ends or (), e2.ends or ()
    shared = sorted(set(ends1) & set(ends2))
    if shared:
        return _tangent_at_end(d, e1, e2, shared[0], shared[0], x)
    if "spline" in (e1.kind, e2.kind):
        gap, p, q = min((float(np.hypot(*(d.point(i, x) - d.point(j, x)))), i, j) for i in ends1 for j in ends2)
        if gap < _TOUCH * d.span:
            return _tangent_at_end(d, e1, e2, p, q, x)
        raise BadInput(f"'{e1.id}' and '{e2.id}' meet at no end; join their ends first.", field="relations")
    if e1.kind == "line":
        value, g = _point_line(d, e2.centre, e1, x)
        side = 1.0 if value >= 0 else -1.0
        g[e2.column] = g.get(e2.column, 0.0) - side
        return value - side * float(x[e2.column]), g
    v = d.point(e2.centre, x) - d.point(e1.centre, x)
    dist = max(float(np.hypot(*v)), 1e-12)
    r1, r2 = float(x[e1.column]), float(x[e2.column])
    g = {}
    _add(g, e2.centre, v / dist)
    _add(g, e1.centre, v / dist, -1)
    if abs(dist - (r1 + r2)) <= abs(dist - abs(r1 - r2)):
        g[e1.column], g[e2.column] = -1.0, -1.0
        return dist - r1 - r2, g
    side = 1.0 if r1 >= r2 else -1.0
    g[e1.column], g[e2.column] = -side, side
    return dist - abs(r1 - r2), g


def _same_place(p: int, q: int, x) -> list[Row]:
    return [(float(x[2 * q + k] - x[2 * p + k]), {2 * q + k: 1.0, 2 * p + k: -1.0}) for k in range(2)]


def _on_curve(d: Drawing, p: int, e: Entity, x) -> Row:
    if e.kind == "line":
        return _point_line(d, p, e, x)
    if e.kind in ("arc", "circle"):
        return _on_round(d, p, e, x)
    at = d.point(p, x)
    off, columns, j, n = bent_block(d, e, at[None], x)
    g = {int(c): float(v) for c, v in zip(columns, j[0])}
    _add(g, p, n[0])
    return float(off[0]), g


def _symmetric(d: Drawing, p: int, q: int, e: Entity, x) -> list[Row]:
    """q is p's mirror image in a line."""
    a, b = d.point(e.points[0], x), d.point(e.points[1], x)
    pq, t = d.point(q, x) - d.point(p, x), b - a
    length = max(float(np.hypot(*t)), 1e-12)
    u = t / length
    along: dict[int, float] = {}
    _add(along, q, u)
    _add(along, p, u, -1)
    across = pq - (pq @ u) * u
    _add(along, e.points[1], across, 1 / length)
    _add(along, e.points[0], across, -1 / length)
    (v1, g1), (v2, g2) = _point_line(d, p, e, x), _point_line(d, q, e, x)
    middle = {k: 0.5 * c for k, c in g1.items()}
    for k, c in g2.items():
        middle[k] = middle.get(k, 0.0) + 0.5 * c
    return [(float(pq @ u), along), (0.5 * (v1 + v2), middle)]


def _turned(p: int, q: int, c: int, degrees: float, x) -> list[Row]:
    """q is p turned about c."""
    w = np.radians(degrees)
    m = np.array([[np.cos(w), -np.sin(w)], [np.sin(w), np.cos(w)]])
    xp, xq, xc = (x[2 * i : 2 * i + 2] for i in (p, q, c))
    off = xq - xc - m @ (xp - xc)
    rest = m - np.eye(2)
    rows = []
    for k in range(2):
        g: dict[int, float] = {2 * q + k: 1.0}
        _add(g, p, -m[k])
        _add(g, c, rest[k])
        rows.append((float(off[k]), g))
    return rows


def _stepped(p: int, q: int, first: int, last: int, by: float, x) -> list[Row]:
    """The step from p to q, taken ``by`` times, leads from the first to the last."""
    rows = []
    for k in range(2):
        g: dict[int, float] = {}
        for i, f in ((last, 1.0), (first, -1.0), (q, -by), (p, by)):
            g[2 * i + k] = g.get(2 * i + k, 0.0) + f
        rows.append((float(sum(f * x[c] for c, f in g.items())), g))
    return rows


def _offset(d: Drawing, one: Entity, two: Entity, by: float, x) -> list[Row]:
    """A line beside a line, or a circle about a circle, so far off."""
    if one.kind == "line":
        return [(v - by, g) for v, g in (_point_line(d, p, one, x) for p in two.points[:2])]
    same = [] if one.centre == two.centre else _same_place(one.centre, two.centre, x)
    return [*same, (float(x[two.column] - x[one.column]) - by, {two.column: 1.0, one.column: -1.0})]


def relation_equations(d: Drawing, r: Relation, x) -> list[Row]:
    """The equations of one relation; values in mm. 'fixed' has none: its columns stand still."""
    k = r.kind
    if k == "fixed":
        return []
    if k in ("coincident", "concentric"):
        p, q = (d.place(i) for i in r.of)
        return [] if p == q else _same_place(p, q, x)
    if k == "turned":
        p, q, c = (d.place(i) for i in r.of)
        return _turned(p, q, c, r.by, x)
    if k == "stepped":
        p, q, first, last = (d.place(i) for i in r.of)
        return _stepped(p, q, first, last, r.by, x)
    es = [d.entity(i) for i in r.of]
    if k == "offset":
        return _offset(d, es[0], es[1], r.by, x)
    if k in ("horizontal", "vertical"):
        axis = 1 if k == "horizontal" else 0
        a, b = es[0].points[:2] if len(es) == 1 else (d.place(r.of[0]), d.place(r.of[1]))
        return [(float(x[2 * b + axis] - x[2 * a + axis]), {2 * b + axis: 1.0, 2 * a + axis: -1.0})]
    if k == "parallel":
        return [_angle_row(d, es[0], es[1], x, 0)]
    if k == "perpendicular":
        return [_angle_row(d, es[0], es[1], x, 1)]
    if k == "collinear":
        return [_point_line(d, p, es[0], x) for p in es[1].points[:2]]
    if k == "tangent":
        return [_tangent(d, es[0], es[1], x)]
    if k == "on_curve":
        p = d.place(r.of[0])
        return [] if p in es[1].points[:2] and es[1].kind != "circle" else [_on_curve(d, p, es[1], x)]
    if k == "midpoint":
        p, (a, b) = d.place(r.of[0]), es[1].points[:2]
        return [
            (
                float(x[2 * p + i] - 0.5 * (x[2 * a + i] + x[2 * b + i])),
                {2 * p + i: 1.0, 2 * a + i: -0.5, 2 * b + i: -0.5},
            )
            for i in range(2)
        ]
    if k == "symmetric":
        rows = _symmetric(d, d.place(r.of[0]), d.place(r.of[1]), es[2], x)
        if "." not in r.of[0] and es[0].radius is not None:
            rows.append((float(x[es[1].column] - x[es[0].column]), {es[1].column: 1.0, es[0].column: -1.0}))
        return rows
    if k == "equal":
        if es[0].kind == "line":
            (_, t1, _, l1), (_, t2, _, l2) = line_of(d, es[0], x), line_of(d, es[1], x)
            g: dict[int, float] = {}
            for e, t, f in ((es[1], t2, 1.0), (es[0], t1, -1.0)):
                _add(g, e.points[1], t, f)
                _add(g, e.points[0], t, -f)
            return [(l2 - l1, g)]
        return [(float(x[es[1].column] - x[es[0].column]), {es[1].column: 1.0, es[0].column: -1.0})]
    raise ValueError(f"no relation of kind {k}")


def _angle_between(d: Drawing, one: Entity, two: Entity, x) -> Row:
    """Degrees from one line to the other: inside their corner where they share an end, else the lesser angle."""
    (_, t1, n1, l1), (_, t2, n2, l2) = line_of(d, one, x), line_of(d, two, x)
    shared = set(one.points[:2]) & set(two.points[:2])
    if shared:
        p = min(shared)
        s1, s2 = (1.0 if p == e.points[0] else -1.0 for e in (one, two))
    else:
        (_, f1, _, _), (_, f2, _, _) = line_of(d, one, d.x), line_of(d, two, d.x)
        s1, s2 = 1.0, 1.0 if f1 @ f2 >= 0 else -1.0
    u, v = s1 * t1, s2 * t2
    signed = float(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v))
    side = np.degrees(1.0 if signed >= 0 else -1.0)
    g: dict[int, float] = {}
    _add(g, two.points[1], n2 / l2, side)
    _add(g, two.points[0], n2 / l2, -side)
    _add(g, one.points[1], n1 / l1, -side)
    _add(g, one.points[0], n1 / l1, side)
    return abs(float(np.degrees(signed))), g


def _gap(p: int, q: int, x) -> Row:
    """Distance of two points."""
    v = x[2 * q : 2 * q + 2] - x[2 * p : 2 * p + 2]
    r = max(float(np.hypot(*v)), 1e-12)
    g: dict[int, float] = {}
    _add(g, q, v / r)
    _add(g, p, v / r, -1)
    return r, g


def size_value(d: Drawing, s: Size, x) -> Row:
    """The size's value (mm, degrees) and its gradient."""
    es = [d.entity(i) for i in s.of]
    k = s.kind
    if k in ("radius", "diameter", "minor_radius"):
        f = 2.0 if k == "diameter" else 1.0
        return f * float(x[es[0].column]), {es[0].column: f}
    if k == "major_radius":
        return _gap(es[0].points[0], es[0].points[1], x)
    if k == "length":
        return _gap(es[0].points[0], es[0].points[1], x)
    if k == "angle":
        return _angle_between(d, es[0], es[1], x)
    if k == "width":
        value: float = 0.0
        total: dict[int, float] = {}
        for p in es[1].points[:2]:
            v, g = _point_line(d, p, es[0], x)
            value += 0.5 * v
            for c, w in g.items():
                total[c] = total.get(c, 0.0) + 0.5 * w
        return _positive(value, total)
    places = [d.place(i) for i in s.of if d.kind_of(i) != "line"]
    if k == "distance" and len(places) == 1:
        return _positive(*_point_line(d, places[0], es[1], x))
    if k in ("distance", "spacing"):
        return _gap(places[0], places[1], x)
    axis = 0 if k.endswith("_x") else 1
    if k.startswith("spacing"):
        a, b = 2 * places[0] + axis, 2 * places[1] + axis
        return _positive(float(x[b] - x[a]), {b: 1.0, a: -1.0})
    column = 2 * places[0] + axis
    return float(x[column]), {column: 1.0}


def _positive(value: float, g: dict[int, float]) -> Row:
    side = 1.0 if value >= 0 else -1.0
    return side * value, {c: side * w for c, w in g.items()}
