"""Steps on surfaces: continued past their rims, untrimmed, offset; trimmed against each other or by a datum."""

from __future__ import annotations

import base64
import zlib
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, DatumRef, FrameRef
from ..step import Chosen, Told, register
from .bodied import BodyTold, number, typed_value
from .whole_bodies import BodyStep, gave

__all__ = ["ReachStep", "ShapedTold", "TrimStep", "as_shape", "shaped"]

_KEEPS = {"behind": "behind", "before": "before it"}
_ROW = 100


class ShapedTold(BodyTold):
    """``shape``: the body itself, for the script: packed binary B-rep as text."""

    shape: str


def shaped(body: Any) -> dict[str, str]:
    """What a step says besides that can only be written into a script as the shape itself."""
    return {"shape": base64.b64encode(zlib.compress(body.to_bytes(), 9)).decode()}


def as_shape(told: dict, script: Any, what: str) -> list[str]:
    """A body as its shape in a script, said so."""
    text = told["shape"]
    rows = [f'    "{text[k : k + _ROW]}"' for k in range(0, len(text), _ROW)]
    return [f"# {script.word}: {what}, as its shape; it follows no value", f"{script.word} = shape_of(", *rows, ")"]


@register
class ReachStep(BodyStep):
    """A surface that reaches farther, loses its trimming, or lies beside itself."""

    title: ClassVar[str] = "Extend surface"
    tells: ClassVar[type[Told]] = ShapedTold

    kind: Literal["surfaceedit"] = "surfaceedit"
    do: Literal["extend", "untrim", "offset"] = Field(
        "extend",
        description="Continue it past its rims, take its trimming off, or lay it beside itself.",
        json_schema_extra=shown("do", choices={"extend": "extend", "untrim": "untrim", "offset": "offset"}),
    )
    by: Chosen = Field(
        default_factory=lambda: Chosen(value=5.0, source="typed"),
        description="How far, mm; an offset below 0 goes to the other side.",
        json_schema_extra=shown("by", "mm", step=1, when={"do": ["extend", "offset"]}),
    )
    runs: Literal["straight", "bends"] = Field(
        "straight",
        description="Straight on as it ends, or on as it bends.",
        json_schema_extra=shown(
            "goes", choices={"straight": "straight on", "bends": "on as it bends"}, when={"do": "extend"}
        ),
    )
    sides: list[Literal["u0", "u1", "v0", "v1"]] = Field(
        default_factory=list, max_length=4, description="Which sides of its faces; none named: all that are open."
    )

    def in_script(self, told, script):
        return as_shape(told, script, "a surface that was extended, untrimmed or offset")

    def run(self, context, progress):
        from ...kernel.extending import moved_along_itself, reaching, whole_again

        body = context.output(self.body, "body")
        if self.do == "untrim":
            done = whole_again(body, self.name)
            return gave(done, [], **shaped(done))
        by = number(self.by, "how far, in mm", "by")
        if self.do == "offset":
            done = moved_along_itself(body, by, self.name)
        else:
            done = reaching(body, by, self.runs == "bends", list(self.sides), self.name)
        return gave(done, [typed_value("by", "by", by, self.by.source)], **shaped(done))


@register
class TrimStep(BodyStep):
    """A surface or a solid parted by a surface or a plane; the side that stays is told by its normal."""

    title: ClassVar[str] = "Trim"
    tells: ClassVar[type[Told]] = ShapedTold

    kind: Literal["surfacetrim"] = "surfacetrim"
    frame: FrameRef = Field(description="The frame the body lies in.")
    by: BodyRef | None = Field(
        None, description="The surface it is parted by.", json_schema_extra=shown("by", empty="a datum")
    )
    on: DatumRef | None = Field(
        None, description="A plane it is parted by, where no surface is given.", json_schema_extra=shown("by a datum")
    )
    keep: Literal["behind", "before"] = Field(
        "behind",
        description="Which side of it stays: where its normal points, or the other.",
        json_schema_extra=shown("keep", choices=_KEEPS),
    )
    both: bool = Field(
        False,
        description="The other surface is trimmed too, and both are joined.",
        json_schema_extra=shown("trim both, and join them"),
    )
    keep_other: Literal["behind", "before"] = Field(
        "behind",
        description="Which side of the first stays of the other.",
        json_schema_extra=shown(
            "keep of the other",
            choices={"behind": "other: behind", "before": "other: before it"},
            when={"both": True},
        ),
    )

    def in_script(self, told, script):
        return as_shape(told, script, "what a surface or plane left of it")

    def run(self, context, progress):
        from ...kernel.trimming import cut_by, trimmed_mutually

        body = context.output(self.body, "body")
        if self.by is not None:
            if self.by == self.body:
                raise BadInput("A surface cannot be trimmed by itself; name another.", field="by")
            tool = context.output(self.by, "body")
            if tool.solid_count:
                raise BadInput("It is trimmed by a surface or a plane; to cut by a solid, combine bodies.", field="by")
        else:
            tool = self._sheet(context, body)
        if self.both and self.by is not None:
            if body.solid_count:
                raise BadInput("Only two surfaces trim each other; a solid is cut by the surface alone.", field="both")
            done = trimmed_mutually(body, tool, self.keep, self.keep_other, self.name)
        else:
            done = cut_by(body, tool, self.keep, self.name)
        return gave(done, [], **shaped(done))

    def _sheet(self, context: Any, body: Any):
        from ...kernel.tessellate import bounds_of, diagonal_of
        from ...kernel.trimming import plane_sheet

        if self.on is None:
            raise BadInput("Name a surface or a plane that parts it.", field="by")
        e = context.output(self.on, "datum")["element"]
        if e.kind != "plane":
            raise BadInput(f"A {e.kind} is no plane; give a plane or a surface.", field="on")
        motion = context.output(self.frame, "frame")
        point, normal = motion.points(e.point[None])[0], motion.vectors(e.normal)
        middle = np.asarray(bounds_of(body)).mean(axis=0)
        foot = middle - ((middle - point) @ normal) * normal
        return plane_sheet(foot, normal, 2 * diagonal_of(body))
