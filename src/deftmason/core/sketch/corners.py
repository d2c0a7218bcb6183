"""Corners of a drawing: rounded by an arc, or cut off by a line."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import BadInput
from .board import Board
from .changing import end_index, join_ends_of, nearest_ends
from .curve import Curve, curve_of, meetings

__all__ = ["beside", "bevel_corner", "round_corner"]


def _unjoined(board: Board, one: str, two: str) -> None:
    """The corner of two entities comes apart."""
    board.strokes = [
        replace(s, joins=None) if (s.id, s.joins) in ((one, two), (two, one)) else s for s in board.strokes
    ]
    pair = {one, two}
    board.relations = [
        r for r in board.relations
        if not (r.kind in ("coincident", "tangent") and {n.partition(".")[0] for n in r.of} == pair)
    ]  # fmt: skip


def _corner(board: Board, one: str, two: str) -> tuple[str, str, np.ndarray]:
    """The ends of two entities that make a corner, and where it is."""
    if one == two:
        raise BadInput("A corner lies between two entities; pick two.", field="of")
    kinds = [board.stroke(n).kind for n in (one, two)]
    if any(k not in ("line", "arc") for k in kinds):
        raise BadInput(
            f"A corner of a {kinds[0]} and a {kinds[1]} cannot be worked on; take lines and arcs.", field="of"
        )
    a, b = nearest_ends(board, one, two)
    place = {n: p for x in (one, two) for n, p in board.handles(x)}
    if np.linalg.norm(place[a] - place[b]) > 1e-6 * (board.curve(one).length + board.curve(two).length):
        join_ends_of(board, one, two)
        place = {n: p for x in (one, two) for n, p in board.handles(x)}
    return a, b, place[a]


def _set_back(board: Board, name: str, end: str, to: np.ndarray) -> None:
    s = board.stroke(name)
    assert s.at is not None
    at = np.array(s.at, float)
    at[end_index(s.kind, end, len(at))] = to
    board.put(replace(s, at=at))


def round_corner(board: Board, one: str, two: str, radius: float) -> str:
    """An arc of ``radius`` mm in the corner of two lines or arcs, tangent to both; its name. Raises `BadInput` where it
    does not fit.
    """
    if not radius > 0:
        raise BadInput("A rounding has a radius above 0 mm.", field="radius")
    a, b, corner = _corner(board, one, two)
    best = None
    courses = []
    for n in (one, two):
        c = board.curve(n)
        courses.append([beside(c, side * radius) for side in (1, -1)])
    ends = [float(a.endswith("end")), float(b.endswith("end"))]
    for p in courses[0]:
        for q in courses[1]:
            if p is None or q is None:
                continue
            for t, _ in meetings(p, q):
                centre = p.at(t)
                feet = [board.curve(n).at(board.curve(n).nearest(centre[None]))[0] for n in (one, two)]
                if any(abs(np.linalg.norm(f - centre) - radius) > 1e-6 * radius for f in feet):
                    continue
                d = float(np.linalg.norm(centre - corner))
                if best is None or d < best[0]:
                    best = (d, centre, feet)
    if best is None:
        raise BadInput(
            f"A radius of {radius:g} mm does not fit into this corner; choose a smaller one.", field="radius"
        )
    _, centre, feet = best
    along = board.curve(one).along(ends[0]) * (1 if ends[0] else -1)
    spoke = feet[0] - centre
    ccw = float(spoke[0] * along[1] - spoke[1] * along[0]) > 0
    _unjoined(board, one, two)
    _set_back(board, one, a, feet[0])
    _set_back(board, two, b, feet[1])
    name = board.add(
        {
            "kind": "arc",
            "start": feet[0].tolist(),
            "end": feet[1].tolist(),
            "center": centre.tolist(),
            "radius": radius,
            "ccw": ccw,
        }
    )
    board.join(f"{name}.start", a)
    board.join(f"{name}.end", b)
    board.hold("tangent", one, name)
    board.hold("tangent", two, name)
    board.size("radius", name, chosen=radius, label="R")
    board.fresh += [one, two]
    board.prune()
    return name


def bevel_corner(board: Board, one: str, two: str, leg: float) -> str:
    """A line across the corner of two lines, ``leg`` mm from it on both; its name."""
    a, b, corner = _corner(board, one, two)
    to = []
    for n in (one, two):
        c = board.curve(n)
        if c.kind != "line" or not 0 < leg < c.length:
            raise BadInput(f"A bevel of {leg:g} mm does not fit into this corner; choose a smaller one.", field="leg")
        far = c.start if np.linalg.norm(c.start - corner) > np.linalg.norm(c.end - corner) else c.end
        to.append(corner + leg * (far - corner) / np.linalg.norm(far - corner))
    _unjoined(board, one, two)
    _set_back(board, one, a, to[0])
    _set_back(board, two, b, to[1])
    name = board.add({"kind": "line", "start": to[0].tolist(), "end": to[1].tolist()})
    board.join(f"{name}.start", a)
    board.join(f"{name}.end", b)
    board.size("length", name, chosen=round(float(np.linalg.norm(to[0] - to[1])), 6), label="bevel")
    u, v = to[0] - corner, to[1] - corner
    inside = float(np.degrees(np.arctan2(abs(u[0] * v[1] - u[1] * v[0]), u @ v)))
    board.size("angle", name, one, chosen=round(90 + inside / 2, 6), label="bevel")
    board.fresh += [one, two]
    board.prune()
    return name


def beside(c: Curve, by: float) -> Curve | None:
    """A curve so far to its left; None where a round one would shrink to nothing."""
    e = c.entity
    if c.kind == "line":
        d = c.along(0.0)
        n = np.array([-d[1], d[0]]) / max(float(np.hypot(*d)), 1e-300)
        far = d  # lines run on, so that corners outside are found
        return curve_of({**e, "start": (c.start + by * n - far).tolist(), "end": (c.end + by * n + far).tolist()})
    left = by if e.get("ccw", True) else -by
    radius = e["radius"] - left
    if radius <= 1e-9:
        return None
    return curve_of({"id": c.id, "kind": "circle", "center": e["center"], "radius": radius})
