"""Strokes for a whole trace: each loop split into its pieces, and where a loop repeats round a centre, one part of it
drawn and the others turned from it.
"""

from __future__ import annotations

from collections.abc import Iterator, Set
from dataclasses import dataclass, field, replace

import numpy as np

from .drawing import Relation
from .freeform import with_splines
from .patterns import Pattern, find_patterns
from .pieces import Piece, samples_of, split_loop
from .repeats import Course, Ring, find_ring, folded
from .sketcher import STROKE_KINDS, Stroke, thin
from .trace import TraceLoop, trace_noise
from .worn import Worn, bridged, inside_is_left

__all__ = ["Outlined", "outlined"]

_FEW_PARTS, _FEW_PIECES = 4, 3  # so few parts are a ring only where each has so many pieces: no square is one
_SAME_JOINT = 0.3  # facets by which a joint may be off its image one part on
_PERIODS = 3
_WHOLE = 2  # the kind of piece that is a circle


@dataclass
class Outlined:
    """``strokes`` in order; ``relations`` that hold repeated parts together, and sides that go over into one another;
    ``followers`` the ids of strokes that only repeat another; ``worn`` those of what wear took down, which only guide;
    ``seen`` what repeats and ``doubts`` what was bridged, in sentences.
    """

    strokes: list[Stroke] = field(default_factory=list)
    relations: list[Relation] = field(default_factory=list)
    followers: set[str] = field(default_factory=set)
    worn: set[str] = field(default_factory=set)
    seen: list[str] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)


def _names(taken: Set[str]) -> Iterator[str]:
    return (n for k in range(1, 1_000_000) if (n := f"e{k}") not in taken)


def outlined(
    loops: list[TraceLoop],
    noise: float,
    taken: Set[str] = frozenset(),
    *,
    repeats: bool = True,
    thrift: float = 1.0,
) -> Outlined:
    """A stroke for every piece of every loop, ends joined round each loop. ``taken`` : names not to be used;
    ``repeats`` : whether repeated parts are sought;  ``thrift`` : how dear pieces are, as `split_loop` has it.
    """
    out = Outlined()
    names = _names(taken)
    patterns = find_patterns(loops, noise) if repeats else []
    patterned = {k for p in patterns for k in p.members}
    for pattern in patterns:
        _pattern_drawn(out, loops, pattern, noise, names, thrift)
    left = inside_is_left(loops)
    for k, loop in enumerate(loops):
        if k not in patterned and not (repeats and _ring_drawn(out, loop, noise, names, thrift)):
            _plainly(out, loop, left[k], noise, names, thrift)
    return out


def _strokes(points: list[np.ndarray], kinds: list[int], ids: list[str], after: str | None) -> list[Stroke]:
    joins = [*ids[1:], after]
    return [Stroke(i, STROKE_KINDS[k], thin(p, STROKE_KINDS[k]), j) for i, k, p, j in zip(ids, kinds, points, joins)]


def _plainly(
    out: Outlined, loop: TraceLoop, left: bool | None, noise: float, names: Iterator[str], thrift: float
) -> None:
    pieces, worn = bridged(loop, with_splines(loop, split_loop(loop, noise, thrift), noise), noise, left)
    ids = [next(names) for _ in pieces]
    round_ = loop.closed and len(pieces) > 1
    strokes: list[Stroke | None] = [
        *_strokes([samples_of(loop, p) for p in pieces], [p[0] for p in pieces], ids, ids[0] if round_ else None)
    ]
    for stretch in worn:
        _run_on(out, strokes, stretch)
    out.strokes += [s for s in strokes if s is not None]


def _run_on(out: Outlined, strokes: list[Stroke | None], worn: Worn) -> None:
    """The sides of a worn stretch run on over it, to their corner or as one; the stretch itself only guides."""
    n = len(strokes)
    before, after = (worn.pieces[0] - 1) % n, (worn.pieces[-1] + 1) % n
    one, two = strokes[before], strokes[after]
    guides = [s for k in worn.pieces if (s := strokes[k]) is not None]
    if one is None or two is None or (worn.corner is None and two.joins == one.id):
        return
    first, second = worn.sides
    if worn.corner is None:
        strokes[before] = replace(one, places=thin(np.vstack([first, second]), one.kind), joins=two.joins)
        strokes[after] = None
    else:
        corner = worn.corner[None]
        strokes[before] = replace(one, places=np.vstack([thin(first, one.kind), corner]), joins=two.id)
        strokes[after] = replace(two, places=np.vstack([corner, thin(second, two.kind)]))
        if worn.touch:
            out.relations.append(Relation("tangent", (one.id, two.id)))
    for k, s, p in zip(worn.pieces, guides, worn.run):
        strokes[k] = replace(s, places=thin(p, s.kind), joins=None, construction=True)
    out.worn.update(s.id for s in guides)
    at = np.vstack(worn.run)
    x, y = at[len(at) // 2]
    long = float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum())
    out.doubts.append(
        f"At {x:.4g}, {y:.4g} mm the scan lies up to {worn.depth:.2g} mm inside over {long:.3g} mm: taken as worn, and "
        "the sides beside it run on."
    )


def _pattern_drawn(
    out: Outlined, loops: list[TraceLoop], pattern: Pattern, noise: float, names: Iterator[str], thrift: float
) -> None:
    """The first loop of a pattern split; its images follow it."""
    loop = loops[pattern.members[0]]
    pieces = split_loop(loop, noise, thrift)
    kinds, places = [p[0] for p in pieces], [samples_of(loop, p) for p in pieces]
    centre = None
    if pattern.centre is not None:
        centre = next(names)
        out.strokes.append(Stroke(centre, "point", at=pattern.centre[None].copy(), construction=True))
    lead: tuple[str, str] | None = None
    first: list[str] = []
    for k in pattern.steps:
        ids = [next(names) for _ in pieces]
        out.strokes += _strokes([pattern.moved(p, k) for p in places], kinds, ids, ids[0] if len(ids) > 1 else None)
        if not first:
            first = ids
            continue
        out.followers.update(ids)
        for old, new, kind in zip(first, ids, kinds):
            tied = ["center"] if kind == _WHOLE else ["start", "center"] if kind else ["start"]
            for place in tied:
                pair = (f"{old}.{place}", f"{new}.{place}")
                if centre is not None:
                    out.relations.append(Relation("turned", (*pair, centre), by=float(np.degrees(k * pattern.turn))))
                elif lead is None:
                    lead, ahead = pair, k
                else:
                    out.relations.append(Relation("stepped", (*lead, *pair), by=k / ahead))
            if kind == _WHOLE:
                out.relations.append(Relation("equal", (old, new)))
    where = "in a row" if centre is None else "in a ring"
    out.seen.append(f"{len(pattern.steps)} equal openings lie evenly {where}: one is drawn, the others follow.")


def _unit(run: TraceLoop, ring: Ring, thrift: float) -> list[Piece] | None:
    """The pieces of one part of a folded run, from a joint to its image one part on; None where there is no such."""
    n = len(run.points) // _PERIODS
    pieces = split_loop(run, trace_noise([run]), thrift)
    starts = [p[1] for p in pieces]
    joints = run.points[starts]
    images = (joints - ring.centre) @ ring.turn(1).T + ring.centre
    found = []
    for a, i in enumerate(starts):
        if not 0.4 * n <= i <= 1.6 * n:
            continue
        off = np.linalg.norm(joints - images[a], axis=1)
        b = int(np.argmin(off))
        if b > a and off[b] < _SAME_JOINT * max(run.facet, 1e-9 * run.length):
            found.append((float(off[b]), a, b))
    if not found:
        return None
    _, a, b = min(found)
    return pieces[a:b]


def _ring_drawn(out: Outlined, loop: TraceLoop, noise: float, names: Iterator[str], thrift: float) -> bool:
    ring = find_ring(loop, noise)
    if ring is None:
        return False
    run = folded(loop, ring, _PERIODS)
    unit = _unit(run, ring, thrift)
    if unit is None or (ring.count <= _FEW_PARTS and len(unit) < _FEW_PIECES) or len(unit) < 2:
        return False
    places = [samples_of(run, p) for p in unit]
    kinds = [p[0] for p in unit]
    course = Course(loop)
    good, begins, ends = _standing(loop, course, ring, places)
    if not good:
        return False
    centre = next(names)
    drawn: dict[int, list[str]] = {k: [next(names) for _ in unit] for k in good}
    rest = dict(_between(loop, course, good, begins, ends, noise, names, thrift))
    first = good[0]
    for place, k in enumerate(good):
        nxt = good[(place + 1) % len(good)]
        moved = [(p - ring.centre) @ ring.turn(k).T + ring.centre for p in places]
        after = rest[k][0].id if rest.get(k) else drawn[nxt][0] if (nxt - k) % ring.count == 1 % ring.count else None
        out.strokes += _strokes(moved, kinds, drawn[k], after)
        if rest.get(k):
            *some, last = rest[k]
            out.strokes += [*some, Stroke(last.id, last.kind, last.places, drawn[nxt][0])]
        if k == first:
            continue
        by = 360.0 * (k - first) / ring.count
        out.followers.update(drawn[k])
        tied = [(n, "start") for n in range(len(unit))] + [(n, "center") for n, kind in enumerate(kinds) if kind == 1]
        if after is None or after not in drawn[nxt]:
            tied.append((len(unit) - 1, "end"))
        for n, place_name in tied:
            old, new = f"{drawn[first][n]}.{place_name}", f"{drawn[k][n]}.{place_name}"
            out.relations.append(Relation("turned", (old, new, centre), by=by))
    out.strokes.append(Stroke(centre, "point", at=ring.centre[None].copy(), construction=True))
    odd = "" if len(good) == ring.count else f" {ring.count - len(good)} of them differ and are drawn as they are."
    out.seen.append(
        f"The outline repeats {ring.count} times about a middle: one part is drawn, the others follow.{odd}"
    )
    return True


def _standing(loop: TraceLoop, course: Course, ring: Ring, places: list[np.ndarray]):
    """The parts, as pieces divide them, that stand as all do; and where along the loop each part begins and ends."""
    turned = [
        [(p - ring.centre) @ ring.turn(k).T + ring.centre for p in (places[0][0], places[-1][-1])]
        for k in range(ring.count)
    ]
    begins = course.nearest(np.array([t[0] for t in turned]))[1]
    ends = course.nearest(np.array([t[1] for t in turned]))[1]
    inside = [course.part(ring.begins, course.within(begins[k], ends[k])) for k in range(ring.count)]
    good = [k for k in range(ring.count) if ring.alike[np.unique(inside[k])].all()]
    return good, begins, ends


def _between(loop, course, good, begins, ends, noise, names, thrift):
    """Strokes of what lies between parts that stand, where others are missing; by the part before."""
    count = len(begins)
    for place, k in enumerate(good):
        nxt = good[(place + 1) % len(good)]
        if (nxt - k) % count == 1 % count:
            continue
        stretch = course.stretch(loop, ends[k], begins[nxt])
        pieces = split_loop(stretch, noise, thrift)
        if pieces:
            ids = [next(names) for _ in pieces]
            yield k, _strokes([samples_of(stretch, p) for p in pieces], [p[0] for p in pieces], ids, None)
