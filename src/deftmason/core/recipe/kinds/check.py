"""Deviation of the scan from the body, measured to its true surface."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...progress import part
from ..records import shown
from ..references import BodyRef, FrameRef, ScanRef
from ..step import Outcome, Step, Told, register


class TideHistogram(BaseModel):
    counts: list[int]
    edges: list[float]


class FaceTold(BaseModel):
    face: str
    kind: str
    points: int
    mean: float | None
    rms: float | None
    p95: float | None
    within: float | None


class DeviationTold(Told):
    line: ClassVar[tuple[str, ...]] = ("rms", "within", "tolerance")

    points: int
    answered: int
    tolerance: float
    within: float | None
    mean: float | None
    rms: float | None
    p95: float | None
    min: float | None
    max: float | None
    unseen_area: float
    faces: list[FaceTold]
    histogram: TideHistogram


@register
class CheckStep(Step):
    """A deviation map with a tolerance band and a reach."""

    course: ClassVar[str] = "checks"
    title: ClassVar[str] = "Check"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "deviation"
    tells: ClassVar[type[Told]] = DeviationTold

    kind: Literal["check"] = "check"
    scan: ScanRef = Field(description="The scan that is compared.")
    body: BodyRef = Field(description="The body it is compared with.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    tolerance: float = Field(
        0.1,
        gt=0,
        le=100,
        description="Half width of the tolerance band, mm.",
        json_schema_extra=shown("tolerance ±", "mm", step=0.01),
    )
    reach: float = Field(
        2.0,
        gt=0,
        le=1000,
        description="Points farther off than this are not answered, mm.",
        json_schema_extra=shown("reach", "mm", step=0.1),
    )
    angle_deg: float | None = Field(
        60.0,
        gt=0,
        le=180,
        description="Points facing away more than this are not answered.",
        json_schema_extra=shown("angle", "°", step=1, empty="any", more=True),
    )

    def run(self, context, progress):
        from ...check.statistics import histogram
        from ...check.statistics import summary as numbers

        mesh = context.index(self.scan).mesh.moved(context.output(self.frame, "frame"))
        surface = context.surface(self.body, part(progress, 0.0, 0.3))
        found = surface.distances(
            mesh.vertices,
            mesh.angle_normals,
            reach=self.reach,
            angle_deg=self.angle_deg,
            progress=lambda s, m="": progress(0.3 + 0.5 * s, m),
        )
        progress(0.85, "Counting")
        s = numbers(surface, mesh.vertices, found, self.tolerance, mesh.median_edge)
        s["histogram"] = histogram(found.distance, min(self.reach, max(5 * self.tolerance, 0.3)))
        s["says"] = "no answer" if s["rms"] is None else f"{s['rms']:.3f}"
        share = s["answered"] / max(s["points"], 1)
        says, status = "", "sound"
        if share < 0.5:
            status, says = "attention", f"Only {share:.0%} of the scan lies within {self.reach:g} mm of the model."
        output = {
            "distance": found.distance.astype(np.float32),
            "face": found.face,
            "names": list(surface.body.face_names),
        }
        return Outcome(output, s, says, status)
