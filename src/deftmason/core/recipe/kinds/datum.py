"""A datum read from the scan: a plane or an axis, with its evidence."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..references import ScanRef
from ..step import Outcome, Pick, Step, Told, Value, register

if TYPE_CHECKING:
    from ...scan.index import ScanIndex
    from ...scan.picking import Gathered

__all__ = ["DatumStep", "resolve_pick"]

_LOST_MM = 3.0


def resolve_pick(index: ScanIndex, pick: Pick, what: str, element: str | None = None) -> Gathered:
    """The facets a pick means on this scan. Raises `BadInput` where the scan is nowhere near its place."""

    from ...scan.picking import gather, gather_on

    missed = index.nearest_facet(np.asarray(pick.place, float))[1]
    if missed > max(_LOST_MM, 4 * index.mesh.median_edge):
        raise BadInput(
            f"The place picked for {what} is {missed:.1f} mm away from the scan; pick it again.", field="pick"
        )
    if element == "cylinder" and pick.rule == "same bend":
        # The kind is known: the running fit need not try the others.
        return gather_on(index, pick.place, "cylinder", pick.angle_deg, normal=pick.normal)
    return gather(index, pick.place, pick.rule, pick.angle_deg, normal=pick.normal)


def residual_histogram(residuals: np.ndarray, bins: int = 31) -> dict:
    reach = float(max(np.percentile(np.abs(residuals), 99.5), 1e-6))
    counts, edges = np.histogram(residuals, bins=bins, range=(-reach, reach))
    return {"counts": counts.tolist(), "reach": reach}


class Histogram(BaseModel):
    counts: list[int]
    reach: float


class DatumTold(Told):
    """Uncertainties are standard deviations; ``parameters`` and ``uncertainty`` as the element's own."""

    line: ClassVar[tuple[str, ...]] = ("element", "parameters", "area", "length", "scatter", "facets")

    element: str
    parameters: dict[str, Any]
    uncertainty: dict[str, Any]
    scatter: float
    max_distance: float
    facets: int
    points: int
    area: float
    rule: str
    angle_deg: float | None
    histogram: Histogram
    inflation: float
    length: float | None = None
    place_uncertainty: float | None = None
    direction_uncertainty_deg: float


@register
class DatumStep(Step):
    """A plane or axis through the surface at a picked place."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Datum"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = DatumTold

    kind: Literal["datum"] = "datum"
    scan: ScanRef = Field(description="The scan it is read from.")
    element: Literal["plane", "cylinder"] = Field(
        "plane", description="Plane for a flat face, cylinder for a bore or boss."
    )
    pick: Pick = Field(description="A place on the surface.")

    def run(self, context, progress):
        from ...scan.picking import fit_gathered

        index = context.index(self.scan)
        picked = resolve_pick(index, self.pick, f"'{self.name}'", self.element)
        f, ids = fit_gathered(index, picked, self.element)
        e = f.element
        summary = {
            "element": e.kind,
            "parameters": e.parameters(),
            "uncertainty": f.uncertainty,
            "scatter": f.sigma,
            "max_distance": f.max_distance,
            "facets": int(len(picked.facets)),
            "area": float(index.mesh.areas[picked.facets].sum()),
            "points": int(len(ids)),
            "rule": picked.rule,
            "angle_deg": picked.angle_deg,
            "histogram": residual_histogram(f.residuals),
            "inflation": f.inflation,
        }
        values, says = [], ""
        if e.kind == "cylinder":
            along = np.asarray(index.mesh.vertices[ids] @ e.direction)
            summary["length"] = float(np.ptp(along))
            values.append(
                Value("diameter", "⌀", 2 * e.radius, 2 * f.uncertainty["radius"], 2 * e.radius, "scan", path=[])
            )
            summary["says"] = f"⌀ {2 * e.radius:.3f} ± {2 * f.uncertainty['radius']:.3f}"
        else:
            place = float(np.linalg.norm(f.uncertainty["point"]))
            summary["place_uncertainty"] = place
            summary["says"] = f"± {max(place, 0.001):.3f}"
        spread = np.degrees(np.linalg.norm(f.uncertainty["normal" if e.kind == "plane" else "direction"]))
        summary["direction_uncertainty_deg"] = float(spread)
        status = "sound"
        if f.sigma > 0.25:
            status, says = "attention", f"The surface scatters by {f.sigma:.2f} mm: it may not be one {e.kind}."
        return Outcome({"element": e, "facets": picked.facets}, summary, says, status, values)
