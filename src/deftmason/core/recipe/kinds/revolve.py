"""Turn a sketch's loops about an axis of the paper or a line that was drawn; join the result to the body or cut it."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Id, shown
from ..references import BodyRef, FrameRef, SketchRef
from ..step import Chosen, Outcome, Step, Told, register
from .bodied import (
    BodyTold,
    body_summary,
    curve_of_entity,
    number,
    profile_curves,
    typed_value,
    vector,
    wanted_chains,
    wanted_loops,
)

__all__: list[str] = []


class RevolveTold(BodyTold):
    angle: float
    pushed: list[int]
    chains: list[list[str]] = []
    axis: list[list[float]]


@register
class RevolveStep(Step):
    """A profile turned about an axis, wholly or by an angle."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Revolve"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = RevolveTold

    kind: Literal["revolve"] = "revolve"
    sketch: SketchRef = Field(description="The sketch that holds the profile.", json_schema_extra=shown("profile"))
    frame: FrameRef = Field(description="The frame the sketch lies in.")
    body: BodyRef | None = Field(
        None, description="The body to join to or cut from; none makes a new one.", json_schema_extra=shown("body")
    )
    how: Literal["join", "cut", "intersect"] = Field(
        "join",
        description="What to do with the body.",
        json_schema_extra=shown("how", choices={"join": "Join", "cut": "Cut", "intersect": "Common"}),
    )
    about: Literal["across", "up", "line"] = Field(
        "up",
        description="The paper's level axis, its upright one, or a line of the sketch.",
        json_schema_extra=shown("about", choices={"up": "upright", "across": "level", "line": "a line"}),
    )
    line: Id | None = Field(
        None, description="The line it is turned about.", json_schema_extra=shown("line", when={"about": "line"})
    )
    loops: list[Id] = Field(
        default_factory=list, max_length=400, description="One entity of each loop to turn; none: the outermost."
    )
    keep_inner: bool = Field(True, description="Leave loops inside a turned one open.")
    result: Literal["solid", "surface"] = Field(
        "solid",
        description="A solid of closed profiles, or a surface of any: then it stands alone.",
        json_schema_extra=shown("gives", choices={"solid": "a solid", "surface": "a surface"}),
    )
    angle: Chosen = Field(
        default_factory=lambda: Chosen(value=360.0, source="typed"),
        description="How far it is turned, degrees.",
        json_schema_extra=shown("angle", "°", step=15),
    )

    def _axis(self, sketch: dict) -> tuple[np.ndarray, np.ndarray]:
        if self.about != "line":
            return np.zeros(2), np.array([1.0, 0.0] if self.about == "across" else [0.0, 1.0])
        e = next((e for e in sketch["geometry"] if e["id"] == self.line and e["kind"] == "line"), None)
        if e is None:
            raise BadInput(f"The sketch has no line '{self.line}' to turn about; name another.", field="line")
        a, b = np.array(e["start"]), np.array(e["end"])
        return a, b - a

    def _chains(self, sketch: dict) -> list[list[str]]:
        """What is turned as a surface: all that is drawn or named, but for the line it is turned about."""
        if self.body is not None or self.how != "join":
            raise BadInput("A surface stands alone; stitch or thicken it, or trim with it, after.", field="body")
        found = [c for c in wanted_chains(sketch, self.loops) if self.about != "line" or c != [self.line]]
        if not found:
            raise BadInput("Nothing is drawn beside the axis; draw a profile first.", field="sketch")
        return found

    def in_script(self, told, script):
        word, sketch, data = script.word, script.named(self.sketch), script.told(self.sketch)
        (point, direction), tools, out = told["axis"], [], []
        if told.get("chains"):
            about = f"Axis({vector(point)}, {vector(direction)})"
            return [f"{word} = whirled({sketch}, {told['chains']!r}, {sketch}_plane, {about}, {script.value('angle')})"]
        for n, k in enumerate(told["pushed"]):
            inner = [i for i, parent in enumerate(data["inside"]) if parent == k] if self.keep_inner else []
            holes = [data["loops"][i] for i in inner]
            tools.append(f"{word}_{n + 1}" if len(told["pushed"]) > 1 else f"{word}_tool")
            out += [
                f"{tools[-1]} = Solid.revolve(",
                f"    {sketch}_plane * face_of({sketch}, {data['loops'][k]!r}, {holes!r}),",
                f"    {script.value('angle')}, Axis({vector(point)}, {vector(direction)}))",
            ]
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        return [*out, f"{word} = " + f" {sign} ".join(([script.named(self.body)] if self.body else []) + tools)]

    def run(self, context, progress):
        from ...kernel.features import PaperPlane, combine
        from ...kernel.sheer import turned_sheet
        from ...kernel.solids import revolve

        sketch = context.output(self.sketch, "sketch")
        body = context.output(self.body, "body") if self.body else None
        plane = sketch["plane"]
        paper = PaperPlane(plane.origin, plane.normal, plane.u)
        axis = self._axis(sketch)
        angle = number(self.angle, "the angle it is turned by, in degrees", "angle")
        ids = self._chains(sketch) if self.result == "surface" else []
        result, wanted = body, [] if ids else wanted_loops(sketch, self.loops)
        if ids:
            by = {e["id"]: curve_of_entity(e) for e in sketch["geometry"]}
            drawn = [[by[i] for i in chain] for chain in ids]
            result = turned_sheet(drawn, paper, axis, self.name, angle_deg=angle)
        for k in wanted:
            tool = revolve(*profile_curves(sketch, k, self.keep_inner), paper, axis, self.name, angle_deg=angle)
            result = tool if result is None and self.how == "join" else combine(result, tool, self.how, self.name)
        start = paper.at(axis[0])
        direction = paper.at(axis[0] + axis[1]) - start
        summary = body_summary(result) | {
            "angle": angle,
            "pushed": wanted,
            "chains": ids,
            "axis": [start.tolist(), (direction / np.linalg.norm(direction)).tolist()],
            "readings": {},
        }
        status, says = "sound", ""
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this step; change its profile a little."
        return Outcome(result, summary, says, status, [typed_value("angle", "turn", angle, self.angle.source, "deg")])
