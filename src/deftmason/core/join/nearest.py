"""The nearest of a scan's points to a place, exactly, for questions that come by the million.

Points are sorted into cells of a few spacings, so that a look into the cells around a place settles most questions;
wider
looks follow only where nothing nearer was found. A tree answers the same, but several times more slowly for points
that lie evenly on a surface.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

__all__ = ["Nearest", "closest"]

_WIDE = 2.5  # spacings of a cell
_MOST = 12_000_000  # cells of the box around all points


@dataclass(frozen=True, eq=False)
class Nearest:
    """``points`` (n, 3) in the order of their cells, ``order`` (n,) which of the scan's points each is, ``start`` where
    each cell
    of the ``dims`` box begins, ``low`` (3,) its corner, ``cell`` the size of one, mm."""

    points: np.ndarray
    order: np.ndarray
    start: np.ndarray
    dims: np.ndarray
    low: np.ndarray
    cell: float

    @staticmethod
    def of(points: np.ndarray, spacing: float) -> Nearest:
        low, size = points.min(axis=0), np.maximum(np.ptp(points, axis=0), 1e-9)
        cell = max(_WIDE * spacing, float((size.prod() / _MOST) ** (1 / 3)), float(size.max()) / 2000)
        at = np.floor((points - low) / cell).astype(np.int64)
        dims = at.max(axis=0) + 1
        key = (at[:, 0] * dims[1] + at[:, 1]) * dims[2] + at[:, 2]
        order = np.argsort(key, kind="stable").astype(np.int32)
        start = np.zeros(int(dims.prod()) + 1, np.int32)
        np.cumsum(np.bincount(key, minlength=len(start) - 1), out=start[1:])
        return Nearest(np.ascontiguousarray(points[order], dtype=float), order, start, dims, low, cell)

    @property
    def grid(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, float]:
        """What compiled questions are asked with."""
        return self.points, self.order, self.start, self.dims, self.low, self.cell

    def query(self, places: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
        """Distance in mm and index of the nearest point to each place (k, 3); inf and −1 beyond ``reach`` mm."""
        d, i = np.empty(len(places)), np.empty(len(places), np.int64)
        _query(
            *self.grid,
            np.ascontiguousarray(places, float),
            float(reach),
            d,
            i,
        )
        return d, i


@njit(cache=True, nogil=True)
def closest(p, start, dims, low, cell, x, y, z, reach):  # pragma: no cover - compiled
    """The two nearest of the sorted points within ``reach``: their indices (−1: none) and squared distances."""
    a, b, c = int(np.floor((x - low[0]) / cell)), int(np.floor((y - low[1]) / cell)), int(np.floor((z - low[2]) / cell))
    far = reach * reach
    most = int(np.ceil(reach / cell))
    r = 1
    while True:
        i1, i2 = -1, -1
        d1, d2 = far, far
        low_c, high_c = max(c - r, 0), min(c + r, dims[2] - 1)
        if low_c <= high_c:
            for u in range(max(a - r, 0), min(a + r, dims[0] - 1) + 1):
                for v in range(max(b - r, 0), min(b + r, dims[1] - 1) + 1):
                    row = (u * dims[1] + v) * dims[2]
                    for j in range(start[row + low_c], start[row + high_c + 1]):
                        dx, dy, dz = p[j, 0] - x, p[j, 1] - y, p[j, 2] - z
                        d = dx * dx + dy * dy + dz * dz
                        if d < d1:
                            d2, i2 = d1, i1
                            d1, i1 = d, j
                        elif d < d2:
                            d2, i2 = d, j
        # Whatever lies nearer than the border of the box looked into was seen.
        if r >= most or (i2 >= 0 and d2 <= (r * cell) ** 2):
            return i1, i2, d1, d2
        r += 1


@njit(cache=True, nogil=True)
def _query(p, order, start, dims, low, cell, places, reach, distance, index):  # pragma: no cover - compiled
    for k in range(places.shape[0]):
        i, _, d, _ = closest(p, start, dims, low, cell, places[k, 0], places[k, 1], places[k, 2], reach)
        distance[k] = np.sqrt(d) if i >= 0 else np.inf
        index[k] = order[i] if i >= 0 else -1
