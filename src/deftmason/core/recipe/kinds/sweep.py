"""A sketch's profile carried along a curve, joined to a body, cut from it, or left as a surface."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Id, shown
from ..references import BodyRef, CurveRef, DatumRef, FrameRef, SketchRef
from ..step import Chosen, Outcome, Step, Told, register
from .bodied import BodyTold, body_summary, curve_of_entity, profile_curves, typed_value, vector, wanted_loops

__all__ = ["SweepStep", "joined_to"]

HOW = {"join": "Join", "cut": "Cut", "intersect": "Common"}


def joined_to(context: Any, ref: str | None, tool: Any, how: str, feature: str) -> Any:
    """What a step made, alone or with the body it was to be joined to or cut from."""
    from ...kernel.features import combine

    body = context.output(ref, "body") if ref else None
    return tool if body is None and how == "join" else combine(body, tool, how, feature)


class SweepTold(BodyTold):
    """``path`` as its pieces; ``pushed`` the loops that were swept; ``up`` what is kept upright."""

    path: list[dict[str, Any]]
    guide: list[dict[str, Any]]
    pushed: list[int]
    up: list[float]
    length: float


def path_in_script(pieces: list[dict[str, Any]], word: str) -> list[str]:
    from .curved import curve_in_script

    return curve_in_script({"pieces": pieces}, word)


@register
class SweepStep(Step):
    """A profile carried along a path."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Sweep"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = SweepTold

    kind: Literal["sweep"] = "sweep"
    sketch: SketchRef = Field(description="The sketch that holds the profile.", json_schema_extra=shown("profile"))
    path: CurveRef = Field(description="The curve it is carried along.", json_schema_extra=shown("path"))
    frame: FrameRef = Field(description="The frame both lie in.")
    guide: CurveRef | None = Field(
        None, description="A curve the profile keeps looking at.", json_schema_extra=shown("guide")
    )
    hold: Literal["square", "upright", "as drawn"] = Field(
        "square",
        description="Square to the path, upright as a datum's axis is, or always as it was drawn.",
        json_schema_extra=shown(
            "held", choices={"square": "square", "upright": "upright", "as drawn": "as drawn"}, when={"guide": None}
        ),
    )
    up: DatumRef | None = Field(
        None,
        description="What is upright; none: the frame's z.",
        json_schema_extra=shown("upright as", when={"hold": "upright"}),
    )
    twist: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Turned evenly on the way, degrees.",
        json_schema_extra=shown("twist", "°", step=15, when={"guide": None}),
    )
    body: BodyRef | None = Field(
        None, description="The body to join to or cut from; none makes a new one.", json_schema_extra=shown("body")
    )
    how: Literal["join", "cut", "intersect"] = Field(
        "join", description="What to do with the body.", json_schema_extra=shown("how", choices=HOW)
    )
    result: Literal["solid", "surface"] = Field(
        "solid",
        description="A solid of a closed profile, or a surface of any.",
        json_schema_extra=shown("gives", choices={"solid": "a solid", "surface": "a surface"}),
    )
    loops: list[Id] = Field(
        default_factory=list, max_length=400, description="One entity of each loop to sweep; none: the outermost."
    )

    def in_script(self, told, script):
        word, sketch, data = script.word, script.named(self.sketch), script.told(self.sketch)
        out = path_in_script(told["path"], f"{word}_path")
        guide = "None"
        if told["guide"]:
            guide = f"{word}_guide"
            out += path_in_script(told["guide"], guide)
        tools = []
        for n, k in enumerate(told["pushed"]):
            inner = [data["loops"][i] for i, parent in enumerate(data["inside"]) if parent == k]
            for m, loop in enumerate([data["loops"][k], *inner]):
                name = f"{word}_{n + 1}_{m + 1}"
                out.append(
                    f"{name} = swept({sketch}_plane * Wire([edge_of({sketch}[i]) for i in {loop!r}]), {word}_path, "
                    f"{self.hold!r}, {vector(told['up'])}, {guide})"
                )
                tools.append(("-" if m else "+", name))
        if not told["pushed"]:
            ids = [e["id"] for e in data["geometry"] if e["kind"] != "point" and not e.get("construction")]
            out.append(
                f"{word} = swept({sketch}_plane * Wire([edge_of({sketch}[i]) for i in {ids!r}]), {word}_path, "
                f"{self.hold!r}, {vector(told['up'])}, {guide}, False)"
            )
            return out
        tool = tools[0][1] + "".join(f" {s} {t}" for s, t in tools[1:])
        if self.body is None:
            return [*out, f"{word} = {tool}"]
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        return [*out, f"{word} = {script.named(self.body)} {sign} ({tool})"]

    def _profiles(self, sketch: dict) -> tuple[list[int], list[list[Any]]]:
        """The loops that are swept and, for a surface without any, all that is drawn."""
        if self.result == "solid" or (sketch["loops"] and self.loops):
            return wanted_loops(sketch, self.loops), []
        drawn = [e for e in sketch["geometry"] if e["kind"] != "point" and not e.get("construction")]
        if not drawn:
            raise BadInput("Nothing is drawn in the sketch; draw a profile first.", field="sketch")
        return [], [[curve_of_entity(e) for e in drawn]]

    def run(self, context, progress):
        from ...kernel.features import PaperPlane, combine
        from ...kernel.swept import profile_wire, sweep

        sketch, path = context.output(self.sketch, "sketch"), context.output(self.path, "curve")
        guide = context.output(self.guide, "curve") if self.guide else None
        p = sketch["plane"]
        paper = PaperPlane(p.origin, p.normal, p.u)
        up = self._up(context)
        twist = self.twist.value or 0.0
        how = {"hold": self.hold, "up": up, "guide": guide, "twist_deg": 0.0 if guide is not None else twist}
        pushed, open_ones = self._profiles(sketch)
        tool = None
        for k in pushed:
            outer, inner = profile_curves(sketch, k, True)
            progress(0.2, "Sweeping")
            one = sweep(profile_wire(outer, paper), path, self.name, **how)
            for hole in inner:
                one = combine(one, sweep(profile_wire(hole, paper), path, self.name, **how), "cut", self.name)
            tool = one if tool is None else combine(tool, one, "join", self.name)
        for drawn in open_ones:
            tool = sweep(profile_wire(drawn, paper), path, self.name, solid=False, **how)
        result = joined_to(context, self.body, tool, self.how, self.name)
        summary = body_summary(result) | {
            "path": [q.told() for q in path.pieces],
            "guide": [] if guide is None else [q.told() for q in guide.pieces],
            "pushed": pushed,
            "up": list(map(float, up)),
            "length": path.length,
            "readings": {},
        }
        status, says = "sound", ""
        if not summary["valid"]:
            status, says = "failed", "The body crosses itself; take a smaller profile or a path with wider bends."
        values = [typed_value("twist", "twist", twist, self.twist.source, "deg")] if twist else []
        return Outcome(result, summary, says, status, values)

    def _up(self, context: Any) -> np.ndarray:
        if self.up is None:
            return np.array([0.0, 0.0, 1.0])
        p = context.output(self.up, "datum")["element"].parameters()
        d = p.get("direction") or p.get("normal")
        if d is None:
            raise BadInput("This datum has no direction; give an axis or a plane.", field="up")
        return context.output(self.frame, "frame").vectors(np.array(d, float))
