"""Solve a drawing against its trace: least squares of the samples' distances subject to relations and sizes.

Each step solves the linearised constraints and the trace's squares together, with a faint pull to where things are for
what neither holds. What is left free comes from a pivoted QR of the constraint Jacobian at the end.

Nocedal, Wright 2006, *Numerical Optimization*, §16.1 (the KKT system), §18.4.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements.uncertainty import correlation_inflation
from ..errors import BadInput
from .distances import Straights, poles_held, trace_blocks
from .drawing import Drawing, Relation, Size
from .equations import Row, relation_equations, size_value, structure

__all__ = ["Solution", "constraint_rows", "constraints", "kkt", "movable", "normal", "null_space", "solve"]

_PULL = 1e-6  # weight of staying put against one sample of trace
_RANK = 1e-7
_SLACK = 1e-11  # keeps repeated equations from making the system singular
_LONGEST_STRETCHES = 6  # that tell how noise is shared
_SLIDES = 1e-2  # of a stretch's samples: the most that holds its line's ends from sliding
_LONGEST = 0.03  # of the drawing's span: the longest step
_MENDED = 0.5  # of how far equations were broken before: a step that leaves more of it goes on more firmly
_FIRMER, _LOOSER = 10.0, 2.0
_SMALL = 320  # unknowns and equations that are solved as one full matrix
_DRAGGED = 1e-4, 1e-7  # of the span: a step while a hand draws, and what equations are off by, that no eye sees
_SETTLED = 1e-11  # of the span: a step that moves nothing any more
_EVEN = 1e-7  # of the squares: a step that changes them less improves nothing
_LONGEST_BARE = 0.3  # likewise, where there is no trace to lose


@dataclass(frozen=True)
class Solution:
    """``x`` the solved unknowns; ``covariance`` (n, n) mm²; ``freedom`` unknowns that no equation holds;
    ``unseen`` of those that the trace does not hold either; ``broken`` the largest equation left unsatisfied (mm);
    ``loose`` (n, unseen) the directions that nothing holds, ``free`` (n, freedom) those that no equation holds."""

    x: np.ndarray
    covariance: np.ndarray
    rms: float
    max_distance: float
    sum_of_squares: float
    samples: int
    freedom: int
    unseen: int
    broken: float
    inflation: float
    free: np.ndarray
    loose: np.ndarray


def constraints(d: Drawing, relations: list[Relation], sizes: list[Size], x) -> list[list[Row]]:
    """The equations of the arcs themselves, then of each relation and each held size."""
    out = [structure(d, x)]
    out += [relation_equations(d, r, x) for r in relations]
    for s in sizes:
        if s.held:
            v, g = size_value(d, s, x)
            out.append([(v - (s.chosen or 0.0), g)])
    return out


def _dense(rows: list[Row], n: int) -> tuple[np.ndarray, np.ndarray]:
    c = np.array([v for v, _ in rows])
    a = np.zeros((len(rows), n))
    for i, (_, g) in enumerate(rows):
        for k, v in g.items():
            a[i, k] = v
    return c, a


def constraint_rows(d: Drawing, relations: list[Relation], sizes: list[Size], x) -> tuple[np.ndarray, np.ndarray]:
    """Values (m,) and Jacobian (m, n) of all equations; only sizes with a chosen value count."""
    return _dense([row for part in constraints(d, relations, sizes, x) for row in part], len(x))


def movable(d: Drawing, relations: list[Relation]) -> np.ndarray:
    """Mask (n,) of the unknowns that may move: not the paper's, nor what a relation fixes."""
    out = np.ones(len(d.x), bool) if d.still is None else ~d.still
    for r in relations:
        if r.kind == "fixed":
            e = d.entity(r.of[0])
            p = 2 * d.place(r.of[0]) if d.kind_of(r.of[0]) == "place" else -1
            out[[p, p + 1] if p >= 0 else e.columns()] = False
    return out


def null_space(a: np.ndarray) -> np.ndarray:
    """A basis (n, k) of what the rows of ``a`` leave free."""
    from scipy.linalg import qr

    if len(a) == 0:
        return np.eye(a.shape[1])
    size = np.maximum(np.linalg.norm(a, axis=1), 1e-300)
    q, r, _ = qr((a / size[:, None]).T, mode="full", pivoting=True, check_finite=False)
    diagonal = np.abs(np.diag(r))
    rank = int((diagonal > _RANK * max(diagonal[0] if len(diagonal) else 0.0, 1e-300)).sum())
    return q[:, rank:]


def normal(d: Drawing, x, lines: Straights | None = None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """JᵀJ (n, n) and Jᵀr of the trace, and r. ``lines`` : the drawing's, where they are at hand."""
    h, g, rest = np.zeros((len(x), len(x))), np.zeros(len(x)), [np.zeros(0)]
    lines = lines or Straights(d)
    if len(lines.ends):
        own, grad, r = lines.normal(d, x)
        np.add.at(h, (lines.columns[:, :, None], lines.columns[:, None, :]), own)
        np.add.at(g, lines.columns, grad)
        rest.append(r)
    for r, columns, j in trace_blocks(d, x, but="line"):
        h[np.ix_(columns, columns)] += j.T @ j
        np.add.at(g, columns, j.T @ r)
        rest.append(r)
    for i, p in d.stretches.items():
        if d.entities[i].kind == "spline":
            own, grad, columns = poles_held(d, d.entities[i], p, x)
            h[np.ix_(columns, columns)] += own
            g[columns] += grad
    return h, g, np.concatenate(rest)


def _inflation(d: Drawing, x) -> float:
    """Factor on variances for noise that neighbours share: each of the longest stretches by itself, weighed by its
    samples. (Together, pairs of
    different stretches would hide it; a short round one alone has the longest waves fitted away.)"""
    found = []
    for p, (r, _, _) in sorted(zip(d.stretches.values(), trace_blocks(d, x)), key=lambda t: -len(t[0]))[
        :_LONGEST_STRETCHES
    ]:
        if len(r) >= 30 and len(r) == len(p):
            found.append((len(r), correlation_inflation(np.column_stack([p, np.zeros(len(p))]), r)))
    return float(np.average([f for _, f in found], weights=[n for n, _ in found])) if found else 1.0


class _Dense:
    """A small system, factorised."""

    def __init__(self, k: np.ndarray):
        from scipy.linalg import lapack

        self._lu, self._rows, info = lapack.dgetrf(k)
        if info:
            raise RuntimeError("exactly singular")

    def solve(self, b: np.ndarray) -> np.ndarray:
        from scipy.linalg import lapack

        return lapack.dgetrs(self._lu, self._rows, b)[0]


def kkt(h: np.ndarray, a: np.ndarray):
    """The factorised system of a step (Nocedal, Wright, §16.1); repeated equations are let pass. Raises `RuntimeError`
    where it is singular.
    """
    n, m = len(h), len(a)
    pull = max(_PULL, 1e-12 * float(np.trace(h)) / max(n, 1))
    if n + m <= _SMALL:
        k = np.zeros((n + m, n + m))
        k[:n, :n] = h
        k[:n, n:], k[n:, :n] = a.T, a
        k[np.diag_indices(n)] += pull
        k[np.arange(n, n + m), np.arange(n, n + m)] = -_SLACK
        return _Dense(k)
    from scipy.sparse import bmat, csc_matrix, identity
    from scipy.sparse.linalg import splu

    k = csc_matrix(h) + pull * identity(n, format="csc")
    if m:
        k = bmat([[k, csc_matrix(a).T], [csc_matrix(a), -_SLACK * identity(m)]], format="csc")
    return splu(k)


def _step(h: np.ndarray, g: np.ndarray, a: np.ndarray, c: np.ndarray, may: np.ndarray) -> np.ndarray:
    """The step that makes the squares least on the linearised constraints, of what may move."""
    step = np.zeros(len(g))
    if may.any():
        factor = kkt(h[np.ix_(may, may)], a[:, may])
        step[may] = factor.solve(-np.concatenate([g[may], c]))[: int(may.sum())]
    return step


def _damp(d: Drawing, x, h: np.ndarray, broken: float, grip: float, lines: Straights) -> None:
    """Keep lines' ends from sliding along them for the sake of a turn that the next step makes anyway: while equations
    are broken by so much (mm), a line's turned normal feigns that its trace tells where along it an end lies. What no
    trace holds is not flung about for it either. ``grip`` : how many times as firmly, where steps broke as much as
    they mended.
    """
    if d.stretches:
        many = float(np.mean([len(p) for p in d.stretches.values()]))
        h[np.diag_indices_from(h)] += many * min(_SLIDES, grip * (10 * broken / d.span) ** 2)
    if len(lines.ends):
        p = x[: 2 * d.point_count].reshape(-1, 2)
        t = p[lines.ends[:, 1]] - p[lines.ends[:, 0]]
        length = np.maximum(np.hypot(*t.T), 1e-300)
        t = t / length[:, None]
        weight = lines.counts * np.minimum(_SLIDES, grip * (10 * broken / length) ** 2 + _PULL)
        own = weight[:, None, None] * np.einsum("li,lj->lij", t, t)
        for end in (0, 1):
            k = lines.columns[:, 2 * end : 2 * end + 2]
            np.add.at(h, (k[:, :, None], k[:, None, :]), own)


def solve(
    d: Drawing,
    relations: list[Relation],
    sizes: list[Size],
    *,
    start=None,
    rounds: int = 60,
    drawn_to: dict[int, tuple[float, float]] | None = None,
    tells: bool = True,
) -> Solution:
    """The drawing's unknowns that fit the trace best under the relations and chosen sizes.

    Parameters
    ----------
    start : unknowns to begin with; none: the drawing's own.  rounds : steps, at most.
    drawn_to : points that a hand draws to places (mm): followed where nothing holds them, and only leant to where the
        trace does.  tells : work out covariance and freedoms too; without, they are empty.
    """
    x = np.array(d.x if start is None else start, float)
    span = d.span
    may = movable(d, relations)
    longest = _LONGEST if d.stretches else _LONGEST_BARE
    least = last = np.inf
    grip, before = 1.0, np.inf
    c, a = constraint_rows(d, relations, sizes, x)
    lines = Straights(d)
    h, g, r = normal(d, x, lines)
    for k in range(rounds):
        off = float(np.max(np.abs(c), initial=0.0))
        grip = grip * _FIRMER if off > _MENDED * before and off > _SETTLED * span else max(grip / _LOOSER, 1.0)
        before = off
        _damp(d, x, h, off, grip, lines)
        for i, to in (drawn_to or {}).items():
            lean = 1e-2 * max(float(np.trace(h)) / max(len(x), 1), 1.0)
            h[[2 * i, 2 * i + 1], [2 * i, 2 * i + 1]] += lean
            g[2 * i : 2 * i + 2] += lean * (x[2 * i : 2 * i + 2] - to)
        try:
            step = _step(h, g, a, c, may)
        except RuntimeError:  # exactly singular: nothing more can be told
            break
        biggest = float(np.max(np.abs(step), initial=0.0))
        if not np.isfinite(biggest):
            break
        share = min(1.0, longest * span / max(biggest, 1e-300))
        for _ in range(10):  # no farther than where a line would shrink to a point
            try:
                ahead = constraint_rows(d, relations, sizes, x + share * step), normal(d, x + share * step, lines)
                break
            except BadInput:
                share *= 0.4
        else:
            break
        x = x + share * step
        (c, a), (h, g, r) = ahead
        if biggest < _SETTLED * span or (biggest < 1e-9 * span and biggest >= 0.5 * least):
            break
        least = min(least, biggest) if k > 3 else np.inf
        # What nothing holds well may wander on for ever: enough, where neither squares nor equations change any more.
        squares = float(r @ r)
        if off < 1e-7 * span and biggest < 1e-4 * span and abs(squares - last) <= _EVEN * squares and not drawn_to:
            break
        if drawn_to and biggest < _DRAGGED[0] * span and off < _DRAGGED[1] * span:
            break
        last = squares
    nothing, none = np.zeros((len(x), len(x))), np.zeros(len(x))
    for _ in range(2):  # onto the equations themselves, by the shortest way
        c, a = constraint_rows(d, relations, sizes, x)
        if len(c) and 0 < np.abs(c).max() < 1e-3 * span:
            closer = x + _step(nothing + np.eye(len(x)), none, a, c, may)
            try:
                if np.abs(constraint_rows(d, relations, sizes, closer)[0]).max() <= np.abs(c).max():
                    x = closer
            except BadInput:  # what contradicts itself may squeeze a line to nothing
                break
    c, a = constraint_rows(d, relations, sizes, x)
    return _told(d, x, c, a, may, tells)


def _told(d: Drawing, x, c, a, may, tells: bool) -> Solution:
    h, _, r = normal(d, x)
    n = max(len(r), 1)
    ss = float(r @ r)
    broken = float(np.max(np.abs(c), initial=0.0))
    rms, worst = float(np.sqrt(ss / n)), float(np.max(np.abs(r), initial=0.0))
    if not tells:
        none = np.zeros((len(x), 0))
        return Solution(x, np.zeros((0, 0)), rms, worst, ss, len(r), 0, 0, broken, 1.0, none, none)
    own = null_space(a[:, may])
    z = np.zeros((len(x), own.shape[1]))
    z[may] = own
    inner = z.T @ h @ z
    value, vector = np.linalg.eigh(inner) if z.shape[1] else (np.zeros(0), np.zeros((0, 0)))
    seen = value > 1e-12 * n
    held = int(seen.sum())
    sigma2 = ss / max(n - held, 1)
    inflation = max(_inflation(d, x), d.crowded)
    half = z @ (vector[:, seen] / np.sqrt(value[seen]))
    return Solution(
        x,
        half @ half.T * sigma2 * inflation,
        rms,
        worst,
        ss,
        len(r),
        z.shape[1],
        z.shape[1] - held,
        broken,
        inflation,
        z,
        z @ vector[:, ~seen],
    )
