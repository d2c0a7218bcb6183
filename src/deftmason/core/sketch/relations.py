"""Which relations does the trace support, and what does each cost?

A relation is a hypothesis g(x) = 0, tested on entities fitted each to its own stretch. Its cost is read from the joint
covariance (the squares it would add), tested
against its own uncertainty, and confirmed by solving with all accepted ones together.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from ..errors import BadInput
from .distances import trace_blocks
from .drawing import Drawing, Entity, Relation, Size
from .equations import end_direction, relation_equations
from .solver import Solution, constraint_rows, solve

__all__ = ["propose_relations"]

_PULL_LIMIT = 4.0  # standard deviations
_INTENT = (
    4.0,
    1e-5,
)  # in rms of the trace and in the drawing's span: displacement below which a maker would not have meant a difference
_WORST_RISE = 0.4, 2e-6  # likewise: what a relation may cost in rms
_FEW_ROUNDS = 8  # after which an rms hardly changes
_SMOOTH = 0.2  # rad that a spline may turn at an end where it is tried as tangent
_NEAR = 0.003  # of the span: centres and radii this near are tried as one


def _span(d: Drawing) -> float:
    return float(np.ptp(d.x[: 2 * d.point_count])) if d.point_count else 1.0


class _Rank:
    """Rows taken one after the other where they are independent of those before (Gram–Schmidt, twice)."""

    def __init__(self, rows: np.ndarray):
        self.basis = np.zeros((0, rows.shape[1]))
        for r in rows:
            self.take(r[None])

    def take(self, rows: np.ndarray) -> bool:
        """Whether any of the rows was independent; then they count from now on."""
        fresh = False
        for r in rows:
            size = float(np.linalg.norm(r))
            for _ in range(2):
                r = r - self.basis.T @ (self.basis @ r)
            left = float(np.linalg.norm(r))
            if left > 1e-6 * max(size, 1e-300):
                self.basis = np.vstack([self.basis, r / left])
                fresh = True
        return fresh


def _turn_at(d: Drawing, e1: Entity, e2: Entity, p: int) -> float:
    """The angle (rad) between two curves at an end they share."""
    (u, _, square_u), (v, _, square_v) = (end_direction(d, e, p, d.x) for e in (e1, e2))
    along, across = abs(float(u @ v)), abs(float(u[0] * v[1] - u[1] * v[0]))
    return float(np.arctan2(across, along) if square_u == square_v else np.arctan2(along, across))


def _candidates(d: Drawing) -> list[Relation]:
    near = _NEAR * _span(d)
    es = list(d.entities.values())
    lines = [e for e in es if e.kind == "line"]
    arcs = [e for e in es if e.kind == "arc"]
    circles = [e for e in es if e.kind == "circle"]  # what is oval or free bends as its trace does
    out = []
    for e in lines:
        a, b = d.point(e.points[0]), d.point(e.points[1])
        t = np.abs(b - a)
        if t[1] < 0.09 * t[0]:
            out.append(Relation("horizontal", (e.id,)))
        elif t[0] < 0.09 * t[1]:
            out.append(Relation("vertical", (e.id,)))
    for e1 in lines + arcs:
        for e2 in arcs:
            if e1.id != e2.id and set(e1.points[:2]) & set(e2.points[:2]) and (e1.kind == "line" or e1.id < e2.id):
                out.append(Relation("tangent", (e1.id, e2.id)))
    for e1 in (e for e in es if e.kind == "spline"):
        for e2 in (*lines, *arcs, *(e for e in es if e.kind == "spline" and e.id > e1.id)):
            shared = set(e1.ends or ()) & set(e2.ends or ())
            if len(shared) == 1 and _turn_at(d, e1, e2, *shared) < _SMOOTH:
                out.append(Relation("tangent", (e1.id, e2.id)))
    for group in (arcs, circles):
        rest = sorted(group, key=lambda e: d.x[e.radius])
        for e1, e2 in zip(rest, rest[1:]):
            if abs(d.x[e1.radius] - d.x[e2.radius]) < max(0.08 * d.x[e1.radius], 0.5 * near):
                out.append(Relation("equal", (e1.id, e2.id)))
    rounds = circles + arcs
    for i, e1 in enumerate(rounds):
        for e2 in rounds[i + 1 :]:
            gap = np.abs(d.point(e1.points[-1]) - d.point(e2.points[-1]))
            if np.hypot(*gap) < near and not (e1.kind == e2.kind == "arc" and set(e1.points) & set(e2.points)):
                out.append(Relation("concentric", (e1.id, e2.id)))
            elif e1.kind == e2.kind == "circle" and gap[1] < near:
                out.append(Relation("horizontal", (e1.id, e2.id)))
            elif e1.kind == e2.kind == "circle" and gap[0] < near:
                out.append(Relation("vertical", (e1.id, e2.id)))
    slanted = [e for e in lines if not any(r.of == (e.id,) for r in out)]
    for i, e1 in enumerate(slanted):
        for e2 in slanted[i + 1 :]:
            t1, t2 = (d.point(e.points[1]) - d.point(e.points[0]) for e in (e1, e2))
            s = abs(t1[0] * t2[1] - t1[1] * t2[0]) / (np.hypot(*t1) * np.hypot(*t2))
            if s < 0.05:
                out.append(Relation("parallel", (e1.id, e2.id)))
            elif s > 0.9987:
                out.append(Relation("perpendicular", (e1.id, e2.id)))
    return out


def _test(d: Drawing, s: Solution, r: Relation) -> tuple[float, float, float]:
    """Displacement (mm), pull (standard deviations) and predicted rise of the squares (mm²)."""
    worst = pull = rise = 0.0
    for value, g in relation_equations(d, r, s.x):
        row = np.zeros(len(s.x))
        for k, v in g.items():
            row[k] = v
        var = float(row @ s.covariance @ row)
        if var <= 0:
            continue
        sigma2 = s.sum_of_squares / max(s.samples, 1) * s.inflation
        worst = max(worst, abs(value))
        pull = max(pull, abs(value) / np.sqrt(var))
        rise += value**2 / var * sigma2 / s.inflation
    return worst, pull, rise


def _centres_met(
    d: Drawing, held: list[Relation], sizes: list[Size], s: Solution, span: float, intent: float
) -> tuple[list[Relation], Solution]:
    """Centres of rings that lie where the paper's origin or something round has its own, as far as the trace tells, and
    the solution under these; each is tried with those before it held.
    """
    out: list[Relation] = []
    centres = dict.fromkeys(r.of[2] for r in held if r.kind == "turned" and d.kind_of(r.of[2]) == "place")
    rounds = [e for e in d.entities.values() if e.kind == "circle"]
    rounds.sort(key=lambda e: -s.x[e.column])
    for name in centres:
        here = d.point(d.place(name), s.x)
        for other in ("origin", *(f"{e.id}.center" for e in rounds)):
            if other == name or np.hypot(*(d.point(d.place(other), s.x) - here)) > _NEAR * span:
                continue
            r = Relation("coincident", (name, other))
            worst, pull, rise = _test(d, s, r)
            if pull <= _PULL_LIMIT or worst <= intent:
                cost = float(np.sqrt((s.sum_of_squares + rise) / max(s.samples, 1)) - s.rms)
                out.append(Relation(r.kind, r.of, cost))
                s = solve(d, [*held, *out], sizes, start=s.x)
                here = d.point(d.place(name), s.x)
    return out, s


def propose_relations(
    d: Drawing,
    sizes: list[Size] | None = None,
    *,
    base: list[Relation] | None = None,
    fresh: Collection[str] | None = None,
    follow: Collection[str] = (),
    aside: Collection[str] = (),
) -> tuple[list[Relation], list[Relation], Solution]:
    """Accepted and refused relations, each with its cost (rise of rms in mm), and the solution under the accepted.

    Relations that already follow from accepted ones are left out of both lists. ``base`` : relations that are held
    already and stay.  ``fresh`` : the entities that new ones are sought for; none: all.  ``follow`` : entities that
    repeat others: what is said of those holds of them.  ``aside`` : entities of which nothing is asked.
    """
    sizes, base = sizes or [], base or []
    # Every entity on its own stretch: well posed even where a line runs smoothly into an arc.
    alone = d.apart()
    free = solve(alone, [], [])
    span = _span(d)
    # What the pieces scatter by, not what one that fits badly does.
    each = [float(np.sqrt(np.mean(r**2))) for r, _, _ in trace_blocks(alone, free.x) if len(r) > 4] or [free.rms]
    scatter = min(float(np.median(each)), free.rms)
    intent, dear = (max(of_rms * scatter, of_span * span) for of_rms, of_span in (_INTENT, _WORST_RISE))
    tested = []
    for r in _candidates(d):
        if (fresh is not None and not any(n in fresh for n in r.of)) or any(n in aside for n in r.of):
            continue
        if (
            follow
            and any(n in follow for n in r.of)
            and not (r.kind == "tangent" and any(n not in follow for n in r.of))
        ):
            continue
        if any(n not in alone.stretches for n in r.of):  # what follows no trace has nothing to say
            continue
        worst, pull, rise = _test(alone, free, r)
        cost = float(np.sqrt((free.sum_of_squares + rise) / max(free.samples, 1)) - free.rms)
        tested.append((rise, r, worst, pull, cost))
    tested.sort(key=lambda t: (t[1].kind != "tangent", t[0]))
    accepted: list[Relation] = list(base)
    refused: list[Relation] = []
    rank = _Rank(constraint_rows(d, base, sizes, d.x)[1])
    for _, r, worst, pull, cost in tested:
        if (pull > _PULL_LIMIT and worst > intent) or cost > dear:
            refused.append(Relation(r.kind, r.of, cost))
            continue
        rows = np.zeros((0, len(d.x)))
        for _, g in relation_equations(d, r, d.x):
            row = np.zeros((1, len(d.x)))
            row[0, list(g)] = list(g.values())
            rows = np.vstack([rows, row])
        if rank.take(rows):
            accepted.append(Relation(r.kind, r.of, cost))
    dropped = 1
    start = None
    # What is held already may cost what it does: what comes on top is asked.
    held = solve(d, base, sizes, rounds=_FEW_ROUNDS, tells=False).rms if follow else free.rms
    while True:
        try:
            solution = solve(d, accepted, sizes, start=start)
            start = None
            bad = solution.rms - held > max(dear, 0.5 * scatter) or solution.broken > 1e-8 * span
        except BadInput:  # a line was squeezed to nothing
            if len(accepted) == len(base):
                raise
            bad = True
        if not bad or len(accepted) == len(base):
            more, solution = _centres_met(d, accepted, sizes, solution, span, intent)
            return [*accepted, *more], refused, solution
        # The dearest go first, more at a time the longer it takes.
        worst_ones = sorted(accepted[len(base) :], key=lambda r: -r.cost)[:dropped]
        accepted = [r for r in accepted if r not in worst_ones]
        refused += worst_ones
        dropped *= 2
