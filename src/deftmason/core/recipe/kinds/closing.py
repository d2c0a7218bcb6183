"""Cleaning steps at rims: holes closed, gaps bridged, the mesh cut along a drawn curve."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Place
from ..step import Outcome, Told, register
from .cleaning import CleanStep
from .scan import ScanTold, told

if TYPE_CHECKING:
    from ...clean.holes import Closed, Rim

__all__: list[str] = []

_LOST = 0.03  # of the scan's size: a place that lies farther from a rim is lost
_SHAPES = Literal["flat", "tangent", "curved"]


def _closed(c: Closed, count: int, left: list[Rim]) -> Outcome:
    patch = np.zeros(len(c.mesh.faces), bool)
    patch[c.first :] = True
    kinds = [e for e in c.elements if e]
    summary = {
        **told(c.mesh),
        "closed": count,
        "added": int(patch.sum()),
        "left": len(left),
        "notes": c.notes,
        "elements": {k: kinds.count(k) for k in sorted(set(kinds))},
        "says": f"{count} closed, {len(left)} left",
    }
    return Outcome(c.mesh, summary, " ".join(c.notes), "attention" if c.notes else "sound", arrays={"patch": patch})


class ClosedTold(ScanTold):
    closed: int
    added: int
    left: int
    notes: list[str]
    elements: dict[str, int]


@register
class HolesStep(CleanStep):
    """Holes closed with patches that continue the surface."""

    title: ClassVar[str] = "Holes"
    tells: ClassVar[type[Told]] = ClosedTold

    kind: Literal["holes"] = "holes"
    which: Literal["all", "shortest", "all but the longest", "picked"] = Field(
        "all", description="Which rims are closed."
    )
    count: int = Field(1, ge=1, le=1_000_000, description="How many of the shortest.")
    places: list[Place] = Field(default_factory=list, max_length=5000, description="A place on each rim picked, mm.")
    shape: _SHAPES = Field("tangent", description="Flat, tangent to the rim, or following curvature.")
    rework: float = Field(
        0.0,
        ge=0,
        le=1000,
        description="How far from the rim scan vertices may be drawn smooth, mm; 0 leaves all as they are.",
    )

    def run(self, context, progress):
        from ...clean.bridges import nearest_on_rims
        from ...clean.holes import close_rims, list_rims

        mesh = context.mesh(self.scan)
        rims = list_rims(mesh, context.index(self.scan).neighbours)
        if not rims:
            return Outcome(
                mesh,
                {**told(mesh), "closed": 0, "added": 0, "left": 0, "notes": [], "elements": {}, "says": "no holes"},
            )
        chosen = set(range(len(rims)))
        if self.which == "shortest":
            chosen = set(range(min(self.count, len(rims))))
        elif self.which == "all but the longest":
            chosen.discard(len(rims) - 1)
        elif self.which == "picked":
            if not self.places:
                raise BadInput("Pick a rim in the list or the view first.", field="places")
            chosen = set()
            for p in self.places:
                i, _, missed = nearest_on_rims(mesh, p, rims)
                if missed > max(_LOST * context.index(self.scan).size, 6 * mesh.median_edge):
                    raise BadInput(
                        f"There is no open rim within {missed:.1f} mm of a picked place; pick it again.", field="places"
                    )
                chosen.add(i)
        done = close_rims(
            mesh, [rims[i].vertices for i in sorted(chosen)], shape=self.shape, rework=self.rework, progress=progress
        )
        return _closed(done, len(chosen), [r for i, r in enumerate(rims) if i not in chosen])


@register
class BridgeStep(CleanStep):
    """Part of a rim closed between marks, or a strip laid across a gap."""

    title: ClassVar[str] = "Bridge"
    tells: ClassVar[type[Told]] = ClosedTold

    kind: Literal["bridge"] = "bridge"
    way: Literal["stretch", "strip"] = Field(
        "stretch", description="A stretch of one rim, or a strip between two places."
    )
    places: list[Place] = Field(
        default_factory=list, max_length=3, description="Stretch: both ends and a place between; strip: both ends. mm."
    )
    width: float = Field(2.0, gt=0, le=10_000, description="Of a strip, mm.")
    shape: _SHAPES = Field("tangent", description="Flat, tangent to the rim, or following curvature.")

    def run(self, context, progress):
        from ...clean.bridges import close_stretch, lay_strip
        from ...clean.holes import list_rims

        mesh = context.mesh(self.scan)
        need = 3 if self.way == "stretch" else 2
        if len(self.places) < need:
            raise BadInput(f"Set {need} marks on the rim first.", field="places")
        if self.way == "stretch":
            done = close_stretch(mesh, self.places[:3], shape=self.shape, progress=progress)
        else:
            done = lay_strip(mesh, self.places[:2], self.width, shape=self.shape, progress=progress)
        return _closed(done, 1, list_rims(done.mesh))


class CurveCutTold(ScanTold):
    cut: int
    length: float
    goes: int
    curve: list[list[float]]


@register
class CurveCutStep(CleanStep):
    """Triangles split exactly along a smooth curve drawn on the mesh; one side kept."""

    title: ClassVar[str] = "Curve cut"
    tells: ClassVar[type[Told]] = CurveCutTold

    kind: Literal["curvecut"] = "curvecut"
    places: list[Place] = Field(default_factory=list, max_length=2000, description="The curve's places, mm.")
    closed: bool = Field(True, description="The curve ends where it began.")
    keep: Place | None = Field(None, description="A place on the side that stays; none: both stay.")

    def run(self, context, progress):
        from ...clean.curvecut import cut_along

        done, cut, curve = cut_along(
            context.index(self.scan), self.places, closed=self.closed, keep=self.keep, progress=progress
        )
        before = context.mesh(self.scan)
        length = np.linalg.norm(np.diff(curve.points, axis=0), axis=1).sum()
        thinned = curve.points[:: max(1, len(curve.points) // 600)]
        summary = {
            **told(done),
            "cut": cut,
            "length": float(length),
            "goes": max(0, len(before.faces) + cut - len(done.faces)),
            "curve": thinned.round(4).tolist(),
            "says": f"{cut:,} cut",
        }
        return Outcome(done, summary)
