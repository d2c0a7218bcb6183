"""Scans settled on each other: by twos, and then all at once, so that no error piles up around a closed ring.

Places of one scan are matched with the nearest of another where both were seen all around and face the same way. What is made
small is the distance along the mean of both normals, which is zero for two places of one smooth surface however far apart
they were sampled (Rusinkiewicz 2019, *A symmetric objective function for ICP*). Weights are Tukey's, at the residuals' own
scatter. Matches of all overlapping pairs enter one system for the motions of all scans (Pulli 1999, *Multiview registration
for large data sets*), after a pose graph (Lu, Milios 1997) has shared out what pairs alone disagree on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import RigidMotion
from ..progress import Progress, part, silent
from .seen import Seen, even_sample, threads_for

__all__ = ["Link", "Settled", "settle_onto", "settle_all", "links_between", "small_motion"]

_FACING = 0.85
_RIM = 1.2  # spacings from where seeing ended that a match needs, so that ends are not drawn onto ends
_COUNT = 6000  # matches of a pair, each way
_ROUNDS = 30
_TUKEY = 4.685  # scatters at which a match counts for nothing


def small_motion(x: np.ndarray, about: np.ndarray) -> RigidMotion:
    """The motion turning by x[:3] (rad) about a place and moving by x[3:] (mm)."""
    from scipy.spatial.transform import Rotation

    turn = Rotation.from_rotvec(x[:3]).as_matrix()
    return RigidMotion.of(turn, x[3:] + about - turn @ about)


@dataclass(frozen=True)
class Matches:
    """Places on two scans (each in the joined frame), the direction between them and a weight."""

    p: np.ndarray
    q: np.ndarray
    n: np.ndarray
    w: np.ndarray

    @property
    def residual(self) -> np.ndarray:
        return np.einsum("ij,ij->i", self.p - self.q, self.n)


def picks_of(seen: Seen, count: int = _COUNT) -> np.ndarray:
    """Places of a scan well inside what was seen, even over its directions as well as its area: where few
    places face some way they alone hold the scan that way (Rusinkiewicz, Levoy 2001, normal-space sampling)."""
    if count not in seen.picks:
        seen.picks[count] = _picked(seen, count)
    return seen.picks[count]


def _picked(seen: Seen, count: int) -> np.ndarray:
    pitch = max(seen.spacing, np.sqrt(seen.area / (3 * count)))
    i = even_sample(seen.points, pitch)
    i = i[seen.rim[i] > _RIM * seen.spacing]
    if len(i) <= count:
        return i
    from scipy.spatial import cKDTree

    # Crowding of directions: how many of a few hundred others face the same way.
    n = seen.normals[i]
    some = n[:: max(1, len(n) // 600)]
    crowd = cKDTree(some).query_ball_point(n, 0.35, return_length=True, workers=-1)
    chance = 1.0 / np.maximum(crowd, 1)
    lot = np.random.default_rng(3)
    take = lot.choice(len(i), count, replace=False, p=chance / chance.sum())
    return i[take]


def matches(a: Seen, ia: np.ndarray, b: Seen, ma: RigidMotion, mb: RigidMotion, reach: float) -> Matches:
    """Places ``ia`` of ``a`` with their nearest on ``b`` within ``reach`` mm, both scans moved."""
    x, n = ma.points(a.points[ia]), ma.vectors(a.normals[ia])
    d, j = b.tree.query(mb.inverse().points(x), distance_upper_bound=reach + 2 * b.spacing, workers=threads_for(len(x)))
    ok = np.isfinite(d)
    x, n, j = x[ok], n[ok], j[ok]
    q, m = mb.points(b.points[j]), mb.vectors(b.normals[j])
    c = np.einsum("ij,ij->i", n, m)
    s = n + m
    s /= np.maximum(np.linalg.norm(s, axis=1), 1e-12)[:, None]
    h = np.einsum("ij,ij->i", x - q, s)
    sideways = np.linalg.norm(x - q - h[:, None] * s, axis=1)
    good = (c > _FACING) & (b.rim[j] > _RIM * b.spacing) & (np.abs(h) < reach) & (sideways < 2 * b.spacing + 0.3 * reach)
    return Matches(x[good], q[good], s[good], c[good])


def _scatter(r: np.ndarray) -> float:
    """Robust standard deviation of residuals about zero."""
    return 1.4826 * float(np.median(np.abs(r))) if len(r) else 0.0


def _tukey(r: np.ndarray, width: float) -> np.ndarray:
    t = np.clip(np.abs(r) / width, 0, 1)
    return (1 - t * t) ** 2


def settle_onto(
    moving: Seen,
    motion: RigidMotion,
    fixed: list[tuple[Seen, RigidMotion]],
    *,
    reach: float,
    count: int = 1500,
    rounds: int = _ROUNDS,
) -> tuple[RigidMotion, np.ndarray, float]:
    """One scan settled on others that stay, from a rough placement within ``reach`` mm; all in the joined frame.

    Returns the motion, its information (6, 6) about the scan's moved middle per mm² of noise, and the rms left in mm.
    """
    i = picks_of(moving, count)
    theirs = [picks_of(s, count) for s, _ in fixed]
    info, rms = np.zeros((6, 6)), np.inf
    least = max(least_reach(moving, s) for s, _ in fixed)
    calm = 0
    for _ in range(rounds):
        both = []
        for (s, m), k in zip(fixed, theirs):
            both.append(matches(moving, i, s, motion, m, reach))
            back = matches(s, k, moving, m, motion, reach)
            both.append(Matches(back.q, back.p, back.n, back.w))
        x, y, n, w0 = (np.concatenate([getattr(f, k) for f in both]) for k in ("p", "q", "n", "w"))
        if len(x) < 20 or np.abs(np.einsum("ij,ij->i", x - y, n)).min() >= reach:
            return motion, np.zeros((6, 6)), np.inf
        # Much of a scanner's noise is wider than a look at one scan tells; two scans together tell it.
        least = max(least, min(_TUKEY * _scatter(np.einsum("ij,ij->i", x - y, n)), reach))
        c = motion.points(moving.centre)
        j = np.column_stack([np.cross(x - c, n), n])
        moved = 0.0
        for _ in range(3):  # the same matches serve a few steps
            r = np.einsum("ij,ij->i", x - y, n)
            w = _tukey(r, reach) * w0
            info = (j * w[:, None]).T @ j
            step = np.linalg.solve(info + (1e-9 * np.trace(info) + 1e-12) * np.eye(6), -(j * w[:, None]).T @ r)
            turn = small_motion(step, c)
            x, motion = turn.points(x), turn.after(motion)
            moved += np.linalg.norm(step[3:]) + np.linalg.norm(step[:3]) * 0.4 * moving.span
        rms = float(np.sqrt((w * r * r).sum() / max(w.sum(), 1e-12)))
        # The reach narrows only as fast as the scan comes to rest.
        reach = max(min(reach, max(0.7 * reach, 4 * moved)), least)
        calm = calm + 1 if moved < 2e-5 * moving.span and reach == least else 0
        if calm == 2:
            break
    return motion, info, rms


def least_reach(a: Seen, b: Seen) -> float:
    """Distance that noise and sampling explain between two settled scans, mm."""
    return max(6 * float(np.hypot(a.noise, b.noise)), 0.2 * max(a.spacing, b.spacing))


@dataclass(frozen=True)
class Link:
    """Two scans that overlap: area shared in mm², its share of the smaller scan, rms of the distances between them in mm."""

    a: int
    b: int
    area: float
    overlap: float
    rms: float


@dataclass(frozen=True)
class Settled:
    """``motions`` by scan, into the joined frame; ``links`` that hold them; ``moved`` mm (rms over the scan) by scan."""

    motions: dict[int, RigidMotion]
    links: list[Link]
    moved: dict[int, float]
    rounds: int


def _overlapping(seen: dict[int, Seen], motions: dict[int, RigidMotion], picks: dict[int, np.ndarray], reach: float) -> list[tuple[int, int]]:
    """Pairs that share at least a few matches."""
    out = []
    ids = sorted(motions)
    for k, a in enumerate(ids):
        for b in ids[k + 1 :]:
            m = matches(seen[a], picks[a][:600], seen[b], motions[a], motions[b], reach)
            if len(m.p) >= max(12, 0.03 * min(600, len(picks[a]))):
                out.append((a, b))
    return out


def share_out(
    seen: dict[int, Seen], motions: dict[int, RigidMotion], pairs: list[tuple[int, int]], held: set[int], reach: float, progress: Progress = silent
) -> dict[int, RigidMotion]:
    """A pose graph: every pair settled by itself, and what they disagree on shared out by how firmly each holds (Lu, Milios 1997)."""
    edges = []
    for k, (a, b) in enumerate(pairs):
        progress(k / len(pairs), f"Settling scan {a + 1} on scan {b + 1}")
        m, info, rms = settle_onto(seen[a], motions[a], [(seen[b], motions[b])], reach=reach, count=800)
        if np.isfinite(rms):
            # Kept as where b's place says a belongs; directions hardly held must not pull.
            edges.append((a, b, motions[b].inverse().after(m), info, max(rms, seen[a].noise)))
    free = [i for i in sorted(motions) if i not in held]
    at = {i: 6 * k for k, i in enumerate(free)}
    out = dict(motions)
    if not edges or not free:
        return out
    for _ in range(8):
        h, g = np.zeros((6 * len(free), 6 * len(free))), np.zeros(6 * len(free))
        for a, b, z, info, rms in edges:
            ca, cb = out[a].points(seen[a].centre), out[b].points(seen[b].centre)
            e = _twist(out[b].after(z).after(out[a].inverse()), ca)
            jb = np.eye(6)
            jb[3:, :3] = -_cross(ca - cb)
            w = info / rms**2
            blocks = {a: -np.eye(6), b: jb}
            for i, ji in blocks.items():
                if i not in at:
                    continue
                g[at[i] : at[i] + 6] += ji.T @ w @ e
                for l, jl in blocks.items():
                    if l in at:
                        h[at[i] : at[i] + 6, at[l] : at[l] + 6] += ji.T @ w @ jl
        h += 1e-7 * np.trace(h) / len(h) * np.eye(len(h))
        x = np.linalg.solve(h, -g)
        for i in free:
            out[i] = small_motion(x[at[i] : at[i] + 6], out[i].points(seen[i].centre)).after(out[i])
        if np.abs(x).max() < 1e-7:
            break
    return out


def _cross(v: np.ndarray) -> np.ndarray:
    return np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])


def _twist(motion: RigidMotion, about: np.ndarray) -> np.ndarray:
    """Turning vector and the shift of a place (6,)."""
    from scipy.spatial.transform import Rotation

    return np.concatenate([Rotation.from_matrix(motion.rotation).as_rotvec(), motion.points(about) - about])


def settle_all(
    seen: dict[int, Seen],
    motions: dict[int, RigidMotion],
    *,
    held: set[int],
    reach: float,
    count: int = _COUNT,
    progress: Progress = silent,
) -> Settled:
    """All placed scans on each other at once; those ``held`` stay.

    Parameters
    ----------
    seen, motions : by scan; the motions put each to within ``reach`` mm.
    """
    start = dict(motions)
    picks = {i: picks_of(seen[i], count) for i in motions}
    pairs = _overlapping(seen, motions, picks, reach)
    free = [i for i in sorted(motions) if i not in held]
    pairs = [p for p in pairs if p[0] in free or p[1] in free]
    now = dict(motions)
    if len(pairs) >= len(motions) and len(free) > 1:
        now = share_out(seen, now, pairs, held, reach, part(progress, 0, 0.4))
        reach = 0.5 * reach
    at = {i: 6 * k for k, i in enumerate(free)}
    least = {p: least_reach(seen[p[0]], seen[p[1]]) for p in pairs}
    calm, rounds = 0, 0
    span = max(s.span for s in seen.values())
    for rounds in range(1, _ROUNDS + 1):
        progress(0.4 + 0.6 * rounds / _ROUNDS, "Settling all scans at once")
        found = []
        for a, b in pairs:
            f = matches(seen[a], picks[a], seen[b], now[a], now[b], max(reach, least[a, b]))
            g = matches(seen[b], picks[b], seen[a], now[b], now[a], max(reach, least[a, b]))
            least[a, b] = max(least[a, b], min(_TUKEY * _scatter(np.concatenate([f.residual, g.residual])), reach))
            found.append((a, b, np.vstack([f.p, g.q]), np.vstack([f.q, g.p]), np.vstack([f.n, g.n]), np.concatenate([f.w, g.w])))
        moved = 0.0
        for _ in range(3):
            h, g = np.zeros((6 * len(free), 6 * len(free))), np.zeros(6 * len(free))
            centre = {i: now[i].points(seen[i].centre) for i in now}
            for a, b, x, y, n, w0 in found:
                r = np.einsum("ij,ij->i", x - y, n)
                w = _tukey(r, max(reach, least[a, b])) * w0
                ja = np.column_stack([np.cross(x - centre[a], n), n])
                jb = -np.column_stack([np.cross(x - centre[b], n), n])
                for i, ji in ((a, ja), (b, jb)):
                    if i not in at:
                        continue
                    wj = (ji * w[:, None]).T
                    g[at[i] : at[i] + 6] += wj @ r
                    for l, jl in ((a, ja), (b, jb)):
                        if l in at:
                            h[at[i] : at[i] + 6, at[l] : at[l] + 6] += wj @ jl
            h += 1e-9 * np.trace(h) / max(len(h), 1) * np.eye(len(h))
            step = np.linalg.solve(h, -g)
            turns = {i: small_motion(step[at[i] : at[i] + 6], centre[i]) for i in free}
            for i in free:
                now[i] = turns[i].after(now[i])
                s = step[at[i] : at[i] + 6]
                moved = max(moved, np.linalg.norm(s[3:]) + np.linalg.norm(s[:3]) * 0.4 * seen[i].span)
            found = [
                (a, b, turns[a].points(x) if a in at else x, turns[b].points(y) if b in at else y, n, w) for a, b, x, y, n, w in found
            ]
        reach = min(reach, max(0.7 * reach, 4 * moved))
        calm = calm + 1 if moved < 1e-5 * span and reach <= min(least.values(), default=reach) else 0
        if calm == 2:
            break
    moved_by = {i: float(np.sqrt(((now[i].points(seen[i].points[::7]) - start[i].points(seen[i].points[::7])) ** 2).sum(axis=1).mean())) for i in now}
    return Settled(now, links_between(seen, now), moved_by, rounds)


def links_between(seen: dict[int, Seen], motions: dict[int, RigidMotion]) -> list[Link]:
    """Every pair that overlaps: area, share of the smaller, and rms of what distance remains."""
    from .evidence import Witness, weigh

    pitch = max(max(np.sqrt(seen[i].area / 4000) for i in motions), 1.2 * max(seen[i].spacing for i in motions))
    by = {i: Witness(seen[i], float(pitch)) for i in motions}
    out = []
    ids = sorted(motions)
    for k, a in enumerate(ids):
        for b in ids[k + 1 :]:
            e = weigh(by[a], by[b], motions[b].inverse().after(motions[a]))
            if e.overlap > 0.01:
                out.append(Link(a, b, e.agree, min(e.overlap, 1.0), e.rms))
    return out
