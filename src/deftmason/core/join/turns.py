"""The turns about its axis under which a scan of something round nearly repeats itself, and those of a way of one body
on another that agree as it does: a look whose own half circle hides that its part repeats itself cannot tell them.

Of a part that is round but for a few features nearly every turn agrees, and those by which the features repeat are lost
among them. They are where nothing speaks against the turn: the whole circle is asked, in steps finer than the scans are
told apart by.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.spatial.transform import Rotation

from ..elements import RigidMotion, perpendicular_pair
from .bodies import Body
from .evidence import seen_through
from .lookup import score

__all__ = ["Axis", "round_axis", "shared_axis", "turned_ways", "turns_about"]

Axis = tuple[np.ndarray, np.ndarray]  # a place and a direction (3,)

_LEAST_DEG = 4.0  # a turn by less tells its axis badly
_SAME_DEG = 3.0  # between the directions of one axis
_FEWEST = 3  # turns that share an axis
_STEP, _MOST = 0.7, 720  # pitches between places at the scan's rim from one turn to the next, and turns at most
_SAID = 4.0  # of a few places: so many speak clearly
_WIDE, _APART = 2, 4  # steps to either side that speak for a turn, and within which it is none
_FREE = 12  # steps over which hardly anything speaks: no repeat, but freedom
_QUIET = 0.3  # of what speaks against the middling turn
_FACINGS, _WIDEST, _FLAT_DEG, _FLAT = 80, 3, 6.0, 0.06  # ways to face that are tried; of the places, a flat has so many
_WALL, _FEWEST_WALLS, _TRIES = 0.3, 40, 300  # sine to the axis; places; axes tried
_ROUND = 0.4  # of what does not face along the axis: so much is round about it
_AGREES = 0.12  # of what a way shares: turned ones that share less before they are drawn closer are not asked


def shared_axis(motions: list[RigidMotion], middle: np.ndarray, apart: float) -> Axis | None:
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


def round_axis(p: np.ndarray, n: np.ndarray, apart: float) -> Axis | None:
    """The axis that most of a scan is round about, told from its places (k, 3) and normals: what is round about an axis
    has normals that meet it (Pottmann, Wallner 2001, *Computational Line Geometry*, §7.1). It faces as one of the
    scan's widest flats do. None where less than four tenths of what faces otherwise meets any to within ``apart`` mm.
    """
    rng = np.random.default_rng(19)
    some = n[rng.choice(len(n), min(len(n), _FACINGS), replace=False)]
    faces = np.abs(n @ some.T) > np.cos(np.radians(_FLAT_DEG))
    best, most = None, _ROUND
    left = faces.sum(axis=0).astype(float)
    for _ in range(_WIDEST):
        k = int(np.argmax(left))
        if left[k] < _FLAT * len(n):
            break
        left[np.abs(some @ some[k]) > np.cos(np.radians(3 * _FLAT_DEG))] = 0.0
        flat = n[faces[:, k]]
        d = (flat * np.sign(flat @ some[k])[:, None]).mean(axis=0)
        d /= np.linalg.norm(d)
        across = np.cross(n, d)
        far = np.linalg.norm(across, axis=1)
        walls = far > _WALL
        if walls.sum() < _FEWEST_WALLS:
            continue
        m = across[walls] / far[walls, None]
        plane = np.stack(perpendicular_pair(d))
        a, b = m @ plane.T, np.einsum("ij,ij->i", m, p[walls])  # m · (p - axis) = 0, two numbers unknown
        i, j = rng.integers(0, len(a), (2, _TRIES))
        det = a[i, 0] * a[j, 1] - a[i, 1] * a[j, 0]
        ok = np.abs(det) > 0.2
        i, j, det = i[ok], j[ok], det[ok]
        at = np.column_stack([b[i] * a[j, 1] - b[j] * a[i, 1], a[i, 0] * b[j] - a[j, 0] * b[i]]) / det[:, None]
        if not len(at):
            continue
        meets = (np.abs(at @ a.T - b) < apart).mean(axis=1)
        first = int(np.argmax(meets))
        on = np.abs(a @ at[first] - b) < apart
        fine = np.linalg.lstsq(a[on], b[on], rcond=None)[0]
        share = float((np.abs(a @ fine - b) < apart).mean())
        if share > most:
            middle = p.mean(axis=0)
            best, most = (fine @ plane + d * float(middle @ d), d), share
    return best


def turns_about(
    b: Body,
    axis: Axis,
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
    motions = _round(axis, b.some, pitch)
    k = len(motions)
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


def _round(axis: Axis, places: np.ndarray, pitch: float) -> list[RigidMotion]:
    """All turns about an axis that move the outermost of some places (n, 3) by less than a pitch from one to the next;
    the first is none.
    """
    place, u = axis
    q = places - place
    rim = float(np.linalg.norm(q - (q @ u)[:, None] * u, axis=1).max())
    k = int(np.clip(2 * np.pi * rim / (_STEP * pitch), 12, _MOST))
    turns = Rotation.from_rotvec(np.arange(k)[:, None] * (2 * np.pi / k) * u).as_matrix()
    return [RigidMotion.of(r, place - r @ place) for r in turns]


def turned_ways(
    g: Body,
    h: Body,
    way: RigidMotion,
    axis: Axis,
    pitch: float,
    said: Callable[[np.ndarray], np.ndarray],
    most: int,
) -> list[RigidMotion]:
    """A way of one body on another turned about an axis in the other's frame, where some agrees and nearly nothing was
    seen through: what agrees most first, none beside another, ``most`` at most.

    ``said`` : how many of a few places of either lie where the other saw through, for placements (k, 4, 4).
    """
    motions = [t.after(way) for t in _round(axis, way.points(g.some), pitch)]
    poses = np.array([m.matrix for m in motions])
    agree = score(h.ready.at, poses, g.ready.scoring)[:, 0]
    k = len(motions)
    steps = np.minimum(np.arange(k), k - np.arange(k))
    quiet = np.nonzero((agree > _AGREES * agree[0]) & (steps > _APART))[0]
    quiet = quiet[said(poses[quiet]) < _SAID] if len(quiet) else quiet
    kept: list[int] = []
    for i in quiet[np.argsort(-agree[quiet], kind="stable")]:
        if all(min(abs(i - o), k - abs(i - o)) > _APART for o in kept):
            kept.append(int(i))
    return [motions[i] for i in kept[:most]]
