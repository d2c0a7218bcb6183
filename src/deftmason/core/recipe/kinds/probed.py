"""A datum taken by touches of a ball probe: a plane, a line, a circle or a rounding, with its evidence."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.telling import direction_of, roles_of
from ..records import Direction, Place, Record, Size, shown
from ..references import DatumRef, ScanRef
from ..step import Outcome, Step, Told, Value, register
from .making import MadeDatumTold

if TYPE_CHECKING:
    from ...capture.touched import Touches

__all__ = ["ProbedStep", "TouchRecord", "touched_record"]


def touched_record(step_id: str, name: str, scan: str, element: str, touches: Touches, stands_on: str | None) -> dict:
    """The record of what touches were read as; ``stands_on``: the step a circle stands square on."""
    return {
        "id": step_id,
        "kind": "probed",
        "name": name,
        "scan": scan,
        "element": element,
        "ball": touches.radius,
        "touches": [{"ball": b, "along": a} for b, a in zip(touches.balls.tolist(), touches.along.tolist())],
        "square_to": stands_on,
    }


class TouchRecord(Record):
    """Where the ball's middle came to rest, and the way it was led, in the scan's coordinates."""

    ball: Place
    along: Direction


class ProbedTold(MadeDatumTold):
    """What touches tell; ``scatter`` of the balls' middles, mm; ``outside``: of something round, touched from there."""

    scatter: float
    touches: int
    outside: bool | None = None


@register
class ProbedStep(Step):
    """A plane, line, circle or rounding that a probe touched."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Touched"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = ProbedTold
    computation: ClassVar[int] = 2

    kind: Literal["probed"] = "probed"
    scan: ScanRef = Field(description="The scan whose coordinates the touches are in.")
    element: Literal["plane", "line", "circle", "rounding"] = Field(
        "plane",
        description="What was touched.",
        json_schema_extra=shown(
            "touched as", choices={"plane": "plane", "line": "line", "circle": "circle", "rounding": "rounding"}
        ),
    )
    touches: list[TouchRecord] = Field(min_length=1, max_length=2000, description="The touches, in order.")
    ball: Size = Field(description="Radius of the probe's ball, mm.")
    square_to: DatumRef | None = Field(
        None,
        description="A plane or axis that a circle stands square on.",
        json_schema_extra=shown("stands on", when={"element": ["circle", "rounding"]}),
    )

    def run(self, context, progress):
        from ...capture.touched import Touches, probed

        t = Touches.of([x.ball for x in self.touches], [x.along for x in self.touches], self.ball)
        held = None
        if self.square_to is not None:
            held = direction_of(context.output(self.square_to, "datum")["element"])
        found = probed(self.element, t, held)
        e, f = found.element, found.fit
        place = f.uncertainty.get("center", f.uncertainty.get("point"))
        turn = f.uncertainty.get("normal", f.uncertainty.get("direction"))
        reach = float(np.linalg.norm(np.ptp(t.balls, axis=0)))
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": f.uncertainty,
            "place_uncertainty": float(np.linalg.norm(place)),
            "direction_uncertainty_deg": None if turn is None else float(np.degrees(np.linalg.norm(turn))),
            "area": reach**2,
            "length": reach,
            "scatter": f.sigma,
            "touches": len(t.balls),
            "outside": found.outside,
            "says": f"{len(t.balls)} touches",
        }
        values = []
        if e.kind == "circle":
            round_ = self.element == "rounding"
            name, sign, factor = ("radius", "R", 1.0) if round_ else ("diameter", "⌀", 2.0)
            size, off = factor * e.radius, 2 * factor * f.uncertainty["radius"]  # type: ignore[union-attr]
            values.append(Value(name, sign, size, off / 2, size, "scan", path=[]))
            summary["says"] = f"{sign} {size:.3f} ± {off:.3f}"
        output = {
            "element": e,
            "facets": np.zeros(0, np.int32),
            "uncertainty": f.uncertainty,
            "area": summary["area"],
            "length": reach,
            "extremes": t.balls.tolist(),
        }
        return Outcome(output, summary, "", "sound", values)
