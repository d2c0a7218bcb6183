"""A curve drawn in space: through places in order, smooth or with rounded corners, free or laid onto the scan."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Direction, Place, Record, Size, shown
from ..references import AnyRef, DatumRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import typed_value
from .curved import CurveTold, curve_in_script, curve_summary, place_of

__all__ = ["CurvePlace", "CurveStep", "curve_record"]

_CALM = 1e-4  # of its length that a curve laid onto a scan may pass its places by, rms, where the noise is less


def curve_record(step_id: str, name: str, scan: str, frame: str, line: np.ndarray, closed: bool, most: int) -> dict:
    """The record of a smooth curve along a line (k, 3) of the scan's coordinates, through ``most`` of its places."""
    picked = np.unique(np.linspace(0, len(line) - 1, min(most, len(line))).round().astype(int))
    return {
        "id": step_id, "kind": "curve", "name": name, "scan": scan, "frame": frame, "closed": closed,
        "places": [{"place": p} for p in line[picked].tolist()],
    }  # fmt: skip


class CurvePlace(Record):
    """A place the curve goes through, in the scan's coordinates, or that of a datum or sketch it follows."""

    place: Place = Field(description="Where, in the scan's coordinates, mm.")
    of: AnyRef | None = Field(None, description="A datum, or a sketch, whose place it is.")
    entity: str | None = Field(None, max_length=60, description="Of a sketch: its point, or an entity's end.")
    handle: Direction | None = Field(
        None, description="How the curve runs there; its length: how far it goes before it turns, mm."
    )
    radius: Size | None = Field(None, description="Of this corner, where it is not that of all, mm.")


@register
class CurveStep(Step):
    """A spline or a polyline with rounded corners through places."""

    course: ClassVar[str] = "sketches"
    title: ClassVar[str] = "Curve"
    produces: ClassVar[str] = "curve"
    computation: ClassVar[int] = 2
    tells: ClassVar[type[Told]] = CurveTold

    kind: Literal["curve"] = "curve"
    scan: ScanRef = Field(description="The scan whose coordinates its places are in.")
    frame: FrameRef = Field(description="The frame it lies in.")
    runs: Literal["smooth", "on the scan", "straight"] = Field(
        "smooth",
        description="Smooth in space, smooth along the scan, or straight with rounded corners.",
        json_schema_extra=shown("runs", choices={"smooth": "smooth", "on the scan": "on scan", "straight": "straight"}),
    )
    places: list[CurvePlace] = Field(default_factory=list, max_length=400, description="Where it goes, in order.")
    on: DatumRef | None = Field(
        None, description="A plane it is laid into.", json_schema_extra=shown("in the plane of")
    )
    closed: bool = Field(
        False, description="Its end is joined to its begin.", json_schema_extra=shown("closed to a ring")
    )
    tension: float = Field(
        0.0,
        ge=0,
        le=1,
        description="0: as smooth as it can be; 1: straight from place to place.",
        json_schema_extra=shown("tension", step=0.1, when={"runs": "smooth"}),
    )
    radius: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Of its corners, mm.",
        json_schema_extra=shown("corner radius", "mm", step=1, when={"runs": "straight"}),
    )
    begin_along: DatumRef | None = Field(
        None,
        description="An axis it leaves along, or a plane it leaves square to.",
        json_schema_extra=shown("begins along", more=True, when={"runs": "smooth"}),
    )
    end_along: DatumRef | None = Field(
        None,
        description="An axis it arrives along, or a plane it arrives square to.",
        json_schema_extra=shown("ends along", more=True, when={"runs": "smooth"}),
    )

    def in_script(self, told, script):
        return curve_in_script(told, script.word)

    def run(self, context, progress):
        from ...curves.derived import onto_plane
        from ...curves.drawn import rounded, through

        motion = context.output(self.frame, "frame")
        if len(self.places) < 2:
            raise BadInput("Click at least two places for the curve.", field="places")
        places = np.array(
            [
                motion.points(np.array([p.place]))[0]
                if p.of is None
                else place_of(context, p.of, p.entity, motion, "places")
                for p in self.places
            ]
        )
        values: list[Value] = []
        if self.runs == "straight":
            radius = self.radius.value or 0.0
            radii = [p.radius if p.radius is not None else radius for p in self.places]
            curve = rounded(places, radii, closed=self.closed)
            if len(places) > 2 or self.closed:
                values.append(typed_value("radius", "corner R", radius, self.radius.source))
        elif self.runs == "on the scan":
            curve = self._on_scan(context, motion, places)
        else:
            handles = {k: motion.vectors(np.array(p.handle)) for k, p in enumerate(self.places) if p.handle}
            handles |= self._held_ends(context, motion, places, handles)
            curve = through(places, closed=self.closed, tension=self.tension, handles=handles)
        if self.on is not None:
            e = context.output(self.on, "datum")["element"]
            if e.kind != "plane":
                raise BadInput(f"A {e.kind} is no plane to lay the curve into; give a plane.", field="on")
            curve = onto_plane(curve, motion.points(e.point[None])[0], motion.vectors(e.normal))
        return Outcome(curve, curve_summary(curve, motion), "", "sound", values)

    def _on_scan(self, context: Any, motion: Any, places: np.ndarray):
        from ...clean.curvecut import draw_curve
        from ...curves.drawn import through_points
        from ...zones.noise import scan_noise

        index = context.index(self.scan)
        drawn = draw_curve(index, motion.inverse().points(places), self.closed)
        points = motion.points(drawn.points)
        if self.closed:
            points = np.vstack([points, points[:1]])
        length = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
        return through_points(points, max(scan_noise(index), _CALM * length), self.closed)

    def _held_ends(self, context: Any, motion: Any, places: np.ndarray, known: dict) -> dict[int, np.ndarray]:
        out: dict[int, np.ndarray] = {}
        last = len(places) - 1
        for k, ref in ((0, self.begin_along), (last, self.end_along)):
            if ref is None or self.closed:
                continue
            p = context.output(ref, "datum")["element"].parameters()
            d = p.get("normal") or p.get("direction")
            if d is None:
                raise BadInput("This datum has no direction; give an axis or a plane.", field="begin_along")
            d = motion.vectors(np.array(d))
            chord = places[1] - places[0] if k == 0 else places[last] - places[last - 1]
            d = d * (np.sign(d @ chord) or 1.0)
            reach = np.linalg.norm(known[k]) if k in known else np.linalg.norm(chord) / 3
            out[k] = d * reach
        return out
