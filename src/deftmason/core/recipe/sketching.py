"""A sketch's record changed by hand: what to do, to what, and the record as it is after.

Every change begins with the drawing solved, so that it works on what is seen, and ends with it solved again. What was
newly fitted is asked which relations and sizes the trace supports; what was there keeps its own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from pydantic import Field

from ..errors import BadInput
from ..progress import Progress, silent
from .kinds.sketch import Handle, SketchStep, Spot, board_of, put_on, reach_on
from .papers import Laid, paper_plane, traces_on
from .projections import projected
from .records import Length, Record, Size

if TYPE_CHECKING:
    from ..sketch.board import Board

__all__ = ["Change", "automatic", "beginning", "changed", "dragged", "off_walls", "offers", "sized"]

_JOIN = 4.0  # median edges within which brushed ends are joined
_WALL, _WALL_NOISES = 1.5, 12.0  # median edges, and noises of the trace, from a drawing within which its walls lie


class Change(Record):
    """One change of a drawing. What counts besides ``do`` follows from it."""

    do: Literal[
        "automatic",
        "brush",
        "fit",
        "draw",
        "trim",
        "extend",
        "split",
        "join",
        "close gaps",
        "round",
        "bevel",
        "offset",
        "mirrored",
        "row",
        "ring",
        "move",
        "guide",
        "remove",
        "put",
        "bring",
    ] = Field(description="What is done.")
    of: list[Handle] = Field(default_factory=list, max_length=1000, description="The entities or places it is about.")
    kind: str = Field("", max_length=40, description="The shape that is drawn or fitted.")
    places: list[Spot] = Field(default_factory=list, max_length=5000, description="Places on the paper, mm.")
    reach: Size | None = Field(
        None, description="How near a place is meant to lie on something, or a brush's radius, mm."
    )
    by: Length | None = Field(None, description="A distance, radius, leg or angle; mm or degrees.")
    step: Spot | None = Field(None, description="A step or move, mm.")
    count: int | None = Field(None, ge=2, le=500, description="How many, or a polygon's sides.")
    along: Literal["x", "y"] | None = Field(None, description="The axis a fitted shape's long side is held along.")
    other: int = Field(0, ge=0, le=20, description="Of drawings of the whole trace, how many after the shortest.")
    guide: bool = Field(False, description="What is drawn only guides.")
    entities: list[dict[str, Any]] = Field(default_factory=list, max_length=1000, description="What is brought in.")


def _ready(sketch: SketchStep, context: Any) -> tuple[Laid, Board]:
    """The traces, and the drawing where it stands."""
    from ..sketch.settling import settled

    laid = traces_on(sketch, context)
    board = board_of(sketch, laid, projected(sketch.projected, sketch.scan, sketch.frame, context, laid.plane))
    if not board.strokes or all(s.at is not None for s in board.strokes):
        return laid, board
    return laid, settled(board, laid.loops, reach_on(laid), tells=False).board


def _names(of: list[str]) -> list[str]:
    return list(dict.fromkeys(n.partition(".")[0] for n in of))


def _two(c: Change) -> tuple[str, str]:
    names = _names(c.of)
    if len(names) != 2:
        raise BadInput("Pick two entities for this.", field="of")
    return names[0], names[1]


def _place(c: Change):
    if not c.places:
        raise BadInput("Click a place on the paper for this.", field="places")
    return c.places[0]


def _number(c: Change, what: str) -> float:
    if c.by is None:
        raise BadInput(f"Give {what}, in mm.", field="by")
    return c.by


def _draw(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.shapes import draw_shape

    more: dict[str, Any] = {"reach": c.reach or 0.0, "construction": c.guide, "radius": c.by}
    draw_shape(b, c.kind, c.places, sides=c.count or 6, **more)


def _brush(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.fitting import FITS, fit_brushed

    if c.kind not in FITS:
        raise BadInput(f"Fit one of {', '.join(FITS)}.", field="kind")
    if not c.places or c.reach is None:
        raise BadInput("The brush touched no trace; brush along the line you want to fit.", field="places")
    fit_brushed(b, laid.loops, np.array(c.places, float), c.reach, c.kind, _JOIN * laid.step / 0.7)


def _fit(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.fitting import fit_stretches

    fit_stretches(b, laid.loops, c.kind, c.places, c.along)


def _trim(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import trim

    trim(b, _names(c.of)[0], _place(c))


def _extend(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import extend

    extend(b, _names(c.of)[0], _place(c))


def _split(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import split

    split(b, _names(c.of)[0], _place(c))


def _join(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import join_ends_of

    join_ends_of(b, *_two(c))


def _close_gaps(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import close_gaps

    if not close_gaps(b, c.by if c.by is not None else _JOIN * laid.step / 0.7):
        raise BadInput("No two ends lie that near to each other; give a wider gap.", field="by")


def _round(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.corners import round_corner

    round_corner(b, *_two(c), _number(c, "a radius"))


def _bevel(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.corners import bevel_corner

    bevel_corner(b, *_two(c), _number(c, "a leg"))


def _offset(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.copying import offset

    offset(b, _names(c.of)[0], _number(c, "a distance"))


def _mirror(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.copying import mirror

    names = _names(c.of)
    mirror(b, names[:-1], names[-1])


def _row(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.copying import repeat_in_row

    if c.step is None or c.count is None:
        raise BadInput("A row needs how many, and the step from one to the next in mm.", field="count")
    repeat_in_row(b, _names(c.of), c.count, c.step)


def _ring(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.copying import repeat_in_ring

    if c.count is None or len(c.of) < 2:
        raise BadInput("A ring needs how many, and the centre it turns about, picked last.", field="count")
    repeat_in_ring(b, [n for n in _names(c.of[:-1])], c.count, c.of[-1], c.by)


def _move(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import move

    if c.step is None:
        raise BadInput("Give how far it moves, in mm.", field="step")
    move(b, _names(c.of), c.step)


def _guide(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import to_construction

    to_construction(b, _names(c.of))


def _remove(b: Board, c: Change, laid: Laid) -> None:
    from ..sketch.changing import remove

    remove(b, _names(c.of))


def _bring(b: Board, c: Change, laid: Laid) -> None:
    """Entities from elsewhere, as from a drawing file."""
    for e in c.entities:
        b.add({**e, "id": ""})


def _put(b: Board, c: Change, laid: Laid) -> None:
    """A place drawn somewhere by hand: it stays there, or on what it was put down on."""
    from ..sketch.shapes import snap

    if len(c.of) != 1:
        raise BadInput("Drag one place at a time.", field="of")
    handle = c.of[0]
    moved = _drawn(b, laid, handle, _place(c))
    b.strokes = moved.strokes
    without = b.copy()
    without.strokes = [s for s in b.strokes if s.id != handle.partition(".")[0]]
    now = dict(h for x in b.strokes if x.at is not None for h in b.handles(x.id)).get(handle)
    if c.reach:
        # What is joined with it moves along and is no new place to lie on.
        joined = {
            x.id for x in without.strokes for _, p in without.handles(x.id) if now is not None and np.allclose(p, now)
        }
        without.strokes = [x for x in without.strokes if x.id not in joined]
    _, to = snap(without, _place(c), c.reach or 0.0, ignore=now)
    if to:
        b.hold(to[0], handle, to[1])


_DOES: dict[str, Callable[[Any, Change, Laid], None]] = {
    "brush": _brush,
    "fit": _fit,
    "draw": _draw,
    "trim": _trim,
    "extend": _extend,
    "split": _split,
    "join": _join,
    "close gaps": _close_gaps,
    "round": _round,
    "bevel": _bevel,
    "offset": _offset,
    "mirrored": _mirror,
    "row": _row,
    "ring": _ring,
    "move": _move,
    "guide": _guide,
    "remove": _remove,
    "put": _put,
    "bring": _bring,
}
#: Changes that fit something to the trace: the new is asked what the trace says of it.
_FITS = ("brush", "fit")


def changed(sketch: SketchStep, context: Any, change: Change, progress: Progress = silent) -> dict[str, Any]:
    """The drawing after a change, as a record's fields; ``geometry`` its entities as they lie now, ``fresh`` names what
    it made or fitted, ``unsaid`` what is to be said of it. Raises `BadInput`, and then nothing is changed.
    """
    if change.do == "automatic":
        return automatic(sketch, context, progress, change.other)
    from ..sketch.settling import settled

    laid, board = _ready(sketch, context)
    board.fresh = []
    _DOES[change.do](board, change, laid)
    fresh = list(dict.fromkeys(board.fresh))
    here = {s.id for s in board.strokes}
    fresh = [n for n in fresh if n in here]
    reach = reach_on(laid)
    after = settled(board, laid.loops, reach, tells=False) if board.strokes else None
    if after is not None and change.do in _FITS:
        _asked(after.board, after.drawing, fresh)
        after = settled(after.board, laid.loops, reach, tells=False)
    out = put_on(after.board if after is not None else board, laid.in_scan)
    geometry = after.drawing.geometry(after.solution.x) if after is not None else []
    return {**out, "geometry": geometry, "fresh": fresh, "unsaid": []}


def _asked(board: Board, d: Any, fresh: list[str]) -> None:
    """Relations and sizes that the trace supports for what was newly fitted, added to what is held."""
    from ..sketch.relations import propose_relations
    from ..sketch.sizes import propose_sizes
    from ..sketch.solver import solve

    accepted, _, _ = propose_relations(d, board.sizes, base=board.relations, fresh=fresh)
    board.relations = accepted
    free = solve(d, accepted, [])
    known = {(z.kind, z.of) for z in board.sizes}
    held = {z.of[0] for z in board.sizes if z.kind in ("radius", "diameter")}
    for z in propose_sizes(d, accepted, free):
        new = any(n.partition(".")[0] in fresh for n in z.of)
        if new and (z.kind, z.of) not in known and not (z.kind in ("radius", "diameter") and z.of[0] in held):
            z.id = board.size_name()
            board.sizes.append(z)


def sized(sketch: SketchStep, context: Any) -> dict[str, Any]:
    """The drawing with the sizes that its trace supports as it stands, in place of those it had: a record's fields."""
    from ..sketch.settling import settled
    from ..sketch.sizes import propose_sizes
    from ..sketch.solver import solve

    laid, board = _ready(sketch, context)
    board.sizes = []
    d = settled(board, laid.loops, reach_on(laid), tells=False).drawing
    board.sizes = propose_sizes(d, board.relations, solve(d, board.relations, []))
    after = settled(board, laid.loops, reach_on(laid), tells=False)
    return put_on(after.board, laid.in_scan)


def automatic(sketch: SketchStep, context: Any, progress: Progress = silent, other: int = 0) -> dict[str, Any]:
    """The whole trace drawn, as short as can be or another way: a record's
    fields, what was refused with its cost, and what is to be said of it. Raises
    `BadInput` where the trace cannot be drawn.
    """
    from ..sketch.automatic import automatic_sketch, other_sketch
    from ..sketch.board import Board
    from ..sketch.settling import placed
    from ..sketch.sizes import propose_sizes

    laid = traces_on(sketch, context)
    drawn = (
        other_sketch(laid.loops, laid.step, other, progress=progress)
        if other
        else automatic_sketch(laid.loops, laid.step, progress=progress)
    )
    if drawn.solution is None or not drawn.strokes:
        raise BadInput(
            f"The outline could not be drawn here. {' '.join(drawn.warnings)} Fit its pieces one by one.",
            field="height",
        )
    sizes = propose_sizes(drawn.drawing, drawn.relations, drawn.solution)
    board = placed(Board(drawn.strokes, drawn.relations, sizes), drawn.drawing, drawn.solution.x)
    refused = [{"kind": r.kind, "of": list(r.of), "by": r.by, "cost": r.cost} for r in drawn.refused]
    return {
        **_found_again(sketch, laid, put_on(board, laid.in_scan)),
        "geometry": drawn.drawing.geometry(drawn.solution.x),
        "fresh": [s.id for s in board.strokes],
        "unsaid": [*drawn.warnings, *drawn.seen],
        "refused": refused,
    }


def _found_again(sketch: SketchStep, laid: Laid, fields: dict[str, Any]) -> dict[str, Any]:
    """A record's fields; what of them would find no trace when it is read again stays where it is and follows none."""
    from ..sketch.sketcher import draw

    again = SketchStep(**{**sketch.model_dump(), **fields})
    lost: list[Any] = []
    draw(laid.loops, board_of(again, laid, {}).strokes, reach_on(laid), lost)
    gone = {s.id for s in lost}
    return {**fields, "strokes": [{**s, "places": []} if s["id"] in gone else s for s in fields["strokes"]]}


def _drawn(board: Board, laid: Laid, handle: str, to) -> Board:
    from ..sketch.settling import settled

    return settled(board, laid.loops, reach_on(laid), drawn_to={handle: tuple(to)}, tells=False).board


def dragged(sketch: SketchStep, context: Any, handle: str, to: Spot) -> list[dict[str, Any]]:
    """The drawing's entities while a hand draws one of its places somewhere, in contract keys."""
    from ..sketch.board import geometry_of

    laid, board = _ready(sketch, context)
    return [geometry_of(s) for s in _drawn(board, laid, handle, to).strokes]


def offers(sketch: SketchStep, context: Any, of: list[str]) -> dict[str, Any]:
    """Relations and sizes that what is picked allows: what each would cost, and what the scan says to it."""
    from ..sketch.offering import offered

    laid, board = _ready(sketch, context)
    return offered(board, laid.loops, reach_on(laid), of)


def off_walls(sketch: SketchStep, context: Any, vertices: np.ndarray) -> tuple[np.ndarray, float]:
    """How far some of the scan's vertices lie off what the drawing would sweep, mm (outside above 0; NaN where they are
    of none of its walls), and the most that was asked for, mm: pushed square to the paper, or turned about its axis
    where it is drawn over everything turned."""
    from ..sketch.settling import settled
    from ..sketch.swept import off_swept
    from ..sketch.trace import trace_noise

    laid = traces_on(sketch, context)
    board = board_of(sketch, laid, projected(sketch.projected, sketch.scan, sketch.frame, context, laid.plane))
    if not board.strokes:
        raise BadInput("Nothing is drawn yet; draw or fit something first.", field="strokes")
    whole = settled(board, laid.loops, reach_on(laid), tells=False)
    mesh = context.index(sketch.scan).mesh
    noise = trace_noise(laid.loops) if laid.loops else 0.0
    reach = max(_WALL * mesh.median_edge, _WALL_NOISES * noise)
    turned = any(t.kind == "turned" for t in sketch.traces)
    paper = laid.in_scan
    if turned:
        paper = replace(paper, origin=paper.origin - sketch.height * paper.normal)
    geometry = whole.drawing.geometry(whole.solution.x)
    off = off_swept(mesh.vertices[vertices], mesh.vertex_normals[vertices], paper, geometry, reach, turned=turned)
    return off, reach


def beginning(sketch: SketchStep, context: Any) -> dict[str, Any]:
    """Where a new paper has something to draw on: {"height", "says"}: the nearest height whose cut is clean."""
    from ..sketch.beginning import clean_height

    plane = paper_plane(sketch, context)
    back = context.output(sketch.frame, "frame").inverse()
    normal = back.vectors(plane.normal)
    zero = float(back.points(plane.origin - sketch.height * plane.normal) @ normal)
    cutter = context.cutter(sketch.scan, normal)

    def loops(height: float) -> list[tuple[float, bool]]:
        out = []
        for p, closed in cutter.at(zero + height).loops():
            ring = np.vstack([p, p[:1]]) if closed else p
            out.append((float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum()), closed))
        return out

    edge = context.index(sketch.scan).mesh.median_edge
    return clean_height(loops, cutter.low - zero, cutter.high - zero, sketch.height, edge)
