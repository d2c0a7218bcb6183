"""A sketch on a plane that cuts the scan, solved against the trace."""

from __future__ import annotations

from pprint import pformat
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Id, Length, Place, Record
from ..references import FrameRef, ScanRef
from ..step import Outcome, Step, Told, Value, register

if TYPE_CHECKING:
    from ...scan.section import SectionPlane

__all__ = ["SketchStep", "StrokeRecord", "paper_plane", "propose_sketch", "trace_on_paper"]

_NORMALS = {"x": ((1, 0, 0), (0, 1, 0)), "y": ((0, 1, 0), (0, 0, 1)), "z": ((0, 0, 1), (1, 0, 0))}


class StrokeRecord(Record):
    """An entity and the places on the scan that it is fitted to."""

    id: Id
    kind: Literal["line", "arc", "circle"]
    places: list[Place] = Field(
        min_length=1, max_length=200, description="Places along the stretch, in the scan's coordinates, mm."
    )
    joins: Id | None = Field(None, description="The entity its end joins.")


class RelationRecord(Record):
    kind: Literal["horizontal", "vertical", "parallel", "perpendicular", "tangent", "equal", "concentric", "collinear"]
    of: list[Id] = Field(min_length=1, max_length=2)


class SizeRecord(Record):
    id: Id
    kind: Literal["radius", "diameter", "width", "spacing_x", "spacing_y", "place_x", "place_y"]
    of: list[Id] = Field(min_length=1, max_length=2)
    label: str = Field("", max_length=80)
    chosen: Length | None = Field(None, description="Chosen number in mm; held unless its source is the scan.")
    source: Literal["scan", "rounded", "standard", "hand reading", "typed"] = "scan"


def paper_plane(axis: str, height: float) -> SectionPlane:
    """The plane square to a frame axis at ``height`` mm, with its paper directions, in frame coordinates."""

    from ...scan.section import SectionPlane

    n, u = (np.array(a, float) for a in _NORMALS[axis])
    return SectionPlane.at(n * height, n, u)


def trace_on_paper(context, scan: str, frame: str, axis: str, height: float):
    """Loops of the scan's cut on the paper, the plane (frame) and the sample step in mm."""

    from ...scan.section import SectionPlane
    from ...sketch.trace import step_for, trace_of

    motion = context.output(frame, "frame")
    index = context.index(scan)
    plane = paper_plane(axis, height)
    back = motion.inverse()
    in_scan = SectionPlane.at(back.points(plane.origin), back.vectors(plane.normal), back.vectors(plane.u))
    step = step_for(index.mesh.median_edge)
    cut = context.cutter(scan, in_scan.normal).at(float(in_scan.origin @ in_scan.normal))
    return trace_of(cut, in_scan, step, cut.lifted(index)), in_scan, plane, step


def propose_sketch(context, scan: str, frame: str, axis: str, height: float, strokes=None) -> dict:
    """Strokes, relations and sizes for a sketch here, as a `SketchStep`'s own records.

    Without ``strokes`` the whole outline is drawn; with them (records) only relations and sizes are proposed for those.
    Also under 'refused': relations tested and what each would cost.
    """

    from ...sketch.automatic import automatic_sketch
    from ...sketch.drawing import Relation
    from ...sketch.relations import propose_relations
    from ...sketch.sizes import propose_sizes
    from ...sketch.sketcher import Stroke, draw, reach_for

    loops, in_scan, _, step = trace_on_paper(context, scan, frame, axis, height)
    unsaid: list[str] = []
    if strokes is None:
        drawn = automatic_sketch(loops, step)
        found, d, relations, refused, solution, unsaid = (
            drawn.strokes,
            drawn.drawing,
            drawn.relations,
            drawn.refused,
            drawn.solution,
            drawn.warnings,
        )
        if solution is None or not found:
            raise BadInput(
                f"The outline could not be drawn here. {' '.join(unsaid)} Brush its pieces one by one.", field="height"
            )
    else:
        found = [Stroke(s.id, s.kind, in_scan.to_paper(np.array(s.places)), s.joins) for s in strokes]
        if not found:
            raise BadInput("The plane cuts nothing of the scan here; move it to where the part is.", field="height")
        d = draw(loops, found, reach_for(loops, step))
        relations, refused, solution = propose_relations(d)
    sizes = propose_sizes(d, relations, solution)

    def plain(r: Relation) -> dict:
        return {"kind": r.kind, "of": list(r.of), "cost": r.cost}

    return {
        "unsaid": unsaid,
        "strokes": [
            {"id": s.id, "kind": s.kind, "places": in_scan.to_space(s.places).round(4).tolist(), "joins": s.joins}
            for s in found
        ],
        "relations": [plain(r) for r in relations],
        "refused": [plain(r) for r in refused],
        "sizes": [
            {"id": s.id, "kind": s.kind, "of": list(s.of), "label": s.label, "chosen": s.chosen, "source": s.source}
            for s in sizes
        ],
    }


class Entity(BaseModel):
    """A line, an arc or a circle as solved, in paper coordinates, mm."""

    id: str
    kind: Literal["line", "arc", "circle"]
    start: list[float] | None = None
    end: list[float] | None = None
    center: list[float] | None = None
    radius: float | None = None
    ccw: bool = True


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


class SketchTold(Told):
    """Everything is on the paper, mm. ``stretches`` and ``away`` are by entity: the trace's places and how far off."""

    line: ClassVar[tuple[str, ...]] = ("rms",)

    rms: float
    max_distance: float
    free_rms: float
    noise: float
    freedom: int
    unseen: int
    broken: float
    geometry: list[Entity]
    loops: list[list[str]]
    inside: list[int | None]
    drawing: dict[str, Any]
    plane: dict[str, list[float]]
    sizes: list[SizeTold]
    relations: list[RelationRecord]
    entity_rms: dict[str, float]
    stretches: dict[str, list[list[float]]]
    away: dict[str, list[float]]


@register
class SketchStep(Step):
    """Lines, arcs and circles held by relations, sizes and the scan's trace."""

    course: ClassVar[str] = "sketches"
    title: ClassVar[str] = "Sketch"
    produces: ClassVar[str] = "sketch"
    tells: ClassVar[type[Told]] = SketchTold

    kind: Literal["sketch"] = "sketch"
    scan: ScanRef = Field(description="The scan that is cut.")
    frame: FrameRef = Field(description="The frame the plane is placed in.")
    axis: Literal["x", "y", "z"] = Field("z", description="The frame axis the plane is square to.")
    height: Length = Field(0.0, description="Where the plane cuts, along that axis, mm.")
    strokes: list[StrokeRecord] = Field(
        default_factory=list, max_length=400, description="What was fitted, as places on the scan."
    )
    relations: list[RelationRecord] = Field(default_factory=list, max_length=1000, description="Relations held.")
    sizes: list[SizeRecord] = Field(default_factory=list, max_length=800, description="Sizes measured or held.")

    def in_script(self, told, script):
        d, word, plane = told["drawing"], script.word, told["plane"]
        held = [s for s in d["sizes"] if s["held"]]
        sizes = [f"({s['kind']!r}, {tuple(s['of'])!r}, {script.value(s['name'])})," for s in held]
        at = f"origin={tuple(plane['origin'])}, x_dir={tuple(plane['u'])}, z_dir={tuple(plane['normal'])}"
        return [
            f"{word}_plane = Plane({at})",
            f"{word} = solve(",
            f"    points={pformat([tuple(q) for q in d['points']], width=110)},",
            f"    radii={d['radii']!r},",
            f"    entities={pformat(d['entities'], width=110, sort_dicts=False)},",
            f"    relations={pformat([(q['kind'], tuple(q['of'])) for q in d['relations']], width=110)},",
            "    sizes=[",
            *["        " + s for s in sizes],
            "    ],",
            ")",
        ]

    def run(self, context, progress):
        from ...sketch.distances import distance_to_entity
        from ...sketch.drawing import Relation, Size, check_said, said_once
        from ...sketch.equations import size_value
        from ...sketch.loops import closed_loops
        from ...sketch.sizes import measure_sizes
        from ...sketch.sketcher import Stroke, draw, reach_for
        from ...sketch.solver import solve
        from ...sketch.trace import trace_noise

        loops, in_scan, plane, step = trace_on_paper(context, self.scan, self.frame, self.axis, self.height)
        reach = reach_for(loops, step)
        strokes = [Stroke(s.id, s.kind, in_scan.to_paper(np.array(s.places)), s.joins) for s in self.strokes]
        if not strokes:
            raise BadInput("Nothing is drawn in the sketch; fit a line, an arc or a circle first.", field="strokes")
        d = draw(loops, strokes, reach)
        relations = said_once([Relation(r.kind, tuple(r.of)) for r in self.relations])
        sizes = [Size(s.id, s.kind, tuple(s.of), s.label, None, None, s.chosen, s.source) for s in self.sizes]
        check_said(d, relations, sizes)
        progress(0.1, "Solving the sketch")
        measured = solve(d, relations, [])
        measure_sizes(d, sizes, measured)
        held = solve(d, relations, sizes, start=measured.x)
        values = []
        names: dict[str, int] = {}
        for k, s in enumerate(sizes):
            progress(0.3 + 0.6 * k / len(sizes))
            if s.source == "scan" or s.chosen is None:
                s.chosen = size_value(d, s, held.x)[0]
            lone = solve(d, relations, [s], start=measured.x) if s.source != "scan" else measured
            s.cost = lone.rms - measured.rms
            names[s.kind] = names.get(s.kind, 0) + 1
            name = s.kind if names[s.kind] == 1 else f"{s.kind}_{names[s.kind]}"
            values.append(
                Value(
                    name,
                    s.label or s.kind,
                    s.measured,
                    s.uncertainty,
                    s.chosen,
                    s.source,
                    "mm",
                    s.cost,
                    ["sizes", k, "chosen"],
                )
            )
        geometry = d.geometry(held.x)
        by_loop = closed_loops(geometry)
        output = {
            "plane": plane,
            "geometry": geometry,
            "loops": [[e["id"] for e in l["entities"]] for l in by_loop],
            "inside": [l["inside"] for l in by_loop],
            "drawing": {
                "points": [held.x[2 * i : 2 * i + 2].tolist() for i in range(d.point_count)],
                "radii": held.x[2 * d.point_count :].tolist(),
                "entities": [
                    {
                        "id": e.id,
                        "kind": e.kind,
                        "points": list(e.points),
                        "radius": None if e.radius is None else e.radius - 2 * d.point_count,
                        "ccw": e.ccw,
                    }
                    for e in d.entities.values()
                ],
                "relations": [{"kind": r.kind, "of": list(r.of)} for r in relations],
                "sizes": [
                    {"kind": s.kind, "of": list(s.of), "name": v.name, "chosen": s.chosen, "held": s.source != "scan"}
                    for s, v in zip(sizes, values)
                ],
            },
        }
        away = {i: distance_to_entity(d, d.entities[i], p, held.x) for i, p in d.stretches.items()}
        summary = {
            "rms": held.rms,
            "max_distance": held.max_distance,
            "free_rms": measured.rms,
            "noise": trace_noise(loops),
            "freedom": held.freedom,
            "unseen": held.unseen,
            "broken": held.broken,
            "geometry": geometry,
            "loops": output["loops"],
            "inside": output["inside"],
            "drawing": output["drawing"],
            "plane": {"origin": plane.origin.tolist(), "normal": plane.normal.tolist(), "u": plane.u.tolist()},
            "sizes": [vars(s) | {"of": list(s.of)} for s in sizes],
            "relations": [{"kind": r.kind, "of": list(r.of)} for r in relations],
            "entity_rms": {i: float(np.sqrt(np.mean(a**2))) for i, a in away.items()},
            "stretches": {i: p.round(4).tolist() for i, p in d.stretches.items()},
            "away": {i: a.round(5).tolist() for i, a in away.items()},
        }
        summary["says"] = f"{len(geometry)} pieces"
        says, status = "", "sound"
        if held.broken > 1e-5:
            status, says = (
                "attention",
                f"Relations and sizes contradict each other by {held.broken:.3f} mm; take one away.",
            )
        elif held.rms > measured.rms + 0.05:
            status, says = "attention", f"The chosen sizes cost {held.rms - measured.rms:.3f} mm rms against the trace."
        elif held.unseen:
            status, says = "attention", f"{held.unseen} freedoms are held by neither trace nor relation."
        return Outcome(output, summary, says, status, values)
