"""Who overlaps whom, and where each scan belongs: found from the scans alone, or refused with the reason.

Every two scans are asked for the ways one may lie on the other. The set grows from the surest pair: each further scan takes,
of all its ways, the one that the scans already placed bear out best together; the one whose best way stands out most goes
first. At the end every scan is tried once more in all its other ways against all the rest: where another is
nearly as good, where too little is shared, or where every way is contradicted, the scan is left out and said why.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..elements import RigidMotion
from ..progress import Progress, part, silent
from .candidates import Ready, candidates, distinct, get_ready
from .evidence import Evidence, Witness, total, weigh
from .lookup import score
from .seen import Seen
from .settle import settle_onto

__all__ = ["Placed", "Refused", "rough_match"]

_PENALTY = 25.0  # what contradicted area costs, in agreeing area
_NEARLY = 0.72  # of the best's worth: another way this good leaves it open which is right
_LEAST_SHARE = 0.13  # of the smaller scan that must be seen by others too
_WAYS = 10  # ways of a pair that are followed up


@dataclass(frozen=True)
class Refused:
    """A scan left out: the reason in words, and the ways it could lie, best first (into the joined frame)."""

    reason: str
    why: str
    ways: list[RigidMotion]
    evidence: list[Evidence]


@dataclass
class Placed:
    """``motions`` by scan into the frame of ``first``; ``refused`` by scan."""

    first: int
    motions: dict[int, RigidMotion]
    refused: dict[int, Refused] = field(default_factory=dict)


def _worth(e: Evidence) -> float:
    return e.agree - _PENALTY * e.against


@dataclass(eq=False)
class _Way:
    """One way a scan may lie in the joined frame, and what each placed scan says of it, roughly and in full."""

    motion: RigidMotion
    parts: dict[int, Evidence] = field(default_factory=dict)
    rough: dict[int, float] = field(default_factory=dict)

    def evidence(self, others) -> Evidence:
        return total([self.parts[p] for p in others if p in self.parts])

    def worth(self, others) -> float:
        return _worth(self.evidence(others))


class _Matcher:
    def __init__(self, seen: list[Seen]):
        self.seen = seen
        self.ready: list[Ready] = get_ready(seen)
        self.pitch = self.ready[0].pitch
        self.witness = [Witness(s, max(0.6 * self.pitch, s.spacing)) for s in seen]
        self.some = [r.sample.points[:60] for r in self.ready]
        self.pairs: dict[tuple[int, int], list[tuple[RigidMotion, Evidence]]] = {}

    def pair(self, a: int, b: int) -> list[tuple[RigidMotion, Evidence]]:
        """Ways ``a`` may lie on ``b`` with their evidence, best first."""
        if (a, b) in self.pairs:
            return self.pairs[a, b]
        if (b, a) in self.pairs:
            return [(m.inverse(), e) for m, e in self.pairs[b, a]]
        poses, _ = candidates(self.ready[a], self.ready[b])
        found = [(m, weigh(self.witness[a], self.witness[b], m)) for m in map(RigidMotion, poses)]
        found.sort(key=lambda f: -_worth(f[1]))
        # What only agrees on a scrap is no way to lie; a few of the rest are kept for what further scans say.
        least = 0.4 * _LEAST_SHARE * min(self.seen[a].area, self.seen[b].area)
        self.pairs[a, b] = [f for f in found if f[1].agree > least][:_WAYS]
        return self.pairs[a, b]

    def ways(self, u: int, placed: dict[int, RigidMotion], onto) -> list[_Way]:
        """The ways of a scan that its pairs with some of the placed scans suggest."""
        return [_Way(placed[p].after(mm)) for p in onto for mm, _ in self.pair(u, p)]

    def settled(self, u: int, way: _Way, placed: dict[int, RigidMotion]) -> _Way:
        """The way settled onto the placed scans that share something with it."""
        near = [p for p in placed if way.parts[p].overlap > 0.02]
        if not near:
            return way
        m, _, rms = settle_onto(self.seen[u], way.motion, [(self.seen[p], placed[p]) for p in near], reach=self.pitch, count=700, rounds=14)
        return self.weighed(u, _Way(m), placed) if np.isfinite(rms) else way

    def weighed(self, u: int, way: _Way, placed: dict[int, RigidMotion]) -> _Way:
        for p, m in placed.items():
            if p not in way.parts:
                way.parts[p] = weigh(self.witness[u], self.witness[p], m.inverse().after(way.motion))
        return way

    def _screened(self, u: int, ways: list[_Way], placed: dict[int, RigidMotion], most: int) -> list[_Way]:
        """The likeliest ways by the lookups alone."""
        for p, m in placed.items():
            new = [w for w in ways if p not in w.rough]
            if new:
                poses = np.ascontiguousarray(m.inverse().matrix @ np.array([w.motion.matrix for w in new]))
                marks = score(self.ready[p].at, poses, self.ready[u].scoring)
                for w, k in zip(new, marks):
                    w.rough[p] = float(k[0] - 8 * k[1])
        worth = np.array([sum(w.rough[p] for p in placed) for w in ways])
        kept = distinct(np.array([w.motion.matrix for w in ways]), worth, self.some[u], 0.6 * self.pitch, most)
        return [ways[i] for i in kept]

    def best(self, u: int, ways: list[_Way], placed: dict[int, RigidMotion]) -> list[_Way]:
        """Ways of a scan against all placed, the likeliest settled; distinct, best first."""
        if not ways:
            return []
        rough = [self.weighed(u, w, placed) for w in self._screened(u, ways, placed, 9)]
        rough.sort(key=lambda w: -w.worth(placed))
        fine = [self.settled(u, w, placed) for w in rough[:4]]
        all_of = [*fine, *rough]
        worth = np.array([w.worth(placed) for w in all_of])
        kept = distinct(np.array([w.motion.matrix for w in all_of]), worth, self.some[u], 1.5 * self.pitch, 6)
        return [all_of[i] for i in kept]

    def apart(self, u: int, a: RigidMotion, b: RigidMotion) -> bool:
        d = self.some[u]
        return float(np.sqrt(((a.points(d) - b.points(d)) ** 2).sum(axis=1).mean())) > 1.5 * self.pitch


def rough_match(
    seen: list[Seen],
    *,
    placed: dict[int, RigidMotion] | None = None,
    progress: Progress = silent,
) -> Placed:
    """Where every scan belongs, as far as the scans tell.

    Parameters
    ----------
    seen : the scans.
    placed : those already placed, which stay as they are; the others join them. None: all are free.

    Returns
    -------
    Motions into the frame of the first scan placed (the first of all wherever it can be), to within a fraction of a millimetre;
    settle them afterwards. Scans without a sure place are in ``refused``.
    """
    m = _Matcher(seen)
    n = len(seen)
    fixed = dict(placed or {})
    pairs = [(a, b) for a in range(n) for b in range(a) if a not in fixed or b not in fixed]
    for k, (a, b) in enumerate(pairs):
        progress(0.05 + 0.7 * k / max(len(pairs), 1), f"Trying scan {a + 1} on scan {b + 1}")
        m.pair(a, b)
    if fixed:
        return _grow(m, fixed, set(fixed), part(progress, 0.75, 1))
    # The surest pair begins; should it lead to little, the next is tried.
    starts = sorted(pairs, key=lambda p: -_sureness([_worth(e) for _, e in m.pair(*p)]))
    best: Placed | None = None
    for a, b in starts[:2]:
        if not m.pair(a, b) or (best is not None and (len(best.motions) == n or b in best.motions and a in best.motions)):
            continue
        found = _grow(m, {b: RigidMotion.identity()}, set(), part(progress, 0.75, 1))
        if best is None or len(found.motions) > len(best.motions):
            best = found
    if best is None:
        best = Placed(0, {0: RigidMotion.identity()})
        for u in range(1, n):
            best.refused[u] = _refusal([], [])
    return _from_first(best)


def _sureness(worth: list[float]) -> float:
    """How far the best of some ways stands above the next."""
    if not worth or worth[0] <= 0:
        return 0.0
    return worth[0] - max(0.0, worth[1] if len(worth) > 1 else 0.0) * 0.8


def _grow(m: _Matcher, placed: dict[int, RigidMotion], fixed: set[int], progress: Progress) -> Placed:
    placed = dict(placed)
    n = len(m.seen)
    ways: dict[int, list[_Way]] = {u: [] for u in range(n) if u not in placed}
    fresh = list(placed)
    while ways:
        progress(0.7 * len(placed) / n, f"{len(placed)} of {n} scans placed")
        options = {}
        for u in ways:
            ways[u] += m.ways(u, placed, fresh)
            top = m.best(u, ways[u], placed)
            if top and _enough(top[0].evidence(placed)) and top[0].worth(placed) > 0:
                options[u] = (_sureness([w.worth(placed) for w in top]), top[0].motion)
        if not options:
            break
        u = max(options, key=lambda k: options[k][0])
        placed[u] = options[u][1]
        del ways[u]
        fresh = [u]
    return _checked(m, placed, fixed, part(progress, 0.7, 1))


def _enough(e: Evidence) -> bool:
    return e.agree > _LEAST_SHARE * e.least


def _checked(m: _Matcher, placed: dict[int, RigidMotion], fixed: set[int], progress: Progress) -> Placed:
    """Every placed scan tried in its other ways against all the rest; those that could lie otherwise are left out."""
    placed = dict(placed)
    n = len(m.seen)
    first = 0 if 0 in placed else min(placed)
    tried: dict[int, tuple[_Way, list[_Way]]] = {}
    for u in sorted(placed):
        if u in fixed or len(placed) < 2:
            continue
        progress(u / n, f"Trying scan {u + 1} in its other ways")
        rest = {p: q for p, q in placed.items() if p != u}
        now = m.weighed(u, _Way(placed[u]), rest)
        others = [w for w in m.best(u, m.ways(u, rest, rest), rest) if m.apart(u, w.motion, placed[u])]
        if others and others[0].worth(rest) > 1.05 * now.worth(rest):
            # A scan placed early may do better now that more is known. What was tried before knew it in the wrong place.
            now, others = others[0], [now, *others[1:]]
            placed[u] = now.motion
            for w in (w for v, (mine, rivals) in tried.items() for w in (mine, *rivals)):
                w.parts.pop(u, None)
            for v, (mine, rivals) in tried.items():
                for w in (mine, *rivals):
                    m.weighed(v, w, {u: now.motion})
        tried[u] = (now, others)
    refused: dict[int, Refused] = {}
    while True:
        doubts = {}
        for u in placed:
            if u not in tried or len(placed) < 2:
                continue
            rest = [p for p in placed if p != u]
            now, others = tried[u]
            worth = now.worth(rest)
            rival = max((w.worth(rest) for w in others), default=0.0)
            if not _enough(now.evidence(rest)) or worth <= 0:
                doubts[u] = 9.0
            elif rival > _NEARLY * worth:
                doubts[u] = rival / worth
        # Of two in doubt about each other the one that comes first stays: it is what the other would be placed on.
        doubts = {u: d for u, d in doubts.items() if u != first or (len(doubts) == 1 and len(placed) > 2)}
        if not doubts:
            break
        u = max(doubts, key=lambda k: (doubts[k], k))
        rest = [p for p in placed if p != u]
        refused[u] = _refusal([tried[u][0], *tried[u][1]], rest)
        del placed[u]
    for u in range(n):
        if u not in placed and u not in refused:
            refused[u] = _refusal(m.best(u, m.ways(u, placed, placed), placed), list(placed))
    return Placed(first if first in placed else min(placed), placed, refused)


def _refusal(ways: list[_Way], others: list[int]) -> Refused:
    """Why a scan is left out, from its likeliest ways against the placed scans."""
    told = sorted(((w.motion, w.evidence(others)) for w in ways), key=lambda t: -_worth(t[1]))
    sound = [t for t in told if _worth(t[1]) > 0 and _enough(t[1])]
    near = [t for t in sound if _worth(t[1]) > _NEARLY * _worth(sound[0][1])]
    if len(near) > 1:
        why = (
            f"It fits in {len(near)} ways that the other scans cannot tell apart: the part repeats itself there. "
            "Place it by three pairs, or bring a scan that shows what breaks the symmetry."
        )
        return Refused("ambiguous", why, [t[0] for t in near], [t[1] for t in near])
    if told and told[0][1].agree > 0:
        e = told[0][1]
        best = [t[0] for t in told[:3]], [t[1] for t in told[:3]]
        if e.against > 0.004 * e.agree and _enough(e):
            why = (
                f"In its best place it agrees over {e.agree:.0f} mm² but contradicts what others saw over {e.against:.0f} mm²: "
                "it shows another part, or a part that has changed."
            )
            return Refused("contradicted", why, *best)
        why = f"Its best place shares only {e.overlap:.0%} of it with the other scans; too little to be sure. Place it by three pairs, or bring a scan between."
        return Refused("little overlap", why, *best)
    return Refused("stranger", "Nothing on it lies like anything on the other scans; it shows another part, or another side of it.", [], [])


def _from_first(p: Placed) -> Placed:
    """All motions into the frame of the first placed scan."""
    back = p.motions[p.first].inverse()
    motions = {i: back.after(q) for i, q in p.motions.items()}
    refused = {u: Refused(r.reason, r.why, [back.after(w) for w in r.ways], r.evidence) for u, r in p.refused.items()}
    return Placed(p.first, motions, refused)
