"""Solve a drawing against its trace: least squares of the samples' distances subject to relations and sizes.

Each step solves the linearised constraints and the trace's squares together, with a faint pull to where things are for
what
neither holds. What is left free comes from a pivoted QR of the constraint Jacobian at the end.

Nocedal, Wright 2006, *Numerical Optimization*, §16.1 (the KKT system), §18.4.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements.uncertainty import correlation_inflation
from ..errors import BadInput
from .drawing import Drawing, Relation, Size
from .equations import relation_equations, size_value, structure, trace_blocks

__all__ = ["Solution", "solve", "constraint_rows"]

_PULL = 1e-6  # weight of staying put against one sample of trace
_RANK = 1e-7
_SLACK = 1e-11  # keeps repeated equations from making the system singular
_LONGEST_STRETCHES = 6  # that tell how noise is shared
_LONGEST = 0.03  # of the drawing's span: the longest step


@dataclass(frozen=True)
class Solution:
    """``x`` the solved unknowns; ``covariance`` (n, n) mm²; ``freedom`` unknowns that no equation holds;
    ``unseen`` of those that the trace does not hold either; ``broken`` the largest equation left unsatisfied (mm)."""

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


def constraint_rows(d: Drawing, relations: list[Relation], sizes: list[Size], x) -> tuple[np.ndarray, np.ndarray]:
    """Values (m,) and Jacobian (m, n) of all equations; only sizes with a chosen value count."""
    rows = structure(d, x)
    for r in relations:
        rows += relation_equations(d, r, x)
    for s in sizes:
        if s.chosen is not None and s.source != "scan":
            v, g = size_value(d, s, x)
            rows.append((v - s.chosen, g))
    c = np.array([v for v, _ in rows])
    a = np.zeros((len(rows), len(x)))
    for i, (_, g) in enumerate(rows):
        for k, v in g.items():
            a[i, k] = v
    return c, a


def _null_space(a: np.ndarray) -> np.ndarray:
    """A basis (n, k) of what the rows of ``a`` leave free."""
    from scipy.linalg import qr

    if len(a) == 0:
        return np.eye(a.shape[1])
    q, r, _ = qr(a.T, mode="full", pivoting=True, check_finite=False)
    diagonal = np.abs(np.diag(r))
    rank = int((diagonal > _RANK * max(diagonal[0] if len(diagonal) else 0.0, 1e-300)).sum())
    return q[:, rank:]


def _normal(d: Drawing, x) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """JᵀJ (n, n) and Jᵀr of the trace, and r."""
    h, g, rest = np.zeros((len(x), len(x))), np.zeros(len(x)), [np.zeros(0)]
    for r, columns, j in trace_blocks(d, x):
        h[np.ix_(columns, columns)] += j.T @ j
        g[columns] += j.T @ r
        rest.append(r)
    return h, g, np.concatenate(rest)


def _inflation(d: Drawing, x) -> float:
    """Factor on variances for noise that neighbours share: each of the longest stretches by itself, weighed by its
    samples. (Together, pairs of
    different stretches would hide it; a short round one alone has the longest waves fitted away.)"""
    found = []
    for p, (r, _, _) in sorted(zip(d.stretches.values(), trace_blocks(d, x)), key=lambda t: -len(t[0]))[
        :_LONGEST_STRETCHES
    ]:
        if len(r) >= 30:
            found.append((len(r), correlation_inflation(np.column_stack([p, np.zeros(len(p))]), r)))
    return float(np.average([f for _, f in found], weights=[n for n, _ in found])) if found else 1.0


def _step(h: np.ndarray, g: np.ndarray, a: np.ndarray, c: np.ndarray) -> np.ndarray:
    """The step that makes the squares least on the linearised constraints (Nocedal, Wright, §16.1: the KKT system);
    repeated equations are let pass.
    """
    from scipy.sparse import bmat, csc_matrix, identity
    from scipy.sparse.linalg import splu

    n, m = len(g), len(c)
    pull = max(_PULL, 1e-12 * float(np.trace(h)) / max(n, 1))
    k = csc_matrix(h) + pull * identity(n, format="csc")
    if m:
        k = bmat([[k, csc_matrix(a).T], [csc_matrix(a), -_SLACK * identity(m)]], format="csc")
    return splu(k).solve(-np.concatenate([g, c]))[:n]


def solve(d: Drawing, relations: list[Relation], sizes: list[Size], *, start=None, rounds: int = 60) -> Solution:
    """The drawing's unknowns that fit the trace best under the relations and chosen sizes."""
    x = np.array(d.x if start is None else start, float)
    span = float(np.ptp(x[: 2 * d.point_count])) if d.point_count else 1.0
    least = np.inf
    for k in range(rounds):
        c, a = constraint_rows(d, relations, sizes, x)
        h, g, _ = _normal(d, x)
        try:
            step = _step(h, g, a, c)
        except RuntimeError:  # exactly singular: nothing more can be told
            break
        biggest = float(np.max(np.abs(step), initial=0.0))
        if not np.isfinite(biggest):
            break
        share = min(1.0, _LONGEST * span / max(biggest, 1e-300))
        for _ in range(10):  # no farther than where a line would shrink to a point
            try:
                constraint_rows(d, relations, sizes, x + share * step)
                _normal(d, x + share * step)
                break
            except BadInput:
                share *= 0.4
        else:
            break
        x = x + share * step
        if biggest < 1e-13 * span or (biggest < 1e-9 * span and biggest >= 0.5 * least):
            break
        least = min(least, biggest) if k > 3 else np.inf
    for _ in range(2):  # onto the equations themselves, by the shortest way
        c, a = constraint_rows(d, relations, sizes, x)
        if len(c) and 0 < np.abs(c).max() < 1e-3 * span:
            x = x + _step(np.eye(len(x)), np.zeros(len(x)), a, c)
    c, a = constraint_rows(d, relations, sizes, x)
    h, _, r = _normal(d, x)
    z = _null_space(a)
    n = max(len(r), 1)
    ss = float(r @ r)
    inner = z.T @ h @ z
    value, vector = np.linalg.eigh(inner) if z.shape[1] else (np.zeros(0), np.zeros((0, 0)))
    seen = value > 1e-12 * n
    held = int(seen.sum())
    sigma2 = ss / max(n - held, 1)
    inflation = _inflation(d, x)
    inflation = max(inflation, d.crowded)
    half = z @ (vector[:, seen] / np.sqrt(value[seen]))
    return Solution(
        x,
        half @ half.T * sigma2 * inflation,
        float(np.sqrt(ss / n)),
        float(np.max(np.abs(r), initial=0.0)),
        ss,
        len(r),
        z.shape[1],
        z.shape[1] - held,
        float(np.max(np.abs(c), initial=0.0)),
        inflation,
    )
