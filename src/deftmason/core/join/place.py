"""Who overlaps whom, and where each scan belongs: found from the scans alone, or refused with the reason.

Every two scans are asked for the ways one may lie on the other. The surest two become one body, which then speaks for
both; so do
further ones, scan on scan, scan on body, body on body. Sure is a way that shares and holds enough, that nothing any
scan
saw contradicts, and that has no rival of which the same is true. Where none is sure the likeliest is supposed, for what
further scans
may say of it, and taken back should it still have a rival at the end. What is left over is told with its reason.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from ..elements import RigidMotion
from ..progress import Progress, silent
from .bodies import Body, single, together
from .candidates import get_ready
from .evidence import Evidence, weigh
from .matching import picks_of
from .outlines import standing_out
from .seen import Seen, lighter
from .together import settled_together
from .turned import untold
from .ways import LEAST_SHARE, STRAINED, Finder, Verdict

__all__ = ["Placed", "Refused", "rough_match"]

_SETTLED_BY = 800
_LIKELIER = 1.5  # times as firm as its rivals that a way is supposed for
_SUPPOSED = 3  # at most
_TURNED = (
    "The part nearly repeats itself under a turn, and no scan shows or saw through what would tell this one from its "
    "turned place. Place it by three pairs, or bring a scan that shows what breaks the symmetry."
)
_OUTSIDE = (
    "Where it agrees best it stands outside of what several others saw of the part, where they saw nothing: it shows "
    "another place that looks alike. Place it by three pairs, or bring a scan between."
)
_OFF = 0.1  # pitches that a scan settled with all others may be off


@dataclass(frozen=True)
class Refused:
    """A scan left out: the reason in words, and the ways it could lie, best first (into the joined frame)."""

    reason: str
    why: str
    ways: list[RigidMotion]
    evidence: list[Evidence]


@dataclass
class Placed:
    """``motions`` by scan into the frame of ``first``; ``refused`` by scan; ``pitch`` mm they were told apart by."""

    first: int
    motions: dict[int, RigidMotion]
    refused: dict[int, Refused] = field(default_factory=dict)
    pitch: float = float("inf")


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
    Motions into the frame of the first scan placed (the first of all wherever it can be), to within a fraction of a
    millimetre;
    settle them afterwards. Scans without a sure place are in ``refused``.
    """
    with ThreadPoolExecutor(2) as pool:
        return _Placing(seen, dict(placed or {}), noise, pool, progress).done()


class _Placing:
    def __init__(
        self,
        seen: list[Seen],
        fixed: dict[int, RigidMotion],
        noise: float | None,
        pool: ThreadPoolExecutor,
        progress: Progress,
    ):
        light = [lighter(s) for s in seen]
        self.pitch = get_ready(light)[0].pitch
        self.singles: list[Body] = []
        for i, (full, s) in enumerate(zip(seen, light)):
            progress(0.05 * i / len(seen), f"Describing scan {i + 1}")
            b = single(i, full, s, self.pitch)
            _ = (b.ready.at, b.ready.features, b.ready.scoring)
            b.witness.prepare()
            picks_of(s, _SETTLED_BY)
            s.ends.prepare()
            self.singles.append(b)
        self.fixed = fixed
        self.progress = progress
        self.finder = Finder(self.singles, noise, pool)
        self.kept = list(self.singles)  # bodies are told apart by what they are, so none may go
        self.learned = False
        self.supposed: list[frozenset[int]] = []
        self.tried: set[tuple[int, int]] = set()
        self.verdicts: dict[tuple[int, int], Verdict] = {}
        self.searched: set[tuple[int, int]] = set()
        self.stayed: dict[tuple[int, int, bytes], bool] = {}
        self.untold: set[int] = set()
        self.outside: set[int] = set()

    def done(self) -> Placed:
        bodies = [b for i, b in enumerate(self.singles) if i not in self.fixed]
        if self.fixed:
            bodies.insert(0, self._body(self.fixed))
        self._try_pairs()
        for _ in range(3):
            bodies = self._grown(bodies)
            main = self._main(bodies)
            sound = self._checked(main)
            if sound is main:
                break
            # What was placed wrongly may have kept others away.
            loose = [self.singles[i] for i in main.members if i not in sound.members]
            bodies = [sound, *(b for b in bodies if b is not main), *loose]
        return self._told(sound)

    def _body(self, members: dict[int, RigidMotion]) -> Body:
        if len(members) == 1 and not set(members) & set(self.fixed):
            return self.singles[next(iter(members))]
        b = together(members, self.singles, self.pitch)
        b.witness.prepare()
        picks_of(b.seen, _SETTLED_BY)
        b.seen.ends.prepare()
        return b

    def _main(self, bodies: list[Body]) -> Body:
        if self.fixed:
            return next(b for b in bodies if any(i in self.fixed for i in b.members))
        return max(bodies, key=lambda b: (len(b.members), -min(b.members)))

    def _try_pairs(self) -> None:
        """All pairs of scans matched, then each scan's motions onto itself."""
        n = len(self.singles)
        pairs = [(a, b) for a in range(n) for b in range(a) if a not in self.fixed or b not in self.fixed]
        for k in range(0, len(pairs), 2):
            two = pairs[k : k + 2]
            self.progress(0.05 + 0.35 * k / len(pairs), f"Trying scan {two[0][0] + 1} on scan {two[0][1] + 1}")
            list(self.finder.pool.map(lambda p: self.finder.pair(*p), two))
        for i in range(n):
            self.finder.find_selves(i)

    def verdict(self, g: Body, h: Body) -> Verdict:
        """Of a smaller body on a larger."""
        key = id(g), id(h)
        if key not in self.verdicts:
            self.verdicts[key] = self.finder.verdict(g, h)
        return self.verdicts[key]

    def _ordered(self, a: Body, b: Body) -> tuple[Body, Body]:
        if any(i in self.fixed for i in a.members):
            return b, a
        if any(i in self.fixed for i in b.members):
            return a, b
        rank = lambda x: (len(x.members), -min(x.members))  # noqa: E731
        return (a, b) if rank(a) < rank(b) else (b, a)

    def _grown(self, bodies: list[Body]) -> list[Body]:
        """Bodies joined, the surest first, until none is sure."""
        n = len(bodies)
        while len(bodies) > 1:
            share = 0.4 + 0.55 * (n - len(bodies)) / n
            pairs = [self._ordered(a, b) for k, a in enumerate(bodies) for b in bodies[:k]]
            for k, (g, h) in enumerate(pairs):
                if (id(g), id(h)) not in self.verdicts:
                    self.progress(share + 0.5 / n * k / len(pairs), f"Weighing {_name(g)} on {_name(h)}")
                    self.verdict(g, h)
            if not self.learned:
                self.finder.learn_noise([self.verdict(g, h) for g, h in pairs])
                self.learned = True
            sure = self._sure(pairs)
            if sure is None and self._searched(bodies, share):
                continue
            if sure is None:
                sure = self._likeliest(pairs)
                if sure is None:
                    break
                self.supposed.append(frozenset(sure[2].members))
                self.tried.add((id(sure[2]), id(sure[3])))
            _, motion, g, h = sure
            members = h.members | {i: motion.after(m) for i, m in g.members.items()}
            if len(members) > 2:
                held = set(self.fixed) or {min(h.members)}
                members = settled_together(
                    {i: self.singles[i].seen for i in members},
                    members,
                    held=held,
                    reach=0.7 * self.pitch,
                    count=_SETTLED_BY,
                )
            fresh = self._body(members)
            self.kept.append(fresh)
            bodies = [b for b in bodies if b is not g and b is not h] + [fresh]
        return bodies

    def _sure(self, pairs: list[tuple[Body, Body]]) -> tuple[float, RigidMotion, Body, Body] | None:
        """The firmest of the ways that have no rival."""
        found = []
        for g, h in pairs:
            ways = self.finder.rivals(self.verdict(g, h))
            if len(ways) == 1:
                found.append((ways[0].evidence.strength(self.finder.noise), ways[0].motion, g, h))
        return self._first_that_stays(found)

    def _first_that_stays(
        self, found: list[tuple[float, RigidMotion, Body, Body]]
    ) -> tuple[float, RigidMotion, Body, Body] | None:
        """The firmest of placements that come back when pushed aside."""
        return next((f for f in sorted(found, key=lambda f: -f[0]) if self._stays(f[2], f[3], f[1])), None)

    def _stays(self, g: Body, h: Body, motion: RigidMotion) -> bool:
        key = id(g), id(h), motion.matrix.tobytes()
        if key not in self.stayed:
            self.stayed[key] = self.finder.stays(g, h, motion)
        return self.stayed[key]

    def _likeliest(self, pairs: list[tuple[Body, Body]]) -> tuple[float, RigidMotion, Body, Body] | None:
        """The firmest of the ways that have rivals, were they not supposed before."""
        found = []
        for g, h in pairs:
            ways = self.finder.rivals(self.verdict(g, h))
            if ways and (id(g), id(h)) not in self.tried:
                first, *rest = (w.evidence.strength(self.finder.noise) for w in ways)
                found.append((first / max(max(rest, default=0.0), 1e-3 * first), ways[0].motion, g, h))
        found = [f for f in found if f[0] > _LIKELIER] if len(self.supposed) < _SUPPOSED else []
        return self._first_that_stays(found)

    def _searched(self, bodies: list[Body], share: float) -> bool:
        """What is left over looked for anew on the whole of the largest body; whether anything new was found."""
        main = self._main(bodies)
        new = False
        for b in bodies:
            if b is main or len(main.members) < 2 or (id(b), id(main)) in self.searched:
                continue
            g, h = self._ordered(b, main)
            self.searched.add((id(b), id(main)))
            self.progress(share, f"Looking for {_name(g)} on {_name(h)}")
            before = self.finder.rivals(self.verdict(g, h))
            v = self.finder.verdict(g, h, self.finder.search(g, h))
            self.verdicts[id(g), id(h)] = v
            now = self.finder.rivals(v)
            new |= len(now) == 1 and len(before) != 1
        return new

    def _checked(self, main: Body) -> Body:
        """What was supposed, and each scan of a body, weighed against all the rest; what could lie otherwise or is
        contradicted is left out.
        """
        for group in reversed(self.supposed):
            inside = group & set(main.members)
            rest = {i: m for i, m in main.members.items() if i not in inside}
            if not inside or not rest or inside & set(self.fixed):
                continue
            g, h = self._body({i: main.members[i] for i in inside}), self._body(rest)
            self.kept += [g, h]
            ways = self.finder.rivals(self.finder.verdict(g, h, [self._between(main, g, h)]))
            if len(ways) != 1 or not self.finder.same(g, ways[0].motion, self._between(main, g, h)):
                main = self._main([g, h])
        gone = False
        while len(main.members) > 1:
            bad: list[tuple[float, int]] = []
            for u, m in main.members.items():
                if u in self.fixed:
                    continue
                rest = {i: k for i, k in main.members.items() if i != u}
                body = self._body(rest)
                if len(rest) == 1:  # which may lie where it was seen, or be held elsewhere
                    o = next(iter(rest))
                    m = body.members[o].after(rest[o].inverse()).after(m)
                e = weigh(self.singles[u].witness, body.witness, m, _OFF * self.pitch)
                if (
                    self.finder.refutes(e)
                    or not self.finder.enough(e)
                    or not self.finder.stays(self.singles[u], body, m)
                    or (gone and len(rest) == 1 and not self._is_only_way(u, body, m))
                ):
                    bad.append((e.worth - 1e6 * e.tells, u))
            if not bad:
                break
            _, u = min(bad)
            gone = True
            main = self._without(main, u)
        aside = standing_out(self.singles, main.members) if self.finder.whole_looks else []
        if aside := [u for u in aside if u not in self.fixed][:1]:
            self.outside |= set(aside)
            return self._checked(self._without(main, aside[0]))
        open_ = untold(self.finder, main, set(self.fixed)) if len(main.members) > 1 else set()
        self.untold |= open_
        if open_ and len(open_) < len(main.members):
            main = self._body({i: k for i, k in main.members.items() if i not in open_})
            self.kept.append(main)
        return main

    def _without(self, main: Body, u: int) -> Body:
        rest = self._body({i: k for i, k in main.members.items() if i != u})
        self.kept.append(rest)
        return rest

    def _is_only_way(self, u: int, body: Body, motion: RigidMotion) -> bool:
        """Whether a scan lies on another so and in no other way, for what spoke for that may be gone."""
        self.kept.append(body)
        ways = self.finder.rivals(self.verdict(self.singles[u], body))
        return len(ways) == 1 and self.finder.same(self.singles[u], ways[0].motion, motion)

    def _between(self, main: Body, g: Body, h: Body) -> RigidMotion:
        """From the one part's frame to the other's, as the whole has them."""
        i, j = min(g.members), min(h.members)
        into_main = main.members[i].after(g.members[i].inverse())
        return main.members[j].after(h.members[j].inverse()).inverse().after(into_main)

    def _told(self, main: Body) -> Placed:
        """Motions into the frame of the first scan, and why each other scan is left out."""
        first = min(self.fixed) if self.fixed else min(main.members)
        back = RigidMotion.identity() if self.fixed else main.members[first].inverse()
        motions = {i: back.after(m) for i, m in sorted(main.members.items())}
        # What stays stays to the last digit.
        motions |= self.fixed or {first: RigidMotion.identity()}
        refused = {}
        for u in range(len(self.singles)):
            if u not in motions:
                r = _refusal(self.finder, self.verdict(self.singles[u], main))
                reason, why = ("ambiguous", _TURNED) if u in self.untold else (r.reason, r.why)
                if u in self.outside:
                    reason, why = "contradicted", _OUTSIDE
                refused[u] = Refused(reason, why, [back.after(w) for w in r.ways], r.evidence)
        return Placed(first, motions, refused, self.pitch)


def _name(b: Body) -> str:
    return f"scan {min(b.members) + 1}" if len(b.members) == 1 else f"{len(b.members)} scans"


def _refusal(finder: Finder, v: Verdict) -> Refused:
    """Why a scan is left out, from its likeliest ways against the placed scans."""
    near = finder.rivals(v)
    if len(near) > 1:
        why = (
            f"It fits in {len(near)} ways that the other scans cannot tell apart: the part repeats itself there. "
            "Place it by three pairs, or bring a scan that shows what breaks the symmetry."
        )
        return Refused("ambiguous", why, [w.motion for w in near], [w.evidence for w in near])
    told = sorted(
        v.ways, key=lambda w: (finder.refutes(w.evidence), -w.evidence.strength(finder.noise), -w.evidence.worth)
    )
    if told and told[0].evidence.agree > 0:
        e = told[0].evidence
        best = [w.motion for w in told[:3]], [w.evidence for w in told[:3]]
        if finder.refutes(e) and e.agree > LEAST_SHARE * e.least:
            against, or_ = "stands where others saw through, or is missed where they saw it", ""
            if not e.refuted and e.warp > finder.most_warp:
                against = f"is bent otherwise there, {e.rms:.3f} mm (rms) off, too evenly for noise"
            elif not e.refuted:
                against = f"juts out, {e.unseen:.0%} of it, where another scan saw nothing"
                or_ = " If one of them was cut, place it by three pairs."
            why = (
                f"In its best place it agrees over {e.agree:.0f} mm² but {against}: "
                "it shows another part, another side of it, or a part that has changed." + or_
            )
            return Refused("contradicted", why, *best)
        if e.rms >= STRAINED * e.explained(finder.noise) and e.agree > LEAST_SHARE * e.least:
            why = (
                f"In its best place it lies {e.rms:.3f} mm (rms) from the other scans, more than "
                f"noise explains ({e.explained(finder.noise):.3f} mm): "
                "it shows another part, or a part that has changed."
            )
            return Refused("contradicted", why, *best)
        if e.agree > LEAST_SHARE * e.least and not finder.refutes(e):
            why = (
                f"It shares {min(e.overlap, 1):.0%} with the other scans, but nothing there holds it "
                "against sliding or turning, "
                "so that its place would be luck. Place it by three pairs, or bring a scan that "
                "shows more of the same features."
            )
            return Refused("not held", why, *best)
        why = (
            f"Its best place shares only {e.overlap:.0%} of it with the other scans; too little to be sure. "
            "Place it by three pairs, or bring a scan between."
        )
        return Refused("little overlap", why, *best)
    return Refused(
        "stranger",
        "Nothing on it lies like anything on the other scans; it shows another part, or another side of it.",
        [],
        [],
    )
