"""From scans to their placements: matched roughly or by pairs, then settled all at once; the whole of a join in one
call.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from ..progress import Progress, part, silent
from .place import Refused, rough_match
from .seen import Seen
from .settle import settle_onto
from .together import Link, Settled, settle_all

_STRAYED = 0.4  # pitches that settling all on many more places may move a scan whose place something holds
_CREPT = (
    "Settled with all the others it crept away from where it was placed: nothing there holds it against sliding. "
    "Bring a scan that shows edges or ends of the same faces, or place it by three pairs."
)

__all__ = ["Joined", "join", "settle_placed", "reach_for", "joined_by_pairs"]


@dataclass
class Joined:
    """``motions`` by scan into one frame, ``links`` between them, ``refused`` with reasons, ``moved`` mm by
    settling.
    """

    motions: dict[int, RigidMotion]
    links: list[Link] = field(default_factory=list)
    refused: dict[int, Refused] = field(default_factory=dict)
    moved: dict[int, float] = field(default_factory=dict)


def reach_for(seen: list[Seen] | dict[int, Seen]) -> float:
    """How far from their place settling looks for roughly matched scans, mm."""
    some = seen.values() if isinstance(seen, dict) else seen
    return float(max(max(np.sqrt(s.area / 1400), 2 * s.spacing) for s in some))


def settle_placed(
    seen: list[Seen],
    motions: dict[int, RigidMotion],
    *,
    held: set[int] | None = None,
    reach: float | None = None,
    progress: Progress = silent,
) -> Settled:
    """All placed scans settled on each other; the first of them, or those ``held``, stays where it is."""
    if not motions:
        raise BadInput("No scan is placed yet; match them first.", field="scans")
    mine = {i: seen[i] for i in motions}
    held = held or {min(motions)}
    return settle_all(mine, motions, held=held, reach=reach or reach_for(mine), progress=progress)


def joined_by_pairs(
    seen: list[Seen], placed: dict[int, RigidMotion], moving: int, motion: RigidMotion, misfit: float
) -> RigidMotion:
    """A scan placed by hand drawn onto the placed ones, looking as far as its pairs miss."""
    near = [(seen[i], m) for i, m in placed.items()]
    reach = max(3 * misfit, reach_for([seen[moving]]))
    for r in (reach, reach_for([seen[moving]])):
        fine, _, rms = settle_onto(seen[moving], motion, near, reach=r)
        if np.isfinite(rms):
            motion = fine
    return motion


def join(
    seen: list[Seen],
    *,
    noise: float | None = None,
    placed: dict[int, RigidMotion] | None = None,
    progress: Progress = silent,
) -> Joined:
    """Matched by themselves and settled. ``placed`` scans stay; the others join them."""
    found = rough_match(seen, placed=placed, noise=noise, progress=part(progress, 0, 0.75))
    held = set(placed) if placed else {found.first}
    if len(found.motions) < 2:
        return Joined(found.motions, [], found.refused, {})
    motions, refused = dict(found.motions), dict(found.refused)
    while True:
        done = settle_placed(seen, motions, held=held, progress=part(progress, 0.75, 1))
        strayed = {i for i, mm in done.moved.items() if mm > _STRAYED * found.pitch and i not in held}
        if not strayed:
            return Joined(done.motions, done.links, refused, done.moved)
        refused |= {i: Refused("not held", _CREPT, [motions[i]], []) for i in strayed}
        motions = {i: m for i, m in motions.items() if i not in strayed}
        if len(motions) < 2:
            return Joined(motions, [], refused, {})
