"""A circle, slot or rectangle read from the wall that stands along it, on a plane given or found."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...datums.telling import direction_of, roles_of, size_of
from ...errors import BadInput
from ..records import shown
from ..references import DatumRef, ScanRef
from ..step import Outcome, Pick, Step, Told, Value, register
from .datum import Histogram, residual_histogram
from .making import MadeDatumTold

__all__ = ["OutlineStep"]

_LEANS = 0.4  # degrees
#: The sizes of a shape as values: parameter, name, sign and factor.
_SIZES = {
    "circle": [("radius", "diameter", "⌀", 2.0)],
    "slot": [("length", "length", "", 1.0), ("width", "width", "", 1.0)],
    "rectangle": [("length", "length", "", 1.0), ("width", "width", "", 1.0), ("corner", "corner", "R", 1.0)],
}


class ShapeCouldBe(BaseModel):
    """A shape that an outline could be, its size and what it scatters as, mm."""

    element: str
    size: str
    scatter: float


class OutlineTold(MadeDatumTold):
    """``scatter`` mm of the wall about the shape; ``set_aside`` places left out of ``points``; ``lean_deg`` of the
    wall; ``found``: whether the plane was.
    """

    scatter: float
    points: int
    set_aside: int
    lean_deg: float
    found: bool
    could_be: list[ShapeCouldBe]
    histogram: Histogram


@register
class OutlineStep(Step):
    """A circle, slot or rectangle through the wall at a picked place."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Outline"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = OutlineTold

    kind: Literal["flat_outline"] = "flat_outline"
    scan: ScanRef = Field(description="The scan it is read from.")
    pick: Pick = Field(description="A place on the wall.")
    shape: Literal["best", "circle", "slot", "rectangle"] = Field(
        "best",
        description="What it is; 'best': the simplest that fits.",
        json_schema_extra=shown(
            "shape",
            choices={"best": "whatever it is", "circle": "circle", "slot": "slot", "rectangle": "rectangle"},
        ),
    )
    on: DatumRef | None = Field(
        None,
        description="The plane it lies on; none: found from the wall, through the place.",
        json_schema_extra=shown("on plane"),
    )
    along: DatumRef | None = Field(
        None, description="Datum its long axis runs along.", json_schema_extra=shown("long axis along")
    )

    def run(self, context, progress):
        from ...datums.outlines import outlines

        index = context.index(self.scan)
        plane = along = None
        if self.on is not None:
            plane = context.output(self.on, "datum")["element"]
            if plane.kind != "plane":
                raise BadInput("An outline lies on a plane; choose one.", field="on")
        if self.along is not None:
            along = direction_of(context.output(self.along, "datum")["element"])
            if along is None:
                raise BadInput("A ball and a point have no direction; choose a plane or an axis.", field="along")
        kind = None if self.shape == "best" else self.shape
        found = outlines(index, self.pick.place, normal=self.pick.normal, plane=plane, along=along)
        first = next(f for f in found if kind in (None, f.element.kind))
        e = first.element
        place = float(np.linalg.norm(first.uncertainty["center"]))
        turn = first.uncertainty.get("direction")
        reach = float(getattr(e, "length", 0.0) or 2 * e.radius)
        size = size_of(e)
        values = []
        for key, name, sign, factor in _SIZES[e.kind]:
            value, off = factor * getattr(e, key), factor * first.uncertainty[key]
            values.append(Value(name, sign, value, off, value, "scan", path=[]))
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": first.uncertainty,
            "place_uncertainty": place,
            "direction_uncertainty_deg": None if turn is None else float(np.degrees(np.linalg.norm(turn))),
            "area": reach * float(getattr(e, "width", reach)),
            "length": reach,
            "scatter": first.scatter,
            "points": len(first.residuals),
            "set_aside": first.aside,
            "lean_deg": first.lean_deg,
            "found": first.found,
            "could_be": [{"element": f.element.kind, "size": size_of(f.element), "scatter": f.scatter} for f in found],
            "histogram": residual_histogram(first.residuals),
            "says": size,
        }
        says = ""
        if abs(first.lean_deg) > _LEANS:
            says = f"The wall leans by {abs(first.lean_deg):.1f}°: these are its sizes at the place that was clicked."
        output = {
            "element": e,
            "facets": first.facets,
            "uncertainty": first.uncertainty,
            "area": summary["area"],
            "length": reach,
            "extremes": index.extremes.tolist(),
        }
        return Outcome(output, summary, says, "attention" if says else "sound", values)
