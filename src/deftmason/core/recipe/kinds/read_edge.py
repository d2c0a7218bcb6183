"""A straight or round edge, as the line or circle where the surfaces on either side of it meet."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.telling import roles_of, size_of
from ..references import ScanRef
from ..step import Outcome, Pick, Step, Told, Value, register
from .making import MadeDatumTold

__all__ = ["EdgeStep"]

_WHOLE_DEG = 300.0


class EdgeTold(MadeDatumTold):
    """``sides`` the kinds of the surfaces that meet, ``turn_deg`` between them there; ``span_deg`` that is seen of a
    round edge; ``off`` mm that it lies off the line or circle at most; ``places`` (k × 3) along it.
    """

    sides: list[str]
    turn_deg: float
    span_deg: float | None
    off: float
    places: list[list[float]]


@register
class EdgeStep(Step):
    """A straight or round edge of a scan, where the surfaces on either side of it meet."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Edge"
    computation: ClassVar[int] = 2
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = EdgeTold

    kind: Literal["read_edge"] = "read_edge"
    scan: ScanRef = Field(description="The scan it is read from.")
    pick: Pick = Field(description="A place near the edge.")

    def run(self, context, progress):
        from ...datums.edges import edge_at

        index = context.index(self.scan)
        found = edge_at(index, self.pick.place, normal=self.pick.normal)
        e = found.element
        straight = found.span_deg is None
        place = found.uncertainty["point" if straight else "center"]
        turn = found.uncertainty["direction" if straight else "normal"]
        values = []
        if straight:
            says = f"{found.length:.4g} mm"
        else:
            off = found.uncertainty["radius"]
            says = size_of(e) if found.span_deg > _WHOLE_DEG else f"R {e.radius:.4g}, {found.span_deg:.0f}°"
            sign, factor, name = ("⌀", 2.0, "diameter") if found.span_deg > _WHOLE_DEG else ("R", 1.0, "radius")
            size = factor * e.radius
            values.append(Value(name, sign, size, factor * off, size, "scan", path=[]))
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": found.uncertainty,
            "place_uncertainty": float(np.linalg.norm(place)),
            "direction_uncertainty_deg": float(np.degrees(np.linalg.norm(turn))),
            "area": (found.length if straight else 2 * e.radius) ** 2,
            "length": found.length if straight else 2 * e.radius,
            "sides": list(found.kinds),
            "turn_deg": found.turn_deg,
            "span_deg": found.span_deg,
            "off": found.off,
            "places": found.places[:: max(1, len(found.places) // 200)].tolist(),
            "says": says,
        }
        output = {
            "element": e,
            "facets": found.facets.astype(np.int32),
            "uncertainty": found.uncertainty,
            "area": summary["area"],
            "length": summary["length"],
            "extremes": index.extremes.tolist(),
        }
        return Outcome(output, summary, "", "sound", values)
