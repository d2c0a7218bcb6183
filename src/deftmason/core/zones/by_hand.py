"""What a person changes about the zones read: kept as places, so that it is done again on another scan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..elements import fit
from ..errors import BadInput
from ..scan.index import ScanIndex
from .zones import FREE, Zone, Zones

__all__ = ["Change", "changed"]

_POINTS = 20_000


@dataclass(frozen=True)
class Change:
    """``do`` 'refit' the zone at ``place`` (3,) as ``kind``, or 'join' the zone at ``to`` (3,) to it."""

    do: str
    place: np.ndarray
    kind: str | None = None
    to: np.ndarray | None = None


def changed(index: ScanIndex, zones: Zones, changes: Sequence[Change], lost: float) -> Zones:
    """The zones with these changes made, in their order.

    Raises `BadInput` where a place lies farther than ``lost`` mm from the scan or on no zone.
    """
    for c in changes:
        at = _zone_at(index, zones, c.place, lost)
        if c.do == "refit":
            zones = _refitted(index, zones, at, c.kind or FREE)
        else:
            assert c.to is not None
            zones = _joined(index, zones, at, _zone_at(index, zones, c.to, lost))
    return zones


def _zone_at(index: ScanIndex, zones: Zones, place: np.ndarray, lost: float) -> int:
    facet, missed = index.nearest_facet(np.asarray(place, float))
    if missed > lost:
        raise BadInput(f"A place changed by hand lies {missed:.3g} mm from this scan; take that change away.")
    label = int(zones.labels[facet])
    if label < 0:
        raise BadInput("A place changed by hand lies on no zone of this scan; take that change away.")
    return label


def _fitted(index: ScanIndex, facets: np.ndarray, kind: str) -> Zone:
    m = index.mesh
    area = float(m.areas[facets].sum())
    if kind == FREE:
        return Zone(FREE, None, facets, 0.0, area)
    ids = np.unique(m.faces[facets])
    ids = ids[:: int(np.ceil(len(ids) / _POINTS))]
    f = fit(kind, m.vertices[ids], normals=m.vertex_normals[ids], correlated=False)
    return Zone(kind, f.element, facets, f.sigma, area)


def _refitted(index: ScanIndex, zones: Zones, at: int, kind: str) -> Zones:
    old = zones.zones[at]
    new = replace(_fitted(index, old.facets, kind), neighbours=old.neighbours)
    return replace(zones, zones=[new if i == at else z for i, z in enumerate(zones.zones)])


def _joined(index: ScanIndex, zones: Zones, at: int, other: int) -> Zones:
    if at == other:
        return zones
    a, b = zones.zones[at], zones.zones[other]
    if other not in a.neighbours:
        raise BadInput("Only zones that lie side by side can be joined; choose a neighbour.")
    one = _fitted(index, np.sort(np.concatenate([a.facets, b.facets])), a.kind)
    new = np.arange(len(zones.zones) + 1)
    new[other] = at
    new[other + 1 : -1] -= 1
    new[-1] = -1
    if at > other:
        new[other] = at - 1

    def renumbered(ids: tuple[int, ...], own: int) -> tuple[int, ...]:
        return tuple(sorted({int(new[i]) for i in ids} - {own}))

    out = []
    for i, z in enumerate(zones.zones):
        if i == other:
            continue
        own = int(new[i])
        base = replace(one, neighbours=(*a.neighbours, *b.neighbours)) if i == at else z
        out.append(
            replace(
                base,
                neighbours=renumbered(base.neighbours, own),
                same_surface=renumbered(base.same_surface, own) if i != at else (),
            )
        )
    return replace(zones, zones=out, labels=new[zones.labels].astype(np.int32))
