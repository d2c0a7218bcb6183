"""Push a sketch's loops between two faces read from the scan; join the result to the body or cut it away."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Id, Record
from ..references import BodyRef, DatumRef, FrameRef, ScanRef, SketchRef
from ..step import Chosen, Outcome, Pick, Step, Told, Value, register
from .bodied import (
    BodyTold,
    body_summary,
    curve_of_entity,
    met_face,
    profile_curves,
    settled,
    typed_value,
    unseen_notes,
    wanted_chains,
    wanted_loops,
)
from .datum import resolve_pick

if TYPE_CHECKING:
    from ...features.evidence import Reading
    from ...features.patch import Patch

__all__ = ["ExtrudeStep"]

_PAST = 0.02  # of the body's diagonal beyond it, for cuts that go through
_ENDS = {"start": "begin", "end": "end"}
_SQUARE, _EDGE_ON, _LEVEL = 1e-12, 0.02, 1e-6  # cosines: square to the push, along it, and how far an axis may rise
_RIM = 2  # rings of facets at the rim of a bent face that devices round off


class End(Record):
    """Where an extrusion begins or ends."""

    to: Literal["face", "height", "through", "surface", "opposite", "datum"] = Field(
        "face",
        description="A face picked on the scan, a height, past the body, a bent face of the scan as it is, as far from "
        "the paper as the other end, or a datum: on a plane, square to it or slanted, or level with a place.",
    )
    datum: DatumRef | None = Field(None, description="The plane it ends on, or the place it is level with.")
    pick: Pick | None = Field(None, description="A place on the face.")
    height: Chosen = Field(
        default_factory=lambda: Chosen(), description="Height along the sketch's axis from the frame's origin, mm."
    )


class PatchTold(BaseModel):
    """A patch that an end lies on: its poles in the frame, and from it to past the body."""

    poles: list[list[list[float]]]
    beyond: list[float]


class ExtrudeTold(BodyTold):
    patches: dict[str, PatchTold] = {}
    start: float
    end: float
    draft: float
    pushed: list[int]
    chains: list[list[str]] = []
    notes: list[str]
    meets: list[str]


def _over(p: Patch) -> float:
    """How far a push goes past a patch before it is ended there, mm."""
    return 0.1 * (p.high - p.low) + 0.05 * float(np.linalg.norm(np.ptp(p.poles.reshape(-1, 3), axis=0)))


def _beyond(p: Patch, label: str, normal) -> np.ndarray:
    return (1 if label == "end" else -1) * (p.high - p.low + 2 * _over(p)) * np.asarray(normal)


def _patch_reading(p: Patch) -> Reading:
    from ...features.evidence import Reading

    note = f"is followed by a patch of degree {len(p.poles) - 1}, {p.scatter:.3f} mm rms"
    return Reading(p.middle, p.scatter / np.sqrt(p.count), p.count, p.scatter, note)


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
    result: Literal["solid", "surface"] = Field(
        "solid", description="A solid of closed profiles, or a surface of any: then it stands alone."
    )
    keep_inner: bool = Field(False, description="Leave loops inside a pushed one open.")
    start: End = Field(default_factory=lambda: End(), description="Where it begins.")
    end: End = Field(default_factory=lambda: End(), description="Where it ends.")
    draft: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"), description="Lean of the walls, degrees."
    )

    wall: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Only a wall along the outline, so thick inward (outward below 0), mm; 0: all of it.",
    )

    def _height(
        self, end: End, label: str, context, normal, body, low: bool
    ) -> tuple[float, Reading | None, np.ndarray | None]:
        from ...features.evidence import face_height
        from ...kernel.tessellate import bounds_of

        if end.to == "through":
            if body is None:
                raise BadInput("There is no body to go through; pick a face instead.", field=label)
            corners = np.array(np.meshgrid(*bounds_of(body).T)).reshape(3, -1).T
            h, past = corners @ normal, _PAST * float(np.linalg.norm(np.ptp(corners, axis=0)))
            return (float(h.min()) - past if low else float(h.max()) + past), None, None
        if end.to == "opposite":
            return float("nan"), None, None
        if end.to == "datum":
            return self._level(end, label, context, normal), None, None
        if end.to == "height":
            if end.height.value is None:
                raise BadInput(f"Give a height for '{label}', or pick a face on the scan.", field=label)
            return end.height.value, None, None
        if end.pick is None:
            raise BadInput(f"Pick the face where the extrusion should {'begin' if low else 'end'}.", field=label)
        if not context.reads and end.height.value is not None and end.to == "face":
            return end.height.value, None, None
        index, pick, what = context.index(self.scan), end.pick, f"'{self.name}', {label}"
        if end.to == "surface":
            return float("nan"), None, resolve_pick(index, pick, what).facets

        def read() -> Reading:
            return face_height(index, resolve_pick(index, pick, what), context.output(self.frame, "frame"), normal)

        on = (context.key_of(self.frame), "height", pick.model_dump_json(), tuple(map(float, normal)))
        reading = context.read(self.scan, on, read)
        return settled(end.height, reading)[0], reading, None

    def _sheet(self, context, sketch, at_plane: float, start: tuple, end: tuple) -> Outcome:
        """What is drawn, open or closed, pushed as a surface; ``start`` and ``end`` are heights and their readings."""
        from ...kernel.features import PaperPlane
        from ...kernel.sheer import pushed_sheet

        if self.body is not None or self.how != "join":
            raise BadInput("A surface stands alone; stitch or thicken it, or trim with it, after.", field="body")
        if self.wall.value or self.draft.value:
            raise BadInput("A surface is pushed upright and has no wall; set both to 0.", field="draft")
        heights = [start[0], end[0]]
        for k, e in enumerate((self.start, self.end)):
            if e.to == "opposite":
                heights[k] = 2 * at_plane - heights[1 - k]
        if not np.isfinite(heights).all():
            raise BadInput("A surface ends level: on a flat face, at a height, or on a datum square to it.", field="to")
        plane, ids = sketch["plane"], wanted_chains(sketch, self.loops)
        by = {e["id"]: curve_of_entity(e) for e in sketch["geometry"]}
        paper = PaperPlane(plane.origin, plane.normal, plane.u)
        low, high = (h - at_plane for h in heights)
        result = pushed_sheet([[by[i] for i in chain] for chain in ids], paper, low, high, self.name)
        readings = [r for _, r in (start, end)]
        values = [
            self._value(label, e, r, h)
            for label, e, r, h in zip(("start", "end"), (self.start, self.end), readings, heights)
            if e.to in ("face", "height")
        ]
        summary = body_summary(result) | {
            "start": heights[0], "end": heights[1], "draft": 0.0, "pushed": [], "chains": ids, "patches": {},
            "notes": [], "meets": [],
            "readings": {k: vars(r) for k, r in zip(("start", "end"), readings) if r},
        }  # fmt: skip
        return Outcome(result, summary, "", "sound", values)

    def _value(self, label: str, e: End, reading: Reading | None, height: float) -> Value:
        """An end's height in the ledger."""
        path = [label, "height", "value"]
        if reading is None:
            return Value(label, label, None, None, height, e.height.source, "mm", None, path)
        source = settled(e.height, reading)[1]
        return Value(label, label, reading.value, reading.uncertainty, height, source, "mm", None, path)

    def _level(self, end: End, label: str, context, normal) -> float:
        """The height of a datum along the push, mm; NaN of a plane that slants."""
        if end.datum is None:
            raise BadInput(f"Choose the datum where the extrusion should {_ENDS[label]}.", field=label)
        e, motion = context.output(end.datum, "datum")["element"], context.output(self.frame, "frame")
        p = e.parameters()
        place = p.get("point") or p.get("center") or p.get("apex")
        across, along = p.get("normal") if e.kind == "plane" else None, p.get("direction")
        if across is not None:
            tilt = abs(float(motion.vectors(np.array(across)) @ normal))
            if tilt < _EDGE_ON:
                raise BadInput("That plane lies along the push and never ends it; choose another datum.", field=label)
            if tilt < 1 - _SQUARE:
                return float("nan")
        elif along is not None and abs(float(motion.vectors(np.array(along)) @ normal)) > _LEVEL:
            raise BadInput(f"A {e.kind} that is not level has no height; choose a plane or a point.", field=label)
        return float(motion.points(np.array(place)) @ normal)

    def _slant(self, end: End, context, plane, outline) -> Patch:
        """The part of a slanted plane over the outline, as a patch of degree one."""
        from ...features.patch import Patch

        motion = context.output(self.frame, "frame")
        p = context.output(end.datum, "datum")["element"].parameters()
        at, n = motion.points(np.array(p["point"])), motion.vectors(np.array(p["normal"]))
        u, v, w = plane.u, np.cross(plane.normal, plane.u), plane.normal
        low, high = outline.min(axis=0), outline.max(axis=0)
        past = _PAST * (high - low)
        grid = np.stack(np.meshgrid(*zip(low - past, high + past), indexing="ij"), axis=-1)
        flat = plane.origin + grid[..., :1] * u + grid[..., 1:] * v
        poles = flat + (((at - flat) @ n) / (w @ n))[..., None] * w
        heights = poles.reshape(-1, 3) @ w
        return Patch(poles, 0.0, 0, float(heights.min()), float(heights.max()), float(heights.mean()))

    def _patch(self, context, facets, plane, motion, outline) -> Patch:
        from ...features.patch import patch_over

        index = context.index(self.scan)
        deep = index.depth(facets, _RIM)
        inner = facets[deep == deep.max()]
        places = motion.points(index.mesh.vertices[np.unique(index.mesh.faces[inner])])
        return patch_over(places, plane.origin, plane.u, np.cross(plane.normal, plane.u), plane.normal, outline)

    def in_script(self, told, script):
        word, sketch, data = script.word, script.named(self.sketch), script.told(self.sketch)
        at_plane = sum(a * b for a, b in zip(data["plane"]["origin"], data["plane"]["normal"]))
        start, end = (f"{script.value(k) or repr(told[k])} - {at_plane!r}" for k in ("start", "end"))
        if told.get("chains"):
            return [f"{script.word} = sheer({sketch}, {told['chains']!r}, {sketch}_plane, {start}, {end})"]
        out, tools = [], []
        lean = script.value("draft")
        for n, k in enumerate(told["pushed"]):
            loop = data["loops"][k]
            inner = [i for i, parent in enumerate(data["inside"]) if parent == k] if self.keep_inner else []
            holes = [data["loops"][i] for i in inner]
            text = f", {lean}" if lean and len(loop) > 1 else ""
            face = f"face_of({sketch}, {loop!r}, {holes!r})"
            if script.value("wall"):
                face = f"wall_of({sketch}, {loop!r}, {script.value('wall')})"
            tools.append(f"{word}_{n + 1}" if len(told["pushed"]) > 1 else f"{word}_tool")
            out += [
                f"{tools[-1]} = push(",
                f"    {face},",
                f"    {sketch}_plane, {start}, {end}{text})",
            ]
            out += [
                f"{tools[-1]} = ended({tools[-1]}, {p['poles']!r}, {p['beyond']!r})" for p in told["patches"].values()
            ]
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        terms = ([script.named(self.body)] if self.body else []) + tools
        return [*out, f"{word} = " + f" {sign} ".join(terms)]

    def run(self, context, progress):
        from ...features.evidence import Reading, wall_draft
        from ...kernel.features import PaperPlane, combine, extrude
        from ...kernel.whole import bounded
        from ...sketch.loops import loop_outline

        sketch = context.output(self.sketch, "sketch")
        body = context.output(self.body, "body") if self.body else None
        plane = sketch["plane"]
        start, start_reading, start_facets = self._height(self.start, "start", context, plane.normal, body, True)
        end, end_reading, end_facets = self._height(self.end, "end", context, plane.normal, body, False)
        entities = {e["id"]: e for e in sketch["geometry"]}
        at_plane = float(plane.origin @ plane.normal)
        if self.result == "surface":
            return self._sheet(context, sketch, at_plane, (start, start_reading), (end, end_reading))
        wanted = wanted_loops(sketch, self.loops)
        paper = PaperPlane(plane.origin, plane.normal, plane.u)
        outlines = {k: loop_outline([entities[i] for i in sketch["loops"][k]]) for k in wanted}
        motion = context.output(self.frame, "frame")
        patches = {}
        for label, facets in (("start", start_facets), ("end", end_facets)):
            if getattr(self, label).to == "surface":
                patches[label] = self._patch(context, facets, plane, motion, np.vstack(list(outlines.values())))
        for label, given, h in (("start", self.start, start), ("end", self.end, end)):
            if given.to == "datum" and np.isnan(h):
                patches[label] = self._slant(given, context, plane, np.vstack(list(outlines.values())))
        if "start" in patches:
            start = patches["start"].low - _over(patches["start"])
            start_reading = _patch_reading(patches["start"]) if patches["start"].count else None
        if "end" in patches:
            end = patches["end"].high + _over(patches["end"])
            end_reading = _patch_reading(patches["end"]) if patches["end"].count else None
        if self.start.to == "opposite" and self.end.to == "opposite":
            raise BadInput("Give one of the two ends; the other lies as far the other way.", field="end")
        if self.start.to == "opposite":
            start = 2 * at_plane - end
        if self.end.to == "opposite":
            end = 2 * at_plane - start
        meets = []
        if self.how == "join":
            if self.start.height.source != "typed" and self.start.to == "face":
                start, name = met_face(body, plane.normal, start, start_reading)
                meets += [name] if name else []
            if self.end.height.source != "typed" and self.end.to == "face":
                end, name = met_face(body, plane.normal, end, end_reading)
                meets += [name] if name else []
        lean = None
        asked = self.draft.source == "scan" or any(len(sketch["loops"][k]) > 1 for k in wanted)
        if asked and (context.reads or self.draft.value is None):
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
        wall = self.wall.value or 0.0
        if wall and abs(draft) > 1e-9:
            raise BadInput("A thin wall is pushed upright; set its draft to 0, or lean its faces after.", field="wall")
        result = body
        for k in wanted:
            tool = extrude(
                *profile_curves(sketch, k, self.keep_inner),
                paper,
                start - at_plane,
                end - at_plane,
                self.name,
                draft_deg=draft if len(sketch["loops"][k]) > 1 else 0.0,
                wall=wall,
            )
            for label, p in patches.items():
                face = f"{self.name}/{'top' if label == 'end' else 'bottom'}"
                tool = bounded(tool, p.poles, _beyond(p, label, plane.normal), face, self.name)
            result = tool if result is None and self.how == "join" else combine(result, tool, self.how, self.name)
        both = (("start", self.start, start_reading, start), ("end", self.end, end_reading, end))
        values = [self._value(*of) for of in both if of[1].to in ("face", "height")]
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
        if wall:
            values.append(typed_value("wall", "wall", wall, self.wall.source))
        summary = body_summary(result)
        summary |= {
            "start": start,
            "end": end,
            "draft": draft,
            "pushed": wanted,
            "patches": {
                k: {"poles": p.poles.tolist(), "beyond": _beyond(p, k, plane.normal).tolist()}
                for k, p in patches.items()
            },
            "readings": {k: vars(r) for k, r in (("start", start_reading), ("end", end_reading), ("draft", lean)) if r},
        }
        says, status = "", "sound"
        if lean is not None and abs(lean.value - draft) > max(0.3, 4 * lean.uncertainty):
            status = "attention"
            says = f"The walls lean {lean.value:.2f}° ± {2 * lean.uncertainty:.2f}°; the extrusion has {draft:.2f}°."
        notes = [f"the face {r.note}" for r in (start_reading, end_reading) if r and r.note]
        notes += unseen_notes(result, body, context, self.scan, motion)
        summary["notes"] = notes
        summary["meets"] = meets
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this step; change its sizes a little."
        return Outcome(result, summary, says, status, values)
