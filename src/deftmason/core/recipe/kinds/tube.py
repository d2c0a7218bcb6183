"""A tube read from a scan of its outside and laid as a maker bends it: straights and bends with one diameter."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Length, shown
from ..references import FrameRef, ScanRef
from ..step import Chosen, MarkRecord, Outcome, Pick, Step, Told, Value, register, selected
from .bodied import BodyTold, body_summary, number, settled, typed_value, vector

if TYPE_CHECKING:
    from ...curves.tubes import Tube

__all__ = ["TubeStep"]

_TIGHT = 1.001  # times the tube's radius that a bend's own is at least, where the diameter was chosen larger


class BendSure(BaseModel):
    """One standard deviation of each number of a bend; none of the straight before the first, which begins where the
    scan does."""

    length: float | None
    rotation_deg: float
    angle_deg: float
    radius: float


class BendTold(BaseModel):
    """A line of the bend table: the straight before it, its rotation against the bend before, how far it bends, how
    wide; mm and degrees, rotations right-handed about the direction of travel."""

    length: float
    rotation_deg: float
    angle_deg: float
    radius: float
    sure: BendSure | None = None


class TubeTold(BodyTold):
    """``bends`` in order and the last straight's ``end_length``; ``centreline`` in the scan's coordinates; the share of
    the outside ``seen``; lengths ``bridged`` in all; ``costs`` how far the path lies off what was read where numbers
    are round, mm rms; ``path`` the pieces in the frame, as (start, middle, end), two places where straight; ``outer``
    radius and ``bore`` (0: solid)."""

    bends: list[BendTold]
    end_length: float
    centreline: list[list[float]]
    seen: float
    bridged: float
    rms: float
    costs: float
    path: list[list[list[float]]]
    start: list[list[float]]
    outer: float
    bore: float


@register
class TubeStep(Step):
    """A bent tube: its path and diameter as the scan shows them, a wall by a hand reading."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Tube"
    produces: ClassVar[str] = "body"
    tells: ClassVar[type[Told]] = TubeTold
    quick: ClassVar[bool] = False
    computation: ClassVar[int] = 2

    kind: Literal["tube"] = "tube"
    scan: ScanRef = Field(description="The scan it is read from.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    places: list[Pick] = Field(
        default_factory=list,
        max_length=40,
        description="A place on it; or where it does not show itself: one end, places it goes by, the other end.",
    )
    marks: list[MarkRecord] = Field(
        default_factory=list, max_length=200, description="What of the scan is not this tube: a junction, a clamp."
    )
    before: Length = Field(0.0, description="Made longer at its begin, mm; less than 0: trimmed.")
    after: Length = Field(0.0, description="Made longer at its end, mm; less than 0: trimmed.")
    rounded: bool = Field(False, description="The bend table in round numbers, as near as the scan allows.")
    diameter: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"),
        description="Of its outside, mm; none: as the scan says.",
        json_schema_extra=shown("diameter", "mm", step=0.5, empty="as the scan says"),
    )
    known: bool = Field(
        False,
        description="The diameter that was chosen is kept while the path is read.",
        json_schema_extra=shown("keep the diameter while reading", more=True),
    )
    wall: Chosen = Field(
        default_factory=lambda: Chosen(value=None, source="hand reading"),
        description="Of the tube, mm; none: a solid bar.",
        json_schema_extra=shown("wall", "mm", step=0.5, empty="a solid bar"),
    )

    def in_script(self, told, script):
        edges = [
            f"Edge.make_line({vector(p[0])}, {vector(p[1])})"
            if len(p) == 2
            else f"Edge.make_three_point_arc({', '.join(vector(q) for q in p)})"
            for p in told["path"]
        ]
        start, direction = told["start"]
        at = f"Plane({vector(start)}, z_dir={vector(direction)})"
        outer = f"{script.value('diameter')} / 2"
        out = [
            f"{script.word}_path = Wire([",
            *(f"    {e}," for e in edges),
            "])",
            f"{script.word} = sweep({at} * Circle({outer}).face(), path={script.word}_path)",
        ]
        if told["bore"]:
            inner = f"{outer} - {script.value('wall')}"
            out.append(f"{script.word} = {script.word} - sweep({at} * Circle({inner}).face(), path={script.word}_path)")
        return out

    def _read(self, context: Any, progress: Any) -> Tube:
        from ...curves.tubes import read_tubes

        held = self.diameter.value if self.known else None
        places = np.array([p.place for p in self.places], float)

        def read():
            index = self._left(context)
            seed, guide = (places[0], None) if len(places) == 1 else (None, places)
            found = read_tubes(index, seed=seed, guide=guide, diameter=held, progress=progress)
            if not found.tubes:
                more = "one end, places it goes by, the other end" if len(places) == 1 else "more places it goes by"
                raise BadInput(f"No tube is read here; click {more}, or give its diameter.", field="places")
            return found.tubes[0]

        return context.read(
            self.scan, ("tube", places.tobytes(), held, tuple(m.model_dump_json() for m in self.marks)), read
        )

    def _left(self, context: Any) -> Any:
        """The scan without what was marked as not this tube."""
        from ...scan.index import ScanIndex
        from ...scan.mesh import TriMesh

        index = context.index(self.scan)
        if not self.marks:
            return index
        keep = ~np.asarray(selected(index, self.marks), bool)
        if not keep.any():
            raise BadInput("Everything is marked as not this tube; take some marks away.", field="marks")
        used, faces = np.unique(index.mesh.faces[keep], return_inverse=True)
        return ScanIndex(TriMesh(index.mesh.vertices[used], faces.reshape(-1, 3)))

    def run(self, context, progress):
        from ...curves.bentpath import BentPath
        from ...curves.maker import in_round_numbers, off_diameter
        from ...features.evidence import Reading
        from ...kernel.pipes import pipe

        if not self.places:
            raise BadInput("Click the tube on the scan.", field="places")
        motion = context.output(self.frame, "frame")
        tube = self._read(context, progress)
        reading = Reading(tube.diameter, tube.sigma.diameter, len(tube.stations.of), tube.rms)
        diameter, source = settled(self.diameter, reading)
        radius = diameter / 2
        p, costs = in_round_numbers(tube.path, tube.diameter) if self.rounded else (tube.path, 0.0)
        if (
            min(p.straights[0] + self.before, p.straights[-1] + self.after) < 0
            or p.length + self.before + self.after <= 0
        ):
            raise BadInput("More is trimmed than its first or last straight is long; trim less.", field="before")
        p = p.lengthened(self.before, self.after)
        wider = off_diameter(p, diameter, np.asarray(context.mesh(self.scan).vertices))
        bends = p.bends.copy()
        if len(bends):
            bends[:, 2] = np.maximum(bends[:, 2], _TIGHT * radius)
        path = BentPath(
            motion.points(p.start), motion.vectors(p.direction), motion.vectors(p.inward), p.straights, bends
        )
        values = [
            Value(
                "diameter", "⌀", tube.diameter, tube.sigma.diameter, diameter, source, "mm", None, ["diameter", "value"]
            )
        ]
        wall = None
        if self.wall.value is not None:
            wall = number(self.wall, "how thick the wall is, in mm", "wall")
            values.append(typed_value("wall", "wall", wall, self.wall.source))
        body = pipe(path, radius, self.name, wall=wall)
        bridged = float(sum(b - a for a, b in tube.bridged))
        summary = body_summary(body) | {
            "readings": {"diameter": vars(reading)},
            "bends": [
                {
                    "length": float(length),
                    "rotation_deg": float(np.degrees(rotation)),
                    "angle_deg": float(np.degrees(angle)),
                    "radius": float(wide),
                    "sure": None if self.rounded else sure,
                }
                for length, (rotation, angle, wide), sure in zip(path.straights, path.bends, tube.sigma.told())
            ],
            "end_length": float(path.straights[-1]),
            "centreline": tube.centreline.tolist(),
            "seen": tube.seen,
            "bridged": bridged,
            "rms": tube.rms,
            "costs": costs,
            "path": [
                q.at(np.array([0.0, 1.0] if q.straight else [0.0, 0.5, 1.0]) * q.length).tolist()
                for q in path.pieces
                if q.length > 1e-9 * max(path.length, 1.0)
            ],
            "start": [path.start.tolist(), path.direction.tolist()],
            "outer": radius,
            "bore": 0.0 if wall is None else radius - wall,
        }
        says = f"Bridged over {bridged:.4g} mm that the scan does not show." if bridged else ""
        return Outcome(
            body, summary, says, "attention" if says else "sound", values, {"wider": wider.astype(np.float32)}
        )
