"""The section that points near a cutting plane give: laid into the plane, put in order, and drawn as smooth lines."""

from __future__ import annotations

import numpy as np

from ..elements import perpendicular_pair
from .keeping import CuttingPlane

__all__ = ["section_lines"]

_GAP = 6.0  # times the usual step between neighbours: farther apart, a line ends
_LEAST = 8  # stations of a line
_WIDE = 0.5  # of the reach: how far along a line points are taken together


def section_lines(points: np.ndarray, plane: CuttingPlane, step: float | None = None) -> list[tuple[np.ndarray, bool]]:
    """Lines (k, 3) in the plane through points (n, 3) that lie within its reach, each with whether it is closed.

    Points are taken together in cells of ``step`` mm (half the reach where none is given), the cells' middles linked to
    their two nearest on either side, and followed.
    """
    near = points[np.abs(plane.away(points)) <= plane.reach]
    if len(near) < _LEAST:
        return []
    u, v = perpendicular_pair(plane.normal)
    flat = np.column_stack([(near - plane.point) @ u, (near - plane.point) @ v])
    step = step or max(_WIDE * plane.reach, 1e-9)
    middles = _thinned(flat, step)
    out = []
    for line, closed in _followed(middles, step):
        if len(line) >= _LEAST:
            out.append((plane.point + line[:, :1] * u + line[:, 1:] * v, closed))
    return sorted(out, key=lambda x: -len(x[0]))


def _thinned(flat: np.ndarray, step: float) -> np.ndarray:
    """Middles of the points in each cell."""
    cells, index = np.unique(np.floor(flat / step).astype(np.int64), axis=0, return_inverse=True)
    count = np.bincount(index.ravel(), minlength=len(cells))
    middles = np.stack([np.bincount(index.ravel(), flat[:, k], len(cells)) for k in range(2)], axis=1)
    return middles / count[:, None]


def _followed(p: np.ndarray, step: float) -> list[tuple[np.ndarray, bool]]:
    """Chains of places, each grown from both ends to the nearest place ahead that is not taken yet."""
    from scipy.spatial import cKDTree

    tree = cKDTree(p)
    reach = _GAP * step
    free = np.ones(len(p), bool)
    out = []
    while free.any():
        start = int(np.argmax(free))
        free[start] = False
        chain = [start]
        for _ in range(2):
            while True:
                here = p[chain[-1]]
                ahead = p[chain[-1]] - p[chain[-3 if len(chain) > 3 else 0]] if len(chain) > 1 else None
                beside = [i for i in tree.query_ball_point(here, reach) if free[i]]
                if not beside:
                    break
                to = p[beside] - here
                far = np.linalg.norm(to, axis=1)
                cost = far.copy()
                if ahead is not None and np.linalg.norm(ahead) > 0:
                    cost = far * (1.6 - (to @ ahead) / np.maximum(far * np.linalg.norm(ahead), 1e-300))
                best = beside[int(np.argmin(cost))]
                # What lies beside the step is part of the same stretch.
                chain.append(best)
                free[best] = False
                passed = [i for i in tree.query_ball_point(0.5 * (here + p[best]), 0.75 * step) if free[i]]
                free[passed] = False
            chain.reverse()
        line = p[chain]
        closed = len(line) > 2 * _LEAST and float(np.linalg.norm(line[0] - line[-1])) < reach
        out.append((line, closed))
    return out
