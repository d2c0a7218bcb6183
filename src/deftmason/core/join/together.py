"""All placed scans settled on each other at once, so that no error piles up around a closed ring.

Matches of all overlapping pairs enter one system for the motions of all scans (Pulli 1999, *Multiview registration for
large
data sets*), after a pose graph (Lu, Milios 1997) has shared out what pairs alone disagree on.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from ..elements import RigidMotion
from ..progress import Progress, part, silent
from .evidence import Witness, weigh
from .matching import (
    COUNT,
    Matches,
    both_sides,
    end_matches,
    end_reach,
    firmness,
    least_reach,
    matches,
    picks_of,
    scatter,
)
from .seen import Seen
from .settle import LEVER, ROUNDS, TUKEY, equations, feigned_by, settle_onto, small_motion, step_of, with_ends

__all__ = ["Link", "Settled", "settle_all", "settled_together", "links_between"]

_PAIR_COUNT = 800  # places matched each way where a pair is settled by itself


@dataclass(frozen=True)
class Link:
    """Two scans that overlap: area shared in mm², its share of the smaller scan, rms of the distances between them in
    mm.
    """

    a: int
    b: int
    area: float
    overlap: float
    rms: float


@dataclass(frozen=True)
class Settled:
    """``motions`` by scan, into the joined frame; ``links`` that hold them; ``moved`` mm (rms over the scan) by
    scan.
    """

    motions: dict[int, RigidMotion]
    links: list[Link]
    moved: dict[int, float]


def _overlapping(
    seen: dict[int, Seen], motions: dict[int, RigidMotion], picks: dict[int, np.ndarray], reach: float
) -> list[tuple[int, int]]:
    """Pairs that share at least a few matches."""
    out = []
    ids = sorted(motions)
    for k, a in enumerate(ids):
        for b in ids[k + 1 :]:
            some = picks[a][:: max(1, len(picks[a]) // 600)]
            m = matches(seen[a], some, seen[b], motions[a], motions[b], reach)
            if len(m.p) >= max(12, 0.03 * len(some)):
                out.append((a, b))
    return out


def share_out(
    seen: dict[int, Seen],
    motions: dict[int, RigidMotion],
    pairs: list[tuple[int, int]],
    held: set[int],
    reach: float,
    pool: ThreadPoolExecutor,
    progress: Progress = silent,
) -> dict[int, RigidMotion]:
    """A pose graph: every pair settled by itself, and what they disagree on shared out by how firmly each holds (Lu,
    Milios 1997).
    """
    edges = []
    for i in motions:
        picks_of(seen[i], _PAIR_COUNT)
    found = pool.map(
        lambda p: settle_onto(seen[p[0]], motions[p[0]], [(seen[p[1]], motions[p[1]])], reach=reach, count=_PAIR_COUNT),
        pairs,
    )
    for k, ((a, b), (m, info, rms)) in enumerate(zip(pairs, found)):
        progress(k / len(pairs), f"Settling scan {a + 1} on scan {b + 1}")
        if np.isfinite(rms):
            # Kept as where b's place says a belongs; directions hardly held must not pull.
            edges.append((a, b, motions[b].inverse().after(m), info, max(rms, seen[a].noise)))
    free = [i for i in sorted(motions) if i not in held]
    at = {i: 6 * k for k, i in enumerate(free)}
    out = dict(motions)
    if not edges or not free:
        return out
    lever = LEVER * max(seen[i].span for i in free)
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
        x = step_of(h, g, lever, 1e-7)
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
    seen: dict[int, Seen], motions: dict[int, RigidMotion], *, held: set[int], reach: float, progress: Progress = silent
) -> Settled:
    """All placed scans on each other at once; those ``held`` stay.

    Parameters
    ----------
    seen, motions : by scan; the motions put each to within ``reach`` mm.
    """
    now = settled_together(seen, motions, held=held, reach=reach, progress=progress)
    moved = {}
    for i, m in now.items():
        p = seen[i].points[::7]
        moved[i] = float(np.sqrt(((m.points(p) - motions[i].points(p)) ** 2).sum(axis=1).mean()))
    return Settled(now, links_between(seen, now), moved)


def settled_together(
    seen: dict[int, Seen],
    motions: dict[int, RigidMotion],
    *,
    held: set[int],
    reach: float,
    count: int = COUNT,
    progress: Progress = silent,
) -> dict[int, RigidMotion]:
    """See `settle_all`; ``count`` places of each scan are matched with each other scan."""
    picks = {i: picks_of(seen[i], count) for i in motions}
    free = [i for i in sorted(motions) if i not in held]
    pairs = [p for p in _overlapping(seen, motions, picks, reach) if p[0] in free or p[1] in free]
    now = dict(motions)
    if not pairs:
        return now
    with ThreadPoolExecutor(2) as pool:
        if len(pairs) >= len(motions) and len(free) > 1:
            now = share_out(seen, now, pairs, held, reach, pool, part(progress, 0, 0.4))
            reach = 0.5 * reach
        least = {p: least_reach(seen[p[0]], seen[p[1]]) for p in pairs}
        far = {p: end_reach(seen[p[0]], seen[p[1]]) for p in pairs}
        for i in motions:
            seen[i].ends.prepare()
        calm, span = 0, max(s.span for s in seen.values())
        for rounds in range(1, ROUNDS + 1):
            progress(0.4 + 0.6 * rounds / ROUNDS, "Settling all scans at once")
            wide = [max(reach, least[p]) for p in pairs]
            found = list(pool.map(partial(_both_ways, seen, picks, now), pairs, wide))
            for p, m in zip(pairs, found):
                least[p] = max(least[p], min(TUKEY * scatter(m.residual), reach))
            look = [max(reach, far[p]) for p in pairs]
            ends = [_ends_of_both(seen, now, p, r, m) for p, r, m in zip(pairs, look, found)]
            moved = 0.0
            for _ in range(3):  # the same matches serve a few steps
                narrow = [max(reach, least[p]) for p in pairs]
                turns, step = _joint_step(seen, now, pairs, [(found, narrow), (ends, look)], free)
                for i in free:
                    now[i] = turns[i].after(now[i])
                moved = max(moved, step)
                found, ends = (_turned(pairs, m, turns) for m in (found, ends))
            reach = min(reach, max(0.7 * reach, 4 * moved))
            calm = calm + 1 if moved < 1e-5 * span and reach <= min(least.values()) else 0
            if calm == 2:
                break
    return now


def _both_ways(
    seen: dict[int, Seen],
    picks: dict[int, np.ndarray],
    now: dict[int, RigidMotion],
    pair: tuple[int, int],
    reach: float,
) -> Matches:
    a, b = pair
    return both_sides(
        matches(seen[a], picks[a], seen[b], now[a], now[b], reach),
        matches(seen[b], picks[b], seen[a], now[b], now[a], reach),
    )


def _ends_of_both(
    seen: dict[int, Seen], now: dict[int, RigidMotion], pair: tuple[int, int], reach: float, faces: Matches
) -> Matches:
    a, b = pair
    e = end_matches(seen[a], seen[b], now[a], now[b], reach)
    return replace(e, w=firmness(seen[a], seen[b], faces.residual) * e.w)


def _turned(pairs: list[tuple[int, int]], several: list[Matches], turns: dict[int, RigidMotion]) -> list[Matches]:
    """Matches of pairs after their scans were moved."""
    return [
        replace(m, p=turns[a].points(m.p) if a in turns else m.p, q=turns[b].points(m.q) if b in turns else m.q)
        for (a, b), m in zip(pairs, several)
    ]


def _joint_step(
    seen: dict[int, Seen],
    now: dict[int, RigidMotion],
    pairs: list[tuple[int, int]],
    kinds: list[tuple[list[Matches], list[float]]],
    free: list[int],
) -> tuple[dict[int, RigidMotion], float]:
    """The small motion of each free scan that all matches together ask for, and how far it moves the scan that moves
    most, mm.
    """
    at = {i: 6 * k for k, i in enumerate(free)}
    centre = {i: now[i].points(seen[i].centre) for i in now}
    systems, feigned = [], np.zeros((6 * len(free), 6 * len(free)))
    for (a, b), m, r in zip(pairs, *kinds[0]):
        by = feigned_by(m.p, m.q, m.n, m.d, m.w, r, centre[a], centre[b])
        mine = [(at[i], 6 * k) for k, i in enumerate((a, b)) if i in at]
        for i, k in mine:
            for j, l in mine:
                feigned[i : i + 6, j : j + 6] += by[k : k + 6, l : l + 6]
    for found, reach in kinds:
        h, g = np.zeros((6 * len(free), 6 * len(free))), np.zeros(6 * len(free))
        for (a, b), m, r in zip(pairs, found, reach):
            hp, gp = np.zeros((12, 12)), np.zeros(12)
            equations(m.p, m.q, m.n, m.w, r, centre[a], centre[b], hp, gp)
            mine = [(at[i], 6 * k) for k, i in enumerate((a, b)) if i in at]
            for i, k in mine:
                g[i : i + 6] += gp[k : k + 6]
                for j, l in mine:
                    h[i : i + 6, j : j + 6] += hp[k : k + 6, l : l + 6]
        systems.append((h, g))
    lever = LEVER * max(seen[i].span for i in free)
    firm = float(np.median([m.w[0] for m in kinds[1][0] if len(m.w)] or [0.0]))
    (h, g), (h_ends, g_ends) = systems
    step = step_of(*with_ends(h, g, feigned, h_ends, g_ends, lever, firm), lever)
    turns, most = {}, 0.0
    for i in free:
        s = step[at[i] : at[i] + 6]
        turns[i] = small_motion(s, centre[i])
        most = max(most, float(np.linalg.norm(s[3:]) + np.linalg.norm(s[:3]) * 0.4 * seen[i].span))
    return turns, most


def links_between(seen: dict[int, Seen], motions: dict[int, RigidMotion]) -> list[Link]:
    """Every pair that overlaps: area, share of the smaller, and rms of what distance remains."""
    pitch = max(max(np.sqrt(seen[i].area / 4000) for i in motions), 1.2 * max(seen[i].spacing for i in motions))
    by = {i: Witness.of(seen[i], float(pitch)) for i in motions}
    out = []
    ids = sorted(motions)
    for k, a in enumerate(ids):
        for b in ids[k + 1 :]:
            e = weigh(by[a], by[b], motions[b].inverse().after(motions[a]))
            if e.overlap > 0.01:
                out.append(Link(a, b, e.agree, min(e.overlap, 1.0), e.rms))
    return out
