"""A thread proposed of zones: the helix along their ridge or groove, and the thread wound along it on the body."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np

from ..elements import Cone, Torus
from ..errors import BadInput
from .proposal_room import Proposal, ProposalRoom, told_of

__all__ = ["threads"]

_DEEP = 0.25  # of a ridge's height above its crest and below its root that still is of it
_OF_IT = 0.7  # of a zone that lies there: it is of the thread
_MINE = 0.5  # of what could be of a thread among the picked zones that has to be of this one


def threads(room: ProposalRoom, picked: list[int]) -> Iterator[Callable[[], Proposal]]:
    """A ridge joined to the body, or a groove cut from it, where zones that were picked wind about an axis: such are
    read as free, or in pieces as cones and rings."""
    some = [k for k in picked if room.zone(k).element is None or isinstance(room.zone(k).element, Cone | Torus)]
    some = [k for k in some if not room.names[k].startswith("Fillet")]
    if room.body is not None and some:
        yield partial(_thread, room, some)


def _thread(room: ProposalRoom, some: list[int]) -> Proposal:
    """Of ridge and groove the one that explains more. Raises `BadInput` where nothing winds, or not on the body."""
    before, names = len(room.j.steps), set(room.taken)
    best: Proposal | None = None
    refused = ""
    for how in ("join", "cut"):
        told = _helix(room, some, "crest" if how == "join" else "root")
        try:
            found = _wound(room, told, how, before)
        except BadInput as e:
            refused = refused or e.message
        else:
            best = found if best is None or found.explains > best.explains else best
        del room.j.steps[before:]
        room.taken = set(names)
    if best is None:
        raise BadInput(refused, field="picked")
    return best


def _helix(room: ProposalRoom, some: list[int], on: str) -> dict:
    """What a helix tells that is laid on the zones. Raises `BadInput` where none winds there."""
    facets = room.zone(max(some, key=lambda k: room.area([k]))).facets
    step: dict[str, Any] = {"id": room.new_id(), "kind": "helix", "name": room.fresh("Helix"), "on": on}
    step |= {"scan": room.scan, "frame": room.frame, "pick": room.d.pick(facets, "same bend")}
    told = room.j.lay(step).summary
    mine = _along(room, told)
    if room.area([k for k in some if k in mine]) < _MINE * room.area(some):
        raise BadInput("No thread winds where these surfaces are.", field="picked")
    return told


def _wound(room: ProposalRoom, told: dict, how: str, before: int) -> Proposal:
    thread = {"id": room.new_id(), "kind": "thread", "name": room.fresh("Thread"), "how": how}
    room.j.lay({**thread, "helix": room.j.steps[-1]["id"], "frame": room.frame, "body": room.body})
    crest = 2 * float(np.mean(told["crest"]))
    words = told["standard"] or f"⌀ {crest:.4g} mm, pitch {told['pitch']:.4g} mm"
    says = [f"{words}, {told['turns']:.3g} turns, {told['hand']} hand"]
    says += [f"{told['starts']} starts"] if told["starts"] > 1 else []
    return told_of(room, "Thread, a ridge" if how == "join" else "Thread, a groove", says, _along(room, told), before)


def _along(room: ProposalRoom, told: dict) -> list[int]:
    """Zones that lie between crest and root where a helix winds, as in the frame."""
    point, way = (np.array(v) for v in told["frame_axis"])
    off = room.centroids - point
    height = off @ way
    radius = np.linalg.norm(off - height[:, None] * way, axis=1)
    crest, root = (np.interp(height, *_by_height(told, key)) for key in ("crest", "root"))
    slack = _DEEP * np.abs(crest - root)
    begin, end = sorted((told["begin"], told["begin"] + told["height"]))
    there = (radius > np.minimum(crest, root) - slack) & (radius < np.maximum(crest, root) + slack)
    there &= (height > begin - 0.5 * told["pitch"]) & (height < end + 0.5 * told["pitch"])
    w = room.index.mesh.areas
    out = []
    for k, z in enumerate(room.zones.zones):
        if np.average(there[z.facets], weights=w[z.facets]) > _OF_IT:
            out.append(k)
    return out


def _by_height(told: dict, key: str) -> tuple[list[float], list[float]]:
    ends = [told["begin"], told["begin"] + told["height"]]
    order = [0, 1] if ends[1] >= ends[0] else [1, 0]
    return [ends[i] for i in order], [told[key][i] for i in order]
