"""Fitting what is drawn to the trace: one stretch, a brushed run, or several stretches together.

The trace is read ahead into straight, round and free stretches. A shape of several entities (corner, rectangle, rounded
rectangle, slot) takes the stretches it needs; where its corners are rounded or torn, its sides are fitted and run on to
where they meet.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..errors import BadInput
from .board import Board
from .piececurve import fit_circle_2d
from .pieces import samples_of, split_loop
from .sketcher import Stroke, join_ends, stroke_from_brush, thin
from .trace import TraceLoop, trace_noise

__all__ = ["FITS", "Stretch", "fit_brushed", "fit_stretches", "read_ahead"]

#: What can be fitted, and how many stretches are clicked for it at most.
FITS = {
    "line": 1,
    "arc": 1,
    "circle": 1,
    "ellipse": 1,
    "spline": 1,
    "point": 1,
    "corner": 2,
    "rectangle": 4,
    "rounded rectangle": 1,
    "slot": 1,
}
_ALONG = np.radians(6.0)  # sides this near to a direction run along it


@dataclass(frozen=True, eq=False)
class Stretch:
    """A piece of the trace: 'line', 'arc' or 'circle', its samples (k, 2), the loop it is of and its place in it;
    ``size`` its length or radius, mm.
    """

    kind: str
    points: np.ndarray
    loop: int
    place: int
    size: float


def read_ahead(loops: list[TraceLoop], noise: float | None = None) -> list[Stretch]:
    """The trace as straight and round stretches, loop by loop, in order."""
    noise = trace_noise(loops) if noise is None else noise
    out = []
    for n, loop in enumerate(loops):
        for k, piece in enumerate(split_loop(loop, noise)):
            p = samples_of(loop, piece)
            if piece[0] == 0:
                size = float(np.linalg.norm(p[-1] - p[0]))
            else:
                size = fit_circle_2d(p)[1] if len(p) > 2 else 0.0
            out.append(Stretch(("line", "arc", "circle")[piece[0]], p, n, k, size))
    return out


def _nearest(stretches: list[Stretch], place) -> Stretch:
    p = np.asarray(place, float)
    if not stretches:
        raise BadInput("There is no trace here to fit to.", field="at")
    return min(stretches, key=lambda s: float(np.linalg.norm(s.points - p, axis=1).min()))


def _add(board: Board, kind: str, p: np.ndarray) -> str:
    name = board.name()
    board.strokes.append(Stroke(name, kind, thin(p)))
    board.fresh.append(name)
    return name


def fit_stretches(board: Board, loops: list[TraceLoop], kind: str, places, along: str | None = None) -> list[str]:
    """Fit a kind to the stretches at places (n, 2); the new entities' names.

    ``along`` : 'x' or 'y' holds a rectangle's or slot's long axis along it. Raises `BadInput` where the trace has no
    such shape there.
    """
    if kind not in FITS:
        raise BadInput(f"'{kind}' cannot be fitted; one of {', '.join(FITS)}.", field="kind")
    stretches = read_ahead(loops)
    picked = []
    for p in places:
        s = _nearest(stretches, p)
        if s not in picked:
            picked.append(s)
    if not picked:
        raise BadInput("Click the stretch of the trace that is to be fitted.", field="at")
    first = picked[0]
    whole = [s for s in stretches if s.loop == first.loop]
    loop = loops[first.loop]
    if kind in ("line", "arc", "point"):
        return [_add(board, kind, s.points) for s in picked[:1]]
    if kind in ("circle", "ellipse"):
        round_one = first.points if kind == "circle" and first.kind != "line" else loop.points
        return [_add(board, kind, round_one)]
    if kind == "spline":
        return [_add(board, kind, first.points)]
    if kind == "corner":
        if len(picked) < 2:
            raise BadInput("A corner lies between two stretches; click both.", field="at")
        names = [_add(board, "line" if s.kind == "line" else "arc", s.points) for s in picked[:2]]
        ends = [(s.points[0], s.points[-1]) for s in picked[:2]]
        pairs = [(float(np.linalg.norm(p - q)), i, k) for i, p in enumerate(ends[0]) for k, q in enumerate(ends[1])]
        _, i, k = min(pairs)
        board.join(f"{names[0]}.{('start', 'end')[i]}", f"{names[1]}.{('start', 'end')[k]}")
        return names
    if kind == "rectangle":
        return _rectangle(board, picked if len(picked) >= 3 else whole, along)
    if kind == "slot":
        return _slot(board, whole, along)
    return _rounded_rectangle(board, whole, along)


def _direction(s: Stretch) -> np.ndarray:
    d = s.points - s.points.mean(axis=0)
    t = np.linalg.svd(d, full_matrices=False)[2][0]
    return t if t @ (s.points[-1] - s.points[0]) >= 0 else -t


def _sides(stretches: list[Stretch]) -> list[list[Stretch]]:
    """Four sides in order round: the longest straight stretches, those on one line together."""
    flats = sorted((s for s in stretches if s.kind == "line"), key=lambda s: -s.size)
    sides: list[list[Stretch]] = []
    for s in flats:
        d, m = _direction(s), s.points.mean(axis=0)
        for side in sides:
            o, q = _direction(side[0]), side[0].points.mean(axis=0)
            off = abs(float((m - q) @ np.array([-o[1], o[0]])))
            if abs(float(d[0] * o[1] - d[1] * o[0])) < np.sin(_ALONG) and off < 0.02 * side[0].size:
                side.append(s)
                break
        else:
            if len(sides) < 4:
                sides.append([s])
    if len(sides) < 4:
        raise BadInput("A rectangle has four straight sides, and the trace has fewer here; click four.", field="at")
    middle = np.mean([np.vstack([s.points for s in side]).mean(axis=0) for side in sides], axis=0)

    def turn(side: list[Stretch]) -> float:
        v = np.vstack([s.points for s in side]).mean(axis=0) - middle
        return float(np.arctan2(v[1], v[0]))

    sides.sort(key=turn)
    ways = [_direction(side[0]) for side in sides]
    for k in range(4):
        if abs(float(ways[k] @ ways[(k + 1) % 4])) > np.sin(2 * _ALONG):
            raise BadInput("The sides here are not square to each other; fit lines and corners instead.", field="at")
    return sides


def _turned_left(side: list[Stretch], middle: np.ndarray) -> np.ndarray:
    """Samples of a side in order anticlockwise round a place."""
    p = np.vstack([s.points for s in side])
    d = _direction(side[0])
    v = p.mean(axis=0) - middle
    d = d if v[0] * d[1] - v[1] * d[0] > 0 else -d
    return p[np.argsort(p @ d)]


def _hold_along(board: Board, names: list[str], along: str | None) -> None:
    """The longer axis along x or y, if that is wanted."""
    if along in ("x", "y"):
        board.hold("horizontal" if along == "x" else "vertical", names[0])


def _rectangle(board: Board, stretches: list[Stretch], along: str | None) -> list[str]:
    sides = _sides(stretches)
    middle = np.mean([np.vstack([s.points for s in side]).mean(axis=0) for side in sides], axis=0)
    samples = [_turned_left(side, middle) for side in sides]
    names = [_add(board, "line", p) for p in samples]
    board.strokes = [
        replace(s, joins=names[(names.index(s.id) + 1) % 4]) if s.id in names else s for s in board.strokes
    ]
    for k in range(3):
        board.hold("perpendicular", names[k], names[k + 1])
    long = int(np.argmax([np.ptp(p, axis=0).max() for p in samples]))
    _hold_along(board, [names[long]], along)
    return names


def _cyclic(stretches: list[Stretch], kinds: tuple[str, ...]) -> list[Stretch]:
    """The stretches of a loop turned so that their kinds are as wanted. Raises `BadInput` where they are others."""
    n = len(kinds)
    for k in range(len(stretches)):
        turned = stretches[k:] + stretches[:k]
        if len(turned) == n and tuple(s.kind for s in turned) == kinds:
            return turned
    found = ", ".join(s.kind for s in stretches)
    raise BadInput(f"The outline here reads as {found}; brush its sides and ends one by one.", field="at")


def _tangent_chain(board: Board, run: list[Stretch]) -> list[str]:
    names = [_add(board, s.kind, s.points) for s in run]
    board.strokes = [
        replace(s, joins=names[(names.index(s.id) + 1) % len(names)]) if s.id in names else s for s in board.strokes
    ]
    for k, n in enumerate(names):
        board.hold("tangent", n, names[(k + 1) % len(names)])
    arcs = [n for n, s in zip(names, run) if s.kind == "arc"]
    for n in arcs[1:]:
        board.hold("equal", arcs[0], n)
    return names


def _slot(board: Board, whole: list[Stretch], along: str | None) -> list[str]:
    names = _tangent_chain(board, _cyclic(_ends_whole(whole), ("line", "arc", "line", "arc")))
    _hold_along(board, names[:1], along)
    return names


def _ends_whole(stretches: list[Stretch]) -> list[Stretch]:
    """Neighbouring round stretches of one loop made one: an end of a slot may read as two arcs."""
    out = list(stretches)
    k = 0
    while len(out) > 4 and k < len(out):
        a, b = out[k], out[(k + 1) % len(out)]
        if a.kind == b.kind == "arc" and abs(a.size - b.size) < 0.2 * max(a.size, b.size):
            p = np.vstack([a.points, b.points])
            merged = Stretch("arc", p, a.loop, a.place, fit_circle_2d(p)[1])
            if k + 1 < len(out):
                out[k : k + 2] = [merged]
            else:
                out = [merged, *out[1:-1]]
            k = 0
            continue
        k += 1
    return out


def _rounded_rectangle(board: Board, whole: list[Stretch], along: str | None) -> list[str]:
    run = _cyclic(_ends_whole(whole), ("line", "arc") * 4)
    names = _tangent_chain(board, run)
    for k in (0, 2, 4):
        board.hold("perpendicular", names[k], names[(k + 2) % 8])
    long = max((0, 2), key=lambda k: run[k].size)
    _hold_along(board, [names[long]], along)
    return names


def fit_brushed(
    board: Board, loops: list[TraceLoop], brush: np.ndarray, radius: float, kind: str, gap: float
) -> list[str]:
    """Fit a kind to what a brush (k, 2) of ``radius`` mm passed over; ends within ``gap`` mm of others are joined."""
    if kind in ("corner", "rectangle", "rounded rectangle", "slot"):
        stretches = read_ahead(loops)
        passed: list[Stretch] = [
            s for s in stretches
            if np.linalg.norm(s.points[:, None] - brush[None], axis=2).min(axis=1).__le__(radius).mean() > 0.3
        ]  # fmt: skip
        middles = [s.points[len(s.points) // 2] for s in passed] or [brush[0]]
        return fit_stretches(board, loops, kind, middles)
    new = stroke_from_brush(loops, brush, radius, kind, board.name())
    board.fresh.append(new.id)
    board.strokes = join_ends([*board.strokes, new], gap)
    return [new.id]
