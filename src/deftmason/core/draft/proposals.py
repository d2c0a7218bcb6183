"""Ready features of zones that were picked: pushes and cuts of walls, cuts from the side, turned profiles, tubes and
their bores, threads, what is led along a line or lofted, sets of holes, chamfers, roundings, other halves.

Each proposal is ordinary steps, laid and measured: how much of what was picked it explains, and what it leaves.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import deepcopy
from typing import Any

import numpy as np

from ..elements import Plane, RigidMotion
from ..errors import BadInput
from ..progress import Progress, part, silent
from ..recipe.kinds.zones import ZonesStep
from ..recipe.laying import Laying
from ..recipe.parse import parse_step
from ..recipe.store import ResultStore
from .halves import halves
from .led_along import led_along
from .open_cuts import open_cuts
from .piping import tube_bores, tubes
from .proposal_room import Proposal, ProposalRoom, told_of
from .proposed_edges import chamfers, hole_sets, roundings
from .proposing import turned
from .pushing import pushes
from .standing import turns_about
from .winding_on import threads

__all__ = ["Proposal", "propose"]

_TURNED, _ABOUT = 0.7, 0.01  # of what was picked that lies round an axis; of the part's size: so near is on it
_MOST = 8
_AS_WELL = 0.04  # of what was picked: proposals whose shares differ by less explain it as well
_WORTH = 0.3  # of what was picked that a proposal explains at least


def propose(
    steps: list[dict[str, Any]],
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    *,
    scan: str,
    frame: str,
    zones: str | None,
    picked: list[int],
    body: str | None = None,
    progress: Progress = silent,
) -> list[Proposal]:
    """Features that zones could be of, best first.

    ``scan``, ``frame``, ``zones``, ``body`` : the steps that give them; no ``zones``: as they are read by themselves.
    ``picked`` : numbers of zones; none: tubes, threads, sets of holes, chamfers, roundings and other halves of the
    whole part.

    Raises `BadInput` where a zone is not there.
    """
    j = Laying(deepcopy(steps), RigidMotion(np.eye(4)), store, scan_file)
    replay = j.replay()
    j.ran = {r.step.id: r for r in replay.run(part(progress, 0.0, 0.1))}
    asked = parse_step({"id": "zones", "kind": "zones", "name": "Zones", "scan": scan}) if zones is None else None
    step = asked or next((s for s in replay.steps if s.id == zones), None)
    if not isinstance(step, ZonesStep):
        raise BadInput("These are no zones of the job; read the zones, or name those that were read.", field="zones")
    found = step.read(replay, part(progress, 0.1, 0.4)) if asked else replay.output(step.id, "zones")
    if any(not 0 <= k < len(found.zones) for k in picked):
        raise BadInput("A zone that was picked is gone; pick the zones again.", field="picked")
    room = ProposalRoom(j, scan, frame, found, body)
    out: list[Proposal] = []
    refused: list[str] = []
    room.new = room.unexplained() | set(picked)
    some = picked or sorted(room.new)
    makers = [
        tubes,
        tube_bores,
        threads,
        hole_sets,
        chamfers,
        roundings,
        halves,
        *([pushes, open_cuts, turns, led_along] if picked else []),
    ]
    for n, make in enumerate(makers):
        progress(0.4 + 0.6 * n / len(makers), "Working out what it could be")
        for said in make(room, some):
            try:
                out.append(said())
            except BadInput as e:
                refused.append(e.message)
            finally:  # each stands on what was there before
                del j.steps[len(steps) :]
                room.d.body = body
                room.taken = {str(s["name"]) for s in steps}
    needy = [k for k in picked if room.names[k].startswith(("Bore", "Fillet"))] if body is None else []
    if needy:  # first of what is said, where nothing else was picked
        at = 0 if len(needy) == len(picked) else len(refused)
        refused.insert(at, "Holes and roundings need a body; pick the walls of one first.")
    best = max((p.explains for p in out), default=0.0)
    out = [p for p in out if p.explains > _WORTH and p.explains > 0.5 * best]
    most = max((p.meets for p in out), default=0.0)
    out = sorted(out, key=lambda p: _rank(p, best, most))[:_MOST]
    if not out and refused:
        raise BadInput(refused[0], field="picked")
    return out


def _rank(p: Proposal, best: float, most: float) -> tuple:
    """What explains nearly as much as the best does comes first; of that, what explains more surface (a whole set of
    holes before one of them), then what does in fewer steps."""
    near = p.explains > best - _AS_WELL
    return not near, -round(p.meets / most, 1) if near else 0.0, -round(p.explains, 2), len(p.steps)


def turns(room: ProposalRoom, picked: list[int]):
    """All of it turned about the frame's own axis, where the picked zones mostly lie round it."""
    if room.body is not None:
        return
    back = room.motion.inverse()
    axis, point = back.vectors(np.array([0.0, 0, 1])), back.points(np.zeros(3))
    mine = [k for k in picked if turns_about(room.zone(k), point, axis, _ABOUT * room.d.size)]
    round_ = [k for k in mine if not isinstance(room.zone(k).element, Plane)]
    if round_ and room.area(mine) > _TURNED * room.area(picked):
        yield lambda: _turn(room, picked)


def _turn(room: ProposalRoom, picked: list[int]) -> Proposal:
    before, step = len(room.j.steps), room.new_id()
    room.d.left.clear()
    turned(room.d, room.new_id(), step, (room.fresh("Profile"), room.fresh("Turned")))
    if room.d.body != step:
        raise BadInput(room.d.left[-1] if room.d.left else "Nothing could be turned about the frame's axis.")
    pieces = len(room.j.steps[before]["strokes"])
    return told_of(room, "Turn about z", [f"a profile of {pieces} pieces"], picked, before)
