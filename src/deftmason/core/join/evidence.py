"""What speaks for and against a placement of one scan on another, judged at the scans' own noise.

For: area seen by both, at the same place and facing the same way. Against: area where one shows a surface that the
other, which saw
all around that place, would have shown too, or that would have stood in the other's line of sight. A few stray points
speak
for nothing: only contradictions that hang together count.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .lookup import sample_of
from .matching import end_matches, end_reach
from .nearest import closest
from .seen import Seen
from .sight import Sight
from .warp import warp

__all__ = ["Witness", "Evidence", "weigh", "seen_through", "JUTS", "JUTS_SURELY", "OUTLINED"]

_FACING = 0.8
_PENALTY = 300.0  # what contradicted area costs, in agreeing area: stray points are no contradiction, so any is a sign
_MISSED = (
    25.0  # the same of missing area: scanners leave holes of their own too, though seldom where another scan has none
)
_UNSTRAINED = 1.7  # times the squared distance that noise explains: small bends add that much
_STRAIN = 2.0  # how fast a placement loses by lying farther apart than noise explains
_NEAR = 4.0  # scatters within which what agrees holds
_EDGE = 0.25  # spacings that neighbours scatter, beyond noise, where faces meet
_FIRMER = 3.0  # times what holds at smooth places counts for more than what holds at edges too
_ERRORS = 2.0  # standard errors taken off what two looks both hold
_GRAIN = 9.0  # places whose noise counts as one
_FEIGNED = 2.0  # times the noise of normals that is taken off what they hold
_BENT = 2.0  # a part's bends, in its spans
_END_WIDTH = 0.07  # pitches of the strip along a face's end that holds as much as the end does
_SIGHT_NOISES = 9.0  # scatters of both scans that a place must lie ahead of what was seen behind it
_SURE_EYE, _STRAY = 0.01, 1e-4  # lean of an eye whose every ray speaks, and of all places those that stray before it
_TOGETHER = 0.6  # of a place's neighbours that are contradicted too: what hangs together
OUTLINED = 0.005  # of a scan that may lie on rays along which a look at the whole part saw nothing
# of a body that juts out of an outline that it is known to fill: as one's eye is hardly, or surely, known
JUTS, JUTS_SURELY = 0.03, 0.006
_ELSEWHERE = 12.0  # degrees between two looks whose outlines say something of each other
_TELLING, _TELLING_SURELY = 4, 3  # contradicted places: more than chance leaves of a true placement, the same two
# scatters of both scans, seen locally, that two looks at one place may differ: much of the noise is wider than a look
_NOISES = 6.0


@dataclass(frozen=True)
class Evidence:
    """Areas in mm²: ``agree`` seen by both, ``against`` contradicted, ``missing`` shown by one where the other has a
    hole it
    should have seen it in; ``rms`` of the distances where they agree, mm; ``least``
    the smaller of the two scans' areas; ``hold`` how much of what agrees holds the scan in the way it is held least,
    see `_hold`;
    of several others together, the sum, which is on the safe side; ``grain`` what sparse points of a curved surface
    alone lie apart, mm;
    ``tells`` how many places that hang together lie where the other saw through; ``unseen`` the larger share of either
    that lies on rays along
    which the other saw nothing at all; ``turned`` the least angle between a look at the one and a look at the other,
    degrees; ``warp`` how far they lie apart in long waves by the short ones, see `warp`; ``sure`` whether it is known
    whence both looked, so that a true placement leaves next to nothing seen through or outside of an outline."""

    agree: float
    against: float
    missing: float
    rms: float
    least: float
    hold: float
    grain: float = 0.0
    tells: int = 0
    unseen: float = 0.0
    turned: float = 0.0
    warp: float = 0.0
    sure: bool = False

    @property
    def juts(self) -> bool:
        """Whether one juts out of the outline that the other saw, if that is the whole part's."""
        return self.unseen > (JUTS_SURELY if self.sure else JUTS)

    @property
    def outlined(self) -> bool:
        """Whether each fills just the outline that the other shows from elsewhere: what few wrong ways do."""
        return self.unseen < OUTLINED and self.turned > _ELSEWHERE

    @property
    def blocked(self) -> bool:
        """Whether what one shows stands where the other saw through: near certain, and the more so the more of it hangs
        together.
        """
        return self.tells > (_TELLING_SURELY if self.sure else _TELLING)

    @property
    def refuted(self) -> bool:
        """Whether blocked, or one shows a surface beside one that the other shows there; to share nothing refutes
        nothing.
        """
        return self.blocked or self.worth < 0

    @property
    def overlap(self) -> float:
        """Share of the smaller scan that the other saw too."""
        return self.agree / max(self.least, 1e-12)

    @property
    def worth(self) -> float:
        """Agreeing area less what contradicted area costs, mm²; below 0 the placement is refuted."""
        return self.agree - _PENALTY * self.against - _MISSED * self.missing

    def explained(self, noise: float) -> float:
        """Distance that ``noise`` mm and the points' sparseness explain."""
        return float(np.hypot(noise, self.grain))

    def strength(self, noise: float) -> float:
        """How firmly the placement is borne out: what holds it, less where contradicted or where what agrees lies
        farther apart than ``noise`` mm explains."""
        if self.agree <= 0 or self.worth <= 0:
            return 0.0
        strain = max((self.rms / max(self.explained(noise), 1e-12)) ** 2 - _UNSTRAINED, 0.0)
        return self.hold * self.worth / self.agree * float(np.exp(-_STRAIN * strain))


def _hold(
    x: np.ndarray,
    n: np.ndarray,
    other: np.ndarray,
    r: np.ndarray,
    each: np.ndarray,
    least: float,
    ends: tuple[np.ndarray, np.ndarray, np.ndarray],
) -> float:
    """How much places (k, 3) with normals ``n`` on the one scan and ``other`` on the other, ``r`` mm apart, hold in the
    way they hold least,
    turning measured at their own radius; mm².

    Only what lies as near as most do holds: where two shapes are alike by chance, it is at the features, which alone
    keep a scan from sliding, that they differ most. What share is lost so counts once more. Noise in normals feigns a
    hold in ways that no surface holds. What two looks at one place both say is free of it: their noises are not alike,
    so that of what the one's normals hold times what the other's do noise leaves nothing but chance, of which two
    standard errors are taken off. Where edges hold, whose normals no two looks have alike, the one's own hold less what
    all normals' noise feigns may be more. Faces' ``ends`` (places, ways out, mm² each), where both looks have them,
    hold too.
    """
    if len(x) < 6:
        return 0.0
    c = np.average(x, axis=0, weights=each)
    j, k = (np.column_stack([np.cross(x - c, m), m]) for m in (n, other))
    radius = np.sqrt(max(float(each @ (j[:, :3] ** 2).sum(axis=1)) / each.sum(), 1e-12))
    j[:, :3] /= radius
    k[:, :3] /= radius
    scatter = max(1.4826 * float(np.median(r)), least)
    near = each * np.clip(1 - (r / (_NEAR * scatter)) ** 2, 0, None) ** 2
    # Of a squared difference of two normals a quarter is one normal's, in one of the two ways across.
    feigned = _FEIGNED * float(np.median(np.einsum("ij,ij->i", n - other, n - other))) / (4 * 0.69)
    e = np.column_stack([np.cross(ends[0] - c, ends[1]) / radius, ends[1]])
    held = (e * ends[2][:, None]).T @ e
    own = [float(np.linalg.eigvalsh((j * w[:, None]).T @ j + held)[0]) - feigned * float(w.sum()) for w in (each, near)]
    both = [_both_hold(j, k, w, held) for w in (each, near)]
    return max(_nearest_hold(*own), _nearest_hold(both[0][0], both[1][0] - _ERRORS * both[1][1]))


def _nearest_hold(all_of_it: float, nearest: float) -> float:
    """What is held, mm², of what all places hold and the nearest of them."""
    return nearest**2 / max(all_of_it, nearest) if nearest > 0 else 0.0


def _both_hold(j: np.ndarray, k: np.ndarray, w: np.ndarray, held: np.ndarray) -> tuple[float, float]:
    """What two looks (n, 6) at places of weights (n,) both hold, and faces' ends (6, 6), in the way they hold least,
    and its standard error.
    """
    m = (j * w[:, None]).T @ k + held
    values, ways = np.linalg.eigh(0.5 * (m + m.T))
    a, b = j @ ways[:, 0], k @ ways[:, 0]
    noise = 0.5 * (a - b) ** 2
    error = np.sqrt(_GRAIN * float(w**2 @ noise**2)) + np.sqrt(_GRAIN * float(w**2 @ (noise * (0.5 * (a + b)) ** 2)))
    return float(values[0]), float(error)


@dataclass
class Witness:
    """A scan, or several placed ones as one, as a witness: even points to be judged, ``pitch`` mm apart, and what each
    scan saw in front of itself
    with the motion into that scan's own coordinates."""

    seen: Seen
    pitch: float
    sights: list[tuple[Sight, RigidMotion]] = field(default_factory=list)

    @staticmethod
    def of(seen: Seen, pitch: float) -> Witness:
        sight = Sight.of(seen)
        return Witness(seen, pitch, [] if sight is None else [(sight, RigidMotion.identity())])

    @cached_property
    def sample(self):
        return sample_of(self.seen, self.pitch)

    @cached_property
    def neighbours(self) -> np.ndarray:
        """The nearest six of the sample to each of it."""
        return _six(self.sample.points)

    @cached_property
    def all_neighbours(self) -> np.ndarray:
        """The same of all points."""
        return _six(self.seen.points)

    @cached_property
    def bent(self) -> np.ndarray:
        """How much more each of the sample scatters than noise does: bends and edges, mm."""
        return np.maximum(self.sample.rough - self.seen.noise, 0)

    @cached_property
    def inner(self) -> np.ndarray:
        """Which of the sample were seen well around."""
        return self.sample.rim > 3 * self.seen.spacing

    @cached_property
    def all_bent(self) -> np.ndarray:
        """`bent` of all points of the scan."""
        return np.maximum(self.seen.rough - self.seen.noise, 0)

    @cached_property
    def all_inner(self) -> np.ndarray:
        """`inner` of all points of the scan."""
        return self.seen.rim > 3 * self.seen.spacing

    @cached_property
    def each(self) -> float:
        """Area one point of the sample stands for, mm²."""
        return self.seen.area / max(len(self.sample.points), 1)

    def prepare(self) -> None:
        """All that is asked of it worked out, before several threads ask."""
        _ = (
            self.sample,
            self.neighbours,
            self.all_neighbours,
            self.bent,
            self.inner,
            self.all_bent,
            self.all_inner,
            self.seen.nearest,
        )

    def through(self, points: np.ndarray, noise: float, loose: float) -> np.ndarray:
        """Which places (k, 3) any of its sights saw through, by more than noise and ``loose`` mm."""
        out = np.zeros(len(points), bool)
        slack = np.full(len(points), _SIGHT_NOISES * noise + loose)
        for sight, into in self.sights:
            out |= sight.through(into.points(points), slack)
        return out

    def unseen(self, points: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """Which places (k, 3) lie on rays along which one of its sights saw nothing."""
        out = np.zeros(len(points), bool)
        for sight, into in self.sights:
            out |= sight.unseen(into.points(points), into.vectors(normals))
        return out

    @property
    def sure(self) -> bool:
        """Whether it is known whence all of it was looked at."""
        return bool(self.sights) and all(sight.eye.lean <= _SURE_EYE for sight, _ in self.sights)

    def looks(self) -> np.ndarray:
        """Directions (k, 3) to the eyes."""
        return np.array([into.inverse().vectors(sight.eye.toward) for sight, into in self.sights]).reshape(-1, 3)

    def missed(self, points: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """Which places (k, 3) with normals lie in a hole of one of its sights though nothing stood before them."""
        out = np.zeros(len(points), bool)
        for sight, into in self.sights:
            out |= sight.missed(into.points(points), into.vectors(normals))
        return out


def _six(p: np.ndarray) -> np.ndarray:
    from scipy.spatial import cKDTree

    return cKDTree(p).query(p, k=min(7, len(p)), workers=-1)[1][:, 1:]


@njit(cache=True, nogil=True)
def _judged(
    x,
    n,
    bent,
    inner,
    p,
    order,
    start,
    dims,
    low,
    cell,
    q,
    m,
    q_bent,
    q_inner,
    reach,
    near,
    noise,
    most,
    agree,
    against,
    apart,
    at,
):  # pragma: no cover - compiled
    """Which places ``x`` with normals ``n`` agree with the points ``q``, and which contradict them; the distance where
    they agree (elsewhere
    the one up to which they would), and the point each agrees with; into the last four."""
    for i in range(x.shape[0]):
        first, second, d1, d2 = closest(p, start, dims, low, cell, x[i, 0], x[i, 1], x[i, 2], reach)
        slack = noise + min(bent[i] + (q_bent[order[first]] if first >= 0 else 0.0), most)
        apart[i] = slack
        if first < 0:
            continue
        j = order[first]
        h = (x[i, 0] - q[j, 0]) * m[j, 0] + (x[i, 1] - q[j, 1]) * m[j, 1] + (x[i, 2] - q[j, 2]) * m[j, 2]
        if max(d1 - h * h, 0.0) >= near * near:
            continue
        c = n[i, 0] * m[j, 0] + n[i, 1] * m[j, 1] + n[i, 2] * m[j, 2]
        least = abs(h)
        if second >= 0:
            k = order[second]
            least = min(
                least,
                abs((x[i, 0] - q[k, 0]) * m[k, 0] + (x[i, 1] - q[k, 1]) * m[k, 1] + (x[i, 2] - q[k, 2]) * m[k, 2]),
            )
        if least < slack and c > _FACING:
            agree[i] = True
            at[i] = j
            # Along the mean of both normals two places of one smooth surface are no distance apart, however sparse the
            # points.
            sx, sy, sz = n[i, 0] + m[j, 0], n[i, 1] + m[j, 1], n[i, 2] + m[j, 2]
            along = (x[i, 0] - q[j, 0]) * sx + (x[i, 1] - q[j, 1]) * sy + (x[i, 2] - q[j, 2]) * sz
            apart[i] = min(abs(along) / max(np.sqrt(sx * sx + sy * sy + sz * sz), 0.5), least)
        if inner[i] and q_inner[j] and least > 2 * slack and (c > 0.5 or (h > 0 and c > -0.3)):
            against[i] = True


def _one_way(
    a: Witness, b: Witness, motion: RigidMotion
) -> tuple[float, float, float, np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Agreeing, contradicted and missing area; distances, places and normals of ``b`` that agree, the normals of ``a``
    there, and which are smooth.
    """
    s, other = a.sample, b.seen
    x, n = motion.points(s.points), motion.vectors(s.normals)
    k = len(x)
    agree, against, missing = np.zeros(k, bool), np.zeros(k, bool), np.zeros(k, bool)
    apart, at = np.zeros(k), np.zeros(k, np.int64)
    noise = _NOISES * float(np.hypot(a.seen.noise, other.noise))
    o = other.nearest
    _judged(
        x,
        n,
        a.bent,
        a.inner,
        *o.grid,
        other.points,
        other.normals,
        b.all_bent,
        b.all_inner,
        4 * a.pitch,
        2.0 * other.spacing,
        noise,
        0.3 * (a.seen.spacing + other.spacing),
        agree,
        against,
        apart,
        at,
    )
    if b.sights:
        ask = np.nonzero(~agree & ~against)[0]
        missing[ask] = b.missed(x[ask], n[ask])
    against &= against[a.neighbours].mean(axis=1) > 0.45
    missing &= missing[a.neighbours].mean(axis=1) > 0.45
    at, apart = at[agree], apart[agree]
    smooth = (a.bent[agree] < _EDGE * a.seen.spacing) & (b.all_bent[at] < _EDGE * other.spacing)
    return (
        float(len(at) * a.each),
        float(against.sum() * a.each),
        float(missing.sum() * a.each),
        apart,
        other.points[at],
        other.normals[at],
        n[agree],
        smooth,
    )


def seen_through(a: Witness, b: Witness, motion: RigidMotion, loose: float = 0.0) -> int:
    """How many places of ``a`` lie where ``b`` saw through, those that hang together where it is not sure whence it
    looked, all of them less what chance leaves where it is; ``loose`` mm that the placement may be off.
    """
    if not b.sights:
        return 0
    at = motion.points(a.seen.points)
    slack = np.full(len(at), _SIGHT_NOISES * float(np.hypot(a.seen.noise, b.seen.noise)) + loose)
    inner = a.seen.rim > 0.5 * a.seen.spacing
    sure, unsure = np.zeros(len(at), bool), np.zeros(len(at), bool)
    for sight, into in b.sights:
        into_sight = sight.through(into.points(at), slack) & inner
        if sight.eye.lean <= _SURE_EYE:
            sure |= into_sight
        else:
            unsure |= into_sight
    alone = max(int(sure.sum()) - int(_STRAY * len(at) + 0.5), 0)
    where = np.nonzero(unsure | sure)[0]
    if len(where) <= _TELLING_SURELY:
        return alone
    together = (unsure | sure)[a.all_neighbours[where]].mean(axis=1) > _TOGETHER
    return max(int(together.sum()), alone)


def _ends_both_have(a: Witness, b: Witness, motion: RigidMotion) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places (k, 3) where faces of both end, the ways out (k, 3), and the area (k,) mm² each holds as."""
    reach = end_reach(a.seen, b.seen)
    m = end_matches(a.seen, b.seen, motion, RigidMotion.identity(), reach)
    each = 0.5 * _END_WIDTH * 0.5 * (a.pitch + b.pitch) * 0.5 * (a.seen.spacing + b.seen.spacing)
    return m.q, m.n, each * np.clip(1 - (m.residual / reach) ** 2, 0, None) ** 2


def weigh(a: Witness, b: Witness, motion: RigidMotion, loose: float = 0.0) -> Evidence:
    """What both say of ``a`` lying on ``b`` as ``motion`` has it, to within ``loose`` mm."""
    back = motion.inverse()
    f, g = _one_way(a, b, motion), _one_way(b, a, back)
    agree = 0.5 * (f[0] + g[0])
    each = 0.5 * np.concatenate([np.full(len(f[3]), a.each), np.full(len(g[3]), b.each)])
    r, x, n = (
        np.concatenate([f[3], g[3]]),
        np.vstack([f[4], motion.points(g[4])]),
        np.vstack([f[5], motion.vectors(g[5])]),
    )
    rms = np.sqrt(float(each @ r**2) / max(agree, 1e-12))
    theirs = np.vstack([f[6], motion.vectors(g[6])])
    scatter = 0.5 * float(np.hypot(a.seen.noise, b.seen.noise))
    s = np.concatenate([f[7], g[7]])
    # At edges normals are a blend of what meets there: they hold, but less than smooth places do.
    unseen = max(
        float(y.unseen(m.points(x.sample.points), m.vectors(x.sample.normals)).mean())
        for x, y, m in ((a, b, motion), (b, a, back))
    )
    # Of scans that jut out of each other's outlines one was cut, if they lie right, and its outline is not the part's.
    ends = _ends_both_have(a, b, motion) if unseen < JUTS else (np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0))
    hold = max(
        _hold(x, n, theirs, r, each, scatter, ends),
        _FIRMER * _hold(x[s], n[s], theirs[s], r[s], each[s], scatter, ends),
    )
    # Between points s apart, a surface bent over its own size lies about s² by that size off the flat.
    grain = _BENT * max(a.seen.spacing**2 / a.seen.span, b.seen.spacing**2 / b.seen.span)
    tells = seen_through(a, b, motion, loose) + seen_through(b, a, back, loose)
    cosine = motion.vectors(a.looks()) @ b.looks().T if a.sights and b.sights else np.ones((1, 1))
    return Evidence(
        agree,
        0.5 * (f[1] + g[1]),
        0.5 * (f[2] + g[2]),
        float(rms),
        min(a.seen.area, b.seen.area),
        hold,
        grain,
        tells,
        unseen,
        float(np.degrees(np.arccos(np.clip(cosine.max(), -1, 1)))),
        warp(a.seen, a.all_neighbours, b.seen, b.all_neighbours, motion, grain),
        a.sure and b.sure,
    )
