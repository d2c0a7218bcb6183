"""A helix read from the ridge or groove of a scan, each number a choice, one of three following from the others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Length, Record, shown
from ..references import AnyRef, DatumRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Pick, Step, Told, Value, register
from .bodied import settled
from .curved import CurveTold, curve_in_script, curve_summary, place_of

if TYPE_CHECKING:
    from ...curves.helices import Helix
    from ...curves.screws import ScrewLine

__all__ = ["HelixStep"]

_SHADED = 0.3  # of the depth past crest and root that the strip is shaded to
_SHOWN = 0.2  # of the thread's height that the strip goes on past its ends
_WIDEST = 1.4  # times the crest's radius that the strip looks out to


class PinRecord(Record):
    """A correction on the strip: at a share of the height, moved along the axis by so many mm."""

    at: float = Field(ge=0, le=1, description="Share of the height from the begin.")
    by: Length = Field(description="Moved along the axis, mm.")


class StripTold(BaseModel):
    """The relief about the axis: bytes from 0 (not seen), 1 (``least`` mm radius) to 255 (``most``), row by row from
    ``low`` to ``high`` mm, one turn a row; outer and inner radius by height."""

    rows: int
    columns: int
    low: float
    high: float
    least: float
    most: float
    data: str
    heights: list[float | None]
    outer: list[float | None]
    inner: list[float | None]


class HelixTold(CurveTold):
    """``line`` (k, 3) turns, height and radius along it; ``root_line`` radius of the root there; ``axis`` point and
    direction in the scan's coordinates, ``frame_axis`` and ``across`` in the frame; ``own_axis_deg`` and
    ``own_axis_mm`` how far its own axis lies from the one it is held to; ``costs`` rise of rms by what was chosen;
    ``standard`` and its cost; ``profile`` of one pitch (axial place, radius) in mm.
    """

    line: ClassVar[tuple[str, ...]] = ("length", "closed", "shown", "starts", "hand", "pitch", "turns", "height")

    hand: str
    starts: int
    pitch: float
    lead: float
    turns: float
    height: float
    begin: float
    crest: list[float]
    root: list[float]
    varies: bool
    inside: bool
    pitches: list[float]
    rms: float
    costs: float
    standard: str | None
    standard_costs: float | None
    standard_pitch: float | None
    standard_crest: float | None
    axis: list[list[float]]
    frame_axis: list[list[float]]
    across: list[float]
    own_axis_deg: float | None
    own_axis_mm: float | None
    run: list[list[float]]
    root_run: list[float]
    profile: list[list[float]]
    strip: StripTold


def _apart(own: Helix, point: np.ndarray, direction: np.ndarray) -> tuple[float, float]:
    """How far (degrees, mm at its middle) a helix's own axis lies from another."""
    d = np.asarray(direction, float) / np.linalg.norm(direction)
    lean = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(own.direction, d)), abs(own.direction @ d))))
    gap = own.point - point
    return lean, float(np.linalg.norm(gap - (gap @ d) * d))


def _rounded() -> Chosen:
    return Chosen(source="rounded")


@register
class HelixStep(Step):
    """A screw line along a ridge or groove: pitch, turns and height, of which one follows."""

    course: ClassVar[str] = "sketches"
    title: ClassVar[str] = "Helix"
    produces: ClassVar[str] = "curve"
    tells: ClassVar[type[Told]] = HelixTold
    quick: ClassVar[bool] = False

    kind: Literal["helix"] = "helix"
    scan: ScanRef = Field(description="The scan it is read from.")
    frame: FrameRef = Field(description="The frame it lies in.")
    pick: Pick | None = Field(None, description="A place on the ridge or groove.")
    held: DatumRef | None = Field(None, description="The axis it is held to; none: its own.")
    begins: AnyRef | None = Field(None, description="A datum or a sketch with the place it begins at; none: as read.")
    begins_entity: str | None = Field(None, max_length=60, description="Of a sketch, its point or an entity's end.")
    on: Literal["crest", "root"] = Field(
        "crest",
        description="Whether the line runs along the crest or the root.",
        json_schema_extra=shown("runs on", choices={"crest": "crest", "root": "root"}),
    )
    following: Literal["pitch", "turns", "height"] = Field(
        "turns", description="Which of the three comes from the other two."
    )
    pitch: Chosen = Field(default_factory=_rounded, description="From one ridge to the next, mm.")
    turns: Chosen = Field(default_factory=_rounded, description="How many turns.")
    height: Chosen = Field(default_factory=_rounded, description="Along the axis, mm.")
    crest: Chosen = Field(default_factory=_rounded, description="Radius of the crest at its begin, mm.")
    root: Chosen = Field(default_factory=_rounded, description="Radius of the root at its begin, mm.")
    crest_end: Chosen = Field(default_factory=_rounded, description="Radius of the crest at its end, mm.")
    root_end: Chosen = Field(default_factory=_rounded, description="Radius of the root at its end, mm.")
    even: bool = Field(False, description="Pitch and radii are called even, whatever the scan says.")
    hand: Literal["as read", "right", "left"] = Field("as read", description="Which way it winds.")
    shift: Length = Field(0.0, description="Moved along its axis by hand, mm.")
    pins: list[PinRecord] = Field(default_factory=list, max_length=40, description="Where it was bent by hand.")
    run_out: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"), description="Turns it runs out in, at its end."
    )
    run_in: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"), description="Turns it runs in by, at its begin."
    )

    def in_script(self, told, script):
        return curve_in_script(told, script.word)

    def _axis_held(self, context) -> tuple[np.ndarray, np.ndarray] | None:
        if self.held is None:
            return None
        p = context.output(self.held, "datum")["element"].parameters()
        direction = p.get("direction") or p.get("normal")
        place = p.get("point") or p.get("center") or p.get("apex")
        if direction is None or place is None:
            raise BadInput("This datum has no axis; give an axis, a cylinder or a line.", field="held")
        return np.array(place, float), np.array(direction, float)

    def _read(self, context, axis, progress) -> Helix:
        from ...curves.helices import read_helix

        key = None if axis is None else np.concatenate(axis).round(12).tobytes()

        def read():
            return read_helix(context.index(self.scan), axis=axis, progress=progress)

        try:
            return context.read(self.scan, ("helix", key), read)
        except BadInput:
            if axis is None:
                raise
            own = self._read(context, None, progress)
            lean, off = _apart(own, *axis)
            raise BadInput(
                f"No ridge winds about this axis: the ridge's own lies {lean:.2f}° and {off:.3g} mm off; hold it to "
                "another one.",
                field="held",
            ) from None

    def run(self, context, progress):
        from ...curves.screws import crest_place

        if self.pick is None:
            raise BadInput("Click the ridge on the scan.", field="pick")
        motion = context.output(self.frame, "frame")
        axis = self._axis_held(context)
        h = self._read(context, axis, progress)
        on_root = self.on == "root"
        place = crest_place(h, on_root)
        line, values, more = self._line(h, place, context, motion)
        progress(0.9, "Laying the strip flat")
        curve = line.curve()
        summary = curve_summary(curve, motion)
        strip = context.read(
            self.scan, ("strip", h.point.tobytes(), h.direction.tobytes()), lambda: self._strip(h, context)
        )
        x = np.linspace(0, 1, int(min(max(24 * abs(line.turns), 60), 1200)))
        turn, height, radius = line.at(x)
        other = more.pop("other")
        free = self._own_axis(h, axis, context, progress)
        standard = h.standard()
        summary |= more | {
            "hand": "right" if line.right else "left",
            "starts": h.starts,
            "varies": h.varies and not self.even,
            "inside": h.inside,
            "pitches": [s.pitch for s in h.stations],
            "rms": h.rms,
            "standard": None if standard is None else standard[0].name,
            "standard_costs": None if standard is None else standard[1],
            "standard_pitch": None if standard is None else standard[0].pitch,
            "standard_crest": None,
            "axis": [h.point.tolist(), h.direction.tolist()],
            "frame_axis": [line.point.tolist(), line.direction.tolist()],
            "across": line.across.tolist(),
            **free,
            "run": np.column_stack([turn, height, radius]).round(6).tolist(),
            "root_run": (other[0] + x * (other[1] - other[0])).round(6).tolist(),
            "profile": h.profile.tolist(),
            "strip": strip,
        }
        return Outcome(curve, summary, "", "sound", values)

    def _strip(self, h: Helix, context: Any) -> dict[str, Any]:
        from ...curves.strips import strip_of

        radii = [r for s in h.stations for r in (s.crest_radius, s.root_radius)]
        least, most = min(radii), max(radii)
        low, high = h.height
        past, deep = _SHOWN * (high - low), _SHADED * (most - least)
        return strip_of(
            context.mesh(self.scan),
            h.point,
            h.direction,
            h.across,
            low - past,
            high + past,
            _WIDEST * most,
            (least - deep, most + deep),
        ).told()

    def _own_axis(self, h: Helix, axis, context, progress) -> dict[str, Any]:
        if axis is None:
            return {"own_axis_deg": None, "own_axis_mm": None}
        try:
            own = self._read(context, None, progress)
        except BadInput:
            return {"own_axis_deg": None, "own_axis_mm": None}
        lean, off = _apart(own, h.point, h.direction)
        return {"own_axis_deg": lean, "own_axis_mm": off}

    def _line(self, h: Helix, place: float, context, motion) -> tuple[ScrewLine, list[Value], dict]:
        from ...curves.screws import ScrewLine, settled_three, turns_of
        from ...features.evidence import Reading

        low, high = h.height
        right = h.right if self.hand == "as read" else self.hand == "right"
        at = np.array([s.height for s in h.stations])
        straight = {
            "crest": np.polyfit(at, [s.crest_radius for s in h.stations], 1),
            "root": np.polyfit(at, [s.root_radius for s in h.stations], 1),
        }
        if not h.varies or self.even:
            straight = {k: np.array([0.0, np.mean(np.polyval(c, at))]) for k, c in straight.items()}
        varies = h.varies and not self.even
        edge = 0.5 * h.pitch  # a ridge's wave dies half a pitch past its last crest
        readings = {
            "pitch": Reading(h.pitch, h.sigma["pitch"], len(h.stations), h.rms),
            "turns": Reading(abs(h.turns), edge / h.lead * 0.25, 2, h.rms),
            "height": Reading(high - low, 0.25 * edge, 2, h.rms),
        }
        for name in ("crest", "root"):
            sigma = h.sigma[f"{name}_radius"]
            at_ends = np.polyval(straight[name], [low, high])
            readings[name] = Reading(float(at_ends[0]), sigma, len(h.stations), h.rms)
            if varies:
                readings[f"{name}_end"] = Reading(float(at_ends[1]), sigma, len(h.stations), h.rms)
        chosen = {k: settled(getattr(self, k), r) for k, r in readings.items()}
        three = {k: chosen[k][0] for k in ("pitch", "turns", "height")}
        given = [v for k, v in three.items() if k != self.following] + [chosen[k][0] for k in ("crest", "root")]
        if min(given) <= 0:
            raise BadInput("Pitch, turns, height and radii are above 0; choose others.", field="pitch")
        lead, turns, height = settled_three(self.following, three["pitch"] * h.starts, three["turns"], three["height"])
        if turns > 2000:
            raise BadInput(f"{turns:.0f} turns are more than 2000; take a larger pitch.", field="pitch")
        three = {"pitch": lead / h.starts, "turns": turns, "height": height}
        way = self._way(h, place) if varies else None
        point, d = motion.points(h.point[None])[0], motion.vectors(h.direction)
        across = motion.vectors(h.across)
        begin, angle, moved = self._begin(h, place, lead, height, context, motion, (point, d, across))
        ends = {k: (chosen[k][0], chosen.get(f"{k}_end", chosen[k])[0]) for k in ("crest", "root")}
        own, other = (ends["root"], ends["crest"]) if self.on == "root" else (ends["crest"], ends["root"])
        line = ScrewLine(
            point, d, across, right, begin + self.shift, angle, height, turns, own, way,
            np.array([[p.at, p.by] for p in self.pins]).reshape(-1, 2),
            (self.run_in.value or 0.0, self.run_out.value or 0.0),
            1.2 * (own[0] - other[0]),
        )  # fmt: skip
        x = np.linspace(0.03, 0.97, 200)
        turn, at_height, _ = line.at(x)
        if moved:
            costs = 0.0
        else:
            off = (turn - turns_of(h, at_height, place)) * h.lead
            off -= np.round(off / h.pitch) * h.pitch
            slope = np.abs(np.gradient(h.profile[:, 1], h.profile[:, 0]))
            across_flank = float(np.sqrt(np.mean(slope**2 / (1 + slope**2))))
            costs = float(np.hypot(h.rms, across_flank * np.sqrt(np.mean(off**2))) - h.rms)
        labels = {
            "pitch": "pitch", "turns": "turns", "height": "height", "crest": "crest R", "root": "root R",
            "crest_end": "crest R end", "root_end": "root R end",
        }  # fmt: skip
        values = [
            Value(
                k,
                labels[k],
                r.value,
                r.uncertainty,
                three.get(k, chosen[k][0]),
                "scan" if k == self.following else chosen[k][1],
                "" if k == "turns" else "mm",
                None,
                [] if k == self.following else [k, "value"],
            )
            for k, r in readings.items()
        ]
        more = {
            **three,
            "lead": lead,
            "begin": begin + self.shift,
            "crest": list(ends["crest"]),
            "root": list(ends["root"]),
            "costs": costs,
            "other": other,
            "readings": {k: vars(r) for k, r in readings.items()},
        }
        return line, values, more

    def _way(self, h: Helix, place: float) -> np.ndarray:
        """Share of the turns by share of the height, as the scan has it."""
        from ...curves.screws import turns_of

        x = np.linspace(0, 1, 25)
        low, high = h.height
        turn = turns_of(h, low + x * (high - low), place)
        share = (turn - turn[0]) / (turn[-1] - turn[0])
        return np.column_stack([x, share])

    def _begin(self, h: Helix, place: float, lead: float, height: float, context, motion, axes):
        """The height and angle (turns) it begins at, and whether that was given and not read."""
        from ...curves.screws import turns_of

        point, d, across = axes
        if self.begins is not None:
            p = place_of(context, self.begins, self.begins_entity, motion, "begins") - point
            v = np.cross(d, across)
            return float(p @ d), float(np.arctan2(p @ v, p @ across)) / (2 * np.pi), True
        low, high = h.height
        # What was chosen shorter or longer keeps to the middle of what was read, or to its foot where the pitch varies.
        varies = h.varies and not self.even
        begin = low if varies else 0.5 * (low + high) - 0.5 * height
        if varies:
            return begin, float(turns_of(h, np.array([begin]), place)[0]), False
        middle = 0.5 * (low + high)
        sign = 1.0 if h.right else -1.0
        angle = float(turns_of(h, np.array([middle]), place)[0]) - sign * (middle - begin) / lead
        return begin, angle, False
