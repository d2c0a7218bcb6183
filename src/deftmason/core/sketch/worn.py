"""Stretches of a trace that wear took down: told from what was made, so that the sides beside them run on.

A worn stretch lies a little inside the material, along its side and never far from it, is short beside that side, and
bends as no maker draws: an arc far larger than the part, or waves, that leave the side smoothly and come back at no
angle worth a name. A slight rounding between two sides goes over into both and is none; nor is a step or a straight
slope. Where the trace is exact, as that of CAD-like facets, nothing is worn.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from .piececurve import PieceCurve, fit_circle_2d, meeting_of
from .pieces import Piece, samples_of
from .trace import TraceLoop, trace_size

__all__ = ["Worn", "bridged", "inside_is_left", "worn_stretches"]

_PIECES = 5  # that a worn stretch was split into, at most
_ONE, _EACH = 1.2, 0.25  # of the stretch that both sides together, and each, are long where they are one
_SIDE = 3.0  # times as long as the stretch its longer side is, at least
_OTHER = 0.3  # of the stretch that a shorter side may have to run on
_SLOPE = 0.12  # rad that it leans against its side, at most
_DEEP, _DEEP_OF_ALL = 0.03, 0.01  # of its length and of the trace's size that it is deep, at most
_DEEP_END = 0.05  # of its length where it runs up to its side's end: that is half a hollow
_SHOWN, _BACK = 4.0, 0.35  # scatters that it is deep at least; of its depth that it may lie on the other side
_WIDE = 1.0  # of the trace's size that the radius of a single arc is, at least
_SMOOTH = 0.02  # rad, beside what the samples tell, that a rounding turns where it goes over into a side
_FEWEST = 6  # samples of it
_TOUCHED = 0.08  # of the depth that sides which are one may lie beside one another, as wear touched them too
_LONG, _HIDDEN = 40, 0.45  # samples of a straight piece that may hide wear; of them that may be worn
_CALM, _DEEPER, _ROUNDS = 3, 3.0, 12  # samples beside one that calm it; scatters; rounds of reweighing
_FAR = 0.7  # of a side that wear at its end hardly reaches


class Worn(NamedTuple):
    """A worn run of ``pieces`` (consecutive places in the list, round its end too).

    ``run`` : samples (k, 2) of each.  ``sides`` : samples of the two beside it that wear did not touch.  ``corner`` :
    where these run on to, (2,); None where they are one.  ``touch`` : whether they go over into one another there.
    ``depth`` : mm, at most.
    """

    pieces: tuple[int, ...]
    run: list[np.ndarray]
    sides: list[np.ndarray]
    corner: np.ndarray | None
    touch: bool
    depth: float


def inside_is_left(loops: list[TraceLoop]) -> list[bool | None]:
    """For each loop whether the material lies on its left: outer outlines do, as they run anticlockwise, and openings
    do not; None where a loop is open.
    """
    from shapely import Point, Polygon

    areas = [Polygon(l.points) if l.closed and len(l.points) > 2 else None for l in loops]
    out: list[bool | None] = []
    for k, l in enumerate(loops):
        if areas[k] is None:
            out.append(None)
            continue
        about = [a for m, a in enumerate(areas) if m != k and a is not None and a.contains(Point(l.points[0]))]
        out.append(len(about) % 2 == 0)
    return out


def worn_stretches(loop: TraceLoop, pieces: list[Piece], noise: float, left: bool | None) -> list[Worn]:
    """Runs of ``pieces`` of a loop that are worn, none beside another. ``noise`` mm; ``left`` whether the material lies
    on the loop's left.
    """
    n = len(pieces)
    if left is None or loop.exact or not loop.closed or n < 3:
        return []
    places = [samples_of(loop, p) for p in pieces]
    size = trace_size([loop])
    out: list[Worn] = []
    taken: set[int] = set()
    for many in range(1, min(_PIECES, n - 2) + 1):
        for k in range(n):
            run = tuple((k + m) % n for m in range(many))
            sides = ((k - 1) % n, (k + many) % n)
            if taken & {*run, *sides} or sides[0] == sides[1]:
                continue
            kinds = [pieces[i][0] for i in run], [pieces[i][0] for i in sides]
            if max(*kinds[0], *kinds[1]) > 1 or (many == 1 and kinds[0][0] == 0):
                continue
            found = _worn(
                run, [places[i] for i in run], kinds[0], [places[i] for i in sides], kinds[1], noise, size, left
            )
            if found is not None:
                out.append(found)
                taken |= {*run, *sides}
    return out


def bridged(loop: TraceLoop, pieces: list[Piece], noise: float, left: bool | None) -> tuple[list[Piece], list[Worn]]:
    """The pieces of a loop, and which runs of them are worn. A long straight one that hides wear, as a split by length
    of description may let it, is parted where that shows it.
    """
    found = worn_stretches(loop, pieces, noise, left)
    if left is None or loop.exact or not loop.closed or len(pieces) < 3:
        return pieces, found
    for piece in list(pieces):
        parts = _parted(loop, piece, noise, left) if piece[0] == 0 else None
        if parts is None:
            continue
        at = pieces.index(piece)
        more = [*pieces[:at], *parts, *pieces[at + 1 :]]
        now = worn_stretches(loop, more, noise, left)
        if len(now) > len(found):
            pieces, found = more, now
    return pieces, found


def _parted(loop: TraceLoop, piece: Piece, noise: float, left: bool) -> list[Piece] | None:
    """A straight piece with a worn stretch of it as one of its own; None where it has none."""
    _, i, j = piece
    n = len(loop.points)
    ids = np.arange(i, j + 1) if i <= j else np.concatenate([np.arange(i, n), np.arange(j + 1)])
    p = loop.points[ids]
    if len(p) < _LONG:
        return None
    off = _off_most(p) * (1 if left else -1)
    calm = np.array([np.median(off[max(k - _CALM, 0) : k + _CALM + 1]) for k in range(len(off))])
    spread = max(1.4826 * float(np.median(np.abs(off))), noise)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], (calm > _DEEPER * spread).astype(np.int8), [0]])))
    runs = [(a, b) for a, b in zip(edges[::2], edges[1::2]) if b - a >= _FEWEST]
    if not runs:
        return None
    a, b = max(runs, key=lambda r: r[1] - r[0])
    # Out to where it leaves the side.
    while a > 0 and calm[a - 1] > spread:
        a -= 1
    while b < len(calm) and calm[b] > spread:
        b += 1
    if b - a > _HIDDEN * len(p) or np.abs(calm[np.r_[0:a, b : len(calm)]]).max(initial=0.0) > _DEEPER * spread:
        return None
    a, b = (0 if a < _FEWEST else a), (len(p) if len(p) - b < _FEWEST else b)
    cuts = [(0, 0, a), (1, a, b - 1), (0, b - 1, len(p) - 1)]
    return [Piece((kind, int(ids[x]), int(ids[y]))) for kind, x, y in cuts if y > x]


def _off_most(p: np.ndarray) -> np.ndarray:
    """How far places lie to the left of the line that most of them lie on (least sum of distances, reweighted)."""
    weight = np.ones(len(p))
    least = 1e-9 * float(np.ptp(p, axis=0).max())
    for _ in range(_ROUNDS):
        mean = np.average(p, axis=0, weights=weight)
        d = p - mean
        t = np.linalg.svd(d * np.sqrt(weight)[:, None], full_matrices=False)[2][0]
        t = t if t @ (p[-1] - p[0]) > 0 else -t
        n = np.array([-t[1], t[0]])
        away = np.abs(d @ n)
        weight = (np.maximum(away, max(0.2 * float(np.median(away)), least)) / least) ** -1.5
    return np.asarray(d @ n)


def _worn(
    pieces: tuple[int, ...],
    run: list[np.ndarray],
    kinds: list[int],
    sides: list[np.ndarray],
    side_kinds: list[int],
    noise: float,
    size: float,
    left: bool,
) -> Worn | None:
    """The worn stretch that a run of pieces between two sides is; None where it is not worn."""
    q = np.vstack(run)
    long, ways = _way(q), [_way(s) for s in sides]
    if len(q) < _FEWEST or min(len(s) for s in sides) < _FEWEST or max(sum(ways) / _ONE, max(ways) / _SIDE) < long:
        return None
    far = [s if k else _far(s[::w])[::w] for s, k, w in zip(sides, side_kinds, (1, -1))]  # arcs need all they have
    one, two = (PieceCurve(s, k) for s, k in zip(far, side_kinds))
    deepest = min(_DEEP * long, _DEEP_OF_ALL * size)
    whole = _as_one(far, side_kinds, q, noise)
    corner, touch = None, False
    if whole is not None:
        if sum(ways) < _ONE * long or min(ways) < _EACH * long:
            return None
        one, two, path = whole, whole, [(whole, q)]
    else:
        if max(ways) < _SIDE * long:
            return None
        deepest = min(_DEEP_END * long, _DEEP_OF_ALL * size)
        corner, touch = _corner(one, two, sides, deepest)
        if corner is None:
            return None
        ahead, back = (float(np.linalg.norm(corner - e)) for e in (sides[0][-1], sides[1][0]))
        reach = [(ahead, ways[0]), (back, ways[1])]
        if ahead + back > 1.15 * long or any(d > _OTHER * long and w < _SIDE * long for d, w in reach):
            return None
        cut = int(np.argmin(np.linalg.norm(q - corner, axis=1))) if ahead > 0 else 0
        path = [(c, p) for c, p in ((one, q[:cut]), (two, q[cut:])) if len(p)]
    into = np.concatenate([_left_of(c, p, q) for c, p in path]) * (1 if left else -1)
    depth = float(into.max())
    if not _SHOWN * noise < depth < deepest:
        return None
    scatter = max(float(np.sqrt(np.mean(c.off(s) ** 2))) for c, s in zip((one, two), far))
    if into.min() < -max(3 * noise, 2 * scatter, _BACK * depth) or not _alongside(run, kinds, path, q):
        return None
    if corner is not None and len(run) == 1:
        _, radius, rms = fit_circle_2d(run[0])
        if radius < _WIDE * size or _goes_over(run[0], one, two, rms):
            return None
    sound = [_sound(sides[0], one, noise), _sound(sides[1][::-1], two, noise)[::-1]]
    run = list(run)
    run[0] = np.vstack([sides[0][len(sound[0]) :], run[0]])
    run[-1] = np.vstack([run[-1], sides[1][: len(sides[1]) - len(sound[1])]])
    return Worn(pieces, run, sound, corner, touch, depth)


def _far(side: np.ndarray) -> np.ndarray:
    """The part of a side that wear at its end hardly reaches."""
    return side[: int(_FAR * len(side))] if len(side) > _FEWEST / (1 - _FAR) else side


def _sound(side: np.ndarray, curve: PieceCurve, noise: float) -> np.ndarray:
    """A side without what wear at its end took of it."""
    off = curve.off(side)
    least = max(3 * noise, 2 * float(np.percentile(off[: len(_far(side))], 90)))
    fine = np.nonzero(off < least)[0]
    return side[: max(int(fine[-1]) + 1, len(_far(side)))] if len(fine) else side


def _way(q: np.ndarray) -> float:
    return float(np.linalg.norm(np.diff(q, axis=0), axis=1).sum())


def _as_one(sides: list[np.ndarray], kinds: list[int], q: np.ndarray, noise: float) -> PieceCurve | None:
    """The one line or circle that both sides lie on, if they do, as what lies between (``q``) tells it."""
    if kinds[0] != kinds[1]:
        return None
    both = PieceCurve(np.vstack(sides), kinds[0])
    apart = np.concatenate([PieceCurve(s, k).off(s) for s, k in zip(sides, kinds)])
    least = 1.5 * float(np.sqrt(np.mean(apart**2))) + noise + _TOUCHED * float(both.off(q).max())
    return both if float(np.sqrt(np.mean(np.concatenate([both.off(s) for s in sides]) ** 2))) <= least else None


def _corner(one: PieceCurve, two: PieceCurve, sides: list[np.ndarray], slack: float) -> tuple[np.ndarray | None, bool]:
    """Where two sides run on to, and whether they touch there: where they meet, or where they come within ``slack`` mm
    of touching, as a short side may be worn itself.
    """
    near = 0.5 * (sides[0][-1] + sides[1][0])
    met = meeting_of(one, two, near)
    if one.kind == two.kind == 0:
        return met, False
    line, ring = (one, two) if one.kind == 0 else (two, one)
    if line.kind == 0:
        foot = line.c + ((ring.c - line.c) @ line.t) * line.t
        off = float(np.linalg.norm(foot - ring.c)) - ring.r
    else:
        apart = two.c - one.c
        far = float(np.linalg.norm(apart))
        within = far < max(one.r, two.r)
        away = apart / max(far, 1e-300) * (1 if not within or one.r > two.r else -1)
        foot = one.c + one.r * away
        off = far - abs(one.r - two.r) if within else far - one.r - two.r
    return (foot, True) if abs(off) < slack else (met, False)


def _left_of(c: PieceCurve, p: np.ndarray, q: np.ndarray) -> np.ndarray:
    """How far places lie to the left of a curve run through as ``q`` runs, mm."""
    along = q[-1] - q[0]
    if c.kind == 0:
        t = c.t if c.t @ along >= 0 else -c.t
        d = p - c.c
        return t[0] * d[:, 1] - t[1] * d[:, 0]
    v = q - c.c
    turns = float(np.sum(v[:-1, 0] * v[1:, 1] - v[:-1, 1] * v[1:, 0]))
    return (c.r - np.linalg.norm(p - c.c, axis=1)) * (1 if turns > 0 else -1)


def _alongside(run: list[np.ndarray], kinds: list[int], path, q: np.ndarray) -> bool:
    """Whether no piece of a stretch leans much against the sides that run on over it."""
    for p, kind in zip(run, kinds):
        curve = PieceCurve(p, kind)
        for x in (p[0], p[-1]):
            side = min(path, key=lambda c: float(np.linalg.norm(c[1] - x, axis=1).min()))[0]
            u, v = curve.direction(x, p[-1] - p[0]), side.direction(x, q[-1] - q[0])
            if u @ v < np.cos(_SLOPE):
                return False
    return True


def _goes_over(p: np.ndarray, one: PieceCurve, two: PieceCurve, rms: float) -> bool:
    """Whether an arc goes over into both its sides without a corner, as a rounding between them does."""
    arc = PieceCurve(p, 1)
    along = p[-1] - p[0]
    slack = _SMOOTH + 4 * rms / max(float(np.linalg.norm(along)), 1e-300)
    return all(
        arc.direction(x, along) @ side.direction(x, along) > np.cos(slack) for side, x in ((one, p[0]), (two, p[-1]))
    )
