"""Where does a trace change from line to arc to line? Dynamic programming over break points.

Each piece is a line or an arc; its price is its squared residuals against the trace's noise plus the parameters it
needs, so pieces are only as many as the noise can tell apart (Rissanen 1978, description length). Residual sums come
from running moments in constant time: exact for lines, Pratt's algebraic circle for arcs.

Pratt 1987, "Direct least-squares fitting of algebraic surfaces", SIGGRAPH.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .trace import TraceLoop

__all__ = ["Piece", "split_loop", "fit_circle_2d"]

_PRICE_LINE, _PRICE_ARC = 14.0, 18.0
_FEWEST = 5  # samples in a piece
_STRIDE = 1


class Piece(tuple):
    """(kind, first, last): samples first…last of the loop, cyclic where last < first; kind 0 line, 1 arc, 2 circle."""


@njit(cache=True)
def _line_cost(n, sx, sy, sxx, sxy, syy):  # pragma: no cover - compiled
    mx, my = sx / n, sy / n
    a, b, c = sxx / n - mx * mx, sxy / n - mx * my, syy / n - my * my
    return max(n * 0.5 * ((a + c) - np.sqrt((a - c) ** 2 + 4 * b * b)), 0.0)


@njit(cache=True)
def _arc_cost(n, m):  # pragma: no cover - compiled
    """Sum of squared distances to the Pratt-like circle from moments (x y xx xy yy xz yz zz), z = x² + y²."""
    mx, my = m[0] / n, m[1] / n
    cxx, cxy, cyy = m[2] / n - mx * mx, m[3] / n - mx * my, m[4] / n - my * my
    mz = (m[2] + m[4]) / n
    cxz, cyz, czz = m[5] / n - mx * mz, m[6] / n - my * mz, m[7] / n - mz * mz
    det = cxx * cyy - cxy * cxy
    if det <= 1e-18:
        return 1e300, 0.0
    p, q = (cyy * cxz - cxy * cyz) / det, (cxx * cyz - cxy * cxz) / det
    x, y = p / 2, q / 2
    c0 = mz - p * mx - q * my
    r2 = c0 + x * x + y * y
    if r2 <= 0:
        return 1e300, 0.0
    ss = n * max(czz - p * cxz - q * cyz, 0.0)
    return ss / (4 * r2), np.sqrt(r2)


@njit(cache=True)
def _best_splits(pts, inv2s, price_line, price_arc, fewest, longest_radius):  # pragma: no cover - compiled
    n = pts.shape[0]
    acc = np.zeros((n + 1, 8))
    for i in range(n):
        x, y = pts[i, 0], pts[i, 1]
        z = x * x + y * y
        acc[i + 1, 0] = acc[i, 0] + x
        acc[i + 1, 1] = acc[i, 1] + y
        acc[i + 1, 2] = acc[i, 2] + x * x
        acc[i + 1, 3] = acc[i, 3] + x * y
        acc[i + 1, 4] = acc[i, 4] + y * y
        acc[i + 1, 5] = acc[i, 5] + x * z
        acc[i + 1, 6] = acc[i, 6] + y * z
        acc[i + 1, 7] = acc[i, 7] + z * z
    best = np.full(n + 1, 1e300)
    back = np.zeros(n + 1, np.int64)
    kind = np.zeros(n + 1, np.int64)
    best[0] = 0.0
    for j in range(fewest, n + 1):
        for i in range(0, j - fewest + 1):
            if best[i] >= 1e299:
                continue
            m = acc[j] - acc[i]
            k = j - i
            c = _line_cost(k, m[0], m[1], m[2], m[3], m[4]) * inv2s + price_line
            t = 0
            if k >= fewest + 1 and c > price_arc:
                a, r = _arc_cost(k, m)
                a = a * inv2s + price_arc
                if a < c and r < longest_radius:
                    c, t = a, 1
            if best[i] + c < best[j]:
                best[j], back[j], kind[j] = best[i] + c, i, t
    return best[n], back, kind


def fit_circle_2d(p: np.ndarray) -> tuple[np.ndarray, float, float]:
    """Orthogonal least-squares circle: centre (2,), radius, rms."""
    mean = p.mean(axis=0)
    q = p - mean
    a = np.column_stack([2 * q, np.ones(len(q))])
    s = np.linalg.lstsq(a, np.einsum("ij,ij->i", q, q), rcond=None)[0]
    c, r = s[:2], float(np.sqrt(max(s[2] + s[:2] @ s[:2], 1e-12)))
    for _ in range(50):
        v = q - c
        rho = np.maximum(np.linalg.norm(v, axis=1), 1e-12)
        j = np.column_stack([-v / rho[:, None], -np.ones(len(q))])
        d = np.linalg.lstsq(j, -(rho - r), rcond=None)[0]
        c, r = c + d[:2], r + d[2]
        if np.max(np.abs(d)) < 1e-12:
            break
    res = np.linalg.norm(q - c, axis=1) - r
    return c + mean, float(abs(r)), float(np.sqrt(np.mean(res**2)))


def split_loop(loop: TraceLoop, noise: float) -> list[Piece]:
    """Pieces of one loop in order. ``noise`` is the scatter of a sample in mm."""
    p = loop.points
    n = len(p)
    size = float(np.ptp(p, axis=0).max())
    if loop.closed:
        _, r, rms = fit_circle_2d(p)
        if rms < 1.5 * noise + 0.01 and r > 3 * noise:
            return [Piece((2, 0, n - 1))]
    spread = max(1.6 * noise, 1e-4 * size)  # samples are not independent: count their noise higher
    inv2s = 1.0 / (2 * spread**2)
    longest = 20 * size

    def run(shift: int):
        q = np.roll(p, -shift, axis=0)
        q = (q - q.mean(axis=0)) / 1.0
        _, back, kind = _best_splits(np.ascontiguousarray(q), inv2s, _PRICE_LINE, _PRICE_ARC, _FEWEST, longest)
        out, j = [], n
        while j > 0:
            i = int(back[j])
            out.append(((i + shift), (j - 1 + shift), int(kind[j])))
            j = i
        return out[::-1]

    found = run(0)
    if loop.closed and len(found) > 1:
        # Start again at a true break, so that the loop's arbitrary first sample is not one.
        found = run(found[len(found) // 2][0] % n)
    return [Piece((k, i % n, j % n)) for i, j, k in found]


def samples_of(loop: TraceLoop, piece: Piece) -> np.ndarray:
    _, i, j = piece
    if i <= j:
        return loop.points[i : j + 1]
    return np.vstack([loop.points[i:], loop.points[: j + 1]])
