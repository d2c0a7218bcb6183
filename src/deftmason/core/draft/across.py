"""What stands across the direction that a part is pushed along: round bosses and holes, and the flat faces that end
them. Outlines are drawn as if it were not there; it is added and cut afterwards, along its own axis.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, Protocol, cast

import numpy as np
import shapely

from ..elements import Cone, Cylinder, Plane, RigidMotion, Torus
from ..errors import BadInput
from ..recipe.laying import Laying
from ..recipe.papers import PaperRecord, traces_on
from ..recipe.parse import parse_step
from ..scan.index import ScanIndex
from ..scan.mesh import TriMesh
from ..scan.section import SectionPlane
from ..sketch.trace import TraceLoop
from ..zones import Zones
from .slabs import filled, region_of, same_region
from .standing import lean_deg, way_of
from .tube_runs import runs_of
from .walls_alone import crossing, drawn_alone

__all__ = ["Across", "across_zones", "drawn_past"]

_LEANS = 6.0  # degrees from the direction of an axis across it
_SQUARE = 6.0  # degrees from a direction of a plane that walls along it cannot be
_AMONG = 0.7  # of a flat face's border that it shares with what stands across: it ends that
_KEEPS = 0.5  # of a loop's area that it has at least without what stands across; what leaves less is the part itself
_SOME, _NEARLY = 0.02, 0.9  # of a loop's places: less is chance; more, and the loop is of nothing else
_ON = 0.6  # of where a wall is cut that lies on an outline which it carries


def across_zones(zones: Zones, index: ScanIndex, direction: np.ndarray) -> np.ndarray:
    """Whether each zone (z,) stands across a direction (3,)."""
    out = np.zeros(len(zones.zones), bool)
    for k, z in enumerate(zones.zones):
        way = way_of(z.element) if isinstance(z.element, Cylinder | Cone | Torus) else None
        out[k] = way is not None and lean_deg(way, direction) > _LEANS
    labels = zones.labels
    a, b = np.repeat(labels, 3), labels[index.neighbours.ravel()]
    border = (a >= 0) & (b >= 0) & (a != b) & (index.neighbours.ravel() >= 0)
    whole = np.bincount(a[border], minlength=len(out))
    beside = np.bincount(a[border], out[b[border]], len(out))
    for k, z in enumerate(zones.zones):
        if isinstance(z.element, Plane) and lean_deg(z.element.normal, direction) > _SQUARE:
            out[k] |= beside[k] > _AMONG * max(whole[k], 1)
    return out


class Across:
    """What of a scan stands across a direction: ``zones`` (z,) bool, ``facets`` (m,) bool."""

    def __init__(self, zones: Zones, index: ScanIndex, direction: np.ndarray):
        self._index = index
        self.zones = across_zones(zones, index, direction)
        for run in runs_of(zones, index):
            self.zones[[*run.outside, *run.bore]] = True
        self.facets = np.append(self.zones, False)[zones.labels]

    def without(self, loops: list[TraceLoop], plane: SectionPlane) -> list[TraceLoop]:
        """Closed loops of a section on a ``plane`` in the scan's coordinates, without what stands across: led straight
        over where it stood. Loops of nothing else are left out."""
        if not self.zones.any():
            return loops
        out = []
        for l in loops:
            gone = self._met(l.points, plane)
            if not l.closed or gone.mean() < _SOME:
                out.append(l)
                continue
            if gone.mean() > _NEARLY:
                continue
            kept = l.points[~gone]
            before, after = (shapely.make_valid(shapely.Polygon(p)) if len(p) > 3 else None for p in (l.points, kept))
            if before is not None and after is not None and after.area > _KEEPS * before.area:
                out.append(replace(l, points=kept, vertex=l.vertex[~gone]))
            else:
                out.append(l)
        return out

    @cached_property
    def _tree(self) -> Any:
        from scipy.spatial import cKDTree

        return cKDTree(self._index.mesh.centroids, balanced_tree=False)

    def _met(self, points: np.ndarray, plane: SectionPlane) -> np.ndarray:
        """Whether places (n, 2) on a plane lie on what stands across."""
        return self.facets[self._tree.query(plane.to_space(points))[1]]


class Drafting(Protocol):
    """What of a draft is needed to draw its outlines."""

    j: Laying
    index: ScanIndex
    zones: Zones
    motion: RigidMotion
    facet: float
    within: float

    def name(self, words: str) -> str: ...
    def outlines(self, sketch: str) -> list[tuple[str, shapely.Polygon, int | None]]: ...


def drawn_past(d: Drafting, sketch: str, across: Across) -> str | None:
    """The outline of a laid sketch drawn again, of the part's own walls alone, led past what stands across it: the
    step that gives it. None where nothing stands across it, or it closes in no other way."""
    replay = d.j.replay()
    step = next(s for s in d.j.steps if s["id"] == sketch)
    laid = traces_on(cast(PaperRecord, parse_step(step)), replay)
    cleaned = across.without(laid.traces[0], laid.in_scan)
    if all(a is b for a, b in zip(cleaned, laid.traces[0])):
        return None
    parts = [p for p in shapely.get_parts(filled(region_of(cleaned))) if p.geom_type == "Polygon" and p.area > 0]
    if len(parts) != 1:
        return None
    near = max(2.0 * d.facet, 4 * d.zones.noise)
    mesh = TriMesh(d.motion.points(d.index.mesh.vertices), d.index.mesh.faces)
    walls = []
    for k, z in enumerate(d.zones.zones):
        q = np.zeros((0, 2)) if across.zones[k] else crossing(mesh, z.facets, laid.plane)
        if len(q) and (shapely.distance(parts[0].exterior, shapely.points(q)) < near).mean() > _ON:
            if not isinstance(z.element, Plane | Cylinder | Cone):
                return None
            walls.append(z)
    if not walls:
        return None
    before, paper = len(d.j.steps), {k: v for k, v in step.items() if k not in ("strokes", "relations", "sizes")}
    record = {**paper, "id": f"{sketch}_past", "name": d.name("Outline")}
    try:
        d.j.lay(drawn_alone(d.j, record, laid.plane, mesh, walls, parts[0], d.facet))
        found = [p for _, p, inside in d.outlines(record["id"]) if inside is None]
        if len(found) == 1 and same_region(found[0], parts[0], 2 * d.within):
            return str(record["id"])
    except BadInput:
        pass
    del d.j.steps[before:]
    return None
