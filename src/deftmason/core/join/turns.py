"""The turns about its axis under which a scan of something round nearly repeats itself.

Of a part that is round but for a few features nearly every turn agrees, and those by which the features repeat are lost
among them. They are where nothing speaks against the turn: the whole circle is asked, in steps finer than the scans are
told apart by.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.spatial.transform import Rotation

from ..elements import RigidMotion
from .bodies import Body
from .evidence import seen_through

__all__ = ["shared_axis", "turns_about"]

_LEAST_DEG = 4.0  # a turn by less tells its axis badly
_SAME_DEG = 3.0  # between the directions of one axis
_FEWEST = 3  # turns that share an axis
_STEP, _MOST = 0.7, 720  # pitches between places at the scan's rim from one turn to the next, and turns at most
_SAID = 4.0  # of a few places: so many speak clearly
_WIDE, _APART = 2, 4  # steps to either side that speak for a turn, and within which it is none
_FREE = 12  # steps over which hardly anything speaks: no repeat, but freedom
_QUIET = 0.3  # of what speaks against the middling turn


def shared_axis(motions: list[RigidMotion], middle: np.ndarray, apart: float) -> tuple[np.ndarray, np.ndarray] | None:
    """A place (3,) and direction (3,) of the axis that the most of some motions turn about, to within ``apart`` mm
    beside ``middle`` (3,); None where few share any.
    """
    lines = []
    for m in motions:
        w = Rotation.from_matrix(m.rotation).as_rotvec()
        angle = float(np.linalg.norm(w))
        if np.degrees(angle) < _LEAST_DEG:
            continue
        u = w / angle
        moved = m.points(middle) - middle
        if abs(moved @ u) > apart:  # it slides along too
            continue
        # The axis's place in the plane across it through the middle: (I - R) p = moved.
        across = moved - (moved @ u) * u
        lines.append((middle + 0.5 * (across + np.cross(u, across) / np.tan(angle / 2)), u))
    if len(lines) < _FEWEST:
        return None
    p, u = np.array([a for a, _ in lines]), np.array([b for _, b in lines])
    along = np.abs(u @ u.T) > np.cos(np.radians(_SAME_DEG))
    near = np.linalg.norm(p[:, None] - p[None], axis=2) < apart
    together = along & near
    best = int(np.argmax(together.sum(axis=1)))
    mine = together[best]
    if mine.sum() < _FEWEST:
        return None
    return p[mine].mean(axis=0), u[best]


def turns_about(
    b: Body,
    axis: tuple[np.ndarray, np.ndarray],
    pitch: float,
    loose: float,
    said: Callable[[np.ndarray], np.ndarray],
    most: int,
) -> list[RigidMotion]:
    """The turns of a scan about an axis against which what it saw speaks least, and much less than against others.

    Parameters
    ----------
    axis : place (3,) and direction (3,), as `shared_axis` gives them.  pitch, loose : mm; how far a turn may be off.
    said : how many of a few of its places lie where it saw through, for placements (k, 4, 4).
    most : turns at most.
    """
    place, u = axis
    q = b.some - place
    rim = float(np.linalg.norm(q - (q @ u)[:, None] * u, axis=1).max())
    k = int(np.clip(2 * np.pi * rim / (_STEP * pitch), 12, _MOST))
    turns = Rotation.from_rotvec(np.arange(k)[:, None] * (2 * np.pi / k) * u).as_matrix()
    motions = [RigidMotion.of(r, place - r @ place) for r in turns]
    speaks = said(np.array([m.matrix for m in motions]))
    for i in np.nonzero(speaks < _SAID)[0]:
        speaks[i] = seen_through(b.witness, b.witness, motions[i], loose)
    # A turn and its opposite are one repeat.
    speaks = speaks + np.roll(speaks[::-1], 1)
    about = np.sum([np.roll(speaks, j) for j in range(-_WIDE, _WIDE + 1)], axis=0)
    quiet = about < _QUIET * float(np.median(about))
    if quiet.all() or not quiet.any():
        return []
    # Stretches of quiet round the circle, begun where one ends; a long one is freedom, and at 0 it stays where it is.
    order = (np.arange(k) + int(np.nonzero(~quiet)[0][0])) % k
    stretches = np.nonzero(np.diff(np.concatenate([[0], quiet[order].astype(int), [0]])))[0].reshape(-1, 2)
    found = []
    for first, end in stretches:
        ids = order[first:end]
        if len(ids) <= _FREE and (np.minimum(ids, k - ids) > _APART).all():
            best = ids[about[ids] == about[ids].min()]
            found.append((about[best[0]], int(best[len(best) // 2])))
    return [motions[i] for _, i in sorted(found)[:most]]
