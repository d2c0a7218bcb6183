"""Solve a drawing against its trace: least squares of the samples' distances subject to relations and sizes.

Each step solves the linearised constraints exactly and minimises the trace's squares in their null space, with a
faint pull to where things are for what neither holds. Rank comes from an SVD of the constraint Jacobian.

Nocedal, Wright 2006, *Numerical Optimization*, §16.2 (null-space method), §18.4.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements.uncertainty import correlation_inflation
from .drawing import Drawing, Relation, Size
from .equations import relation_equations, size_value, structure, trace_residuals

__all__ = ["Solution", "solve", "constraint_rows"]

_PULL = 1e-6  # weight of staying put against one sample of trace
_RANK = 1e-7


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


def _null_space(a: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Pseudo-inverse of a and a basis of its null space."""
    if len(a) == 0:
        return np.zeros((a.shape[1], 0)), np.eye(a.shape[1])
    u, s, vt = np.linalg.svd(a, full_matrices=True)
    rank = int((s > _RANK * max(s[0], 1e-300)).sum())
    return vt[:rank].T @ (u[:, :rank] / s[:rank]).T, vt[rank:].T


def solve(d: Drawing, relations: list[Relation], sizes: list[Size], *, start=None, rounds: int = 60) -> Solution:
    """The drawing's unknowns that fit the trace best under the relations and chosen sizes."""
    x = np.array(d.x if start is None else start, float)
    for _ in range(rounds):
        c, a = constraint_rows(d, relations, sizes, x)
        r, j = trace_residuals(d, x)
        pinv, z = _null_space(a)
        to_feasible = -pinv @ c if len(c) else np.zeros(len(x))
        step = to_feasible
        if z.shape[1]:
            jz = np.vstack([j @ z, np.sqrt(_PULL) * np.eye(z.shape[1])])
            rhs = -np.concatenate([r + j @ to_feasible, np.zeros(z.shape[1])])
            step = to_feasible + z @ np.linalg.lstsq(jz, rhs, rcond=1e-12)[0]
        biggest = float(np.max(np.abs(step), initial=0.0))
        if not np.isfinite(biggest):
            break
        x = x + step * min(1.0, 3.0 / max(biggest, 1e-300))
        if biggest < 1e-11:
            break
    c, a = constraint_rows(d, relations, sizes, x)
    r, j = trace_residuals(d, x)
    _, z = _null_space(a)
    n = max(len(r), 1)
    ss = float(r @ r)
    jz = j @ z
    held = int(np.linalg.matrix_rank(jz, tol=1e-6 * np.sqrt(n))) if z.shape[1] else 0
    sigma2 = ss / max(n - held, 1)
    places = np.vstack(list(d.stretches.values())) if d.stretches else np.zeros((0, 2))
    inflation = correlation_inflation(np.column_stack([places, np.zeros(len(places))]), r) if len(r) else 1.0
    inner = np.linalg.pinv(jz.T @ jz, rcond=1e-12) if z.shape[1] else np.zeros((0, 0))
    return Solution(
        x,
        z @ inner @ z.T * sigma2 * inflation,
        float(np.sqrt(ss / n)),
        float(np.max(np.abs(r), initial=0.0)),
        ss,
        len(r),
        z.shape[1],
        z.shape[1] - held,
        float(np.max(np.abs(c), initial=0.0)),
        inflation,
    )
