"""What speaks for and against a placement of one scan on another, judged at the scans' own noise.

For: area seen by both, at the same place and facing the same way. Against: area where one shows a surface that the other, which saw
all around that place, would have shown too, or that would have stood in the other's line of sight. A few stray points speak
for nothing: only contradictions that hang together count.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .lookup import sample_of
from .nearest import closest
from .seen import Seen

__all__ = ["Witness", "Evidence", "weigh", "total"]

_SIGHT_SLACK = 0.5  # sideways, for each length ahead, that a line of sight may lean from the direction guessed from the normals
_REACH = 0.12  # of the span: how far ahead a scan is asked what it saw through
_FACING = 0.8
_PENALTY = 300.0  # what contradicted area costs, in agreeing area: stray points are no contradiction, so any is a sign
_MISSED = 25.0  # the same of missing area: scanners leave holes of their own too, though seldom where another scan has none
_STRAIN = 6.0  # how fast a placement loses by lying farther apart than noise explains
_NEAR = 4.0  # scatters within which what agrees holds
_FEIGNED = 2.0  # times the noise of normals that is taken off what they hold
_BENT = 2.0  # a part's bends, in its spans
_NOISES = 6.0  # scatters of both scans, seen locally, that two looks at one place may differ: much of the noise is wider than a look


@dataclass(frozen=True)
class Evidence:
    """Areas in mm²: ``agree`` seen by both, ``against`` contradicted, ``missing`` shown by one where the other has a hole it
    should have seen it in; ``rms`` of the distances where they agree, mm; ``least``
    the smaller of the two scans' areas; ``hold`` how much of what agrees holds the scan in the way it is held least, see `_hold`;
    of several others together, the sum, which is on the safe side; ``grain`` what sparse points of a curved surface alone lie apart, mm."""

    agree: float
    against: float
    missing: float
    rms: float
    least: float
    hold: float
    grain: float = 0.0

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
        strain = max((self.rms / max(self.explained(noise), 1e-12)) ** 2 - 1, 0.0)
        return self.hold * self.worth / self.agree * float(np.exp(-_STRAIN * strain))


def _hold(x: np.ndarray, n: np.ndarray, other: np.ndarray, r: np.ndarray, each: np.ndarray, least: float) -> float:
    """How much places (k, 3) with normals ``n`` on the one scan and ``other`` on the other, ``r`` mm apart, hold in the way they hold least,
    turning measured at their own radius; mm².

    Only what lies as near as most do holds: where two shapes are alike by chance, it is at the features, which alone
    keep a scan from sliding, that they differ most. What share is lost so counts once more. Noise in normals feigns a hold in ways that no
    surface holds: what the two scans' normals differ by tells how much, and that much is none.
    """
    if len(x) < 6:
        return 0.0
    c = np.average(x, axis=0, weights=each)
    j = np.column_stack([np.cross(x - c, n), n])
    radius = np.sqrt(max(float(each @ (j[:, :3] ** 2).sum(axis=1)) / each.sum(), 1e-12))
    j[:, :3] /= radius
    scatter = max(1.4826 * float(np.median(r)), least)
    near = np.clip(1 - (r / (_NEAR * scatter)) ** 2, 0, None) ** 2
    # Of a squared difference of two normals a quarter is one normal's, in one of the two ways across.
    feigned = _FEIGNED * float(np.median(np.einsum("ij,ij->i", n - other, n - other))) / (4 * 0.69)
    all_of_it, nearest = (float(np.linalg.eigvalsh((j * w[:, None]).T @ j)[0]) - feigned * float(w.sum()) for w in (each, each * near))
    return nearest**2 / all_of_it if nearest > 0 else 0.0


def total(parts: list[Evidence]) -> Evidence:
    """Evidence of one scan against several others together."""
    agree = sum(e.agree for e in parts)
    rms = np.sqrt(sum(e.agree * e.rms**2 for e in parts) / agree) if agree > 0 else 0.0
    grain = np.sqrt(sum(e.agree * e.grain**2 for e in parts) / agree) if agree > 0 else 0.0
    against, missing, hold = (sum(getattr(e, k) for e in parts) for k in ("against", "missing", "hold"))
    return Evidence(agree, against, missing, float(rms), min((e.least for e in parts), default=0.0), hold, float(grain))


@dataclass
class Witness:
    """A scan as a witness: even points to be judged, and what it saw in front of itself. ``pitch`` of the points in mm."""

    seen: Seen
    pitch: float

    @cached_property
    def sample(self):
        return sample_of(self.seen, self.pitch)

    @cached_property
    def neighbours(self) -> np.ndarray:
        """The nearest six of the sample to each of it."""
        from scipy.spatial import cKDTree

        p = self.sample.points
        return cKDTree(p).query(p, k=min(7, len(p)), workers=-1)[1][:, 1:]

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

    @cached_property
    def sight(self) -> _Sight | None:
        return None if self.seen.toward is None else _Sight.of(self.seen)


@dataclass
class _Sight:
    """Heights of a scan toward its scanner, on a grid square to it; +inf where nothing was seen, so nothing is known."""

    u: np.ndarray
    toward: np.ndarray
    low: np.ndarray
    pixel: float
    levels: list[tuple[int, np.ndarray]]
    reach: float
    behind: np.ndarray  # the highest seen right behind a place; −inf in holes amid what was seen
    around: np.ndarray  # the highest seen near by

    @staticmethod
    def of(seen: Seen) -> _Sight:
        from scipy.ndimage import binary_closing, binary_fill_holes, maximum_filter

        t = seen.toward
        u = np.linalg.svd(t[None])[2][1:]
        p = seen.points
        flat, height = p @ u.T, p @ t
        pixel = max(1.6 * seen.spacing, seen.span / 500)
        low = flat.min(axis=0) - 2 * pixel
        at = np.floor((flat - low) / pixel).astype(int)
        top = np.full(tuple(at.max(axis=0) + 3), -np.inf)
        np.maximum.at(top, (at[:, 0], at[:, 1]), height)
        known = np.isfinite(top)
        # Single empty pixels between seen ones are chance, not ignorance.
        filled = binary_closing(known, np.ones((3, 3)))
        near = maximum_filter(top, 3)
        around = maximum_filter(top, 9)
        # Behind a place in a hole nothing was seen, or something farther off.
        behind = maximum_filter(np.where(known, top, np.where(binary_fill_holes(filled), -np.inf, np.inf)), 3)
        top = np.where(known, top, np.where(filled, near, np.inf))
        levels, r = [], 1
        reach = _REACH * seen.span
        while True:
            levels.append((r, maximum_filter(top, 2 * r + 1, mode="constant", cval=np.inf)))
            if r * pixel > _SIGHT_SLACK * reach:
                break
            r *= 2
        return _Sight(u, t, low, pixel, levels, reach, behind, around)

    def missed(self, p: np.ndarray, n: np.ndarray) -> np.ndarray:
        """Which places (k, 3) with normals lie in a hole of this scan though nothing stood before them."""
        at = np.floor((p @ self.u.T - self.low) / self.pixel).astype(int)
        ok = ((at >= 0) & (at < np.array(self.behind.shape))).all(axis=1) & (n @ self.toward > 0.5)
        at = np.where(ok[:, None], at, 0)
        h, k = p @ self.toward, (at[:, 0], at[:, 1])
        return ok & (h > self.behind[k] + 2 * self.pixel) & (h > self.around[k] - 2 * self.pixel)

    def through(self, p: np.ndarray, slack: float) -> np.ndarray:
        """Which places (k, 3) lie where this scan saw through."""
        at = np.floor((p @ self.u.T - self.low) / self.pixel).astype(int)
        shape = np.array(self.levels[0][1].shape)
        ok = ((at >= 0) & (at < shape)).all(axis=1)
        at = np.where(ok[:, None], at, 0)
        h = p @ self.toward
        out = np.zeros(len(p), bool)
        done = ~ok
        for r, top in self.levels:
            ahead = h - top[at[:, 0], at[:, 1]]
            fits = ~done & (ahead <= r * self.pixel / _SIGHT_SLACK)
            out |= fits & (ahead > slack)
            done |= fits
        return out


@njit(cache=True, nogil=True)
def _judged(x, n, bent, inner, p, order, start, dims, low, cell, q, m, q_bent, q_inner, reach, near, noise, most, agree, against, apart, at):  # pragma: no cover - compiled
    """Which places ``x`` with normals ``n`` agree with the points ``q``, and which contradict them; the distance where they agree (elsewhere
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
            least = min(least, abs((x[i, 0] - q[k, 0]) * m[k, 0] + (x[i, 1] - q[k, 1]) * m[k, 1] + (x[i, 2] - q[k, 2]) * m[k, 2]))
        if least < slack and c > _FACING:
            agree[i] = True
            at[i] = j
            # Along the mean of both normals two places of one smooth surface are no distance apart, however sparse the points.
            sx, sy, sz = n[i, 0] + m[j, 0], n[i, 1] + m[j, 1], n[i, 2] + m[j, 2]
            along = (x[i, 0] - q[j, 0]) * sx + (x[i, 1] - q[j, 1]) * sy + (x[i, 2] - q[j, 2]) * sz
            apart[i] = min(abs(along) / max(np.sqrt(sx * sx + sy * sy + sz * sz), 0.5), least)
        if inner[i] and q_inner[j] and least > 2 * slack and (c > 0.5 or (h > 0 and c > -0.3)):
            against[i] = True


def _one_way(a: Witness, b: Witness, motion: RigidMotion) -> tuple[float, float, float, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Agreeing, contradicted and missing area; distances, places and normals of ``b`` that agree, and the normals of ``a`` there."""
    s, other = a.sample, b.seen
    x, n = motion.points(s.points), motion.vectors(s.normals)
    k = len(x)
    agree, against, missing = np.zeros(k, bool), np.zeros(k, bool), np.zeros(k, bool)
    apart, at = np.zeros(k), np.zeros(k, np.int64)
    noise = _NOISES * float(np.hypot(a.seen.noise, other.noise))
    o = other.nearest
    _judged(
        x, n, a.bent, a.inner, o.points, o.order, o.start, o.dims, o.low, o.cell, other.points, other.normals, b.all_bent, b.all_inner,
        4 * a.pitch, 2.0 * other.spacing, noise, 0.3 * (a.seen.spacing + other.spacing), agree, against, apart, at,
    )  # fmt: skip
    if b.sight is not None:
        ask = np.nonzero((s.rim > 2 * a.seen.spacing) & ~agree)[0]
        against[ask] |= b.sight.through(x[ask], 3 * apart[ask] + 0.5 * other.spacing)
        ask = np.nonzero(~agree & ~against)[0]
        missing[ask] = b.sight.missed(x[ask], n[ask])
    against &= against[a.neighbours].mean(axis=1) > 0.45
    missing &= missing[a.neighbours].mean(axis=1) > 0.45
    at, apart = at[agree], apart[agree]
    return (
        float(len(at) * a.each), float(against.sum() * a.each), float(missing.sum() * a.each), apart, other.points[at], other.normals[at], n[agree]
    )  # fmt: skip


def weigh(a: Witness, b: Witness, motion: RigidMotion) -> Evidence:
    """What both scans say of ``a`` lying on ``b`` as ``motion`` has it."""
    f, g = _one_way(a, b, motion), _one_way(b, a, motion.inverse())
    agree = 0.5 * (f[0] + g[0])
    each = 0.5 * np.concatenate([np.full(len(f[3]), a.each), np.full(len(g[3]), b.each)])
    r, x, n = np.concatenate([f[3], g[3]]), np.vstack([f[4], motion.points(g[4])]), np.vstack([f[5], motion.vectors(g[5])])
    rms = np.sqrt(float(each @ r**2) / max(agree, 1e-12))
    theirs = np.vstack([f[6], motion.vectors(g[6])])
    hold = _hold(x, n, theirs, r, each, 0.5 * float(np.hypot(a.seen.noise, b.seen.noise)))
    # Between points s apart, a surface bent over its own size lies about s² by that size off the flat.
    grain = _BENT * max(a.seen.spacing**2 / a.seen.span, b.seen.spacing**2 / b.seen.span)
    return Evidence(agree, 0.5 * (f[1] + g[1]), 0.5 * (f[2] + g[2]), float(rms), min(a.seen.area, b.seen.area), hold, grain)
