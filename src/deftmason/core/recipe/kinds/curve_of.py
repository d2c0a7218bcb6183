"""Curves made of what is there: a sketch's outline, two views combined, edges, where two meet, a cut through the scan,
and curves moved aside, laid onto a plane, joined and shortened.
"""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Id, Place, shown
from ..references import BodyRef, CurveRef, DatumRef, FrameRef, ScanRef, SketchRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import number, typed_value
from .curved import CurveTold, curve_in_script, curve_summary, drawn_curves

__all__ = ["CurveOfStep"]

Way = Literal["outline", "views", "edges", "meeting", "cut", "aside", "dropped", "joined", "part"]


def _when(*ways: str) -> dict[str, Any]:
    return {"way": list(ways)}


@register
class CurveOfStep(Step):
    """A curve that follows what it was made of."""

    course: ClassVar[str] = "sketches"
    title: ClassVar[str] = "Curve of"
    produces: ClassVar[str] = "curve"
    tells: ClassVar[type[Told]] = CurveTold

    kind: Literal["curveof"] = "curveof"
    frame: FrameRef = Field(description="The frame it lies in.")
    way: Way = Field("outline", description="What it is made of.")
    sketch: SketchRef | None = Field(
        None,
        description="The sketch whose outline it is.",
        json_schema_extra=shown("sketch", when=_when("outline", "views")),
    )
    other_sketch: SketchRef | None = Field(
        None,
        description="The sketch that is the other view of it.",
        json_schema_extra=shown("other view", when=_when("views")),
    )
    entities: list[Id] = Field(
        default_factory=list, max_length=400, description="Of the sketch, what is taken; none: all that is drawn."
    )
    body: BodyRef | None = Field(
        None, description="The body.", json_schema_extra=shown("body", when=_when("edges", "meeting"))
    )
    edges: list[tuple[str, str, str | int]] = Field(
        default_factory=list, max_length=200, description="Its edges, one after the other, as a fillet names them."
    )
    other_body: BodyRef | None = Field(
        None, description="What it meets.", json_schema_extra=shown("meets", when=_when("meeting"))
    )
    scan: ScanRef | None = Field(
        None, description="The scan that is cut.", json_schema_extra=shown("scan", when=_when("cut"))
    )
    curve: CurveRef | None = Field(
        None, description="The curve.", json_schema_extra=shown("curve", when=_when("aside", "dropped", "part"))
    )
    curves: list[CurveRef] = Field(
        default_factory=list,
        max_length=100,
        description="The curves that are joined.",
        json_schema_extra=shown("curves", when=_when("joined")),
    )
    datum: DatumRef | None = Field(
        None, description="The plane.", json_schema_extra=shown("plane", when=_when("cut", "dropped", "aside"))
    )
    near: Place | None = Field(None, description="Of several, the one nearest to this place of the scan.")
    distance: Chosen = Field(
        default_factory=lambda: Chosen(value=5.0, source="typed"),
        description="How far aside, to the left of its way, mm.",
        json_schema_extra=shown("aside by", "mm", step=1, when=_when("aside")),
    )
    bridge: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Gaps so wide are closed by straight lines, mm.",
        json_schema_extra=shown("close gaps to", "mm", step=1, when=_when("joined")),
    )
    begin: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Cut off from its begin, mm; less than 0: made longer, straight on.",
        json_schema_extra=shown("off its begin", "mm", step=1, when=_when("part")),
    )
    end: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Cut off from its end, mm; less than 0: made longer, straight on.",
        json_schema_extra=shown("off its end", "mm", step=1, when=_when("part")),
    )
    turn_round: bool = Field(
        False, description="It runs the other way.", json_schema_extra=shown("turn it round", more=True)
    )

    def in_script(self, told, script):
        return curve_in_script(told, script.word)

    def run(self, context, progress):
        motion = context.output(self.frame, "frame")
        values: list[Value] = []
        curve = getattr(self, f"_{self.way}")(context, motion, values)
        if self.turn_round:
            curve = curve.reversed()
        return Outcome(curve, curve_summary(curve, motion), "", "sound", values)

    def _given(self, field: str, what: str) -> str:
        ref = getattr(self, field)
        if ref is None:
            raise BadInput(f"Name {what}.", field=field)
        return ref

    def _plane(self, context: Any, motion: Any) -> tuple[np.ndarray, np.ndarray]:
        e = context.output(self._given("datum", "the plane"), "datum")["element"]
        if e.kind != "plane":
            raise BadInput(f"A {e.kind} is no plane; give a plane.", field="datum")
        return motion.points(e.point[None])[0], motion.vectors(e.normal)

    def _of_sketch(self, context: Any, field: str, wanted: list[str]):
        """All that is drawn in a sketch, joined, and the normal of its paper."""
        from ...curves.spatial import joined

        sketch = context.output(self._given(field, "the sketch"), "sketch")
        parts = drawn_curves(sketch, wanted)
        if not parts:
            raise BadInput("Nothing of the sketch is left to take; name what is drawn in it.", field=field)
        return joined(parts, reach=1e-5 * sum(c.length for c in parts)), np.asarray(sketch["plane"].normal)

    def _outline(self, context, motion, values):
        return self._of_sketch(context, "sketch", self.entities)[0]

    def _views(self, context, motion, values):
        from ...curves.derived import combined_views

        (a, n), (b, m) = (self._of_sketch(context, f, []) for f in ("sketch", "other_sketch"))
        return combined_views(a, n, b, m)

    def _edges(self, context, motion, values):
        from ...kernel.spatial import curve_of_edges

        body = context.output(self._given("body", "the body"), "body")
        return curve_of_edges(body, list(self.edges))

    def _meeting(self, context, motion, values):
        from ...kernel.spatial import meeting

        near = None if self.near is None else motion.points(np.array([self.near]))[0]
        bodies = [
            context.output(self._given(f, w), "body")
            for f, w in (("body", "the body"), ("other_body", "what it meets"))
        ]
        return meeting(*bodies, near)

    def _cut(self, context, motion, values):
        from ...curves.drawn import through_points
        from ...scan.section import SectionPlane
        from ...zones.noise import scan_noise

        scan = self._given("scan", "the scan")
        point, normal = self._plane(context, motion)
        back = motion.inverse()
        plane = SectionPlane.at(back.points(point[None])[0], back.vectors(normal))
        loops = list(context.cutter(scan, plane.normal).at(float(plane.origin @ plane.normal)).loops())
        if not loops:
            raise BadInput("The plane does not meet the scan; move it.", field="datum")
        index = context.index(scan)
        near = None if self.near is None else np.array(self.near)
        if near is None:
            best = max(loops, key=lambda l: float(np.linalg.norm(np.diff(l[0], axis=0), axis=1).sum()))
        else:
            best = min(loops, key=lambda l: float(np.linalg.norm(l[0] - near, axis=1).min()))
        points, closed = best
        if closed and np.linalg.norm(points[0] - points[-1]) > 1e-9:
            points = np.vstack([points, points[:1]])
        return through_points(motion.points(points), max(scan_noise(index), 1e-6 * index.size), closed)

    def _aside(self, context, motion, values):
        from ...curves.derived import moved_aside

        curve = context.output(self._given("curve", "the curve"), "curve")
        distance = number(self.distance, "how far aside, in mm", "distance")
        values.append(typed_value("distance", "aside by", distance, self.distance.source))
        return moved_aside(curve, distance, self._plane(context, motion)[1] if self.datum else None)

    def _dropped(self, context, motion, values):
        from ...curves.derived import onto_plane

        return onto_plane(context.output(self._given("curve", "the curve"), "curve"), *self._plane(context, motion))

    def _joined(self, context, motion, values):
        from ...curves.spatial import joined

        if len(self.curves) < 2:
            raise BadInput("Name at least two curves to join.", field="curves")
        curves = [context.output(c, "curve") for c in self.curves]
        bridge = self.bridge.value or 0.0
        if bridge:
            values.append(typed_value("bridge", "close gaps to", bridge, self.bridge.source))
        return joined(curves, bridge or None)

    def _part(self, context, motion, values):
        from ...curves.spatial import SpaceCurve, line

        curve = context.output(self._given("curve", "the curve"), "curve")
        begin, end = self.begin.value or 0.0, self.end.value or 0.0
        values.append(typed_value("begin", "off its begin", begin, self.begin.source))
        values.append(typed_value("end", "off its end", end, self.end.source))
        out = list(curve.part(max(begin, 0.0), curve.length - max(end, 0.0)).pieces)
        ends, ways = curve.at([0.0, curve.length]), curve.direction([0.0, curve.length])
        if begin < 0:
            out.insert(0, line(ends[0] + begin * ways[0], ends[0]))
        if end < 0:
            out.append(line(ends[1], ends[1] - end * ways[1]))
        return SpaceCurve(tuple(out))
