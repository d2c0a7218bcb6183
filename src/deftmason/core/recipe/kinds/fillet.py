"""Edges rounded with a radius read from the scan, or cut off."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import BodyTold, body_summary, number, places_on, settled
from .edges import as_asked, edges_there, middle_of, said_of_lost, shared_face

if TYPE_CHECKING:
    from ...features.evidence import Reading


def _as_read(reading: Reading | None, sign: str, chosen: float, sharp: int, edges: int) -> tuple[str, str]:
    """What is said, and the status, where the scan says something else than what is chosen."""
    if sharp:
        some = f"{sharp} of {edges} edges {'is' if sharp == 1 else 'are'}" if edges > 1 else "the edge is"
        return f"As the scan has it, {some} sharp; leave out what is.", "attention"
    if reading and abs(reading.value - chosen) > max(0.25 * chosen, 5 * reading.uncertainty):
        off = f"{sign} {reading.value:.2f} ± {2 * reading.uncertainty:.2f}"
        return f"The scan says {off}; chosen is {chosen:g}.", "attention"
    if reading and reading.note:
        return f"As the scan has it, {reading.note}.", "attention"
    return "", "sound"


def _value(name: str, sign: str, reading: Reading | None, chosen: float, source: str) -> Value:
    """A size of edges in the ledger."""
    measured, off = (reading.value, reading.uncertainty) if reading else (None, None)
    return Value(name, sign, measured, off, chosen, source, "mm", None, [name, "value"])


class EdgesTold(BodyTold):
    """``sharp`` names the edges that the scan shows sharp, ``middles`` (n, 3) where the edges lie, mm."""

    edges: int
    middles: list[list[float]]
    sharp: list[tuple[str, str, str | int]] = []


class FilletTold(EdgesTold):
    radius: float


@register
class FilletStep(Step):
    """A constant-radius rounding along named edges and what runs smoothly on from them."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Fillet"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = FilletTold
    computation: ClassVar[int] = 3

    kind: Literal["fillet"] = "fillet"
    body: BodyRef = Field(description="The body whose edges are rounded.")
    scan: ScanRef = Field(description="The scan the radius is read from.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    edges: list[tuple[str, str, str | int]] = Field(
        max_length=400, description="Edges by the names of their two faces, and what tells one of several apart."
    )
    radius: Chosen = Field(default_factory=lambda: Chosen(), description="Radius in mm; none: as the scan says.")

    def in_script(self, told, script):
        places = [tuple(round(c, 6) for c in p) for p in told["middles"]]
        if not places:
            return [f"{script.word} = {script.named(self.body)}"]
        return [f"{script.word} = fillet(edges_at({script.named(self.body)}, {places!r}), {script.value('radius')})"]

    def run(self, context, progress):
        from ...features.evidence import edge_radius, sharp_edges
        from ...kernel.features import fillet_edges
        from ...kernel.tessellate import FINE, diagonal_of, edge_polylines

        body = context.output(self.body, "body")
        if not self.edges:
            raise BadInput("Pick at least one edge of the body to round.", field="edges")
        every = edge_polylines(body, FINE * diagonal_of(body))
        chain = dict(every)
        there, lost = edges_there(body, self.edges, every)
        edges, seen = as_asked(body, there, every, context.index(self.scan).mesh.median_edge)
        motion = context.output(self.frame, "frame")
        known = self.radius.value is not None and not context.reads

        def read():
            return edge_radius(context.index(self.scan), motion, edges, body.solid_count > 0)

        reading = None if known else context.read(self.scan, (context.key_of(self.frame), "edge", seen), read)
        if reading is None and self.radius.value is None and there:
            raise BadInput("The scan shows too little of these edges to read a radius; type one.", field="radius")
        radius, source = settled(self.radius, reading) if reading else (self.radius.value or 0.0, self.radius.source)
        result = fillet_edges(body, [(n, radius) for n in there], self.name) if there else body
        summary = body_summary(result)
        summary |= {
            "radius": radius,
            "edges": len(there),
            "readings": {"radius": vars(reading)} if reading else {},
            "lost_parts": lost,
        }
        on = (context.key_of(self.frame), "sharp", seen, radius)
        sharp = (
            context.read(self.scan, on, lambda: sharp_edges(context.index(self.scan), motion, edges, radius, 0.0))
            if reading
            else []
        )
        summary["sharp"] = [there[k] for k in sharp]
        says, status = _as_read(reading, "R", radius, len(sharp), len(there))
        if lost:
            status, says = "attention", said_of_lost(lost, "it is not rounded.")
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this fillet; take a smaller radius."
        summary["middles"] = [middle_of(chain[n]) for n in there]
        return Outcome(result, summary, says, status, [_value("radius", "R", reading, radius, source)])


class ChamferTold(EdgesTold):
    """``on`` names the face that ``leg`` lies on where the ``other`` leg is another, ``beside`` (n, 3) lie on it, mm,
    one for each edge.
    """

    leg: float
    other: float = 0.0
    on: str = ""
    beside: list[list[float]] = []


@register
class ChamferStep(Step):
    """Named edges, and what runs smoothly on from them, cut off by a leg, or by one on each side."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Chamfer"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = ChamferTold

    kind: Literal["chamfer"] = "chamfer"
    body: BodyRef = Field(description="The body whose edges are cut off.")
    scan: ScanRef | None = Field(None, description="The scan the leg is read from; none: it is typed.")
    frame: FrameRef | None = Field(None, description="The frame the body lies in.")
    edges: list[tuple[str, str, str | int]] = Field(
        max_length=400, description="Edges by the names of their two faces, and what tells one of several apart."
    )
    leg: Chosen = Field(
        default_factory=lambda: Chosen(value=1.0, source="typed"),
        description="How far from the edge it is cut on either face, mm; none: as the scan says.",
        json_schema_extra=shown("leg", "mm", step=0.5),
    )
    other: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"),
        description="The leg on the face across, mm; none: as the leg, or as the scan says where that is not chosen.",
        json_schema_extra=shown("other leg", "mm", step=0.5),
    )
    on: str = Field(
        "",
        max_length=200,
        description="The face that the leg lies on where the other differs; none: the one all the edges have.",
    )

    def in_script(self, told, script):
        places = [tuple(round(c, 6) for c in p) for p in told["middles"]]
        body = script.named(self.body)
        if not places:
            return [f"{script.word} = {body}"]
        if not told.get("on"):
            return [f"{script.word} = chamfer(edges_at({body}, {places!r}), {script.value('leg')})"]
        beside = [tuple(round(c, 6) for c in p) for p in told["beside"]]
        legs = f"{script.value('leg')}, {script.value('other')}"
        return [f"{script.word} = cut_off_unevenly({body}, {places!r}, {beside!r}, {legs})"]

    def run(self, context, progress):
        from ...kernel.body import root_of
        from ...kernel.features import bevel_edges
        from ...kernel.tessellate import FINE, diagonal_of, edge_polylines

        body = context.output(self.body, "body")
        if not self.edges:
            raise BadInput("Pick at least one edge of the body to cut off.", field="edges")
        every = edge_polylines(body, FINE * diagonal_of(body))
        chain = dict(every)
        there, lost = edges_there(body, self.edges, every)
        on = self.on or shared_face(there)
        readings, sharp_at = self._read(context, body, there, every, on)
        if not readings and self.leg.value is None and self.scan is not None and there:
            raise BadInput("The scan shows no chamfer along these edges to read a leg of; type one.", field="leg")
        values = [self._leg(readings)]
        leg, other = values[0].chosen, self._other(readings, values)
        made = [(n, leg) for n in there]
        result = bevel_edges(body, made, self.name, other, on) if there else body
        summary = body_summary(result) | {"leg": leg, "edges": len(there), "lost_parts": lost}
        summary["readings"] = {name: vars(r) for name, r in zip(("leg", "other"), readings)}
        summary["middles"] = [middle_of(chain[n]) for n in there]
        if other is not None and there:
            faces = body.edge_faces()
            mine = [next(f for f in faces[n] if root_of(f) == on) for n in there]
            place = {f: places_on(body, [f])[0] for f in dict.fromkeys(mine)}
            summary |= {"other": other, "on": on, "beside": [place[f] for f in mine]}
        sharp = sharp_at(leg if other is None else 0.5 * (leg + other))
        summary["sharp"] = [there[k] for k in sharp]
        says, status = _as_read(next(iter(readings), None), "a leg of", leg, len(sharp), len(there))
        if not says and len(readings) == 2:
            says, status = _as_read(readings[1], "another leg of", other or leg, 0, len(there))
        if lost:
            says, status = said_of_lost(lost, "it is not cut off."), "attention"
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this chamfer; take a smaller leg."
        return Outcome(result, summary, says, status, values)

    def _leg(self, readings: list[Reading]) -> Value:
        if not readings:
            return _value("leg", "leg", None, number(self.leg, "the leg, in mm", "leg"), self.leg.source)
        return _value("leg", "leg", readings[0], *settled(self.leg, readings[0]))

    def _other(self, readings: list[Reading], values: list[Value]) -> float | None:
        """The leg on the face across, told with the values; None where it is as the first."""
        if self.other.value is None and (len(readings) < 2 or self.leg.value is not None):
            return None
        read = readings[1] if len(readings) == 2 else None
        told = settled(self.other, read) if read else (self.other.value, self.other.source)
        values.append(_value("other", "other leg", read, *told))
        return None if told[0] == values[0].chosen else told[0]

    def _read(self, context, body, there, every, on) -> tuple[list[Reading], Callable[[float], list[int]]]:
        """The legs that the scan shows, and which edges it shows sharp where a leg would be cut off."""
        from ...features.evidence import edge_legs, sharp_edges
        from ...kernel.body import root_of

        known = self.leg.value is not None and not context.reads
        if self.scan is None or self.frame is None or known:
            return [], lambda leg: []
        motion, index = context.output(self.frame, "frame"), context.index(self.scan)
        edges, seen = as_asked(body, there, every, index.mesh.median_edge)
        faces = body.edge_faces()
        sides = [[root_of(f) for f in faces[n]].index(on) for n in there] if on else None
        asked = (context.key_of(self.frame), "leg", seen)
        readings = context.read(self.scan, (*asked, on), lambda: edge_legs(index, motion, edges, sides))
        return readings, lambda leg: context.read(
            self.scan, (*asked, "sharp", leg), lambda: sharp_edges(index, motion, edges, 0.0, leg)
        )
