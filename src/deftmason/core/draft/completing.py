"""What a draft's body does not meet yet, proposed of its zones and laid: ribs and bosses across the part's direction,
cuts, holes, chamfers and roundings, each kept only if the scan is explained better with it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..elements import Cylinder, Plane
from ..errors import BadInput
from ..progress import Progress, silent
from .open_cuts import open_cuts
from .piping import tube_bores, tubes
from .proposal_room import Proposal, ProposalRoom
from .proposed_edges import chamfers, hole_sets, roundings
from .proposing import Draft
from .push_ends import CAP
from .pushing import pushes
from .tube_runs import runs_of

__all__ = ["completed"]

_LEAST, _PATCH = 0.003, 0.004  # of the surface: what a feature has to bring, and a patch has left, to be worth a try
_ONCE = "push", "open"  # what is not tried again of the same zones when the body has grown
_BRINGS = 0.5  # of what a feature is of that it explains, at least
_MOST = 16  # features
_HARMS = 0.25  # of what a feature brings that it may cost elsewhere


def completed(d: Draft, progress: Progress = silent) -> None:
    """Lay on a draft's body, one after the other, the features that explain most of what it leaves."""
    if not d.zones.zones:
        return
    names = iter(range(1, 10**6))
    room = ProposalRoom(d.j, d.scan, "frame", d.zones, d.body, lambda: f"c{next(names)}")
    every = list(range(len(d.zones.zones)))
    met = room.explained(every, d.body) if d.body else np.zeros(len(every))
    total = room.area(every)
    tried: set[tuple[str, tuple[int, ...]]] = set()
    for count in range(_MOST):
        progress(count / _MOST, "Looking for what is left")
        left = {k for k in every if room.area([k]) - met[k] > 0.3 * room.area([k])}
        small = room.area(sorted(left)) - met[sorted(left)].sum() < _LEAST * total
        if small and not any(room.names[k].startswith("Bore") for k in left):
            return
        room.new = left
        better = _next(room, d, left, met, total, tried)
        if better is None:
            return
        met = better


def _next(room: ProposalRoom, d: Draft, left: set[int], met: np.ndarray, total: float, tried: set) -> np.ndarray | None:
    """Lay the first feature that brings enough; the areas then met, None where there is none."""
    every = list(range(len(met)))
    before, names = len(d.j.steps), set(room.taken)
    pieces = d.j.ran[d.body].summary["solids"] if d.body else 1
    for what, some, make in _makers(room, left, met, total):
        if (what, tuple(some)) in tried:
            continue
        tried.add((what, tuple(some)))
        best: tuple[float, Proposal, np.ndarray] | None = None
        for said in make(room, some):
            try:
                found = said()
                told = d.j.ran[found.body].summary
                now = room.explained(every, found.body)
                brings = float(np.maximum(now - met, 0).sum())
                costs = float(np.maximum(met - now, 0).sum())
                sound = told["valid"] and told["solids"] <= max(pieces, 1)
                least = 0.0 if what == "holes" else _LEAST * total  # a hole is one however small
                enough = brings > least and found.explains > _BRINGS and costs < _HARMS * brings
                if sound and enough and (best is None or brings - costs > best[0]):
                    best = brings - costs, found, now
            except BadInput:
                pass
            finally:
                del d.j.steps[before:]
                room.taken = set(names)
        if best is not None:
            for step in best[1].steps:
                d.j.lay(step)
                room.taken.add(str(step["name"]))
            d.body = room.body = room.d.body = best[1].body
            tried -= {t for t in tried if t[0] not in _ONCE}
            return best[2]
    return None


def _makers(
    room: ProposalRoom, left: set[int], met: np.ndarray, total: float
) -> Iterator[tuple[str, list[int], Callable[[ProposalRoom, list[int]], Iterator[Callable[[], Proposal]]]]]:
    """Tubes; holes, all alike together; chamfers; patches of what is left as pushes and cuts, the largest first; bores
    along tubes when all is there that they go through; roundings last, on all edges there are.
    """
    runs = runs_of(room.zones, room.index)
    for run in runs:
        yield "tubes", sorted(left.intersection(run.outside)), tubes
    if room.body is None:
        return
    along = {k for run in runs for k in run.bore}
    yield "holes", sorted(left), hole_sets
    yield "chamfers", sorted(left), chamfers
    for some in _patches(room, left - along):
        round_ = all(room.names[k].startswith("Fillet") for k in some)
        if not round_ and room.area(some) - met[some].sum() > _PATCH * total:
            yield "push", some, pushes
            yield "open", some, open_cuts
            for own in _bosses(room, some):
                yield "push", own, pushes
    for run in runs:
        yield "bores", sorted(left.intersection(run.bore)), tube_bores
    yield "roundings", sorted(left), roundings


def _bosses(room: ProposalRoom, some: list[int]) -> Iterator[list[int]]:
    """Round bosses among zones that touch, each with the flat faces across it: what stands on what stands on a part."""
    for k in sorted(some, key=lambda k: -room.area([k])):
        e = room.zone(k).element
        if isinstance(e, Cylinder) and room.names[k].startswith("Boss"):
            beside = ((o, room.zone(o).element) for o in room.zone(k).neighbours if o in some)
            yield [k, *(o for o, p in beside if isinstance(p, Plane) and abs(p.normal @ e.direction) > CAP)]


def _patches(room: ProposalRoom, left: set[int]) -> list[list[int]]:
    """Zones that are left and touch one another, the largest patches first."""
    some = sorted(left)
    rank = {k: n for n, k in enumerate(some)}
    pairs = [(rank[k], rank[o]) for k in some for o in room.zone(k).neighbours if o in rank]
    rows, columns = (np.array(c, int) for c in zip(*pairs)) if pairs else (np.zeros(0, int), np.zeros(0, int))
    graph = coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(len(some), len(some)))
    groups = connected_components(graph, directed=False)[1]
    out = [[some[n] for n in np.flatnonzero(groups == g)] for g in range(int(groups.max(initial=-1)) + 1)]
    return sorted(out, key=lambda g: -room.area(g))
