"""Push a sketch's loops between two faces read from the scan; join the result to the body or cut it away."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Id, Record
from ..references import BodyRef, FrameRef, ScanRef, SketchRef
from ..step import Chosen, Outcome, Pick, Step, Told, Value, register
from .datum import resolve_pick

if TYPE_CHECKING:
    from ...features.evidence import Reading
    from ...kernel.body import Body
    from ...kernel.features import Curve2D

__all__ = ["ExtrudeStep", "body_summary", "settled"]

_PAST = 2.0  # mm beyond the body for cuts that go through


class End(Record):
    """Where an extrusion begins or ends."""

    to: Literal["face", "height", "through"] = Field(
        "face", description="A face picked on the scan, a height, or past the body."
    )
    pick: Pick | None = Field(None, description="A place on the face.")
    height: Chosen = Field(
        default_factory=lambda: Chosen(), description="Height along the sketch's axis from the frame's origin, mm."
    )


def settled(chosen: Chosen, reading: Reading) -> tuple[float, str]:
    """The number a choice means for a reading, and its source: chosen, rounded anew, or as the scan says."""

    from ...sketch.sizes import round_value

    if chosen.value is not None and chosen.source != "scan":
        return chosen.value, chosen.source
    if chosen.source == "rounded":
        value, why = round_value(reading.value, reading.uncertainty)
        if abs(reading.value) < max(3 * reading.uncertainty, 0.02):
            value, why = 0.0, "round"
        if why == "round":
            return value, "rounded"
    return reading.value, "scan"


def _met(body: Body | None, normal, height: float, reading: Reading | None) -> tuple[float, str | None]:
    """The height of the body's own face where the reading cannot tell it from that: features meet without a sliver."""

    from ...kernel.surfaces import face_surfaces

    if body is None:
        return height, None
    limit = max(0.02, 3 * reading.uncertainty if reading else 0.0)
    best = None
    for s in face_surfaces(body):
        if s.kind == "plane" and s.element is not None and abs(abs(s.element.normal @ normal) - 1) < 1e-9:
            off = float(s.element.point @ normal) - height
            if abs(off) <= limit and (best is None or abs(off) < abs(best[0])):
                best = (off, s.name)
    return (height + best[0], best[1]) if best else (height, None)


def body_summary(body) -> dict:
    from ...kernel.tessellate import tessellate

    facets = tessellate(body, 0.1)
    return {
        "volume": body.volume,
        "area": body.area,
        "faces": len(body.face_names),
        "valid": body.is_valid,
        "solids": body.solid_count,
        "face_names": list(body.face_names),
        "bounds": [facets.vertices.min(axis=0).tolist(), facets.vertices.max(axis=0).tolist()],
        "says": f"{len(body.face_names)} faces",
    }


class ReadingTold(BaseModel):
    value: float
    uncertainty: float
    count: int
    scatter: float
    note: str = ""


class BodyTold(Told):
    """What every step that gives a body says of it: mm³, mm²."""

    line: ClassVar[tuple[str, ...]] = ("volume", "area", "faces", "valid", "solids")

    volume: float
    area: float
    faces: int
    valid: bool
    solids: int
    face_names: list[str]
    bounds: list[list[float]]
    readings: dict[str, ReadingTold]


class ExtrudeTold(BodyTold):
    start: float
    end: float
    draft: float
    pushed: list[int]
    notes: list[str]
    meets: list[str]


@register
class ExtrudeStep(Step):
    """A prism over closed loops, with draft where the walls lean."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Extrude"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = ExtrudeTold

    kind: Literal["extrude"] = "extrude"
    sketch: SketchRef = Field(description="The sketch that holds the loops.")
    scan: ScanRef = Field(description="The scan that faces are picked on.")
    frame: FrameRef = Field(description="The frame the sketch lies in.")
    body: BodyRef | None = Field(None, description="The body to join to or cut from; none makes a new one.")
    how: Literal["join", "cut", "intersect"] = Field("join", description="What to do with the body.")
    loops: list[Id] = Field(
        default_factory=list, max_length=400, description="One entity of each loop to push; none: the outermost."
    )
    keep_inner: bool = Field(False, description="Leave loops inside a pushed one open.")
    start: End = Field(default_factory=lambda: End(), description="Where it begins.")
    end: End = Field(default_factory=lambda: End(), description="Where it ends.")
    draft: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"), description="Lean of the walls, degrees."
    )

    def _height(
        self, end: End, label: str, context, normal, body, low: bool
    ) -> tuple[float, Reading | None, np.ndarray | None]:
        from ...features.evidence import face_height
        from ...kernel.tessellate import tessellate

        if end.to == "through":
            if body is None:
                raise BadInput("There is no body to go through; pick a face instead.", field=label)
            h = tessellate(body, 0.1).vertices @ normal
            return (float(h.min()) - _PAST if low else float(h.max()) + _PAST), None, None
        if end.to == "height":
            if end.height.value is None:
                raise BadInput(f"Give a height for '{label}', or pick a face on the scan.", field=label)
            return end.height.value, None, None
        if end.pick is None:
            raise BadInput(f"Pick the face where the extrusion should {'begin' if low else 'end'}.", field=label)
        index = context.index(self.scan)
        picked = resolve_pick(index, end.pick, f"'{self.name}', {label}")
        reading = face_height(index, picked, context.output(self.frame, "frame"), normal)
        return settled(end.height, reading)[0], reading, picked.facets

    def in_script(self, told, script):
        word, sketch, data = script.word, script.named(self.sketch), script.told(self.sketch)
        at_plane = sum(a * b for a, b in zip(data["plane"]["origin"], data["plane"]["normal"]))
        start, end = (f"{script.value(k) or repr(told[k])} - {at_plane!r}" for k in ("start", "end"))
        out, tools = [], []
        lean = script.value("draft")
        for n, k in enumerate(told["pushed"]):
            loop = data["loops"][k]
            inner = [i for i, parent in enumerate(data["inside"]) if parent == k] if self.keep_inner else []
            holes = [data["loops"][i] for i in inner]
            text = f", {lean}" if lean and len(loop) > 1 else ""
            tools.append(f"{word}_{n + 1}" if len(told["pushed"]) > 1 else f"{word}_tool")
            out += [
                f"{tools[-1]} = push(",
                f"    face_of({sketch}, {loop!r}, {holes!r}),",
                f"    {sketch}_plane, {start}, {end}{text})",
            ]
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        terms = ([script.named(self.body)] if self.body else []) + tools
        return [*out, f"{word} = " + f" {sign} ".join(terms)]

    def run(self, context, progress):
        from ...features.evidence import Reading, wall_draft
        from ...kernel.features import PaperPlane, combine, extrude
        from ...sketch.loops import loop_outline

        sketch = context.output(self.sketch, "sketch")
        body = context.output(self.body, "body") if self.body else None
        plane = sketch["plane"]
        start, start_reading, start_facets = self._height(self.start, "start", context, plane.normal, body, True)
        end, end_reading, end_facets = self._height(self.end, "end", context, plane.normal, body, False)
        meets = []
        if self.how == "join":
            if self.start.height.source != "typed":
                start, name = _met(body, plane.normal, start, start_reading)
                meets += [name] if name else []
            if self.end.height.source != "typed":
                end, name = _met(body, plane.normal, end, end_reading)
                meets += [name] if name else []
        entities = {e["id"]: e for e in sketch["geometry"]}
        if not sketch["loops"]:
            raise BadInput("The sketch has no closed loop to push; join its ends first.", field="loops")
        wanted = []
        for entity in self.loops or [sketch["loops"][0][0]]:
            k = next((k for k, ids in enumerate(sketch["loops"]) if entity in ids), None)
            if k is None:
                raise BadInput(f"The loop through '{entity}' is gone or open; pick the loops again.", field="loops")
            if k not in wanted:
                wanted.append(k)
        at_plane = float(plane.origin @ plane.normal)
        paper = PaperPlane(plane.origin, plane.normal, plane.u)
        outlines = {k: loop_outline([entities[i] for i in sketch["loops"][k]]) for k in wanted}
        motion = context.output(self.frame, "frame")
        lean = None
        if self.draft.source == "scan" or any(len(sketch["loops"][k]) > 1 for k in wanted):
            readings = [
                wall_draft(
                    context.index(self.scan),
                    motion,
                    plane.normal,
                    outlines[k],
                    plane.origin,
                    plane.u,
                    min(start, end) - at_plane,
                    max(start, end) - at_plane,
                )
                for k in wanted
            ]
            readings = [r for r in readings if r is not None]
            if readings:
                w = np.array([1 / max(r.uncertainty, 1e-4) ** 2 for r in readings])
                lean = Reading(
                    float(np.average([r.value for r in readings], weights=w)),
                    float(1 / np.sqrt(w.sum())),
                    sum(r.count for r in readings),
                    float(np.mean([r.scatter for r in readings])),
                )
        draft = self.draft.value if self.draft.value is not None else (lean.value if lean else 0.0)
        result = body
        for k in wanted:
            inner = [i for i, parent in enumerate(sketch["inside"]) if parent == k] if self.keep_inner else []
            tool = extrude(
                [_curve(entities[i]) for i in sketch["loops"][k]],
                [[_curve(entities[i]) for i in sketch["loops"][m]] for m in inner],
                paper,
                start - at_plane,
                end - at_plane,
                self.name,
                draft_deg=draft if len(sketch["loops"][k]) > 1 else 0.0,
            )
            result = tool if result is None and self.how == "join" else combine(result, tool, self.how, self.name)
        values = []
        for label, e, reading, h in (("start", self.start, start_reading, start), ("end", self.end, end_reading, end)):
            if e.to != "through":
                source = settled(e.height, reading)[1] if reading else e.height.source
                values.append(
                    Value(
                        label,
                        label,
                        reading.value if reading else None,
                        reading.uncertainty if reading else None,
                        h,
                        source,
                        "mm",
                        None,
                        [label, "height", "value"],
                    )
                )
        if lean is not None or abs(draft) > 1e-9:
            values.append(
                Value(
                    "draft",
                    "draft",
                    lean.value if lean else None,
                    lean.uncertainty if lean else None,
                    draft,
                    self.draft.source,
                    "deg",
                    None,
                    ["draft", "value"],
                )
            )
        summary = body_summary(result)
        summary |= {
            "start": start,
            "end": end,
            "draft": draft,
            "pushed": wanted,
            "readings": {k: vars(r) for k, r in (("start", start_reading), ("end", end_reading), ("draft", lean)) if r},
        }
        says, status = "", "sound"
        if lean is not None and abs(lean.value - draft) > max(0.3, 4 * lean.uncertainty):
            status = "attention"
            says = f"The walls lean {lean.value:.2f}° ± {lean.uncertainty:.2f}°; the extrusion has {draft:.2f}°."
        notes = [r.note for r in (start_reading, end_reading) if r and r.note]
        summary["notes"] = notes
        summary["meets"] = meets
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this step; change its sizes a little."
        return Outcome(result, summary, says, status, values)


def _curve(e: dict) -> Curve2D:
    from ...kernel.features import Curve2D

    known = ("start", "end", "center", "radius", "major", "minor_radius", "degree")
    more = {k: e[k] for k in known if e.get(k) is not None}
    knots, poles = tuple(e.get("knots") or ()), tuple(tuple(p) for p in e.get("poles") or ())
    return Curve2D(e["id"], e["kind"], **more, ccw=e.get("ccw", True), knots=knots, poles=poles)
