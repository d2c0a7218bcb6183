"""A plane square to a curve, or to an edge of a sketch, at a place along it, as a datum."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.telling import roles_of
from ...elements import Plane
from ...errors import BadInput
from ..records import Place, shown
from ..references import AlongRef, FrameRef
from ..step import Outcome, Step, Told, register
from .curved import drawn_curves
from .making import MadeDatumTold

if TYPE_CHECKING:
    from ...curves.spatial import SpaceCurve

__all__ = ["AcrossStep"]

_REACH, _SIZED = 0.3, 33  # of what is drawn: how far the plane is shown; by so many places of each
_LOOKS = 400  # places of a curve among which the nearest is looked for


class AcrossTold(MadeDatumTold):
    """``along`` mm of the curve's ``whole`` that lie before the plane."""

    along: float
    whole: float


@register
class AcrossStep(Step):
    """A plane that a curve passes square, at a share of its length or beside a place: of a sketch, the edge that passes
    nearest to the place, or the longest.
    """

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Plane across a curve"
    computation: ClassVar[int] = 2
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = AcrossTold

    kind: Literal["across_curve"] = "across_curve"
    frame: FrameRef = Field(description="The frame the curve lies in.")
    curve: AlongRef = Field(
        description="The curve, or the sketch that has the edge.", json_schema_extra=shown("curve or sketch")
    )
    near: Place | None = Field(
        None, description="A place of the scan: the plane passes through what of the curve is nearest to it."
    )
    share: float = Field(
        0.5,
        ge=0,
        le=1,
        description="Where along it, from 0 at its begin to 1 at its end.",
        json_schema_extra=shown("where, 0 to 1", step=0.05, when={"near": None}),
    )

    def run(self, context, progress):
        given = context.output(self.curve)
        curves = drawn_curves(given, []) if isinstance(given, dict) else [given]
        if not curves:
            raise BadInput("Nothing is drawn in this sketch; trace the scan or draw a line first.", field="curve")
        motion = context.output(self.frame, "frame")
        back = motion.inverse()
        if self.near is None:
            curve = max(curves, key=lambda c: c.length)
            along = self.share * curve.length
        else:
            place = motion.points(np.array([self.near], float))[0]
            _, along, curve = min((_nearest(c, place) for c in curves), key=lambda found: found[0])
        s = np.array([along])
        p, d = back.points(curve.at(s))[0], back.vectors(curve.direction(s)[0])
        e = Plane(p, d / np.linalg.norm(d))
        whole = np.concatenate([c.at(np.linspace(0.0, c.length, _SIZED)) for c in curves])
        reach = _REACH * float(np.linalg.norm(np.ptp(whole, axis=0)))
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


def _nearest(curve: SpaceCurve, place: np.ndarray) -> tuple[float, float, Any]:
    """How far (mm) a curve passes from a place (3,), how much of it lies before, mm, and the curve."""
    from scipy.optimize import minimize_scalar

    def away(s: float) -> float:
        return float(np.linalg.norm(curve.at(np.array([s]))[0] - place))

    looks = np.linspace(0.0, curve.length, _LOOKS)
    k = int(np.argmin(np.linalg.norm(curve.at(looks) - place, axis=1)))
    around = float(looks[max(k - 1, 0)]), float(looks[min(k + 1, _LOOKS - 1)])
    found = minimize_scalar(away, bounds=around, method="bounded", options={"xatol": 1e-7 * curve.length})
    best = min((float(found.x), *around), key=away)
    return away(best), best, curve
