"""Relations and sizes as equations c(x) = 0 with their gradients, and the trace as residuals with theirs."""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .drawing import Drawing, Entity, Relation, Size

__all__ = ["structure", "relation_equations", "size_value", "trace_residuals", "trace_blocks", "distance_to_entity"]

Row = tuple[float, dict[int, float]]


def _xy(i: int) -> tuple[int, int]:
    return 2 * i, 2 * i + 1


def _add(g: dict[int, float], i: int, v, f: float = 1.0) -> None:
    a, b = _xy(i)
    g[a] = g.get(a, 0.0) + f * float(v[0])
    g[b] = g.get(b, 0.0) + f * float(v[1])


def _line(d: Drawing, e: Entity, x):
    a, b = d.point(e.points[0], x), d.point(e.points[1], x)
    t = b - a
    length = float(np.hypot(*t))
    if not length > 1e-9 * max(
        float(np.abs(t).max()), float(np.ptp(d.x[: 2 * d.point_count])) if d.point_count else 1.0
    ):
        raise BadInput(f"The line '{e.id}' has shrunk to a point; take it out or fix its ends.", field="entities")
    t = t / length
    return a, t, np.array([-t[1], t[0]]), length


def _centre(e: Entity) -> int:
    return e.points[-1]


def structure(d: Drawing, x) -> list[Row]:
    """An arc's ends lie on its circle."""
    rows: list[Row] = []
    for e in d.entities.values():
        if e.kind != "arc":
            continue
        for p in e.points[:2]:
            v = d.point(p, x) - d.point(_centre(e), x)
            r = max(float(np.hypot(*v)), 1e-12)
            g: dict[int, float] = {}
            _add(g, p, v / r)
            _add(g, _centre(e), v / r, -1)
            g[e.column] = -1.0
            rows.append((r - float(x[e.column]), g))
    return rows


def _angle_row(d, e1, e2, x, quarter: int) -> Row:
    """Angle between two lines, less quarter turns, as a displacement in mm at the shorter line's half length."""
    (_, t1, n1, l1), (_, t2, n2, l2) = _line(d, e1, x), _line(d, e2, x)
    angle = np.arctan2(t1[0] * t2[1] - t1[1] * t2[0], t1 @ t2) - quarter * np.pi / 2
    angle = (angle + np.pi / 2) % np.pi - np.pi / 2
    s = 0.5 * min(_line(d, e1, d.x)[3], _line(d, e2, d.x)[3])  # a fixed lever, so that the gradient is exact
    g: dict[int, float] = {}
    _add(g, e2.points[1], n2 / l2, s)
    _add(g, e2.points[0], n2 / l2, -s)
    _add(g, e1.points[1], n1 / l1, -s)
    _add(g, e1.points[0], n1 / l1, s)
    return s * float(angle), g


def _point_line(d, p: int, e: Entity, x) -> Row:
    """Signed distance of point p from the line."""
    a, t, n, length = _line(d, e, x)
    v = d.point(p, x) - a
    s = float(v @ t) / length
    g: dict[int, float] = {}
    _add(g, p, n)
    _add(g, e.points[0], n, -(1 - s))
    _add(g, e.points[1], n, -s)
    return float(v @ n), g


def _tangent(d, e1: Entity, e2: Entity, x) -> Row:
    if e1.kind != "line" and e2.kind == "line":
        e1, e2 = e2, e1
    shared = set(e1.points[:2]) & set(e2.points[:2]) if e2.kind == "arc" and e1.kind != "circle" else set()
    g: dict[int, float] = {}
    if e1.kind == "line" and shared:
        p = shared.pop()
        _, t, n, length = _line(d, e1, x)
        v = d.point(p, x) - d.point(_centre(e2), x)
        _add(g, p, t)
        _add(g, _centre(e2), t, -1)
        k = float(v @ n) / length
        _add(g, e1.points[1], n, k)
        _add(g, e1.points[0], n, -k)
        return float(v @ t), g
    if e1.kind == "line":
        value, g = _point_line(d, _centre(e2), e1, x)
        side = 1.0 if value >= 0 else -1.0
        g[e2.column] = g.get(e2.column, 0.0) - side
        return value - side * float(x[e2.column]), g
    if shared:
        p = shared.pop()
        a, b = d.point(p, x) - d.point(_centre(e1), x), d.point(p, x) - d.point(_centre(e2), x)
        s = 1.0 / max(np.hypot(*a), np.hypot(*b), 1e-9)
        value = (a[0] * b[1] - a[1] * b[0]) * s
        da, db = np.array([b[1], -b[0]]) * s, np.array([-a[1], a[0]]) * s
        _add(g, p, da + db)
        _add(g, _centre(e1), da, -1)
        _add(g, _centre(e2), db, -1)
        return float(value), g
    v = d.point(_centre(e2), x) - d.point(_centre(e1), x)
    dist = max(float(np.hypot(*v)), 1e-12)
    r1, r2 = float(x[e1.column]), float(x[e2.column])
    _add(g, _centre(e2), v / dist)
    _add(g, _centre(e1), v / dist, -1)
    if abs(dist - (r1 + r2)) <= abs(dist - abs(r1 - r2)):
        g[e1.column], g[e2.column] = -1.0, -1.0
        return dist - r1 - r2, g
    side = 1.0 if r1 >= r2 else -1.0
    g[e1.column], g[e2.column] = -side, side
    return dist - abs(r1 - r2), g


def relation_equations(d: Drawing, r: Relation, x) -> list[Row]:
    """The equations of one relation; values in mm."""
    es = [d.entities[i] for i in r.of]
    if r.kind in ("horizontal", "vertical"):
        axis = 1 if r.kind == "horizontal" else 0
        a, b = es[0].points[:2] if len(es) == 1 else (_centre(es[0]), _centre(es[1]))
        return [(float(x[2 * b + axis] - x[2 * a + axis]), {2 * b + axis: 1.0, 2 * a + axis: -1.0})]
    if r.kind == "parallel":
        return [_angle_row(d, es[0], es[1], x, 0)]
    if r.kind == "perpendicular":
        return [_angle_row(d, es[0], es[1], x, 1)]
    if r.kind == "collinear":
        return [_point_line(d, p, es[0], x) for p in es[1].points[:2]]
    if r.kind == "tangent":
        return [_tangent(d, es[0], es[1], x)]
    if r.kind == "concentric":
        a, b = _centre(es[0]), _centre(es[1])
        return [(float(x[2 * b + k] - x[2 * a + k]), {2 * b + k: 1.0, 2 * a + k: -1.0}) for k in range(2)]
    if r.kind == "equal":
        if es[0].kind == "line":
            (_, t1, _, l1), (_, t2, _, l2) = _line(d, es[0], x), _line(d, es[1], x)
            g: dict[int, float] = {}
            for e, t, f in ((es[1], t2, 1.0), (es[0], t1, -1.0)):
                _add(g, e.points[1], t, f)
                _add(g, e.points[0], t, -f)
            return [(l2 - l1, g)]
        return [(float(x[es[1].column] - x[es[0].column]), {es[1].column: 1.0, es[0].column: -1.0})]
    raise ValueError(f"no relation of kind {r.kind}")


def size_value(d: Drawing, s: Size, x) -> Row:
    """The size's value (mm) and its gradient."""
    es = [d.entities[i] for i in s.of]
    if s.kind in ("radius", "diameter"):
        f = 2.0 if s.kind == "diameter" else 1.0
        return f * float(x[es[0].column]), {es[0].column: f}
    if s.kind == "width":
        value: float = 0.0
        total: dict[int, float] = {}
        for p in es[1].points[:2]:
            v, g = _point_line(d, p, es[0], x)
            value += 0.5 * v
            for k, c in g.items():
                total[k] = total.get(k, 0.0) + 0.5 * c
        side = 1.0 if value >= 0 else -1.0
        return side * value, {k: side * c for k, c in total.items()}
    axis = 0 if s.kind.endswith("_x") else 1
    if s.kind.startswith("spacing"):
        a, b = 2 * _centre(es[0]) + axis, 2 * _centre(es[1]) + axis
        side = 1.0 if x[b] >= x[a] else -1.0
        return side * float(x[b] - x[a]), {b: side, a: -side}
    column = 2 * _centre(es[0]) + axis
    return float(x[column]), {column: 1.0}


def distance_to_entity(d: Drawing, e: Entity, p: np.ndarray, x) -> np.ndarray:
    """Signed distances (n,) of samples (n, 2) to the entity's line or circle."""
    if e.kind == "line":
        a, _, n, _ = _line(d, e, x)
        return (p - a) @ n
    return np.linalg.norm(p - d.point(_centre(e), x), axis=1) - x[e.column]


def trace_blocks(d: Drawing, x):
    """For each stretch: its samples' distances to its entity (k,), the columns they depend on (c,) and the derivatives
    (k, c).
    """
    for i, p in d.stretches.items():
        e = d.entities[i]
        if e.kind == "line":
            a, t, n, length = _line(d, e, x)
            s = (p - a) @ t / length
            b, c = e.points[:2]
            columns = np.array([2 * b, 2 * b + 1, 2 * c, 2 * c + 1])
            j = np.column_stack([-n[0] * (1 - s), -n[1] * (1 - s), -n[0] * s, -n[1] * s])
            yield (p - a) @ n, columns, j
        else:
            v = p - d.point(_centre(e), x)
            far = np.linalg.norm(v, axis=1)
            u = v / np.maximum(far, 1e-300)[:, None]
            columns = np.array([2 * _centre(e), 2 * _centre(e) + 1, e.column])
            yield far - x[e.column], columns, np.column_stack([-u, -np.ones(len(p))])


def trace_residuals(d: Drawing, x) -> tuple[np.ndarray, np.ndarray]:
    """Distances of all stretches to their entities (n,) and the Jacobian (n, len(x))."""
    blocks = list(trace_blocks(d, x))
    r = np.concatenate([np.zeros(0), *(b[0] for b in blocks)])
    j = np.zeros((len(r), len(x)))
    at = 0
    for own, columns, part in blocks:
        j[at : at + len(own), columns] = part
        at += len(own)
    return r, j
