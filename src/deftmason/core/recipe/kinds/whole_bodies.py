"""Steps on whole bodies, chosen by name: combined, repeated, mirrored, moved, cut by a plane."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import AxisRecord, BodyTold, axis_in_frame, body_summary, number, typed_value, vector

__all__ = ["AxisTold", "BodyStep", "gave"]

_SEAM = 0.05  # mm: a surface and its image are one where their rims lie so near


class AxisTold(BodyTold):
    axis: list[list[float]]


class BodyStep(Step):
    """A step that takes a body and gives one."""

    course: ClassVar[str] = "bodies"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = BodyTold

    body: BodyRef = Field(description="The body it works on.", json_schema_extra=shown("body"))


def gave(body: Any, values: list[Value], says: str = "", **more: Any) -> Outcome:
    """What a step says that gave a body; failed where the body is not valid."""
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
        return gave(combine_all(context.output(self.body, "body"), tools, self.how, self.name), [])


@register
class RepeatStep(BodyStep, AxisRecord):
    """A body repeated in a ring about an axis or in a row along it; the copies follow it."""

    title: ClassVar[str] = "Repeat"
    tells: ClassVar[type[Told]] = AxisTold

    kind: Literal["repeat"] = "repeat"
    way: Literal["ring", "row", "grid"] = Field(
        "ring",
        description="Round the axis, along it, or along it and the next of the frame's axes.",
        json_schema_extra=shown("way", choices={"ring": "in a ring", "row": "in a row", "grid": "in a grid"}),
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
        json_schema_extra=shown("apart by", "mm", step=1, when={"way": ["row", "grid"]}),
    )
    rows: int = Field(
        2, ge=2, le=500, description="How many across.", json_schema_extra=shown("rows", step=1, when={"way": "grid"})
    )
    row_step: Chosen = Field(
        default_factory=lambda: Chosen(value=10.0, source="typed"),
        description="From one row to the next, mm.",
        json_schema_extra=shown("rows apart", "mm", step=1, when={"way": "grid"}),
    )

    def _across(self, direction: np.ndarray) -> np.ndarray:
        """The next of the frame's axes, square to the first."""
        u = np.eye(3)[(int(np.argmax(np.abs(direction))) + 1) % 3]
        u = u - (u @ direction) * direction
        return u / np.linalg.norm(u)

    def _each(self) -> float:
        if self.way != "ring":
            return number(self.step, "how far apart they lie, in mm", "step")
        return self.turn.value if self.turn.value is not None else 360.0 / self.count

    def in_script(self, told, script):
        point, direction = told["axis"]
        first, count = script.named(self.body), script.value("count") or self.count
        if self.way == "grid":
            along = f"k * {script.value('step')} * np.array({vector(direction)})"
            across = f"m * {script.value('row_step')} * np.array({vector(self._across(np.array(direction)))})"
            rows = script.value("rows") or self.rows
            each = f"Pos(*({along} + {across})) * {first}"
            return [f"{script.word} = Compound([{each} for m in range(int({rows})) for k in range(int({count}))])"]
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
        rows = self.rows if self.way == "grid" else 1
        if self.count * rows > 500:
            raise BadInput(f"{self.count} × {rows} copies are more than 500; take fewer.", field="rows")
        across = np.zeros(3)
        if self.way == "grid":
            far = number(self.row_step, "how far the rows lie apart, in mm", "row_step")
            if abs(far) < 1e-9:
                raise BadInput("Rows lie some way apart; give more than 0.", field="row_step")
            across = far * self._across(direction)
        copies = []
        for k in range(1, self.count * rows):
            progress(k / (self.count * rows), "Repeating")
            row, at = divmod(k, self.count)
            if self.way == "ring":
                copies.append(turned(body, point, direction, k * each))
            else:
                copies.append(moved(body, at * each * direction + row * across))
        values = [typed_value("count", "count", float(self.count), unit="", path=["count"])]
        if self.way != "ring":
            values.append(typed_value("step", "apart by", each, self.step.source))
            if self.way == "grid":
                values.append(typed_value("rows", "rows", float(rows), unit="", path=["rows"]))
                values.append(typed_value("row_step", "rows apart", far, self.row_step.source))
        elif self.turn.value is not None:
            values.append(typed_value("turn", "apart by", each, self.turn.source, "deg"))
        axis = [point.tolist(), direction.tolist()]
        return gave(repeated(body, copies, self.name), values, axis=axis)


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
        if self.keep and not told["solids"]:
            return [f"{script.word} = stitched([{script.named(self.body)}, {image}], {_SEAM})"]
        return [f"{script.word} = " + (f"{script.named(self.body)} + {image}" if self.keep else image)]

    def run(self, context, progress):
        from ...kernel.body import Body
        from ...kernel.features import combine
        from ...kernel.shells import open_rims, stitched
        from ...kernel.whole import mirrored

        body = context.output(self.body, "body")
        point, normal = axis_in_frame(self, context)
        image = mirrored(body, point, normal)
        if self.keep:
            other = Body(image.shape, tuple(f"{self.name}/{n}" for n in image.face_names))
            if body.solid_count:
                image = combine(body, other, "join", self.name)
            else:
                got = stitched([body, other], _SEAM, self.name)
                alone = len(open_rims(body)) * 2
                if got.open >= alone:
                    raise BadInput(
                        "The surface's rims do not meet its image; move the plane onto a rim, or keep it alone.",
                        field="keep",
                    )
                image = got.body
        return gave(image, [], axis=[point.tolist(), normal.tolist()])


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
        return gave(body, values, axis=[point.tolist(), direction.tolist()])


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
    keep: Literal["behind", "before", "both"] = Field(
        "behind",
        description="Which side is kept: behind the plane, where its normal points, or both, apart.",
        json_schema_extra=shown("keep", choices={"behind": "behind", "before": "before it", "both": "both, apart"}),
    )

    def in_script(self, told, script):
        point, normal = told["axis"]
        at = f"Plane({vector(point)}, z_dir={vector(normal)}).offset({script.value('offset')})"
        side = {"behind": "BOTTOM", "before": "TOP", "both": "BOTH"}[self.keep]
        return [f"{script.word} = split({script.named(self.body)}, bisect_by={at}, keep=Keep.{side})"]

    def run(self, context, progress):
        from ...kernel.whole import cut_off, parted

        point, normal = axis_in_frame(self, context)
        offset = number(self.offset, "how far beyond the plane it is cut, in mm", "offset")
        body, place = context.output(self.body, "body"), point + offset * normal
        if self.keep == "both":
            body = parted(body, place, normal, self.name)
        else:
            body = cut_off(body, place, normal if self.keep == "behind" else -normal, self.name)
        value = typed_value("offset", "beyond by", offset, self.offset.source)
        return gave(body, [value], axis=[point.tolist(), normal.tolist()])
