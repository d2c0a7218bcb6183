"""A round bead along edges of a body or along a curve, as a weld leaves it."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, CurveRef, FrameRef
from ..step import Chosen, Outcome, Step, Told, register
from .bodied import BodyTold, body_summary, number, typed_value, vector
from .curved import curve_in_script

__all__ = ["BeadStep"]


class BeadTold(BodyTold):
    """``path`` its pieces, ``length`` in mm, ``start`` the place and the way it begins in, in the frame."""

    path: list[dict[str, Any]]
    length: float
    start: list[list[float]]


@register
class BeadStep(Step):
    """A round bar along edges or a curve, joined to the body."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Weld bead"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = BeadTold

    kind: Literal["bead"] = "bead"
    frame: FrameRef = Field(description="The frame it lies in.")
    body: BodyRef = Field(description="The body it is laid on.", json_schema_extra=shown("body"))
    curve: CurveRef | None = Field(
        None, description="The curve it runs along; none: edges of the body.", json_schema_extra=shown("along")
    )
    edges: list[tuple[str, str, str | int]] = Field(
        default_factory=list, max_length=200, description="Edges it runs along, as a fillet names them."
    )
    diameter: Chosen = Field(
        default_factory=lambda: Chosen(value=5.0, source="hand reading"),
        description="Of the bead, mm.",
        json_schema_extra=shown("diameter", "mm", step=0.5),
    )

    def in_script(self, told, script):
        word = script.word
        at = f"Plane({vector(told['start'][0])}, z_dir={vector(told['start'][1])})"
        ring = f"{at} * Wire([Edge.make_circle({script.value('diameter')} / 2)])"
        return [
            *curve_in_script({"pieces": told["path"]}, f"{word}_path"),
            f"{word} = {script.named(self.body)} + swept({ring}, {word}_path, 'square', (0, 0, 1), None)",
        ]

    def run(self, context, progress):
        from ...kernel.features import combine
        from ...kernel.spatial import curve_of_edges
        from ...kernel.swept import ring_wire, sweep

        body = context.output(self.body, "body")
        if self.curve is None and not self.edges:
            raise BadInput("Click an edge of the body, or name a curve.", field="edges")
        curve = context.output(self.curve, "curve") if self.curve else curve_of_edges(body, list(self.edges))
        diameter = number(self.diameter, "how thick the bead is, in mm", "diameter")
        if diameter <= 0:
            raise BadInput("A bead's diameter is above 0 mm; choose another.", field="diameter")
        start, way = curve.at([0.0])[0], curve.direction([0.0])[0]
        progress(0.2, "Laying the bead")
        bead = sweep(ring_wire(start, way, diameter / 2), curve, self.name)
        result = combine(body, bead, "join", self.name)
        summary = body_summary(result) | {
            "path": [q.told() for q in curve.pieces],
            "length": curve.length,
            "start": [start.tolist(), way.tolist()],
            "readings": {},
        }
        value = typed_value("diameter", "⌀", diameter, self.diameter.source)
        if not summary["valid"]:
            says = "The body is not valid with this bead; change its diameter a little."
            return Outcome(result, summary, says, "failed", [value])
        return Outcome(result, summary, "", "sound", [value])
