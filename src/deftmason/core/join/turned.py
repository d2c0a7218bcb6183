"""Whether what the scans saw tells the placement taken from all in which some of them are turned onto themselves.

A part that repeats itself under a motion lets any group of its scans be moved so, and agree as well as before. Only
what a scan of the group contradicts of a scan outside it speaks against that. So for each motion the scans are the
places of a directed graph, with an edge from each scan to each other that its being moved contradicts; a group no edge
leaves could be moved without a word of the rest, and those are its components without an exit (Tarjan 1972,
*Depth-first search and linear graph algorithms*). A scan that contradicts itself when moved is held by those that show
most of the same: the part has no such symmetry where they agree.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from ..elements import RigidMotion
from .bodies import Body
from .evidence import weigh
from .settle import settle_onto
from .ways import LEAST_HOLD, Finder

__all__ = ["untold"]

_STAYS = 2.5  # pitches that settling may move it
_SHARED = 0.5  # of the body that must lie on itself
_MOST = 0.6  # of the smaller scan, shared
_SAID = 3  # of a scan's few places that another saw through: more than chance


def _motions(finder: Finder, main: Body) -> list[RigidMotion]:
    """The distinct motions, in the frame of all, under which any of the scans nearly lies on itself, settled on the
    whole: those that it holds there, and the turns by which what is round repeats itself, which hardly hold. What turns
    freely has no such, and is told by what breaks its roundness.
    """
    out: list[RigidMotion] = []
    for i, m in main.members.items():
        for s in finder.repeats.get(i, []):
            motion = m.after(s).after(m.inverse())
            if not any(finder.same(main, motion, o) for o in out):
                out.append(motion)
    for i, m in main.members.items():
        for s in finder.selves.get(i, []):
            motion = m.after(s).after(m.inverse())
            if any(finder.same(main, motion, o) for o in out):
                continue
            fine, _, rms = settle_onto(
                main.seen, motion, [(main.seen, RigidMotion.identity())], reach=0.8 * finder.pitch, count=800, rounds=16
            )
            if np.isfinite(rms) and finder.same(main, fine, motion, _STAYS) and _is_held(main, fine):
                out.append(fine)
    return out


def _is_held(main: Body, motion: RigidMotion) -> bool:
    """Whether much of a body lies on itself under a motion, and is held there."""
    e = weigh(main.witness, main.witness, motion)
    return e.overlap > _SHARED and e.hold > LEAST_HOLD * e.least


def _contradicts(finder: Finder, g: Body, h: Body, motion: RigidMotion, placed: RigidMotion) -> bool:
    """Whether ``g`` on ``h`` as ``motion`` has it is refuted by what either shows or saw; of their outlines, if they
    fill these as they are ``placed``.
    """
    if float(finder.said(g, h, motion.matrix[None])[0]) >= _SAID:
        return True
    e = finder.sibling(g, h, motion).evidence
    return finder.refutes(e) or (e.juts and not weigh(g.witness, h.witness, placed).juts)


def _shares_most(g: Body, h: Body, motion: RigidMotion) -> bool:
    """Whether two scans show so much of the same that what speaks against the one's own turn speaks for the other."""
    return weigh(g.witness, h.witness, motion).overlap > _MOST


def _between(members: dict[int, RigidMotion], motion: RigidMotion | None, i: int, j: int) -> RigidMotion:
    """From scan ``i`` as it lies, or moved by a motion of all, into scan ``j``."""
    placed = members[i] if motion is None else motion.after(members[i])
    return members[j].inverse().after(placed)


def untold(finder: Finder, main: Body, fixed: set[int]) -> set[int]:
    """The scans of a body that could as well lie otherwise together: of each two groups that nothing tells apart the
    one without ``fixed`` scans, or the smaller.
    """
    members = main.members
    ids = sorted(members)
    gone: set[int] = set()
    for motion in _motions(finder, main):
        left = [i for i in ids if i not in gone]
        n = len(left)
        if n < 2:
            break
        edge = np.zeros((n, n), bool)
        bent = [
            _contradicts(finder, g, g, _between(members, motion, i, i), RigidMotion.identity())
            for i, g in ((i, finder.singles[i]) for i in left)
        ]
        for a, i in enumerate(left):
            for b, j in enumerate(left):
                g, h = finder.singles[i], finder.singles[j]
                if a != b:
                    placed = _between(members, None, i, j)
                    edge[a, b] = (bent[a] and _shares_most(g, h, placed)) or _contradicts(
                        finder, g, h, _between(members, motion, i, j), placed
                    )
        count, of = connected_components(csr_array(edge), connection="strong")
        exits = np.zeros(count, bool)
        for a, b in np.argwhere(edge):
            exits[of[a]] |= of[a] != of[b]
        closed = [{left[k] for k in np.nonzero(of == c)[0]} for c in range(count) if not exits[c]]
        if count > 1:
            # Either what nothing could move stays, or one of the groups that could be.
            firm = set(left).difference(*closed)
            kept = max([firm, *closed], key=lambda g: (bool(fixed & g), len(g), -min(g, default=n)))
            gone |= set(left) - kept
    return gone - fixed
