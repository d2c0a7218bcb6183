"""A plane square to a curve at a place along it, as a datum."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.telling import roles_of
from ...elements import Plane
from ..records import shown
from ..references import CurveRef, FrameRef
from ..step import Outcome, Step, Told, register
from .making import MadeDatumTold

__all__ = ["AcrossStep"]


class AcrossTold(MadeDatumTold):
    """``along`` mm of the curve's ``whole`` that lie before the plane."""

    along: float
    whole: float


@register
class AcrossStep(Step):
    """A plane that a curve passes square, at a share of its length."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Plane across a curve"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = AcrossTold

    kind: Literal["across_curve"] = "across_curve"
    frame: FrameRef = Field(description="The frame the curve lies in.")
    curve: CurveRef = Field(description="The curve.", json_schema_extra=shown("curve"))
    share: float = Field(
        0.5,
        ge=0,
        le=1,
        description="Where along it, from 0 at its begin to 1 at its end.",
        json_schema_extra=shown("where, 0 to 1", step=0.05),
    )

    def run(self, context, progress):
        curve = context.output(self.curve, "curve")
        back = context.output(self.frame, "frame").inverse()
        along = self.share * curve.length
        s = np.array([along])
        p, d = back.points(curve.at(s))[0], back.vectors(curve.direction(s)[0])
        e = Plane(p, d / np.linalg.norm(d))
        reach = 0.2 * curve.length
        none = {"point": [0.0] * 3, "normal": [0.0] * 3}
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": none,
            "place_uncertainty": 0.0,
            "direction_uncertainty_deg": 0.0,
            "area": reach**2,
            "length": reach,
            "along": along,
            "whole": curve.length,
            "says": f"{along:.4g} of {curve.length:.4g} mm",
        }
        output = {
            "element": e,
            "facets": np.zeros(0, np.int32),
            "uncertainty": none,
            "area": summary["area"],
            "length": reach,
            "extremes": None,
        }
        return Outcome(output, summary)
