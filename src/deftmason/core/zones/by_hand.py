"""What a person changes about the zones read: kept as places, so that it is done again on another scan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..elements import fit
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import flood
from .zones import FREE, Zone, Zones

__all__ = ["Change", "changed", "locked", "named"]

_POINTS, _FEWEST = 20_000, 12
_REACH, _FACES = 3.0, np.cos(np.radians(15.0))  # times the scatter, and the turn, within which a zone grows


@dataclass(frozen=True)
class Change:
    """``do`` 'refit' the zone at ``place`` (3,) as ``kind``, 'join' the zone at ``to`` (3,) to it, or 'split' it along
    the line from ``place`` to ``to``; 'give' what that line cuts off beside the zone at ``also`` (3,) to that zone;
    'grow' it over neighbours that lie on its element; 'lock' it, so that nothing later
    changes it until it is told to 'unlock'; 'name' it.
    """

    do: str
    place: np.ndarray
    kind: str | None = None
    to: np.ndarray | None = None
    also: np.ndarray | None = None
    name: str = ""


def changed(index: ScanIndex, zones: Zones, changes: Sequence[Change], lost: float) -> Zones:
    """The zones with these changes made, in their order.

    Raises `BadInput` where a place lies farther than ``lost`` mm from the scan or on no zone, or a locked zone would
    be changed.
    """
    kept: list[np.ndarray] = []

    def where(place) -> int:
        return _zone_at(index, zones, place, lost)

    def free(*which: int) -> None:
        if any(where(p) in which for p in kept):
            raise BadInput(
                "A locked zone would change; choose another, or unlock it first.",
                field="by_hand",
            )

    for c in changes:
        at = where(c.place)
        if c.do == "lock":
            kept.append(np.asarray(c.place, float))
        elif c.do == "unlock":
            kept = [p for p in kept if where(p) != at]
        elif c.do == "refit":
            free(at)
            zones = _refitted(index, zones, at, c.kind or FREE)
        elif c.do == "grow":
            free(at)
            zones = _grown(index, zones, at, {where(p) for p in kept})
        elif c.do in ("split", "give"):
            assert c.to is not None
            free(at)
            a, b = np.asarray(c.place, float), np.asarray(c.to, float)
            if c.do == "split":
                zones = _split(index, zones, at, a, b)
            else:
                assert c.also is not None
                free(where(c.also))
                zones = _given(index, zones, at, a, b, where(c.also))
        elif c.do == "join":
            assert c.to is not None
            free(at, where(c.to))
            zones = _joined(index, zones, at, where(c.to))
    return zones


def named(index: ScanIndex, zones: Zones, changes: Sequence[Change], lost: float) -> dict[int, str]:
    """What zones are called by hand, by number; the last name counts."""
    return {_zone_at(index, zones, c.place, lost): c.name for c in changes if c.do == "name" and c.name}


def locked(index: ScanIndex, zones: Zones, changes: Sequence[Change], lost: float) -> set[int]:
    """The zones that are locked, by number."""
    out: set[int] = set()
    for c in changes:
        if c.do in ("lock", "unlock"):
            out = (out.union if c.do == "lock" else out.difference)({_zone_at(index, zones, c.place, lost)})
    return out


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
    old, over = zones.zones[at], _over(index, zones, at, a, b)
    return _rebuilt(index, zones, {at: [_fitted(index, old.facets[side], old.kind) for side in (~over, over)]})


def _over(index: ScanIndex, zones: Zones, at: int, a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Which of a zone's facets (mask) lie to the one side of a cut."""
    old, m = zones.zones[at], index.mesh
    if float(np.linalg.norm(b - a)) < m.median_edge:
        raise BadInput("The two places of a cut lie on each other; click farther apart.")
    ends = [int(index.nearest_facet(p)[0]) for p in (a, b)]
    across = np.cross(m.normals[ends].sum(axis=0), b - a)
    over = (m.centroids[old.facets] - a) @ across > 0
    if min(over.sum(), (~over).sum()) < _FEWEST:
        raise BadInput("The cut leaves nothing of the surface on one side; click two places across its middle.")
    return over


def _given(index: ScanIndex, zones: Zones, at: int, a: np.ndarray, b: np.ndarray, other: int) -> Zones:
    """The side of a cut that lies along another zone goes to that."""
    if other == at or other not in zones.zones[at].neighbours:
        raise BadInput("Facets can only be given to a zone beside theirs; click a neighbour.", field="by_hand")
    old, over = zones.zones[at], _over(index, zones, at, a, b)
    beside = (zones.labels[index.neighbours[old.facets]] == other).any(axis=1)
    goes = over if (beside & over).sum() >= (beside & ~over).sum() else ~over
    taker = zones.zones[other]
    more = np.sort(np.concatenate([taker.facets, old.facets[goes]]))
    instead = {at: [_fitted(index, old.facets[~goes], old.kind)], other: [_fitted(index, more, taker.kind)]}
    return _rebuilt(index, zones, instead)


def _grown(index: ScanIndex, zones: Zones, at: int, kept: set[int]) -> Zones:
    """A zone with what runs on from it, lies on its element and faces as it does; not of locked ones."""
    z, m = zones.zones[at], index.mesh
    if z.element is None:
        raise BadInput("A free surface has no shape to grow on; call it another kind first.", field="by_hand")
    reach = _REACH * max(z.sigma, zones.noise, 1e-6 * index.size)
    allowed = np.abs(z.element.distance(m.centroids)) < reach
    allowed &= np.abs(np.einsum("ij,ij->i", index.calm_normals, z.element.normals(m.centroids))) > _FACES
    allowed &= ~np.isin(zones.labels, list(kept))
    allowed[z.facets] = True
    own = flood(index, int(z.facets[0]), allowed)
    taken = np.setdiff1d(own, z.facets)
    if not len(taken):
        return zones
    instead = {at: [_fitted(index, own, z.kind)]}
    for other in np.unique(zones.labels[taken]):
        if other < 0:
            continue
        old = zones.zones[other]
        left = np.setdiff1d(old.facets, taken)
        instead[int(other)] = [_fitted(index, left, old.kind)] if len(left) >= _FEWEST else []
    return _rebuilt(index, zones, instead)


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
