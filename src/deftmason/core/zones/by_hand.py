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

_POINTS, _FEWEST = 20_000, 12


@dataclass(frozen=True)
class Change:
    """``do`` 'refit' the zone at ``place`` (3,) as ``kind``, 'join' the zone at ``to`` (3,) to it, or 'split' it along
    the line from ``place`` to ``to``.
    """

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
        elif c.do == "split":
            assert c.to is not None
            zones = _split(index, zones, at, np.asarray(c.place, float), np.asarray(c.to, float))
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


def _split(index: ScanIndex, zones: Zones, at: int, a: np.ndarray, b: np.ndarray) -> Zones:
    """Two zones of one, cut by the plane through both places that stands on the surface there."""
    old, m = zones.zones[at], index.mesh
    if float(np.linalg.norm(b - a)) < m.median_edge:
        raise BadInput("The two places of a cut lie on each other; click farther apart.")
    ends = [int(index.nearest_facet(p)[0]) for p in (a, b)]
    across = np.cross(m.normals[ends].sum(axis=0), b - a)
    over = (m.centroids[old.facets] - a) @ across > 0
    if min(over.sum(), (~over).sum()) < _FEWEST:
        raise BadInput("The cut leaves nothing of the surface on one side; click two places across its middle.")
    return _rebuilt(index, zones, {at: [_fitted(index, old.facets[side], old.kind) for side in (~over, over)]})


def _joined(index: ScanIndex, zones: Zones, at: int, other: int) -> Zones:
    if at == other:
        return zones
    a, b = zones.zones[at], zones.zones[other]
    if other not in a.neighbours:
        raise BadInput("Only zones that lie side by side can be joined; choose a neighbour.")
    one = _fitted(index, np.sort(np.concatenate([a.facets, b.facets])), a.kind)
    return _rebuilt(index, zones, {at: [one], other: []})


def _rebuilt(index: ScanIndex, zones: Zones, instead: dict[int, list[Zone]]) -> Zones:
    """The zones with some replaced by others, none or more; what touches what is found anew."""
    out: list[Zone] = []
    of: dict[int, int] = {}
    for i, z in enumerate(zones.zones):
        new = instead.get(i, [z])
        if len(new) == 1:
            of[i] = len(out)
        out += new
    labels = np.full(len(zones.labels), -1, np.int32)
    for k, z in enumerate(out):
        labels[z.facets] = k
    g = index.neighbours
    mine, theirs = np.repeat(labels, 3), np.where(g >= 0, labels[g], -1).ravel()
    pairs = np.unique(np.stack([mine, theirs])[:, (mine != theirs) & (mine >= 0) & (theirs >= 0)], axis=1)
    kept = {id(z) for z in zones.zones}
    out = [
        replace(
            z,
            neighbours=tuple(pairs[1, pairs[0] == k].tolist()),
            same_surface=tuple(sorted(of[i] for i in z.same_surface if i in of)) if id(z) in kept else (),
        )
        for k, z in enumerate(out)
    ]
    return replace(zones, zones=out, labels=labels)
