"""Steps on whole bodies, chosen by name: combined, repeated, mirrored, moved, cut off by a plane, hollowed."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import AxisRecord, BodyTold, axis_in_frame, body_summary, number, typed_value, vector

__all__: list[str] = []


class AxisTold(BodyTold):
    axis: list[list[float]]


class BodyStep(Step):
    """A step that takes a body and gives one."""

    course: ClassVar[str] = "bodies"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = BodyTold

    body: BodyRef = Field(description="The body it works on.", json_schema_extra=shown("body"))


def _gave(body: Any, values: list[Value], says: str = "", **more: Any) -> Outcome:
    summary = body_summary(body) | {"readings": {}} | more
    if not summary["valid"]:
        return Outcome(body, summary, "The body is not valid after this step; change it a little.", "failed", values)
    return Outcome(body, summary, says, "sound", values)


@register
class CombineBodiesStep(BodyStep):
    """Whole bodies joined, cut from one, or reduced to what they share."""

    title: ClassVar[str] = "Combine bodies"

    kind: Literal["bodycombine"] = "bodycombine"
    how: Literal["join", "cut", "intersect"] = Field(
        "cut",
        description="What is done with the tools.",
        json_schema_extra=shown("how", choices={"join": "Join", "cut": "Cut", "intersect": "Common"}),
    )
    tools: list[BodyRef] = Field(
        default_factory=list,
        max_length=100,
        description="The bodies it is done with.",
        json_schema_extra=shown("tools"),
    )

    def in_script(self, told, script):
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        terms = [script.named(self.body), *(script.named(t) for t in self.tools)]
        if self.how == "intersect" and len(self.tools) > 1:
            terms = [terms[0], "(" + " + ".join(terms[1:]) + ")"]
        return [f"{script.word} = " + f" {sign} ".join(terms)]

    def run(self, context, progress):
        from ...kernel.whole import combine_all

        if not self.tools:
            raise BadInput("Name at least one other body to combine with.", field="tools")
        if self.body in self.tools:
            raise BadInput("A body cannot be combined with itself; take it out of the tools.", field="tools")
        tools = [context.output(t, "body") for t in self.tools]
        return _gave(combine_all(context.output(self.body, "body"), tools, self.how, self.name), [])


@register
class RepeatStep(BodyStep, AxisRecord):
    """A body repeated in a ring about an axis or in a row along it; the copies follow it."""

    title: ClassVar[str] = "Repeat"
    tells: ClassVar[type[Told]] = AxisTold

    kind: Literal["repeat"] = "repeat"
    way: Literal["ring", "row"] = Field(
        "ring",
        description="Round the axis, or along it.",
        json_schema_extra=shown("way", choices={"ring": "in a ring", "row": "in a row"}),
    )
    count: int = Field(
        4, ge=2, le=500, description="How many, with the first.", json_schema_extra=shown("count", step=1)
    )
    turn: Chosen = Field(
        default_factory=lambda: Chosen(),
        description="From one to the next, degrees; none: evenly all round.",
        json_schema_extra=shown("apart by", "°", step=1, empty="evenly round", when={"way": "ring"}),
    )
    step: Chosen = Field(
        default_factory=lambda: Chosen(value=10.0, source="typed"),
        description="From one to the next along the axis, mm.",
        json_schema_extra=shown("apart by", "mm", step=1, when={"way": "row"}),
    )

    def _each(self) -> float:
        if self.way == "row":
            return number(self.step, "how far apart they lie, in mm", "step")
        return self.turn.value if self.turn.value is not None else 360.0 / self.count

    def in_script(self, told, script):
        point, direction = told["axis"]
        first, count = script.named(self.body), script.value("count") or self.count
        if self.way == "row":
            each = f"Pos(*(k * {script.value('step')} * np.array({vector(direction)}))) * {first}"
        else:
            turn = script.value("turn") or f"360 / {count}"
            each = f"{first}.rotate(Axis({vector(point)}, {vector(direction)}), k * {turn})"
        return [f"{script.word} = Compound([{each} for k in range(int({count}))])"]

    def run(self, context, progress):
        from ...kernel.whole import moved, repeated, turned

        body = context.output(self.body, "body")
        point, direction = axis_in_frame(self, context)
        each = self._each()
        if abs(each) < 1e-9:
            raise BadInput("Copies lie some way apart; give more than 0.", field="step")
        copies = []
        for k in range(1, self.count):
            progress(k / self.count, "Repeating")
            row = self.way == "row"
            copies.append(moved(body, k * each * direction) if row else turned(body, point, direction, k * each))
        values = [typed_value("count", "count", float(self.count), unit="", path=["count"])]
        if self.way == "row":
            values.append(typed_value("step", "apart by", each, self.step.source))
        elif self.turn.value is not None:
            values.append(typed_value("turn", "apart by", each, self.turn.source, "deg"))
        axis = [point.tolist(), direction.tolist()]
        return _gave(repeated(body, copies, self.name), values, axis=axis)


@register
class MirroredBodyStep(BodyStep, AxisRecord):
    """A body's image in a plane, alone or joined with it."""

    title: ClassVar[str] = "Mirror body"
    tells: ClassVar[type[Told]] = AxisTold

    kind: Literal["bodymirror"] = "bodymirror"
    keep: bool = Field(True, description="The image is joined with the body.", json_schema_extra=shown("join the two"))

    def in_script(self, told, script):
        point, normal = told["axis"]
        image = f"mirror({script.named(self.body)}, Plane({vector(point)}, z_dir={vector(normal)}))"
        return [f"{script.word} = " + (f"{script.named(self.body)} + {image}" if self.keep else image)]

    def run(self, context, progress):
        from ...kernel.body import Body
        from ...kernel.features import combine
        from ...kernel.whole import mirrored

        body = context.output(self.body, "body")
        point, normal = axis_in_frame(self, context)
        image = mirrored(body, point, normal)
        if self.keep:
            image = combine(
                body, Body(image.shape, tuple(f"{self.name}/{n}" for n in image.face_names)), "join", self.name
            )
        return _gave(image, [], axis=[point.tolist(), normal.tolist()])


@register
class MovedBodyStep(BodyStep, AxisRecord):
    """A body moved along an axis and turned about it."""

    title: ClassVar[str] = "Move body"
    tells: ClassVar[type[Told]] = AxisTold

    kind: Literal["bodymove"] = "bodymove"
    step: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="How far along the axis, mm.",
        json_schema_extra=shown("along", "mm", step=1),
    )
    turn: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="How far about it, degrees.",
        json_schema_extra=shown("about", "°", step=1),
    )

    def in_script(self, told, script):
        point, direction = told["axis"]
        turned = f"{script.named(self.body)}.rotate(Axis({vector(point)}, {vector(direction)}), {script.value('turn')})"
        return [f"{script.word} = Pos(*({script.value('step')} * np.array({vector(direction)}))) * {turned}"]

    def run(self, context, progress):
        from ...kernel.whole import moved, turned

        body = context.output(self.body, "body")
        point, direction = axis_in_frame(self, context)
        step, turn = number(self.step, "how far it moves, in mm", "step"), number(self.turn, "the turn", "turn")
        body = moved(turned(body, point, direction, turn), step * direction)
        values = [
            typed_value("step", "along", step, self.step.source),
            typed_value("turn", "about", turn, self.turn.source, "deg"),
        ]
        return _gave(body, values, axis=[point.tolist(), direction.tolist()])


@register
class CutOffStep(BodyStep, AxisRecord):
    """A body cut off by a plane; the side that is kept is named, not clicked."""

    title: ClassVar[str] = "Cut off"
    tells: ClassVar[type[Told]] = AxisTold

    kind: Literal["cutoff"] = "cutoff"
    offset: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="How far beyond the plane along its normal it is cut, mm.",
        json_schema_extra=shown("beyond by", "mm", step=0.5),
    )
    keep: Literal["behind", "before"] = Field(
        "behind",
        description="Which side is kept: behind the plane, or where its normal points.",
        json_schema_extra=shown("keep", choices={"behind": "behind", "before": "before it"}),
    )

    def in_script(self, told, script):
        point, normal = told["axis"]
        at = f"Plane({vector(point)}, z_dir={vector(normal)}).offset({script.value('offset')})"
        side = "BOTTOM" if self.keep == "behind" else "TOP"
        return [f"{script.word} = split({script.named(self.body)}, bisect_by={at}, keep=Keep.{side})"]

    def run(self, context, progress):
        from ...kernel.whole import cut_off

        point, normal = axis_in_frame(self, context)
        offset = number(self.offset, "how far beyond the plane it is cut, in mm", "offset")
        away = normal if self.keep == "behind" else -normal
        body = cut_off(context.output(self.body, "body"), point + offset * normal, away, self.name)
        value = typed_value("offset", "beyond by", offset, self.offset.source)
        return _gave(body, [value], axis=[point.tolist(), normal.tolist()])


class HollowTold(BodyTold):
    middles: list[list[float]]


@register
class HollowStep(BodyStep):
    """A body hollowed out to walls, open where faces are named."""

    title: ClassVar[str] = "Hollow"
    tells: ClassVar[type[Told]] = HollowTold

    kind: Literal["hollow"] = "hollow"
    thickness: Chosen = Field(
        default_factory=lambda: Chosen(value=2.0, source="typed"),
        description="Of the walls, mm.",
        json_schema_extra=shown("walls", "mm", step=0.5),
    )
    open_faces: list[str] = Field(
        default_factory=list, max_length=200, description="Faces that are left open, by name."
    )

    def in_script(self, told, script):
        faces = f"faces_at({script.named(self.body)}, {[tuple(round(c, 6) for c in p) for p in told['middles']]!r})"
        return [
            f"{script.word} = offset({script.named(self.body)}, -{script.value('thickness')}, openings={faces}, "
            "kind=Kind.INTERSECTION)"
        ]

    def run(self, context, progress):
        from ...kernel.tessellate import tessellate
        from ...kernel.whole import hollowed

        body = context.output(self.body, "body")
        thick = number(self.thickness, "how thick the walls are, in mm", "thickness")
        done = hollowed(body, thick, self.open_faces, self.name)
        facets = tessellate(body, 0.1)
        middles = []
        for n in self.open_faces:
            mine = facets.faces[facets.face_ids == body.face_names.index(n)]
            corners = facets.vertices[mine]
            area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
            middles.append(np.average(corners.mean(axis=1), axis=0, weights=area).tolist())
        value = typed_value("thickness", "walls", thick, self.thickness.source)
        return _gave(done, [value], middles=middles)
