"""Tubes proposed of zones, as the tube step that reads them whole: joined to the body, their bores cut along them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np

from ..elements import Plane
from ..errors import BadInput
from ..sketch.sizes import round_value
from .proposal_room import Proposal, ProposalRoom, told_of
from .tube_runs import ALIKE, Run, runs_of

__all__ = ["tube_bores", "tubes"]

_ALONG = 0.97  # cosine to a tube's end of a flat face across it
_FAR = 6.0  # radii beyond an end within which a face that ends the part is what the tube runs into
_INTO, _PAST = 0.4, 1.2  # of the way to that face that a tube is led on, so that both are one; that its bore is
_SURE = 0.3  # scatters that a length between two round zones is known to, at worst
_FREE = 0.2  # radii that a bore is led past an end that nothing follows


def tubes(room: ProposalRoom, picked: list[int]) -> Iterator[Callable[[], Proposal]]:
    """A tube for each of which a zone is among the picked ones: hollow where it stands alone, else joined to the body
    as a bar, its bore to be cut when all is there that it goes through."""
    for run in runs_of(room.zones, room.index):
        if any(k in picked for k in run.outside):
            yield partial(_tube, room, run)


def tube_bores(room: ProposalRoom, picked: list[int]) -> Iterator[Callable[[], Proposal]]:
    """The bore of each tube of which a zone is among the picked ones, cut along it through whatever it ends at."""
    for run in runs_of(room.zones, room.index) if room.body is not None else []:
        if any(k in picked for k in run.bore):
            yield partial(_bore, room, run)


def _step(room: ProposalRoom, run: Run, name: str, **more: Any) -> dict[str, Any]:
    facets = room.zone(max(run.outside, key=lambda k: room.area([k]))).facets
    where = {"scan": room.scan, "frame": room.frame, "places": [room.d.pick(facets, "same bend")]}
    return {"id": room.new_id(), "kind": "tube", "name": room.fresh(name), **where, **more}


def _tube(room: ProposalRoom, run: Run) -> Proposal:
    before = len(room.j.steps)
    step = _step(room, run, "Tube", diameter={"value": None, "source": "rounded"})
    wall = _round(room, run.radius - run.inner) if run.bore and room.body is None else 0.0
    if wall:
        step["wall"] = {"value": wall, "source": "typed"}
    told = _as_read(room, run, step)
    if room.body is not None:
        _led_on(room, step, told, _INTO, 0.0)
        _combined(room, "Tube joined", "join", step["id"])
    many = len(told["bends"])
    says = [f"⌀ {2 * told['outer']:.4g} mm along {many} {'bend' if many == 1 else 'bends'}"]
    says += [f"a wall of {wall:g} mm, as its inside lies"] if wall else []
    return told_of(room, "Tube", says, [*run.outside, *(run.bore if wall else [])], before)


def _bore(room: ProposalRoom, run: Run) -> Proposal:
    before = len(room.j.steps)
    wide = _round(room, 2 * run.inner)
    step = _step(room, run, "Bore along the tube")
    told = _as_read(room, run, step)
    step["diameter"] = {"value": wide, "source": "typed"}
    _led_on(room, step, told, _PAST, _FREE)
    _combined(room, "Tube bored", "cut", step["id"])
    return told_of(room, "Bore along a tube", [f"⌀ {wide:g} mm, as the tube's inside lies"], run.bore, before)


def _as_read(room: ProposalRoom, run: Run, step: dict[str, Any]) -> dict[str, Any]:
    """What a laid tube tells. Raises `BadInput` where another one than the zones' is read there."""
    told = room.j.lay(step).summary
    if abs(told["outer"] - run.radius) > 2 * ALIKE * run.radius:
        raise BadInput("Another tube is read at this place.", field="places")
    return told


def _combined(room: ProposalRoom, name: str, how: str, tool: str) -> None:
    step = {"id": room.new_id(), "kind": "bodycombine", "name": room.fresh(name), "how": how}
    room.j.lay({**step, "body": room.body, "tools": [tool]})


def _round(room: ProposalRoom, length: float) -> float:
    """The roundest length that the scan cannot tell from one between zones."""
    return round_value(length, _SURE * room.zones.noise)[0]


def _led_on(room: ProposalRoom, step: dict[str, Any], told: dict, share: float, free: float) -> None:
    """Lay the last step again, led on at both ends by a share of the way to the face that ends the part there;
    ``free``: by so many radii where there is none."""
    start, way = (np.array(v) for v in told["start"])
    last = np.array(told["path"][-1])
    onward = last[-1] - last[-2]
    if len(last) == 3:  # a bend ends it: the tangent at its end, from two chords
        onward = 2 * (last[2] - last[1]) - 0.5 * (last[2] - last[0])
    ends = []
    for at, along in ((start, -way), (last[-1], onward / np.linalg.norm(onward))):
        beyond = [off for off in _faces_beyond(room, at, along) if off < _FAR * told["outer"]]
        ends.append(round(share * min(beyond), 3) if beyond else round(free * told["outer"], 3))
    room.j.steps.pop()
    step |= {"before": ends[0], "after": ends[1]}
    room.j.lay(step)


def _faces_beyond(room: ProposalRoom, at: np.ndarray, along: np.ndarray) -> list[float]:
    """How far beyond a place (3,) of the frame flat faces lie that look the way that is gone, mm."""
    out = []
    for k, z in enumerate(room.zones.zones):
        if isinstance(z.element, Plane) and room.looks(k, along) > _ALONG:
            middle = np.average(room.centroids[z.facets], axis=0, weights=room.index.mesh.areas[z.facets])
            off = float((middle - at) @ along)
            if off > room.d.facet and np.linalg.norm(middle - at - off * along) < np.ptp(room.centroids[z.facets]):
                out.append(off)
    return out
