"""The surfaces a scan is made of, as a step: read from its own noise, changed by hand where a person knows better."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal
from weakref import WeakKeyDictionary

import numpy as np
from pydantic import BaseModel, Field

from ...progress import Progress, silent
from ..records import Place, Record, Size, shown
from ..references import ScanRef
from ..step import Outcome, Step, Told, register

if TYPE_CHECKING:
    from ...scan.index import ScanIndex
    from ...zones import Zones

__all__ = ["ZonesStep"]

_RELATIONS = 60
#: The zones last read of each scan in hand, by what was asked: a change by hand does not read them anew.
_READ: WeakKeyDictionary[ScanIndex, dict[tuple[float | None, float | None], Zones]] = WeakKeyDictionary()


class ByHand(Record):
    """One change by hand, at a place on the scan."""

    do: Literal["refit", "join", "split", "give", "grow", "name", "lock", "unlock"] = Field(
        "refit",
        description="Call it another kind, join another zone to it, split it along a line, give what the line cuts off "
        "to a neighbour, grow it, name it, lock or unlock it.",
    )
    place: Place = Field(description="A place on the zone, mm.")
    kind: Literal["plane", "cylinder", "cone", "sphere", "torus", "freeform"] | None = Field(
        None, description="What it is called instead."
    )
    to: Place | None = Field(None, description="A place on the zone that joins it, or the cut's other end, mm.")
    also: Place | None = Field(None, description="A place on the neighbour that gets what is cut off, mm.")
    name: str = Field("", max_length=80, description="What it is called.")


class ZoneTold(BaseModel):
    """A surface: its kind and name, scatter in mm, area in mm², a place on it, and how it meets its neighbours."""

    kind: str
    name: str
    locked: bool = False
    parameters: dict[str, Any]
    scatter: float
    area: float
    triangles: int
    place: list[float]
    normal: list[float]
    neighbours: list[int]
    same_surface: list[int]


class MeetingTold(BaseModel):
    a: int
    b: int
    how: str
    angle_deg: float
    length: float


class RelationTold(BaseModel):
    what: str
    a: int
    b: int
    misfit: float


class ZonesTold(Told):
    """Zones largest first, how they meet, and what holds between them; ``noise`` and ``covered`` share of the scan."""

    line: ClassVar[tuple[str, ...]] = ("count", "noise", "covered")

    count: int
    noise: float
    smallest: float
    covered: float
    zones: list[ZoneTold]
    meetings: list[MeetingTold]
    relations: list[RelationTold]


@register
class ZonesStep(Step):
    """The scan split into the surfaces it is made of."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Zones"
    computation: ClassVar[int] = 9
    produces: ClassVar[str] = "zones"
    quick: ClassVar[bool] = False
    tells: ClassVar[type[Told]] = ZonesTold

    kind: Literal["zones"] = "zones"
    scan: ScanRef = Field(description="The scan they are read on.")
    noise: Size | None = Field(
        None,
        description="The smallest deviation that matters, mm; the scan's own scatter where none is given.",
        json_schema_extra=shown("what matters", "mm", step=0.005, empty="the scan's scatter"),
    )
    smallest: Size | None = Field(
        None,
        description="Area below which nothing is a zone, mm².",
        json_schema_extra=shown("smallest", "mm²", step=1, empty="5 mm² or 12 facets", more=True),
    )
    by_hand: list[ByHand] = Field(default_factory=list, max_length=500, description="What was changed by hand.")

    def read(self, context: Any, progress: Progress = silent) -> Zones:
        """The zones themselves, read anew or as last read in this process."""
        from ...zones import read_zones
        from ...zones.by_hand import changed

        index = context.index(self.scan)
        known = _READ.setdefault(index, {})
        asked = (self.noise, self.smallest)
        if asked not in known:
            known.clear()  # the last reading of a scan is the one that is changed by hand next
            known[asked] = read_zones(index, noise=self.noise, smallest=self.smallest, progress=progress)
        return changed(index, known[asked], self._changes(), self._lost(index))

    def _changes(self) -> list:
        from ...zones.by_hand import Change

        def at(p):
            return None if p is None else np.array(p)

        return [Change(c.do, np.array(c.place), c.kind, at(c.to), at(c.also), c.name) for c in self.by_hand]

    def _lost(self, index: ScanIndex) -> float:
        """How far a place changed by hand may lie from the scan, mm."""
        return max(0.03 * index.size, 4 * index.mesh.median_edge)

    def run(self, context, progress):
        from ...zones.by_hand import locked, named
        from ...zones.relations import meetings, names_of, relations

        index, found = context.index(self.scan), self.read(context, progress)
        m = index.mesh
        meets = meetings(index, found)
        size = float(np.linalg.norm(np.ptp(m.bounds, axis=0)))
        total = float(m.areas.sum())
        covered = float(sum(z.area for z in found.zones)) / total
        zones = []
        hand, lost = self._changes(), self._lost(index)
        called, kept = named(index, found, hand, lost), locked(index, found, hand, lost)
        for i, (z, name) in enumerate(zip(found.zones, names_of(index, found, meets))):
            c = m.centroids[z.facets]
            middle = z.facets[int(np.argmin(np.linalg.norm(c - c.mean(axis=0), axis=1)))]
            zones.append(
                {
                    "kind": z.kind,
                    "name": called.get(i, name),
                    "locked": i in kept,
                    "parameters": z.element.parameters() if z.element is not None else {},
                    "scatter": z.sigma,
                    "area": z.area,
                    "triangles": len(z.facets),
                    "place": m.centroids[middle].tolist(),
                    "normal": m.normals[middle].tolist(),
                    "neighbours": list(z.neighbours),
                    "same_surface": list(z.same_surface),
                }
            )
        summary = {
            "count": len(zones),
            "noise": found.noise,
            "smallest": found.smallest,
            "covered": covered,
            "zones": zones,
            "meetings": [vars(x) for x in meets],
            "relations": [vars(x) for x in relations(index, found, size)[:_RELATIONS]],
            "says": f"{len(zones)} surfaces",
        }
        says = "" if zones else "No surface is large enough to be a zone; give a smaller smallest area."
        return Outcome(found, summary, says, "sound" if zones else "attention", arrays={"labels": found.labels})
