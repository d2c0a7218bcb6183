"""Points sorted into even cells, so that all neighbours within a radius are found in linear time, in parallel.

Cells are visited in key order; a cell's 27 neighbours are nine runs of three in that order, so one binary search per
run
and cell serves all its points (Teschner et al. 2003, *Optimized spatial hashing for collision detection*, made
ordered).
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

__all__ = ["Cells", "spacing_of"]


@njit(cache=True)
def _first(keys, key):  # pragma: no cover - compiled
    a, b = 0, keys.shape[0]
    while a < b:
        m = (a + b) // 2
        if keys[m] < key:
            a = m + 1
        else:
            b = m
    return a


@njit(cache=True, parallel=True)
def _runs(ask, cell_keys, begin, dy, dz):  # pragma: no cover - compiled
    """For each cell asked of the nine runs of points around it (c, 9, 2), and the cells themselves (c, 27), −1 where
    empty.
    """
    n = cell_keys.shape[0]
    out = np.empty((ask.shape[0], 9, 2), np.int32)
    around = np.full((ask.shape[0], 27), -1, np.int32)
    for c in prange(ask.shape[0]):
        k = 0
        for i in range(-1, 2):
            for j in range(-1, 2):
                low = ask[c] + i * dy + j * dz - 1
                a = _first(cell_keys, low)
                b = a
                while b < n and cell_keys[b] <= low + 2:
                    around[c, 3 * k + b - a] = b
                    b += 1
                out[c, k, 0] = begin[a]
                out[c, k, 1] = begin[b]
                k += 1
    return out, around


@njit(cache=True, parallel=True)
def _moments(p, cell, runs, r2, skip, count, mean, cov):  # pragma: no cover - compiled
    """Count, mean and covariance of the other points within a radius of each."""
    for i in prange(p.shape[0]):
        c = cell[i]
        n = 0
        x0, y0, z0 = p[i, 0], p[i, 1], p[i, 2]
        sx = sy = sz = 0.0
        xx = xy = xz = yy = yz = zz = 0.0
        for k in range(9):
            for j in range(runs[c, k, 0], runs[c, k, 1]):
                if j == i or skip[j]:
                    continue
                x, y, z = p[j, 0] - x0, p[j, 1] - y0, p[j, 2] - z0
                if x * x + y * y + z * z > r2:
                    continue
                n += 1
                sx += x
                sy += y
                sz += z
                xx += x * x
                xy += x * y
                xz += x * z
                yy += y * y
                yz += y * z
                zz += z * z
        count[i] = n
        if n > 0:
            mx, my, mz = sx / n, sy / n, sz / n
            mean[i, 0], mean[i, 1], mean[i, 2] = mx, my, mz
            cov[i, 0] = xx / n - mx * mx
            cov[i, 1] = xy / n - mx * my
            cov[i, 2] = xz / n - mx * mz
            cov[i, 3] = yy / n - my * my
            cov[i, 4] = yz / n - my * mz
            cov[i, 5] = zz / n - mz * mz


@njit(cache=True, parallel=True)
def _least(cov, count, normal, least, middle):  # pragma: no cover - compiled
    """Least eigenvector and the two smaller eigenvalues of symmetric 3×3 matrices (trigonometric solution,
    Smith 1961).
    """
    for i in prange(cov.shape[0]):
        if count[i] < 3:
            continue
        a, b, c, d, e, f = cov[i, 0], cov[i, 1], cov[i, 2], cov[i, 3], cov[i, 4], cov[i, 5]
        q = (a + d + f) / 3
        p1 = b * b + c * c + e * e
        p2 = (a - q) ** 2 + (d - q) ** 2 + (f - q) ** 2 + 2 * p1
        p = np.sqrt(p2 / 6)
        if p < 1e-300:
            normal[i, 2] = 1.0
            continue
        aa, dd, ff = (a - q) / p, (d - q) / p, (f - q) / p
        bb, cc, ee = b / p, c / p, e / p
        r = 0.5 * (aa * (dd * ff - ee * ee) - bb * (bb * ff - ee * cc) + cc * (bb * ee - dd * cc))
        r = min(1.0, max(-1.0, r))
        phi = np.arccos(r) / 3
        high = q + 2 * p * np.cos(phi)
        low = q + 2 * p * np.cos(phi + 2 * np.pi / 3)
        least[i] = max(low, 0.0)
        middle[i] = max(3 * q - high - low, 0.0)
        # The least eigenvector spans the null space of C − low: the largest cross product of its rows.
        r0 = (a - low, b, c)
        r1 = (b, d - low, e)
        r2 = (c, e, f - low)
        best = -1.0
        for k in range(3):
            u, w = (r0, r1) if k == 0 else ((r0, r2) if k == 1 else (r1, r2))
            x, y, z = u[1] * w[2] - u[2] * w[1], u[2] * w[0] - u[0] * w[2], u[0] * w[1] - u[1] * w[0]
            s = x * x + y * y + z * z
            if s > best:
                best = s
                t = 1 / np.sqrt(s) if s > 0 else 0.0
                normal[i, 0], normal[i, 1], normal[i, 2] = x * t, y * t, z * t


@njit(cache=True)
def _join(p, cell, runs, r2, skip, label):  # pragma: no cover - compiled
    """Pieces of points linked within a radius; label −1 where skipped."""
    n = p.shape[0]
    stack = np.empty(n, np.int32)
    piece = 0
    for s in range(n):
        if label[s] >= 0 or skip[s]:
            continue
        label[s] = piece
        stack[0] = s
        top = 1
        while top:
            top -= 1
            i = stack[top]
            c = cell[i]
            for k in range(9):
                for j in range(runs[c, k, 0], runs[c, k, 1]):
                    if label[j] >= 0 or skip[j]:
                        continue
                    x, y, z = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
                    if x * x + y * y + z * z <= r2:
                        label[j] = piece
                        stack[top] = j
                        top += 1
        piece += 1
    return piece


@njit(cache=True)
def _thin(p, cell, around, order, reach, kept):  # pragma: no cover - compiled
    """Keep a point unless one already kept is nearer than its reach; each cell lists its kept points."""
    head = np.full(around.shape[0], -1, np.int32)
    following = np.full(p.shape[0], -1, np.int32)
    for o in range(order.shape[0]):
        i = order[o]
        c = cell[i]
        r2 = reach[i] * reach[i]
        free = True
        for k in range(27):
            near = around[c, k]
            if near < 0:
                continue
            j = head[near]
            while j >= 0:
                x, y, z = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
                if x * x + y * y + z * z < r2:
                    free = False
                    break
                j = following[j]
            if not free:
                break
        if free:
            kept[i] = True
            following[i] = head[c]
            head[c] = i


@njit(cache=True, parallel=True, fastmath=True)
def _nearest_other(p, some, out):  # pragma: no cover - compiled
    for k in prange(some.shape[0]):
        i = some[k]
        x, y, z = p[i, 0], p[i, 1], p[i, 2]
        best = 1e300
        for j in range(i):
            best = min(best, (p[j, 0] - x) ** 2 + (p[j, 1] - y) ** 2 + (p[j, 2] - z) ** 2)
        for j in range(i + 1, p.shape[0]):
            best = min(best, (p[j, 0] - x) ** 2 + (p[j, 1] - y) ** 2 + (p[j, 2] - z) ** 2)
        out[k] = np.sqrt(best)


def spacing_of(points: np.ndarray) -> float:
    """Median distance from a point to its nearest other, mm."""
    from scipy.spatial import cKDTree

    n = len(points)
    if n < 2:
        return 0.0
    # By lot: an even stride may fall in step with how the points were written.
    lot = np.random.default_rng(5)
    if n > 300_000:  # looking at all for a few costs less than sorting all into a tree
        out = np.empty(200)
        _nearest_other(np.ascontiguousarray(points, float), lot.choice(n, 200, replace=False), out)
        return float(np.median(out))
    some = points if n <= 4000 else points[lot.choice(n, 4000, replace=False)]
    return float(
        np.median(cKDTree(points, balanced_tree=False, compact_nodes=False).query(some, k=2, workers=-1)[0][:, 1])
    )


class Cells:
    """Points (n, 3) sorted into cells of size ``radius``; answers come back in the caller's order."""

    def __init__(self, points: np.ndarray, radius: float):
        points = np.ascontiguousarray(points, float)
        self._low = low = points.min(axis=0)
        self.radius = float(radius)
        grid = np.floor((points - low) / self.radius).astype(np.int64) + 1
        dims = grid.max(axis=0) + 3
        dz = int(dims[2])
        dy = int(dims[1]) * dz
        key = grid[:, 0] * dy + grid[:, 1] * dz + grid[:, 2]
        self.order = np.argsort(key, kind="stable").astype(np.int32)
        self.points = points[self.order]
        sorted_key = key[self.order]
        fresh = np.concatenate([[True], sorted_key[1:] != sorted_key[:-1]])
        self.cell = (np.cumsum(fresh) - 1).astype(np.int32)
        keys = sorted_key[fresh]
        begin = np.concatenate([np.nonzero(fresh)[0], [len(points)]]).astype(np.int32)
        self._keys, self._begin, self._dims = keys, begin, (dy, dz, grid.max(axis=0))
        self.runs, self._around = _runs(keys, keys, begin, dy, dz)

    def runs_at(self, places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """For places (k, 3) within a cell's width of the points: which row of runs (k,) int32, and the rows (r,
        9, 2).
        """
        dy, dz, most = self._dims
        grid = np.clip(np.floor((places - self._low) / self.radius).astype(np.int64) + 1, 0, most + 1)
        key = grid[:, 0] * dy + grid[:, 1] * dz + grid[:, 2]
        ask, row = np.unique(key, return_inverse=True)
        return row.astype(np.int32), _runs(ask, self._keys, self._begin, dy, dz)[0]

    def _back(self, a: np.ndarray) -> np.ndarray:
        out = np.empty_like(a)
        out[self.order] = a
        return out

    def planes(self, skip: np.ndarray | None = None, radius: float | None = None) -> dict[str, np.ndarray]:
        """The plane through each point's neighbours, itself left out.

        Returns count (n,), mean (n, 3) relative to the point, normal (n, 3), least and middle eigenvalue (n,) in mm².
        """
        n = len(self.points)
        r = self.radius if radius is None else min(radius, self.radius)
        skipped = np.zeros(n, bool) if skip is None else skip[self.order]
        count, mean, cov = np.zeros(n, np.int32), np.zeros((n, 3)), np.zeros((n, 6))
        _moments(self.points, self.cell, self.runs, r * r, skipped, count, mean, cov)
        normal, least, middle = np.zeros((n, 3)), np.zeros(n), np.zeros(n)
        _least(cov, count, normal, least, middle)
        b = self._back
        return {"count": b(count), "mean": b(mean), "normal": b(normal), "least": b(least), "middle": b(middle)}

    def pieces(self, skip: np.ndarray | None = None) -> np.ndarray:
        """Label (n,) int32 of the piece each point belongs to, linked within the radius; −1 where skipped."""
        n = len(self.points)
        skipped = np.zeros(n, bool) if skip is None else skip[self.order]
        label = np.full(n, -1, np.int32)
        _join(self.points, self.cell, self.runs, self.radius**2, skipped, label)
        return self._back(label)

    def thinned(self, reach: np.ndarray, first: np.ndarray) -> np.ndarray:
        """Mask (n,) of points kept so that none is nearer than its ``reach`` (≤ radius) to one kept before; in order
        ``first``.
        """
        rank = np.empty(len(first), np.int32)
        rank[self.order] = np.arange(len(first), dtype=np.int32)
        kept = np.zeros(len(self.points), bool)
        _thin(self.points, self.cell, self._around, rank[first], np.ascontiguousarray(reach[self.order]), kept)
        return self._back(kept)
