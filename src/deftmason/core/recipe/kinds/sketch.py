"""A sketch on a paper through the scan, solved against its traces."""

from __future__ import annotations

from pprint import pformat
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field, StringConstraints

from ...errors import BadInput
from ..papers import Laid, PaperRecord, traces_on
from ..projections import projected
from ..records import Coordinate, Id, Length, Place, Record, Size, Source
from ..step import Outcome, Step, Told, Value, register

if TYPE_CHECKING:
    from ...scan.section import SectionPlane
    from ...sketch.board import Board
    from ...sketch.drawing import Drawing, Relation
    from ...sketch.settling import Settled

__all__ = ["SketchStep", "StrokeRecord", "board_of", "put_on", "reach_on"]

#: An entity, or a place on one: ``e1``, ``e1.end``, ``origin``.
Handle = Annotated[str, StringConstraints(pattern=r"^[a-z0-9_]{1,40}(\.(start|end|center|p[0-9]{1,3}))?$")]
Spot = tuple[Coordinate, Coordinate]
EntityKind = Literal["point", "line", "arc", "circle", "ellipse", "spline"]


class StrokeRecord(Record):
    """An entity: the places on the scan that it is fitted to, or where it was drawn, or both."""

    id: Id
    kind: EntityKind
    places: list[Place] = Field(
        default_factory=list,
        max_length=200,
        description="Places along its stretch of the trace, in the scan's coordinates, mm; none: it was drawn freely.",
    )
    joins: Id | None = Field(None, description="The entity whose start its end joins.")
    at: list[Spot] | None = Field(
        None, max_length=200, description="Where its points were last, on the paper, mm; none: at its best fit."
    )
    radius: Size | None = Field(None, description="Of what is round, mm; of an ellipse the minor one.")
    ccw: bool = Field(True, description="Whether an arc runs anticlockwise.")
    construction: bool = Field(False, description="It only guides.")
    knots: list[float] | None = Field(None, max_length=300, description="A spline's knots.")


class RelationRecord(Record):
    """Something held between entities and places on them."""

    kind: Literal[
        "coincident",
        "on_curve",
        "horizontal",
        "vertical",
        "parallel",
        "perpendicular",
        "tangent",
        "equal",
        "concentric",
        "collinear",
        "symmetric",
        "midpoint",
        "fixed",
        "turned",
        "stepped",
        "offset",
    ]
    of: list[Handle] = Field(min_length=1, max_length=4)
    by: Length = Field(0.0, description="Degrees turned, steps taken or mm offset.")


class SizeRecord(Record):
    id: Id
    kind: Literal[
        "radius",
        "diameter",
        "minor_radius",
        "major_radius",
        "length",
        "distance",
        "angle",
        "width",
        "spacing",
        "spacing_x",
        "spacing_y",
        "place_x",
        "place_y",
    ]
    of: list[Handle] = Field(min_length=1, max_length=2)
    label: str = Field("", max_length=80)
    chosen: Length | None = Field(None, description="Chosen number, mm or degrees; held unless its source is the scan.")
    source: Source = "scan"


class SketchEntity(BaseModel):
    """An entity as solved, in paper coordinates, mm."""

    id: str
    kind: EntityKind
    start: list[float] | None = None
    end: list[float] | None = None
    center: list[float] | None = None
    radius: float | None = None
    ccw: bool = True
    at: list[float] | None = None
    major: list[float] | None = None
    minor_radius: float | None = None
    degree: int | None = None
    knots: list[float] | None = None
    poles: list[list[float]] | None = None
    construction: bool = False


class SizeTold(BaseModel):
    id: str
    kind: str
    of: list[str]
    label: str
    measured: float | None
    uncertainty: float | None
    chosen: float | None
    source: str
    cost: float | None
    unit: str


class HeldTold(BaseModel):
    """A relation that is held, with what it costs (rise of rms, mm) and what the scan says to it."""

    kind: str
    of: list[str]
    by: float
    cost: float
    verdict: str
    repeats: bool


class SketchTold(Told):
    """Everything is on the paper, mm. ``stretches`` and ``away`` are by entity: the trace's places and how far off.

    ``states`` say of each entity whether it is free, held by the scan or fixed; ``contradiction`` names what cannot
    hold together (relations and sizes by their places in the record), of which the last was let go.
    """

    line: ClassVar[tuple[str, ...]] = ("rms",)

    rms: float
    max_distance: float
    free_rms: float
    noise: float
    freedom: int
    unseen: int
    broken: float
    geometry: list[SketchEntity]
    projected: list[SketchEntity]
    loops: list[list[str]]
    inside: list[int | None]
    drawing: dict[str, Any]
    plane: dict[str, list[float]]
    sizes: list[SizeTold]
    relations: list[HeldTold]
    states: dict[str, str]
    contradiction: list[tuple[str, int]]
    entity_rms: dict[str, float]
    entity_worst: dict[str, float]
    stretches: dict[str, list[list[float]]]
    away: dict[str, list[float]]


def reach_on(laid: Laid) -> float:
    """How far from where it was brushed a stretch is looked for, mm."""
    from ...sketch.sketcher import reach_for

    return reach_for(laid.loops, laid.step) if laid.loops else 1.0


def board_of(sketch: SketchStep, laid: Laid, references: dict[str, dict]) -> Board:
    """The record's drawing as a board on its paper."""
    from ...sketch.board import Board
    from ...sketch.drawing import Relation
    from ...sketch.drawing import Size as SizeHeld
    from ...sketch.sketcher import Stroke

    def stroke(s: StrokeRecord) -> Stroke:
        places = laid.in_scan.to_paper(np.array(s.places)) if s.places else np.zeros((0, 2))
        at = None if s.at is None else np.array(s.at, float)
        knots = None if s.knots is None else np.array(s.knots, float)
        return Stroke(s.id, s.kind, places, s.joins, at, s.radius, s.ccw, s.construction, knots)

    return Board(
        [stroke(s) for s in sketch.strokes],
        [Relation(r.kind, tuple(r.of), by=r.by) for r in sketch.relations],
        [SizeHeld(s.id, s.kind, tuple(s.of), s.label, None, None, s.chosen, s.source) for s in sketch.sizes],
        references,
    )


def put_on(board: Board, in_scan: SectionPlane) -> dict[str, list[dict]]:
    """A board's drawing as the fields of a record."""
    return {
        "strokes": [
            {
                "id": s.id,
                "kind": s.kind,
                "places": in_scan.to_space(s.places).round(4).tolist() if s.traced else [],
                "joins": s.joins,
                "at": None if s.at is None else np.asarray(s.at, float).round(9).tolist(),
                "radius": s.radius,
                "ccw": bool(s.ccw),
                "construction": bool(s.construction),
                "knots": None if s.knots is None else list(map(float, s.knots)),
            }
            for s in board.strokes
        ],
        "relations": [{"kind": r.kind, "of": list(r.of), "by": r.by} for r in board.relations],
        "sizes": [
            {"id": s.id, "kind": s.kind, "of": list(s.of), "label": s.label, "chosen": s.chosen, "source": s.source}
            for s in board.sizes
        ],
    }


@register
class SketchStep(Step, PaperRecord):
    """What is drawn on a paper, held by relations, sizes and the scan's traces."""

    course: ClassVar[str] = "sketches"
    title: ClassVar[str] = "Sketch"
    produces: ClassVar[str] = "sketch"
    tells: ClassVar[type[Told]] = SketchTold
    computation: ClassVar[int] = 3

    kind: Literal["sketch"] = "sketch"
    strokes: list[StrokeRecord] = Field(default_factory=list, max_length=1000, description="What is drawn.")
    relations: list[RelationRecord] = Field(default_factory=list, max_length=4000, description="Relations held.")
    sizes: list[SizeRecord] = Field(default_factory=list, max_length=1000, description="Sizes measured or held.")

    def in_script(self, told, script):
        d, word, plane = told["drawing"], script.word, told["plane"]
        held = [s for s in d["sizes"] if s["held"]]
        sizes = [f"({s['kind']!r}, {tuple(s['of'])!r}, {script.value(s['name'])})," for s in held]
        at = f"origin={tuple(plane['origin'])}, x_dir={tuple(plane['u'])}, z_dir={tuple(plane['normal'])}"
        relations = [(q["kind"], tuple(q["of"]), q["by"]) for q in d["relations"]]
        return [
            f"{word}_plane = Plane({at})",
            f"{word} = solve(",
            f"    points={pformat([tuple(q) for q in d['points']], width=110)},",
            f"    radii={d['radii']!r},",
            f"    entities={pformat(d['entities'], width=110, sort_dicts=False)},",
            f"    relations={pformat(relations, width=110)},",
            "    sizes=[",
            *["        " + s for s in sizes],
            "    ],",
            f"    still={d['still']!r},",
            ")",
        ]

    def run(self, context, progress):
        from ...sketch.settling import settled

        laid = traces_on(self, context)
        board = board_of(self, laid, projected(self.projected, self.scan, self.frame, context, laid.plane))
        if not board.strokes:
            raise BadInput("Nothing is drawn in the sketch; draw or fit something first.", field="strokes")
        reach = reach_on(laid)
        progress(0.1, "Solving the sketch")
        whole = settled(board, laid.loops, reach)
        dropped = _contradiction(whole)
        if dropped:
            gone = dropped[-1]
            board.relations = [r for k, r in enumerate(board.relations) if ("relation", k) != gone]
            for k, z in enumerate(board.sizes):
                if ("size", k) == gone:
                    z.source = "scan"
            whole = settled(board, laid.loops, reach)
        return _outcome(self, board, whole, laid, dropped, progress)


def _contradiction(s: Settled) -> list[tuple[str, int]]:
    """What contradicts, the one that was said last at the end."""
    from ...sketch.drawing import said_once
    from ...sketch.states import conflicts

    found = conflicts(s.drawing, said_once(s.board.relations), s.board.sizes, s.solution)
    if not found:
        return []
    # Places in the list with each said once are told as places in the board's own.
    own = {id(r): k for k, r in enumerate(s.board.relations)}
    once = said_once(s.board.relations)
    return [(what, own[id(once[k])] if what == "relation" else k) for what, k in found]


def _measured(d: Drawing, relations: list[Relation], board: Board, held) -> Any:
    """The drawing without any held size, and what the trace says each of them is."""
    from ...sketch.sizes import measure_sizes
    from ...sketch.solver import solve

    free = solve(d, relations, [], start=held.x) if any(z.held for z in board.sizes) else held
    measure_sizes(d, board.sizes, free)
    return free


def _outcome(step: SketchStep, board: Board, whole: Settled, laid: Laid, dropped, progress) -> Outcome:
    from ...sketch.curve import curve_of
    from ...sketch.distances import distance_to_entity
    from ...sketch.drawing import said_once
    from ...sketch.equations import size_value
    from ...sketch.loops import closed_loops
    from ...sketch.states import Cost, costs, entity_states, repeated, verdict_of
    from ...sketch.trace import trace_noise

    d, held = whole.drawing, whole.solution
    relations = said_once(board.relations)
    traced = bool(d.stretches)
    progress(0.5, "Measuring its sizes")
    free = _measured(d, relations, board, held)
    asked = costs(d, relations, board.sizes, held) if traced else {}
    follows = set(repeated(d, relations, board.sizes, held.x))
    values: list[Value] = []
    names: dict[str, int] = {}
    for k, z in enumerate(board.sizes):
        if not z.held:
            z.chosen, z.source = size_value(d, z, held.x)[0], "scan"
        z.cost = asked.get(("size", k), Cost(0.0, 0.0)).rms
        if not traced:
            z.measured = z.uncertainty = None
        names[z.kind] = names.get(z.kind, 0) + 1
        name = z.kind if names[z.kind] == 1 else f"{z.kind}_{names[z.kind]}"
        path = ["sizes", k, "chosen"]
        number = z.chosen if z.chosen is not None else 0.0
        values.append(Value(name, z.label or z.kind, z.measured, z.uncertainty, number, z.source, z.unit, z.cost, path))
    geometry = d.geometry(held.x)
    by_loop = closed_loops(geometry)
    away = {i: distance_to_entity(d, d.entities[i], p, held.x) for i, p in d.stretches.items()}
    plane = laid.plane
    output = {
        "plane": plane,
        "geometry": geometry,
        "loops": [[e["id"] for e in l["entities"]] for l in by_loop],
        "inside": [l["inside"] for l in by_loop],
        "drawing": _plain(d, held.x, relations, board.sizes, values),
    }
    noise = trace_noise(laid.loops) if laid.loops else 0.0
    summary = {
        "rms": held.rms,
        "max_distance": held.max_distance,
        "free_rms": free.rms,
        "noise": noise,
        "freedom": held.freedom,
        "unseen": held.unseen,
        "broken": held.broken,
        "geometry": geometry,
        "projected": [curve_of({**e, "id": n}).entity for n, e in board.references.items()],
        "loops": output["loops"],
        "inside": output["inside"],
        "drawing": output["drawing"],
        "plane": {"origin": plane.origin.tolist(), "normal": plane.normal.tolist(), "u": plane.u.tolist()},
        "sizes": [{**vars(z), "of": list(z.of), "unit": z.unit} for z in board.sizes],
        "relations": [
            {
                "kind": r.kind,
                "of": list(r.of),
                "by": r.by,
                "cost": asked.get(("relation", k), Cost(0.0, 0.0)).rms,
                "verdict": verdict_of(asked[("relation", k)].pull) if ("relation", k) in asked else "cannot tell",
                "repeats": ("relation", k) in follows,
            }
            for k, r in enumerate(relations)
        ],
        "states": entity_states(d, held),
        "contradiction": dropped,
        "entity_rms": {i: float(np.sqrt(np.mean(a**2))) for i, a in away.items()},
        "entity_worst": {i: float(np.max(np.abs(a))) for i, a in away.items()},
        "stretches": {i: p.round(4).tolist() for i, p in d.stretches.items()},
        "away": {i: a.round(5).tolist() for i, a in away.items()},
        "says": f"{len(geometry)} pieces",
    }
    status, says = _standing(step, dropped, held, free, summary, traced)
    return Outcome(output, summary, says, status, values)


def _plain(d: Drawing, x, relations, sizes, values) -> dict[str, Any]:
    """The solved drawing as a script can solve it again."""
    n = 2 * d.point_count
    return {
        "points": [x[2 * i : 2 * i + 2].tolist() for i in range(d.point_count)],
        "radii": x[n:].tolist(),
        "entities": [
            {
                "id": e.id,
                "kind": e.kind,
                "points": list(e.points),
                "radius": None if e.radius is None else e.radius - n,
                "ccw": e.ccw,
                **({} if e.knots is None else {"knots": list(map(float, e.knots))}),
            }
            for e in (*d.entities.values(), *d.references.values())
        ],
        "relations": [{"kind": r.kind, "of": list(r.of), "by": r.by} for r in relations],
        "sizes": [
            {"kind": z.kind, "of": list(z.of), "name": v.name, "chosen": z.chosen, "held": z.held}
            for z, v in zip(sizes, values)
        ],
        "still": [] if d.still is None else sorted({int(c) for c in np.flatnonzero(d.still)}),
    }


def _standing(step, dropped, held, free, summary, traced: bool):
    """Whether the sketch is sound, and what is to be said of it."""
    if dropped:
        said = []
        for what, k in dropped:
            r = step.relations[k] if what == "relation" else step.sizes[k]
            said.append(f"{r.kind.replace('_', ' ')} {' '.join(r.of)}")
        return "attention", f"These cannot hold together: {', '.join(said)}. The last was let go; take one away."
    if held.rms > free.rms + max(0.05, 2 * summary["noise"]):
        return "attention", f"The chosen sizes cost {held.rms - free.rms:.3f} mm rms against the trace."
    if held.unseen and traced:
        loose = [i for i, s in summary["states"].items() if s == "free"]
        return "attention", f"{held.unseen} freedoms are held by neither trace nor relation: {', '.join(loose[:6])}."
    return "sound", ""
