"""How a solved drawing stands: what holds each entity, what each relation costs, and which of them contradict.

Free, held by the scan and fixed come from the directions that equations and trace leave open. The cost of what is held
is read from the multipliers of the solved system. A contradiction is cut down to a set of relations and sizes of which
each is needed for it (deletion filter: Chinneck, Dravnieks 1991, *Locating minimal infeasible constraint sets*).

Nocedal, Wright 2006, *Numerical Optimization*, §12.3 (multipliers as sensitivities), §16.2 (Schur complement).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .drawing import Drawing, Relation, Size
from .solver import Solution, constraints, kkt, movable, normal, solve

__all__ = ["Said", "conflicts", "costs", "entity_states", "repeated", "verdict_of"]

_STILL = 1e-5  # share of a free direction that an unknown has where it does not move
_BROKEN = 1e-6  # of the span: an equation left so far off is contradicted
_TELLS, _REFUSES = 2.0, 4.0  # standard deviations: from here on the scan doubts, and says no

#: A relation or a held size, by its place in the list it stands in.
Said = tuple[str, int]


def entity_states(d: Drawing, s: Solution) -> dict[str, str]:
    """For each entity 'free' (nothing holds some of it), 'held by scan' or 'fixed'."""
    out = {}
    for e in d.entities.values():
        c = e.columns()
        if s.loose.shape[1] and np.abs(s.loose[c]).max() > _STILL:
            out[e.id] = "free"
        elif s.free.shape[1] and np.abs(s.free[c]).max() > _STILL:
            out[e.id] = "held by scan"
        else:
            out[e.id] = "fixed"
    return out


def verdict_of(pull: float) -> str:
    """What a scan says to something that is off by so many standard deviations."""
    return "cannot tell" if pull < _TELLS else "doubts it" if pull < _REFUSES else "says no"


def _blocks(d: Drawing, relations: list[Relation], sizes: list[Size], x):
    """All equations, and the rows each relation and each held size has among them."""
    parts = constraints(d, relations, sizes, x)
    rows = [r for part in parts for r in part]
    c, a = np.array([v for v, _ in rows]), np.zeros((len(rows), len(x)))
    for i, (_, g) in enumerate(rows):
        a[i, list(g)] = list(g.values())
    at = np.cumsum([0, *(len(p) for p in parts)])
    names: list[Said] = [("relation", k) for k in range(len(relations))]
    names += [("size", k) for k, z in enumerate(sizes) if z.held]
    return c, a, {name: np.arange(at[k + 1], at[k + 2]) for k, name in enumerate(names)}


@dataclass(frozen=True)
class Cost:
    """What something held costs: rise of the trace's rms (mm), and by how many standard deviations the scan differs."""

    rms: float
    pull: float


def costs(d: Drawing, relations: list[Relation], sizes: list[Size], s: Solution) -> dict[Said, Cost]:
    """What each relation and held size costs by itself: how far the rms would fall without it."""
    may = movable(d, relations)
    c, a, blocks = _blocks(d, relations, sizes, s.x)
    if not len(c) or not s.samples:
        return {name: Cost(0.0, 0.0) for name in blocks}
    h, g, _ = normal(d, s.x)
    h, a, g = h[np.ix_(may, may)], a[:, may], g[may]
    n, m = len(g), len(c)
    factor = kkt(h, a)
    multipliers = factor.solve(-np.concatenate([g, np.zeros(m)]))[n:]
    wanted = np.unique(np.concatenate([np.zeros(0, int), *blocks.values()])).astype(int)
    unit = np.zeros((n + m, len(wanted)))
    unit[n + wanted, np.arange(len(wanted))] = 1.0
    inverse = -factor.solve(unit)[n:][wanted] if len(wanted) else np.zeros((0, 0))
    column = {int(w): k for k, w in enumerate(wanted)}
    # What scatters when each entity follows its own stretch alone: what is held wrongly must not excuse itself.
    apart = d.apart()
    alone = solve(apart, [], [])
    sigma2 = alone.sum_of_squares / max(alone.samples - alone.freedom + alone.unseen, 1) * alone.inflation
    out = {}
    for name, rows in blocks.items():
        k = [column[int(r)] for r in rows]
        part, own = inverse[np.ix_(k, k)], multipliers[rows]
        if not k:
            out[name] = Cost(0.0, 0.0)
            continue
        # A repeated equation has a vast inverse: without it nothing changes.
        falls = float(own @ np.linalg.lstsq(part + 1e-300 * np.eye(len(k)), own, rcond=1e-12)[0])
        falls = float(np.clip(falls, 0.0, s.sum_of_squares))
        rise = s.rms - float(np.sqrt((s.sum_of_squares - falls) / s.samples))
        # (the squares' first order; where they bend, solving without it would tell a little less)
        out[name] = Cost(rise, float(np.sqrt(falls / sigma2)) if sigma2 > 0 else 0.0)
    return out


def repeated(d: Drawing, relations: list[Relation], sizes: list[Size], x) -> list[Said]:
    """Relations and held sizes that follow from the others, in consistent drawings."""
    from scipy.linalg import null_space as left_null

    may = movable(d, relations)
    c, a, blocks = _blocks(d, relations, sizes, x)
    if not len(c):
        return []
    a = a[:, may]
    size = np.linalg.norm(a, axis=1)
    empty = size < 1e-12
    left = left_null((a / np.where(empty, 1.0, size)[:, None]).T, rcond=1e-9)
    if not left.shape[1]:
        return []
    part = np.abs(left).max(axis=1) > 1e-6
    return [name for name, rows in blocks.items() if len(rows) and part[rows].any()]


def _stands(d: Drawing, relations: list[Relation], sizes: list[Size]) -> bool:
    bare = Drawing(d.x, d.point_count, d.entities, {}, 1.0, d.references, d.still)
    try:
        return solve(bare, relations, sizes, rounds=40, tells=False).broken < _BROKEN * d.span
    except (BadInput, np.linalg.LinAlgError):
        return False


def conflicts(d: Drawing, relations: list[Relation], sizes: list[Size], s: Solution) -> list[Said]:
    """A smallest set of relations and held sizes that cannot hold together; empty where all can.

    Leaving out any one of them resolves this contradiction.
    """
    if s.broken < _BROKEN * d.span:
        return []
    c, _, blocks = _blocks(d, relations, sizes, s.x)
    worst = {name: float(np.max(np.abs(c[rows]), initial=0.0)) for name, rows in blocks.items()}
    suspects = sorted((n for n in worst if worst[n] > 1e-4 * s.broken), key=lambda n: worst[n])

    def without(gone: set[Said]) -> bool:
        kept = [r for k, r in enumerate(relations) if ("relation", k) not in gone]
        held = [z for k, z in enumerate(sizes) if z.held and ("size", k) not in gone]
        return _stands(d, kept, held)

    everything = set(blocks)
    if without(set()):
        return []  # it can hold: only the way to it was not found from the trace
    if not suspects or without(everything - set(suspects)):  # they contradict only together with the rest
        rest = sorted(everything - set(suspects), key=lambda n: worst[n])
        suspects = [*rest, *suspects]
    others = everything - set(suspects)
    gone = set(others)
    for name in suspects:  # what is not needed for the contradiction is left out for good
        if not without(gone | {name}):
            gone.add(name)
    return [name for name in blocks if name not in gone and name in suspects]
