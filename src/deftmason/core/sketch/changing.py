"""Changes to what is drawn: trim, extend, split, join, move, close gaps, make a guide of it, remove.

Each takes a `Board` and the names or places it is about, and changes the board; what it leaves is held by relations, so
that it stays so when the drawing is solved.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ..errors import BadInput
from .board import Board
from .curve import Curve, curve_of, meetings
from .drawing import Relation

__all__ = [
    "close_gaps",
    "end_index",
    "extend",
    "join_ends_of",
    "move",
    "nearest_ends",
    "remove",
    "split",
    "to_construction",
    "trim",
]

_END = 1e-7  # of a curve: nearer to its end a meeting is at the end


def _hold_end(board: Board, end: str, other: str, t: float) -> None:
    """An end that was cut at another entity stays on it, or at its end where it was cut there."""
    c = board.curve(other)
    if not c.closed and t < _END and other not in board.references:
        board.join(end, f"{other}.start")
    elif not c.closed and t > 1 - _END and other not in board.references:
        board.join(end, f"{other}.end")
    else:
        board.hold("on_curve", end, other)


def trim(board: Board, name: str, place) -> None:
    """Take away the stretch of an entity between the nearest crossings on either side of a place."""
    c = board.curve(name)
    if c.kind == "point":
        raise BadInput("A point has nothing to trim; delete it instead.", field="place")
    t = float(c.nearest(np.array([place], float))[0])
    found = board.meetings(name)
    if c.closed:
        if len(found) < 2:
            board.remove([name])
            return
        before = max((f for f in found if f[0] <= t), default=max(found), key=lambda f: f[0])
        after = min((f for f in found if f[0] > t), default=min(found), key=lambda f: f[0])
        low, high = after[0], before[0] + (1.0 if before[0] <= after[0] else 0.0)
        board.pieces(name, [(low, high)])
        kind = board.stroke(name).kind
        if kind in ("arc", "spline"):
            _hold_end(board, f"{name}.start", after[1], after[2])
            _hold_end(board, f"{name}.end", before[1], before[2])
        return
    inner = [f for f in found if _END < f[0] < 1 - _END]
    before_ = max((f for f in inner if f[0] <= t), default=None, key=lambda f: f[0])
    after_ = min((f for f in inner if f[0] > t), default=None, key=lambda f: f[0])
    parts = ([(0.0, before_[0])] if before_ else []) + ([(after_[0], 1.0)] if after_ else [])
    names = board.pieces(name, parts)
    if before_:
        _hold_end(board, f"{names[0]}.end", before_[1], before_[2])
    if after_:
        _hold_end(board, f"{names[-1]}.start", after_[1], after_[2])


def _run_on(c: Curve, at_end: bool, far: float) -> dict[str, Any]:
    """The curve's own course beyond its end, ``far`` mm or nearly once round."""
    p, d = c.at(float(at_end)), c.along(float(at_end)) * (1 if at_end else -1)
    d = d / max(float(np.hypot(*d)), 1e-300)
    if c.kind != "arc":
        return {"id": "", "kind": "line", "start": p.tolist(), "end": (p + far * d).tolist()}
    e = c.entity
    ccw = bool(e["ccw"]) == at_end
    other = c.at(float(not at_end))
    return {
        "id": "",
        "kind": "arc",
        "center": e["center"],
        "radius": e["radius"],
        "start": p.tolist(),
        "end": other.tolist(),
        "ccw": ccw,
    }


def extend(board: Board, name: str, place) -> None:
    """Lengthen an entity's end next to a place to what it meets first on its own course. Raises `BadInput` where
    nothing lies there.
    """
    c = board.curve(name)
    if c.kind not in ("line", "arc"):
        raise BadInput(f"A {c.kind} has no end that can run on; extend lines and arcs.", field="of")
    at_end = float(c.nearest(np.array([place], float))[0]) >= 0.5
    reach = 4 * float(np.ptp(np.vstack([o.fine[1] for o in board.curves()]), axis=0).max() + c.length)
    course = curve_of(_run_on(c, at_end, reach))
    ahead = [(t, o.id, s) for o in board.curves([name]) if o.kind != "point" for t, s in meetings(course, o)]
    ahead = sorted(f for f in ahead if f[0] > 1e-6)
    if not ahead:
        raise BadInput(f"'{name}' meets nothing beyond its end; extend it towards another entity.", field="of")
    t, other, s = ahead[0]
    to = course.at(t)
    old = board.stroke(name)
    assert old.at is not None
    at = np.array(old.at, float)
    at[int(at_end)] = to
    end = f"{name}.{'end' if at_end else 'start'}"
    joined = old.joins if not at_end else None
    board.put(replace(old, at=at, joins=joined))
    if not at_end:
        board.strokes = [replace(x, joins=None) if x.joins == name else x for x in board.strokes]
    board.relations = [r for r in board.relations if end not in r.of or r.kind not in ("coincident", "on_curve")]
    _hold_end(board, end, other, s)
    board.fresh.append(name)


def split(board: Board, name: str, place) -> None:
    """Cut an entity in two at a place, which stay joined."""
    c = board.curve(name)
    t = float(c.nearest(np.array([place], float))[0])
    if c.kind == "point" or (not c.closed and not 1e-4 < t < 1 - 1e-4):
        raise BadInput(f"'{name}' cannot be cut there; click between its ends.", field="place")
    if c.closed:
        names = board.pieces(name, [(t, t + 0.5), (t + 0.5, t + 1.0)])
        board.join(f"{names[1]}.end", f"{names[0]}.start")
    else:
        names = board.pieces(name, [(0.0, t), (t, 1.0)])
    board.join(f"{names[0]}.end", f"{names[1]}.start")


def nearest_ends(board: Board, one: str, two: str) -> tuple[str, str]:
    ends = [[(n, p) for n, p in board.handles(x) if n.endswith((".start", ".end"))] for x in (one, two)]
    if not all(ends):
        raise BadInput("Only lines, arcs and splines have ends to join.", field="of")
    best = min(((float(np.linalg.norm(p - q)), n, m) for n, p in ends[0] for m, q in ends[1]), key=lambda f: f[0])
    return best[1], best[2]


def join_ends_of(board: Board, one: str, two: str) -> None:
    """The nearest ends of two entities made one: where they meet when they run on, else half way."""
    a, b = nearest_ends(board, one, two)
    s, t = board.stroke(one), board.stroke(two)
    assert s.at is not None and t.at is not None
    place = {n: p for x in (one, two) for n, p in board.handles(x)}
    where = 0.5 * (place[a] + place[b])
    far = 10 * float(np.linalg.norm(place[a] - place[b])) + board.curve(one).length + board.curve(two).length
    if s.kind in ("line", "arc") and t.kind in ("line", "arc"):
        courses = [
            [board.curve(x), curve_of(_run_on(board.curve(x), n.endswith("end"), far))] for x, n in ((one, a), (two, b))
        ]
        near = [c.at(u) for c in courses[0] for o in courses[1] for u, _ in meetings(c, o)]
        if near:
            where = min(near, key=lambda p: float(np.linalg.norm(p - where)))
    for stroke, end in ((s, a), (t, b)):
        at = np.array(stroke.at, float)
        at[end_index(stroke.kind, end, len(at))] = where
        board.put(replace(stroke, at=at))
    board.join(a, b)
    board.fresh += [one, two]


def end_index(kind: str, end: str, count: int) -> int:
    if end.endswith("start"):
        return 0
    return count - 1 if kind == "spline" else 1


def close_gaps(board: Board, gap: float) -> int:
    """Make ends that lie within ``gap`` mm of each other one place; how many."""
    ends = [
        (n, p) for s in board.strokes if s.kind in ("line", "arc", "spline") for n, p in board.handles(s.id)
        if n.endswith((".start", ".end"))
    ]  # fmt: skip
    joined = {frozenset(r.of) for r in board.relations if r.kind == "coincident"}
    joined |= {frozenset((f"{s.id}.end", f"{s.joins}.start")) for s in board.strokes if s.joins}
    used = {n for pair in joined for n in pair}
    pairs = sorted(
        (float(np.linalg.norm(p - q)), n, m)
        for i, (n, p) in enumerate(ends)
        for m, q in ends[i + 1 :]
        if n.partition(".")[0] != m.partition(".")[0]
    )
    count = 0
    for d, n, m in pairs:
        if d <= gap and n not in used and m not in used:
            join_ends_of(board, n.partition(".")[0], m.partition(".")[0])
            used |= {n, m}
            count += 1
    return count


def move(board: Board, names: list[str], by) -> None:
    """Move entities by (2,) mm; they leave the trace they followed, and what they were joined to outside the group."""
    by = np.asarray(by, float)
    group = set(names)
    for n in names:
        s = board.stroke(n)
        assert s.at is not None
        joins = s.joins if s.joins in group else None
        board.put(replace(s, at=np.asarray(s.at, float) + by, places=np.zeros((0, 2)), joins=joins))
    board.strokes = [replace(s, joins=None) if s.joins in group and s.id not in group else s for s in board.strokes]

    def parts(r: Relation) -> bool:
        inside = sum(x.partition(".")[0] in group for x in r.of)
        return r.kind in ("coincident", "on_curve") and 0 < inside < len(r.of)

    board.relations = [r for r in board.relations if not parts(r)]
    board.fresh += names


def to_construction(board: Board, names: list[str]) -> None:
    """Entities only guide from now on, or, if all of them do, count as drawn again."""
    guide = not all(board.stroke(n).construction for n in names)
    for n in names:
        board.put(replace(board.stroke(n), construction=guide))


def remove(board: Board, names: list[str]) -> None:
    """Take entities out of the drawing."""
    board.remove(names)
