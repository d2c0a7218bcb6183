"""Who overlaps whom, and where each scan belongs: found from the scans alone, or refused with the reason.

Every two scans are asked for the ways one may lie on the other. The set grows from the surest pair: each further scan takes,
of all its ways, the one that the scans already placed bear out best together; the one whose best way stands out most goes
first. At the end every scan is tried once more in all its other ways against all the rest: where another is
nearly as good, where too little is shared, or where every way is contradicted, the scan is left out and said why.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np

from ..elements import RigidMotion
from ..progress import Progress, part, silent
from .candidates import Ready, candidates, distinct, get_ready
from .evidence import Evidence, Witness, total, weigh
from .lookup import score
from .seen import Seen, lighter
from .settle import picks_of, settle_onto
from .together import settled_together

__all__ = ["Placed", "Refused", "rough_match"]

_NEARLY = 0.4  # of the best's strength: another way this strong leaves it open which is right
_LEAST_SHARE = 0.13  # of the smaller scan that must be seen by others too
_WIDER = 2.3  # two looks at one place, in scatters of one seen locally
_LEAST_HOLD = 0.00033  # of the smaller scan's area that must hold it in the way it is held least
_STRAINED = 1.2  # times what noise explains that settled scans may lie apart
_STARTS = 2  # pairs to grow from, should the first leave scans out
_WAYS = 14  # ways of a pair that are followed up
_SETTLED_BY = 800  # places each way that a way is settled by


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


@dataclass(eq=False)
class _Way:
    """One way a scan may lie in the joined frame, and what each placed scan says of it, roughly and in full."""

    motion: RigidMotion
    parts: dict[int, Evidence] = field(default_factory=dict)
    rough: dict[int, float] = field(default_factory=dict)
    fine: _Way | None = None
    prior: float = 0.0  # strength between the two scans that suggested it

    def evidence(self, others) -> Evidence:
        return total([self.parts[p] for p in others if p in self.parts])

    def strength(self, others, noise: float) -> float:
        return self.evidence(others).strength(noise)


class _Matcher:
    def __init__(self, seen: list[Seen], noise: float | None, pool: ThreadPoolExecutor):
        self.seen = seen
        self.pool = pool  # half of the work is outside the interpreter
        self.ready: list[Ready] = get_ready(seen)
        self.pitch = self.ready[0].pitch
        self.witness = [Witness(s, max(0.7 * self.pitch, s.spacing)) for s in seen]
        self.some = [r.sample.points[:60] for r in self.ready]
        self.pairs: dict[tuple[int, int], list[tuple[RigidMotion, Evidence]]] = {}
        # Two looks at one place differ by more than one look's local scatter shows: part of the noise is wider than a look.
        # How much, the surest pairs tell, see `learn_noise`; stated, it is known.
        self.stated = noise is not None
        self.scatter = float(np.median([s.noise for s in seen]))
        self.noise = np.sqrt(2) * noise if noise else _WIDER * self.scatter

    def learn_noise(self) -> None:
        """The distance left between settled scans, from the best way of each of the pairs that hold best."""
        best = [f[0][1] for f in self.pairs.values() if f and self.enough(f[0][1]) and f[0][1].worth > 0]
        if self.stated or not best:
            return
        surest = sorted(best, key=lambda e: -e.strength(self.noise))[: max(2, len(self.seen) - 1)]
        left = float(np.median([np.sqrt(max(e.rms**2 - e.grain**2, 0)) for e in surest]))
        self.noise = float(np.clip(1.05 * left, 1.4 * self.scatter, self.noise))
        for found in self.pairs.values():
            found.sort(key=lambda f: (-f[1].strength(self.noise), -f[1].worth))

    def enough(self, e: Evidence) -> bool:
        """Whether so much agrees, and so well, that the scan may lie there."""
        return e.agree > _LEAST_SHARE * e.least and e.rms < _STRAINED * e.explained(self.noise) and e.strength(self.noise) > _LEAST_HOLD * e.least

    def pair(self, a: int, b: int) -> list[tuple[RigidMotion, Evidence]]:
        """Ways ``a`` may lie on ``b`` with their evidence, best first."""
        if (a, b) in self.pairs:
            return self.pairs[a, b]
        if (b, a) in self.pairs:
            return [(m.inverse(), e) for m, e in self.pairs[b, a]]
        poses, _ = candidates(self.ready[a], self.ready[b])
        found = [(m, weigh(self.witness[a], self.witness[b], m)) for m in map(RigidMotion, poses)]
        # By what they share first: a way a little off its place is contradicted by what settling puts right.
        found.sort(key=lambda f: -(f[1].agree - 25 * f[1].against))
        still = RigidMotion.identity()
        for k, (m, e) in enumerate(found[:5]):
            if e.worth > -0.5 * e.agree:
                fine, _, rms = settle_onto(self.seen[a], m, [(self.seen[b], still)], reach=self.pitch, count=_SETTLED_BY, rounds=16)
                if np.isfinite(rms):
                    found[k] = (fine, weigh(self.witness[a], self.witness[b], fine))
        found.sort(key=lambda f: (-f[1].strength(self.noise), -f[1].worth))
        # What only agrees on a scrap is no way to lie; a few of the rest are kept for what further scans say.
        least = 0.4 * _LEAST_SHARE * min(self.seen[a].area, self.seen[b].area)
        self.pairs[a, b] = [f for f in found if f[1].agree > least][:_WAYS]
        return self.pairs[a, b]

    def ways(self, u: int, placed: dict[int, RigidMotion], onto) -> list[_Way]:
        """The ways of a scan that its pairs with some of the placed scans suggest."""
        return [_Way(placed[p].after(mm), prior=e.strength(self.noise)) for p in onto for mm, e in self.pair(u, p)]

    def settled(self, u: int, way: _Way, placed: dict[int, RigidMotion]) -> _Way:
        """The way settled onto the placed scans that share something with it."""
        near = sorted((p for p in placed if way.parts[p].overlap > 0.02), key=lambda p: -way.parts[p].hold)[:4]
        if not near:
            return way
        m, _, rms = settle_onto(self.seen[u], way.motion, [(self.seen[p], placed[p]) for p in near], reach=0.7 * self.pitch, count=_SETTLED_BY, rounds=16)
        return self.weighed(u, _Way(m), placed) if np.isfinite(rms) else way

    def settled_all(self, placed: dict[int, RigidMotion], fixed: set[int]) -> dict[int, RigidMotion]:
        """All placed scans settled on each other, as well as a rough place needs."""
        mine = {i: self.seen[i] for i in placed}
        return settled_together(mine, placed, held=fixed or {min(placed)}, reach=0.7 * self.pitch, count=_SETTLED_BY)

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
                    w.rough[p] = float(k[0] - 25 * k[1])
        poses = np.array([w.motion.matrix for w in ways])
        prior = np.array([w.prior for w in ways])
        rough = np.array([sum(w.rough[p] for p in placed) for w in ways])
        kept: list[int] = []
        for worth in (prior, rough):
            kept += distinct(poses, worth, self.some[u], 0.6 * self.pitch, most).tolist()
        return [ways[i] for i in dict.fromkeys(kept)]

    def best(self, u: int, ways: list[_Way], placed: dict[int, RigidMotion]) -> list[_Way]:
        """Ways of a scan against all placed, the likeliest settled; distinct, best first."""
        if not ways:
            return []
        rough = list(self.pool.map(lambda w: self.weighed(u, w, placed), self._screened(u, ways, placed, 6)))
        # By what they share first: a way a little off its place is contradicted by what settling puts right.
        rough.sort(key=lambda w: -(w.evidence(placed).agree - 20 * w.evidence(placed).against + 500 * w.prior))
        fine = list(self.pool.map(lambda w: self._fine(u, w, placed), rough[:4]))
        for w in rough[4:]:
            most = max(self.strengths(fine, placed))
            e = w.evidence(placed)
            if w.fine is not None or (e.hold >= _NEARLY * most and e.worth >= -e.agree):
                fine.append(self._fine(u, w, placed))
        strength = np.array([w.strength(placed, self.noise) + 1e-6 * w.evidence(placed).worth for w in fine])
        kept = distinct(np.array([w.motion.matrix for w in fine]), strength, self.some[u], 1.5 * self.pitch, 6)
        return [fine[i] for i in kept]

    def _fine(self, u: int, way: _Way, placed: dict[int, RigidMotion]) -> _Way:
        """The way settled, once, and weighed against all placed."""
        if way.fine is None:
            way.fine = self.settled(u, way, placed)
        return self.weighed(u, way.fine, placed)

    def strengths(self, ways: list[_Way], others) -> list[float]:
        return [w.strength(others, self.noise) for w in ways]

    def apart(self, u: int, a: RigidMotion, b: RigidMotion) -> bool:
        d = self.some[u]
        return float(np.sqrt(((a.points(d) - b.points(d)) ** 2).sum(axis=1).mean())) > 1.5 * self.pitch


def rough_match(
    seen: list[Seen],
    *,
    placed: dict[int, RigidMotion] | None = None,
    noise: float | None = None,
    progress: Progress = silent,
) -> Placed:
    """Where every scan belongs, as far as the scans tell.

    Parameters
    ----------
    seen : the scans.
    noise : the scanner's stated noise (one standard deviation), mm; none: from the scans' own scatter.
    placed : those already placed, which stay as they are; the others join them. None: all are free.

    Returns
    -------
    Motions into the frame of the first scan placed (the first of all wherever it can be), to within a fraction of a millimetre;
    settle them afterwards. Scans without a sure place are in ``refused``.
    """
    with ThreadPoolExecutor(2) as pool:
        return _rough_match(_Matcher([lighter(s) for s in seen], noise, pool), dict(placed or {}), progress)


def _rough_match(m: _Matcher, fixed: dict[int, RigidMotion], progress: Progress) -> Placed:
    n = len(m.seen)
    pairs = [(a, b) for a in range(n) for b in range(a) if a not in fixed or b not in fixed]
    _try_pairs(m, pairs, progress)
    m.learn_noise()
    if fixed:
        return _grow(m, fixed, set(fixed), part(progress, 0.75, 1))
    # The surest pair begins; should it lead to little, the next is tried.
    starts = sorted(pairs, key=lambda p: -_sureness([e.strength(m.noise) for _, e in m.pair(*p)]))
    best: Placed | None = None
    tried = 0
    for a, b in starts:
        if tried == _STARTS or not m.pair(a, b) or (best is not None and (len(best.motions) == n or _holds(m, best, a, b))):
            continue
        tried += 1
        found = _grow(m, {b: RigidMotion.identity()}, set(), part(progress, 0.75, 1))
        if best is None or len(found.motions) > len(best.motions):
            best = found
    if best is None:
        best = Placed(0, {0: RigidMotion.identity()})
        for u in range(1, n):
            best.refused[u] = _refusal(m, [], [])
    return _from_first(best)


def _try_pairs(m: _Matcher, pairs: list[tuple[int, int]], progress: Progress) -> None:
    """All pairs tried, two at a time."""
    for k, r in enumerate(m.ready):
        progress(0.05 * k / len(m.ready), f"Describing scan {k + 1}")
        _ = (r.at, r.features, r.scoring, m.witness[k].sample, m.witness[k].neighbours, m.witness[k].sight, m.witness[k].all_bent, r.seen.nearest)
        picks_of(r.seen, _SETTLED_BY)
    for k in range(0, len(pairs), 2):
        two = pairs[k : k + 2]
        progress(0.05 + 0.7 * k / len(pairs), f"Trying scan {two[0][0] + 1} on scan {two[0][1] + 1}")
        list(m.pool.map(lambda p: m.pair(*p), two))


def _holds(m: _Matcher, found: Placed, a: int, b: int) -> bool:
    """Whether two scans lie on each other as their best way has it."""
    if a not in found.motions or b not in found.motions:
        return False
    return not m.apart(a, found.motions[b].inverse().after(found.motions[a]), m.pair(a, b)[0][0])


def _sureness(strength: list[float]) -> float:
    """How far the best of some ways stands above the next."""
    if not strength:
        return 0.0
    first, *rest = sorted(strength, reverse=True)
    return first - 0.8 * (rest[0] if rest else 0.0)


def _grow(m: _Matcher, placed: dict[int, RigidMotion], fixed: set[int], progress: Progress) -> Placed:
    placed = dict(placed)
    n = len(m.seen)
    ways: dict[int, list[_Way]] = {u: [] for u in range(n)}
    fresh, calm = list(placed), 0
    while True:
        progress(0.7 * len(placed) / n, f"{len(placed)} of {n} scans placed")
        options = {}
        for u in ways:
            ways[u] += m.ways(u, placed, [p for p in fresh if p != u])
            if u in placed:
                continue
            top = m.best(u, ways[u], placed)
            if top and m.enough(top[0].evidence(placed)) and top[0].evidence(placed).worth > 0:
                options[u] = (_sureness(m.strengths(top, placed)), top[0].motion)
        if not options:
            # Placed one after the other, rough places add up; settled together, they may yet let the others in.
            if calm == len(placed) or len(placed) < 3:
                break
            placed = m.settled_all(placed, fixed)
            ways = {u: m.ways(u, placed, [p for p in placed if p != u]) for u in range(n)}
            fresh, calm = [], len(placed)
            continue
        u = max(options, key=lambda k: options[k][0])
        placed[u] = options[u][1]
        fresh = [u]
    return _checked(m, placed, ways, fixed, part(progress, 0.7, 1))


def _checked(m: _Matcher, placed: dict[int, RigidMotion], ways: dict[int, list[_Way]], fixed: set[int], progress: Progress) -> Placed:
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
        others = [w for w in m.best(u, ways[u], rest) if m.apart(u, w.motion, placed[u])]
        mine, *theirs = m.strengths([now, *others], rest)
        if others and theirs[0] > 1.2 * mine and m.enough(others[0].evidence(rest)):
            # A scan placed early may do better now that more is known. What was tried before knew it in the wrong place.
            now, others = others[0], [now, *others[1:]]
            placed[u] = now.motion
            for w in (w for many in ways.values() for way in many for w in (way, way.fine or way)):
                w.parts.pop(u, None)
                w.rough.pop(u, None)
            for w in (w for mine, rivals in tried.values() for w in (mine, *rivals)):
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
            mine, *theirs = m.strengths([now, *others], rest)
            sound = [t for t, w in zip(theirs, others) if m.enough(w.evidence(rest))]
            if not m.enough(now.evidence(rest)) or mine <= 0:
                doubts[u] = 9.0
            elif max(sound, default=0.0) > _NEARLY * mine:
                doubts[u] = max(sound) / mine
        # Of two in doubt about each other the one that comes first stays: it is what the other would be placed on.
        doubts = {u: d for u, d in doubts.items() if u != first or (len(doubts) == 1 and len(placed) > 2)}
        if not doubts:
            break
        u = max(doubts, key=lambda k: (doubts[k], k))
        rest = [p for p in placed if p != u]
        refused[u] = _refusal(m, [tried[u][0], *tried[u][1]], rest)
        del placed[u]
    for u in range(n):
        if u not in placed and u not in refused:
            refused[u] = _refusal(m, m.best(u, ways[u], placed), list(placed))
    return Placed(first if first in placed else min(placed), placed, refused)


def _refusal(m: _Matcher, ways: list[_Way], others: list[int]) -> Refused:
    """Why a scan is left out, from its likeliest ways against the placed scans."""
    by = sorted(zip(m.strengths(ways, others), ways), key=lambda t: (-t[0], -t[1].evidence(others).worth))
    told = [(w.motion, w.evidence(others)) for _, w in by]
    sound = [(s, w.motion, w.evidence(others)) for s, w in by if s > 0 and m.enough(w.evidence(others))]
    near = [t[1:] for t in sound if t[0] > _NEARLY * sound[0][0]]
    if len(near) > 1:
        why = (
            f"It fits in {len(near)} ways that the other scans cannot tell apart: the part repeats itself there. "
            "Place it by three pairs, or bring a scan that shows what breaks the symmetry."
        )
        return Refused("ambiguous", why, [t[0] for t in near], [t[1] for t in near])
    if told and told[0][1].agree > 0:
        e = told[0][1]
        best = [t[0] for t in told[:3]], [t[1] for t in told[:3]]
        if e.worth <= 0 and e.agree > _LEAST_SHARE * e.least:
            why = (
                f"In its best place it agrees over {e.agree:.0f} mm² but contradicts what others saw over {e.against + e.missing:.0f} mm²: "
                "it shows another part, or a part that has changed."
            )
            return Refused("contradicted", why, *best)
        if e.rms >= _STRAINED * e.explained(m.noise) and e.agree > _LEAST_SHARE * e.least:
            why = (
                f"In its best place it lies {e.rms:.3f} mm (rms) from the other scans, more than noise explains ({e.explained(m.noise):.3f} mm): "
                "it shows another part, or a part that has changed."
            )
            return Refused("contradicted", why, *best)
        if e.agree > _LEAST_SHARE * e.least and e.worth > 0:
            why = (
                f"It shares {min(e.overlap, 1):.0%} with the other scans, but nothing there holds it against sliding or turning, "
                "so that its place would be luck. Place it by three pairs, or bring a scan that shows more of the same features."
            )
            return Refused("not held", why, *best)
        why = f"Its best place shares only {e.overlap:.0%} of it with the other scans; too little to be sure. Place it by three pairs, or bring a scan between."
        return Refused("little overlap", why, *best)
    return Refused("stranger", "Nothing on it lies like anything on the other scans; it shows another part, or another side of it.", [], [])


def _from_first(p: Placed) -> Placed:
    """All motions into the frame of the first placed scan."""
    back = p.motions[p.first].inverse()
    motions = {i: back.after(q) for i, q in p.motions.items()} | {p.first: RigidMotion.identity()}
    refused = {u: Refused(r.reason, r.why, [back.after(w) for w in r.ways], r.evidence) for u, r in p.refused.items()}
    return Placed(p.first, motions, refused)
