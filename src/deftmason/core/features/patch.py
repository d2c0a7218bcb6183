"""A simple patch over a gently bent face of the scan, by least squares: one Bézier surface as a height over a plane."""

from __future__ import annotations

from dataclasses import dataclass
from math import comb

import numpy as np

from ..errors import BadInput

__all__ = ["Patch", "patch_over"]

_HIGHEST = 6  # degree
_BETTER = 0.97  # of the scatter that a further degree must leave at most
_SMOOTH = 1e-7  # of the normal equations: what keeps poles beyond the data in line with their neighbours
_STRAY = 3.5  # scatters from which on a place is set aside
_BEYOND = 0.03  # of its size that a patch reaches past what it is asked for


@dataclass(frozen=True)
class Patch:
    """``poles`` (n, m, 3) in the frame, mm; ``scatter`` mm of ``count`` places about it; ``low``, ``high`` and
    ``middle``: heights (mm) along the normal that it has over the outline.
    """

    poles: np.ndarray
    scatter: float
    count: int
    low: float
    high: float
    middle: float


def _bernstein(degree: int, t: np.ndarray) -> np.ndarray:
    return np.column_stack([comb(degree, k) * t**k * (1 - t) ** (degree - k) for k in range(degree + 1)])


def _basis(degree: int, st: np.ndarray) -> np.ndarray:
    a, b = _bernstein(degree, st[:, 0]), _bernstein(degree, st[:, 1])
    return np.einsum("ni,nj->nij", a, b).reshape(len(st), -1)


def _bends(degree: int) -> np.ndarray:
    """Second differences of the poles in both directions."""
    n = degree + 1
    d = np.diff(np.eye(n), 2, axis=0)
    return np.vstack([np.kron(d, np.eye(n)), np.kron(np.eye(n), d)]) if n > 2 else np.zeros((1, n * n))


def _fitted(degree: int, st: np.ndarray, h: np.ndarray) -> tuple[np.ndarray, float, np.ndarray]:
    """Heights of the poles, the scatter, and which places were kept."""
    basis, bends = _basis(degree, st), _bends(degree)
    keep = np.ones(len(h), bool)
    for _ in range(4):
        b = basis[keep]
        normal = b.T @ b
        normal += _SMOOTH * np.trace(normal) / len(normal) * (bends.T @ bends) + 1e-12 * np.eye(len(normal)) * len(b)
        poles = np.linalg.solve(normal, b.T @ h[keep])
        off = h - basis @ poles
        spread = 1.4826 * float(np.median(np.abs(off[keep])))
        now = np.abs(off) <= max(_STRAY * spread, 1e-9 * max(float(np.ptp(h)), 1e-9))
        if now.sum() < 2 * basis.shape[1] or np.array_equal(now, keep):
            break
        keep = now
    return poles, float(np.sqrt(np.mean(off[keep] ** 2))), keep


def patch_over(points: np.ndarray, origin, u, v, normal, outline: np.ndarray) -> Patch:
    """The simplest patch that tells a face.

    Parameters
    ----------
    points : (k, 3) places of the face, mm, in the frame.  origin, u, v, normal : (3,) the plane it is a height over.
    outline : (n, 2) what it has to reach over, in the plane.

    Raises `BadInput` where there are too few places, or they lie too steeply to be a height.
    """
    rel = np.asarray(points, float) - origin
    uv, h = np.column_stack([rel @ u, rel @ v]), rel @ normal
    every = np.vstack([uv, outline])
    low, high = every.min(axis=0), every.max(axis=0)
    size = np.maximum(high - low, 1e-9)
    low, size = low - _BEYOND * size, (1 + 2 * _BEYOND) * size
    if len(h) < 30:
        raise BadInput("The picked face has too few facets to read a surface; widen the pick.", field="to")
    inside = (uv > outline.min(axis=0)) & (uv < outline.max(axis=0))
    if not inside.all(axis=1).any():
        raise BadInput("The picked face does not lie over the profile; pick one that does.", field="to")
    st = (uv - low) / size
    best = _fitted(1, st, h)
    degree = 1
    for d in range(2, _HIGHEST + 1):
        if (d + 1) ** 2 * 4 > len(h):
            break
        found = _fitted(d, st, h)
        if found[1] < _BETTER * best[1]:
            best, degree = found, d
        elif d > degree + 1:
            break
    heights, scatter, keep = best
    n = degree + 1
    grid = np.linspace(0, 1, n)
    s, t = np.meshgrid(grid, grid, indexing="ij")
    at = low + np.column_stack([s.ravel(), t.ravel()]) * size
    poles = origin + at[:, :1] * u + at[:, 1:] * v + heights[:, None] * normal
    over = _basis(degree, (np.vstack([outline, outline.mean(axis=0)]) - low) / size) @ heights
    if over.max() - over.min() > 2 * float(np.hypot(*np.ptp(outline, axis=0))):
        raise BadInput("The picked face stands too steeply over the profile to end on; pick another.", field="to")
    base = float(np.dot(origin, normal))
    every_height = base + heights  # a Bézier patch lies within its poles
    return Patch(
        poles.reshape(n, n, 3), scatter, int(keep.sum()), float(every_height.min()), float(every_height.max()),
        base + float(over[-1]),
    )  # fmt: skip
