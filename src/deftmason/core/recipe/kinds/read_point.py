"""A point of the surface at a picked place, told by the facets about it."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.telling import roles_of
from ...elements import Point
from ..references import ScanRef
from ..step import Outcome, Pick, Step, Told, register
from .making import MadeDatumTold

__all__ = ["PointStep"]


@register
class PointStep(Step):
    """A point of a scan's surface: where the facets about a place say that it lies there."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Point"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = MadeDatumTold

    kind: Literal["read_point"] = "read_point"
    scan: ScanRef = Field(description="The scan it is read from.")
    pick: Pick = Field(description="The place.")

    def run(self, context, progress):
        from ...datums.surface_at import surface_at

        index = context.index(self.scan)
        at = np.asarray(self.pick.place, float)
        normal = None if self.pick.normal is None else np.asarray(self.pick.normal, float)
        seed, _ = index.nearest_facet(at, normal)
        found = surface_at(index, seed, at, index.mesh.normals[seed])
        e = Point(found.place)
        uncertainty = {"point": (np.abs(found.normal) * found.sigma).tolist()}
        reach = 0.05 * index.size
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": uncertainty,
            "place_uncertainty": found.sigma,
            "direction_uncertainty_deg": None,
            "area": reach**2,
            "length": reach,
            "says": f"± {max(2 * found.sigma, 0.001):.3f}",
        }
        output = {
            "element": e,
            "facets": np.array([seed], np.int32),
            "uncertainty": uncertainty,
            "area": summary["area"],
            "length": reach,
            "extremes": index.extremes.tolist(),
        }
        return Outcome(output, summary)
