"""In which ways one body of scans may lie on another: found, settled, weighed, and each asked for its symmetric
siblings.

Agreement does not decide between the ways of a part that repeats itself; contradiction does. So all ways that pass
count, however
much less they share, and for the best its siblings are made on purpose: by the motions under which either body nearly
lies
on itself.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from ..elements import RigidMotion
from .bodies import Body
from .candidates import candidates, distinct
from .evidence import OUTLINED, Evidence, weigh
from .lookup import closer, score
from .settle import LEVER, settle_onto, small_motion
from .turns import Axis, round_axis, shared_axis, turned_ways, turns_about

__all__ = ["Way", "Verdict", "Finder", "LEAST_HOLD", "LEAST_SHARE", "STRAINED"]

LEAST_SHARE = 0.13  # of the smaller body that must be seen by the other too
LEAST_HOLD = 0.00033  # of the smaller body's area that must hold it in the way it is held least
_FIRMLY = 0.01  # of the smaller body's area: a hold that needs no outline
_NEARLY_WHOLE = 0.9  # of the smaller of two bodies, shared
_NEARLY = 0.25  # of the best way's strength: another as strong is as good
STRAINED = 2.0  # times what noise explains that settled bodies may lie apart
# of the best way's agreeing area: a way that shares so much and is not contradicted leaves it open which is right
_RIVAL = 0.3
_SETTLED = 8  # ways that are settled
_SETTLED_BY = 800  # places each way that a way is settled by
_PER_PAIR = 24  # ways of two scans that are remembered
_SELF = 0.25  # of a scan that lies on itself under a motion that makes siblings
_SIBLINGS = 14
_AXES = 2  # that a way is turned about
_LOOSE = 0.2  # pitches that a way settled roughly may be off
# ways in which a body is held least, pitches that it is pushed aside in each, and the part of it that it may stay away
_LOOSEST, _PUSHED, _RETURNS = 2, 0.4, 0.35
# of short waves: long ones that no true placement leaves, at least, and times what the surest pairs have
_WARPED, _WARPED_MORE = 0.8, 1.6
_LOOSELY = 0.03  # of a scan's few places that may jut or stand where it saw through, roughly turned onto itself
_WIDER = 2.3  # two looks at one place, in scatters of one seen locally


@dataclass(eq=False)
class Way:
    """A motion of one body into the frame of another, and what is said of it."""

    motion: RigidMotion
    evidence: Evidence
    sibling: bool = False  # of another way, by a motion under which a scan lies on itself


@dataclass(eq=False)
class Verdict:
    """``ways``: settled, distinct, the likeliest first."""

    ways: list[Way] = field(default_factory=list)
    single: bool = False  # of one scan on one other


class Finder:
    """Ways of bodies on bodies, remembered. ``noise`` mm is the distance that settled looks at one place lie apart."""

    def __init__(self, singles: list[Body], noise: float | None, pool: ThreadPoolExecutor):
        self.singles = singles
        self.pool = pool
        self.pitch = singles[0].ready.pitch
        self.pairs: dict[tuple[int, int], list[RigidMotion]] = {}
        self.selves: dict[int, list[RigidMotion]] = {}
        # Of these, the turns by which what is round repeats itself: seldom held, but told from all others beside them.
        self.repeats: dict[int, list[RigidMotion]] = {}
        self.axes: dict[int, Axis] = {}  # about which these turn
        # Two looks at one place differ by more than one look's local scatter shows: part of the noise is wider than a
        # look.
        # How much, the surest pairs tell, see `learn_noise`; stated, it is known.
        self.stated = noise is not None
        self.scatter = float(np.median([b.seen.noise for b in singles]))
        self.noise = np.sqrt(2) * noise if noise else _WIDER * self.scatter
        self.most_warp = np.inf  # until the surest pairs have told
        self.whole_looks = False  # whether they fill each other's outlines: the same

    def learn_noise(self, verdicts: list[Verdict]) -> None:
        """The distance left between settled scans, how much of it lies in long waves, and whether scans fill each
        other's outlines, from the best way of each of the pairs that hold best.
        """
        best = [
            w.evidence for v in verdicts for w in v.ways[:1] if self.enough(w.evidence) and not self.refutes(w.evidence)
        ]
        surest = sorted(best, key=lambda e: -e.strength(self.noise))[: max(2, len(self.singles) - 1)]
        if not surest:
            return
        # Whether any way of a pair fills both outlines, which few wrong ones do, and not whether the firmest does.
        filled = [f for v in verdicts if (f := self._filled(v)) is not None]
        self.whole_looks = sum(filled) >= max(0.5 * len(filled), 1)  # none was cut
        told = [e.warp for e in surest if e.warp > 0]
        if told:
            # Of a tube half of the surest may be half-turned; scans whose noise is wide all have much.
            self.most_warp = max(_WARPED, _WARPED_MORE * float(np.quantile(told, 0.25)))
        if not self.stated:
            left = float(np.median([np.sqrt(max(e.rms**2 - e.grain**2, 0)) for e in surest]))
            self.noise = float(np.clip(1.05 * left, 1.4 * self.scatter, self.noise))

    def _filled(self, v: Verdict) -> bool | None:
        """Whether in any of the ways that are enough each scan fills the other's outline; None where none is enough."""
        may = [w.evidence for w in v.ways if self.enough(w.evidence) and not w.evidence.refuted]
        return any(e.unseen < OUTLINED for e in may) if may else None

    def refutes(self, e: Evidence) -> bool:
        """Whether what is said speaks against a placement: contradicted, bent otherwise than the other, or jutting out
        of an outline where the surest of all do not, though not where faces hold it so firmly that it may be a look at
        a part of the part.
        """
        juts = self.whole_looks and e.juts and e.hold < _FIRMLY * e.least
        return e.refuted or e.warp > self.most_warp or juts

    def enough(self, e: Evidence) -> bool:
        """Whether so much agrees, and so well, that the body may lie there."""
        return (
            e.agree > LEAST_SHARE * e.least
            and e.rms < STRAINED * e.explained(self.noise)
            and e.strength(self.noise) > LEAST_HOLD * e.least
        )

    def open_ways(self, v: Verdict) -> list[Way]:
        """The ways that nothing speaks against, held or not, firmest first."""
        sound = [
            w for w in v.ways if not self.refutes(w.evidence) and w.evidence.agree > LEAST_SHARE * w.evidence.least
        ]
        most = max((w.evidence.agree for w in sound), default=0.0)
        sound = [w for w in sound if w.evidence.agree > _RIVAL * most]
        if any(w.evidence.outlined for w in sound):
            # Where in one way each fills the outline of the other, ways in which they jut out of it are none.
            sound = [w for w in sound if not w.evidence.juts]
        return sorted(sound, key=lambda w: -w.evidence.strength(self.noise))

    def rivals(self, v: Verdict) -> list[Way]:
        """The best way, if it is enough, and all others that might as well be right."""
        sound = self.open_ways(v)
        if not sound or not self.enough(sound[0].evidence):
            return []
        first = sound[0]
        rest = [w for w in v.ways if w is not first and not self.refutes(w.evidence)]
        if any(w.evidence.outlined for w in sound):
            rest = [w for w in rest if not w.evidence.juts]
        # A scan that shows nearly what others do may as well be a look at the opposite side that is alike: to share
        # little with what is placed refutes nothing.
        alike = v.single or first.evidence.overlap > _NEARLY_WHOLE
        least = _NEARLY * first.evidence.strength(self.noise)
        return [
            first,
            *(
                w
                for w in rest
                if (w.sibling and alike and not w.evidence.juts)
                or (w in sound and (self.enough(w.evidence) or w.evidence.strength(self.noise) > least))
            ),
        ]

    # Ways.

    def pair(self, a: int, b: int) -> list[RigidMotion]:
        """Rough ways scan ``a`` may lie on scan ``b``, likeliest first."""
        if (a, b) in self.pairs:
            return self.pairs[a, b]
        if (b, a) in self.pairs:
            return [m.inverse() for m in self.pairs[b, a]]
        x, y = self.singles[a], self.singles[b]
        poses, _ = candidates(x.ready, y.ready, lambda p: self.said(x, y, p))
        self.pairs[a, b] = [RigidMotion(p) for p in poses[:_PER_PAIR]]
        return self.pairs[a, b]

    def search(self, g: Body, h: Body) -> list[RigidMotion]:
        """Rough ways of a body on another, looked for anew with all that each shows."""
        poses, _ = candidates(g.ready, h.ready, lambda p: self.said(g, h, p), seed=2)
        return [RigidMotion(p) for p in poses[:_PER_PAIR]]

    def said(self, g: Body, h: Body, poses: np.ndarray) -> np.ndarray:
        """How many of a few places of either body lie where the other saw through, for placements (k, 4, 4); to within
        a pitch.
        """
        noise = float(np.hypot(g.seen.noise, h.seen.noise))
        out = np.zeros(len(poses))
        for x, y, turned in ((g, h, poses), (h, g, np.linalg.inv(poses))):
            p = x.ready.scoring.points
            if y.witness.sights:
                at = (p @ turned[:, :3, :3].transpose(0, 2, 1) + turned[:, None, :3, 3]).reshape(-1, 3)
                out += y.witness.through(at, noise, self.pitch).reshape(len(poses), -1).sum(axis=1)
        return out

    def rough_ways(self, g: Body, h: Body) -> list[RigidMotion]:
        """The ways that pairs of their members suggest."""
        return [
            h.members[b].after(m).after(g.members[a].inverse())
            for a in g.members
            for b in h.members
            for m in self.pair(a, b)
        ]

    def verdict(self, g: Body, h: Body, more: list[RigidMotion] | None = None) -> Verdict:
        """All ways of ``g`` on ``h`` that are worth a look, settled and weighed, with the siblings of the best."""
        ways = self._settled(g, h, self._screened(g, h, self.rough_ways(g, h) + (more or []), _SETTLED))
        for w in self.open_ways(Verdict(ways))[:1]:
            turned = self._screened(g, h, self._turned(g, h, w.motion), _SETTLED, ways)
            ways = self._distinct(g, ways + self._settled(g, h, turned))
        best = self.open_ways(Verdict(ways))[:2]
        for w in best:
            siblings = self._siblings(g, h, w.motion)
            known = [o for o in ways if any(self.same(g, o.motion, m) for m in siblings)]
            for o in known:
                o.sibling = True
            # A sibling may share nothing with the other body: it is no less likely for that.
            new = [m for m in siblings if not any(self.same(g, m, o.motion) for o in ways)]
            if new:
                poses = np.array([m.matrix for m in new])
                new = [new[k] for k in distinct(poses, -self.said(g, h, poses), g.some, 1.0 * self.pitch, _SIBLINGS)]
            ways = self._distinct(g, ways + list(self.pool.map(lambda m: self.sibling(g, h, m), new)))
        order = lambda w: (self.refutes(w.evidence), -w.evidence.strength(self.noise), -w.evidence.worth)  # noqa: E731
        return Verdict(sorted(ways, key=order), len(g.members) == len(h.members) == 1)

    def _screened(
        self, g: Body, h: Body, motions: list[RigidMotion], most: int, but: list[Way] | None = None
    ) -> list[RigidMotion]:
        """The likeliest of some ways by few places, drawn closer; none that is known already."""
        if not motions:
            return []
        poses = closer(h.ready.at, np.array([m.matrix for m in motions]), g.ready.scoring)
        marks = score(h.ready.at, poses, g.ready.scoring)
        said = self.said(g, h, poses)
        alike = 1.0 * self.pitch
        kept: list[int] = []
        for worth in (
            marks[:, 0] - 2.5 * marks[:, 1] - 6 * said,
            marks[:, 0] - 25 * marks[:, 1] - 25 * said,
            marks[:, 0] - marks[:, 1],
        ):
            kept += distinct(poses, worth, g.some, alike, most).tolist()[: max(most // 2, 4)]
        least = 0.5 * _RIVAL * float(marks[kept, 0].max(initial=0.0))
        out = [RigidMotion(poses[k]) for k in dict.fromkeys(kept) if marks[k, 0] > least]
        return [m for m in out if not any(self.same(g, m, w.motion, 0.7) for w in but or [])]

    def _settled(self, g: Body, h: Body, motions: list[RigidMotion]) -> list[Way]:
        return self._distinct(g, [w for w in self.pool.map(lambda m: self._fine(g, h, m), motions) if w is not None])

    def _fine(self, g: Body, h: Body, m: RigidMotion) -> Way | None:
        still = RigidMotion.identity()
        fine, _, rms = settle_onto(g.seen, m, [(h.seen, still)], reach=0.8 * self.pitch, count=_SETTLED_BY, rounds=16)
        if not np.isfinite(rms):
            return None
        return Way(fine, weigh(g.witness, h.witness, fine, _LOOSE * self.pitch))

    def sibling(self, g: Body, h: Body, m: RigidMotion) -> Way:
        """A sibling settled; as it was made where it shares too little to be settled, or slides away."""
        best = self._fine(g, h, m)
        if best is None or not self.same(g, best.motion, m):
            best = Way(m, weigh(g.witness, h.witness, m, 0.5 * self.pitch))
        best.sibling = True
        return best

    def _distinct(self, g: Body, ways: list[Way]) -> list[Way]:
        """One of each: of ways that lie next to each other the least contradicted."""
        out: list[Way] = []
        for w in sorted(ways, key=lambda w: (w.evidence.tells, -w.evidence.strength(self.noise), -w.evidence.worth)):
            near = next((o for o in out if self.same(g, w.motion, o.motion)), None)
            if near is None:
                out.append(w)
            else:
                near.sibling |= w.sibling
        return out

    def same(self, g: Body, a: RigidMotion, b: RigidMotion, pitches: float = 1.5) -> bool:
        return _apart(a.points(g.some), b.points(g.some)) < pitches * self.pitch

    def stays(self, g: Body, h: Body, way: RigidMotion) -> bool:
        """Whether a settled body that is pushed aside in the ways in which it is held least comes back when it is
        settled again. Flats let it lie wherever it is put, however well they agree.
        """
        to = [(h.seen, RigidMotion.identity())]
        lever = LEVER * g.seen.span
        scale = np.array([lever, lever, lever, 1.0, 1.0, 1.0])
        settle = partial(settle_onto, g.seen, fixed=to, reach=0.8 * self.pitch, count=_SETTLED_BY)
        at, info, rms = settle(way)
        if not np.isfinite(rms):
            return False
        there = at.points(g.some)
        # Small turns at every size, so that what they move grows with them.
        loose = 0.01 * lever * np.linalg.eigh(info / np.outer(scale, scale))[1][:, :_LOOSEST].T / scale

        def returns(x: np.ndarray) -> bool:
            aside = small_motion(x, at.points(g.seen.centre)).after(at)
            pushed = _apart(aside.points(g.some), there)
            aside = small_motion(x * _PUSHED * self.pitch / pushed, at.points(g.seen.centre)).after(at)
            return _apart(settle(aside)[0].points(g.some), there) < _RETURNS * _PUSHED * self.pitch

        return all(self.pool.map(returns, [x * sign for x in loose for sign in (1, -1)]))

    # Siblings.

    def _turned(self, g: Body, h: Body, way: RigidMotion) -> list[RigidMotion]:
        """The way turned about the axis of what is round, wherever that agrees too."""
        axes = [_moved(h.members[i], a) for i, a in self.axes.items() if i in h.members]
        axes += [_moved(way.after(g.members[i]), a) for i, a in self.axes.items() if i in g.members]
        said = lambda poses: self.said(g, h, poses)  # noqa: E731
        return [m for a in axes[:_AXES] for m in turned_ways(g, h, way, a, self.pitch, said, _SIBLINGS)]

    def _siblings(self, g: Body, h: Body, way: RigidMotion) -> list[RigidMotion]:
        """The way with either body turned onto itself first."""
        out = []
        for i, m in g.members.items():
            out += [way.after(m).after(s).after(m.inverse()) for s in self.selves.get(i, [])]
        for i, m in h.members.items():
            out += [m.after(s).after(m.inverse()).after(way) for s in self.selves.get(i, [])]
        return out

    def find_selves(self, i: int) -> None:
        """The motions under which a scan nearly lies on itself: found on itself, what two of its ways on another scan
        differ by, and
        their repeats."""
        b = self.singles[i]
        axis = round_axis(b.ready.scoring.points, b.ready.scoring.normals, self.pitch)
        if axis is not None:
            self.axes[i] = axis
        found: list[RigidMotion] = []
        for o in range(len(self.singles)):
            if o == i or ((i, o) not in self.pairs and (o, i) not in self.pairs):
                continue
            ways = self.pair(i, o)[:8]
            found += [y.inverse().after(x) for x in ways for y in ways if x is not y]
        poses, _ = candidates(b.ready, b.ready, lambda p: self.said(b, b, p), seed=3)
        found += [RigidMotion(p) for p in poses[:_PER_PAIR]]
        if not found:
            self.selves[i] = []
            return
        best = self._best_selves(b, closer(b.ready.at, np.array([m.matrix for m in found]), b.ready.scoring), 10)
        again = [best]
        for _ in range(4):
            again.append(again[-1] @ best)
        poses = self._best_selves(b, closer(b.ready.at, np.concatenate(again), b.ready.scoring), _SIBLINGS)
        still = RigidMotion.identity()
        turns = self._turns(b, [RigidMotion(p) for p in poses])
        moved = [m for m in map(RigidMotion, poses) if not any(self.same(b, m, o) for o in [still, *turns])] + turns
        self.selves[i] = [m for m, ok in zip(moved, self.pool.map(lambda m: self._keeps(b, m), moved)) if ok]
        self.repeats[i] = [m for m in turns if any(m is o for o in self.selves[i])]

    def _turns(self, b: Body, motions: list[RigidMotion]) -> list[RigidMotion]:
        """The turns by which what is round but for its features repeats itself, where some motions share an axis."""
        axis = shared_axis(motions, b.seen.centre, self.pitch)
        if axis is None:
            return []
        self.axes.setdefault(min(b.members), axis)
        return turns_about(
            b, axis, self.pitch, 2 * _LOOSE * self.pitch, lambda poses: self.said(b, b, poses), _SIBLINGS
        )

    def _keeps(self, b: Body, m: RigidMotion) -> bool:
        """Whether a scan may lie on itself so: as drawn, for such a motion is often hardly held and slides, and settled
        where it stays.
        """
        drawn = weigh(b.witness, b.witness, m, 2 * _LOOSE * self.pitch)
        if drawn.blocked or drawn.juts:
            return False
        fine = self._fine(b, b, m)
        return fine is None or not self.same(b, fine.motion, m) or not self.refutes(fine.evidence)

    def _best_selves(self, b: Body, poses: np.ndarray, most: int) -> np.ndarray:
        if not len(poses):
            return poses
        agree = score(b.ready.at, poses, b.ready.scoring)[:, 0] / max(len(b.ready.scoring.points), 1)
        at = b.some @ poses[:, :3, :3].transpose(0, 2, 1) + poses[:, None, :3, 3]
        moved = np.sqrt(((at - b.some) ** 2).sum(axis=2).mean(axis=1))
        ok = np.nonzero((agree > _SELF) & (moved > 1.5 * self.pitch))[0]
        # One that makes the scan jut out of its own outline, or stand where it saw through, is no symmetry.
        s = b.ready.scoring
        jut = [
            float(b.witness.unseen(m.points(s.points), m.vectors(s.normals)).mean())
            for m in map(RigidMotion, poses[ok])
        ]
        ok = ok[(np.array(jut) < _LOOSELY) & (self.said(b, b, poses[ok]) < _LOOSELY * len(s.points))] if len(ok) else ok
        if not len(ok):
            return np.zeros((0, 4, 4))
        return poses[ok[distinct(poses[ok], agree[ok], b.some, 1.0 * self.pitch, most)]]


def _moved(m: RigidMotion, axis: Axis) -> Axis:
    return m.points(axis[0]), m.vectors(axis[1])


def _apart(p: np.ndarray, q: np.ndarray) -> float:
    """Distance between places (k, 3) and the same moved, rms, mm."""
    return float(np.sqrt(((p - q) ** 2).sum(axis=1).mean()))
