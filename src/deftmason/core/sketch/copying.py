"""What is drawn, drawn again: offset, mirrored, repeated in a row or a ring; copies follow by relations."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ..errors import BadInput
from .board import Board, geometry_of
from .corners import beside
from .curve import meetings

__all__ = ["mirror", "offset", "repeat_in_ring", "repeat_in_row"]

_MOST_COPIES = 500


def _chain(board: Board, name: str) -> list[tuple[str, bool]]:
    """The run of entities joined end to end with one, in order, and whether each is run through backwards."""
    ends: dict[str, list[tuple[str, np.ndarray]]] = {}
    for s in board.strokes:
        if s.kind in ("line", "arc", "spline"):
            ends[s.id] = [(n, p) for n, p in board.handles(s.id) if n.endswith((".start", ".end"))]
    if name not in ends:
        return [(name, False)]
    span = max(float(np.ptp(np.vstack([p for e in ends.values() for _, p in e]), axis=0).max()), 1e-9)
    touch = 1e-6 * span

    def walk(at: str, backwards: bool) -> list[tuple[str, bool]]:
        out: list[tuple[str, bool]] = []
        here, turned = at, backwards
        while True:
            p = ends[here][0 if turned else 1][1]
            nxt = next(
                (
                    (n, k == 1)
                    for n, e in ends.items()
                    if n != here and n not in seen
                    for k in (0, 1)
                    if np.linalg.norm(e[k][1] - p) < touch
                ),
                None,
            )
            if nxt is None:
                return out
            out.append(nxt)
            seen.add(nxt[0])
            here, turned = nxt

    seen = {name}
    ahead = walk(name, False)
    behind = [(n, not b) for n, b in walk(name, True)]
    return [*behind[::-1], (name, False), *ahead]


def offset(board: Board, name: str, by: float) -> list[str]:
    """What an entity is joined with, drawn again ``by`` mm outside it (to the left of open runs; negative: inside);
    names. The first is untouched.
    """
    if not by:
        raise BadInput("An offset is a distance other than 0 mm.", field="by")
    run = _chain(board, name)
    kinds = {board.stroke(n).kind for n, _ in run}
    if not kinds <= {"line", "arc", "circle"}:
        raise BadInput("Lines, arcs and circles can be offset; this run holds another kind.", field="of")
    if len(run) == 1 and board.stroke(name).kind == "circle":
        alone = board.stroke(name)
        if alone.radius is None or alone.radius + by <= 0:
            raise BadInput(f"The circle is too small for an offset of {by:g} mm.", field="by")
        new = board.add({**geometry_of(alone), "id": "", "radius": alone.radius + by, "construction": False})
        board.hold("offset", name, new, by=by)
        return [new]
    first, last = run[0], run[-1]
    start = board.curve(first[0]).at(float(first[1]))
    end = board.curve(last[0]).at(float(not last[1]))
    closed = len(run) > 1 and bool(np.linalg.norm(start - end) < 1e-6 * (1 + abs(by)))
    left = by
    if closed:
        outline = np.vstack(
            [board.curve(n).at(np.linspace(0, 1, 17) if not b else np.linspace(1, 0, 17))[:-1] for n, b in run]
        )
        x, y = outline.T
        left = by if np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) < 0 else -by
    courses = []
    for n, b in run:
        side = -left if b else left
        c = beside(board.curve(n), side)
        if c is None:
            raise BadInput(f"The arc '{n}' is too small for an offset of {by:g} mm.", field="by")
        courses.append(c)
    count = len(run)
    corners: list[np.ndarray] = []
    for k in range(count if closed else count - 1):
        p, q = courses[k], courses[(k + 1) % count]
        n, b = run[k]
        joint = board.curve(n).at(float(not b))
        near = [p.at(t) for t, _ in meetings(p, q)]
        if not near:  # smooth joints: the foot of either is the other's
            near = [p.at(p.nearest(joint[None]))[0]]
        corners.append(min(near, key=lambda c: float(np.linalg.norm(c - joint))))
    names = []
    for k, ((n, b), c) in enumerate(zip(run, courses)):
        old = board.curve(n)
        feet = c.at(c.nearest(np.array([old.at(float(b)), old.at(float(not b))])))
        begin = corners[k - 1] if closed or k else feet[0]
        finish = corners[k] if closed or k < count - 1 else feet[1]
        if b:
            begin, finish = finish, begin
        e: dict[str, Any] = {"kind": old.kind, "start": begin.tolist(), "end": finish.tolist()}
        if old.kind == "arc":
            e |= {"center": old.entity["center"], "radius": c.entity["radius"], "ccw": old.entity["ccw"]}
        names.append(board.add(e))
        side = -left if b else left
        grows = side if old.kind == "line" else c.entity["radius"] - old.entity["radius"]
        board.hold("offset", n, names[-1], by=float(grows))
    for k in range(count if closed else count - 1):
        one, two = k, (k + 1) % count
        board.join(
            f"{names[one]}.{'start' if run[one][1] else 'end'}", f"{names[two]}.{'end' if run[two][1] else 'start'}"
        )
        pair = {run[one][0], run[two][0]}
        if any(r.kind == "tangent" and set(r.of) == pair for r in board.relations):
            board.hold("tangent", names[one], names[two])  # else the joint could slide, as far as first order tells
    return names


def _copied(board: Board, names: list[str], to, mirrored: bool) -> dict[str, str]:
    """Copies of entities with every point moved by ``to``; new name by old. Joints within the group are kept."""
    made: dict[str, str] = {}
    for n in names:
        s = board.stroke(n)
        assert s.at is not None
        at = to(np.asarray(s.at, float))
        new = replace(s, id=board.name(), at=at, places=np.zeros((0, 2)), joins=None, ccw=s.ccw != mirrored)
        board.strokes.append(new)
        board.fresh.append(new.id)
        made[n] = new.id
    for n in names:
        s = board.stroke(n)
        if s.joins in made:
            board.join(f"{made[n]}.end", f"{made[s.joins]}.start")
    for r in list(board.relations):
        owners = [x.partition(".") for x in r.of]
        if r.kind == "coincident" and all(o[0] in made for o in owners):
            board.join(*(f"{made[o[0]]}{o[1]}{o[2]}" for o in owners))
    return made


def mirror(board: Board, names: list[str], axis: str) -> list[str]:
    """Mirror images of entities in a line of the drawing or an axis of the paper, which follow them; their names."""
    if axis in ("axis_x", "axis_y"):
        a, u = np.zeros(2), np.array([1.0, 0.0]) if axis == "axis_x" else np.array([0.0, 1.0])
    else:
        c = board.curve(axis)
        if c.kind != "line":
            raise BadInput("The mirror is a line or an axis; pick one.", field="axis")
        a, u = c.start, c.along(0.0) / max(c.length, 1e-300)
    names = [n for n in names if n != axis]
    if not names:
        raise BadInput("Pick what is to be mirrored, then the line.", field="of")
    made = _copied(board, names, lambda p: 2 * (a + ((p - a) @ u)[:, None] * u) - p, True)
    for old, new in made.items():
        for (n, _), (m, _) in zip(board.handles(old), board.handles(new)):
            board.hold("symmetric", n, m, axis)
        _same_radius(board, old, new)
    return list(made.values())


def _same_radius(board: Board, old: str, new: str) -> None:
    if board.stroke(old).kind == "circle":  # an arc's follows from its ends and centre
        board.hold("equal", old, new)


def repeat_in_row(board: Board, names: list[str], count: int, step) -> list[str]:
    """Entities repeated along ``step`` (2,) mm, ``count`` of them with the first; all follow the first and the first
    step. The copies' names.
    """
    step = np.asarray(step, float)
    if not 2 <= count <= _MOST_COPIES or not np.hypot(*step) > 0:
        raise BadInput(f"A row has 2 to {_MOST_COPIES} of them, some way apart.", field="count")
    out: list[str] = []
    lead: tuple[str, str] | None = None
    for k in range(1, count):
        made = _copied(board, names, lambda p, k=k: p + k * step, False)
        for old, new in made.items():
            for (n, _), (m, _) in zip(board.handles(old), board.handles(new)):
                if lead is None:
                    lead = (n, m)
                else:
                    board.hold("stepped", *lead, n, m, by=float(k))
            _same_radius(board, old, new)
        out += made.values()
    assert lead is not None
    board.size("spacing_x" if abs(step[0]) > abs(step[1]) else "spacing_y", *lead, label="step")
    return out


def repeat_in_ring(board: Board, names: list[str], count: int, centre: str, turn_deg: float | None = None) -> list[str]:
    """Entities repeated about a place, ``count`` of them with the first, evenly round or ``turn_deg`` apart; the
    copies' names.
    """
    if not 2 <= count <= _MOST_COPIES:
        raise BadInput(f"A ring has 2 to {_MOST_COPIES} of them.", field="count")
    if centre == "origin":
        c = np.zeros(2)
    else:
        handles = {n: p for s in board.strokes for n, p in board.handles(s.id)}
        if centre not in handles:
            raise BadInput("The ring turns about a point or a centre; pick one.", field="centre")
        c = handles[centre]
    each = 360.0 / count if turn_deg is None else turn_deg
    out: list[str] = []
    for k in range(1, count):
        w = np.radians(k * each)
        m = np.array([[np.cos(w), -np.sin(w)], [np.sin(w), np.cos(w)]])
        made = _copied(board, names, lambda p, m=m: (p - c) @ m.T + c, False)
        for old, new in made.items():
            for (n, _), (q, _) in zip(board.handles(old), board.handles(new)):
                board.hold("turned", n, q, centre, by=float(k * each))
            _same_radius(board, old, new)
        out += made.values()
    return out
