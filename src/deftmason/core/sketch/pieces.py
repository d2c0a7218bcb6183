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
_FLAT_MM = 0.12  # an arc that rises less over its chord is a line with noise on it
_KINK_MM, _KINK_GROWTH = 0.02, 1.5  # rms to which two neighbours may rise and still be one


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


def _shared_noise(p: np.ndarray, pieces, n: int) -> float:
    """Variance of the pieces' residuals times the number of samples that move together (mm²)."""
    rest = []
    for i, j, kind in pieces:
        q = p[np.arange(i, j + 1) % n]
        if len(q) < 8:
            continue
        rest.append(_residuals(q, kind))
    if not rest:
        return 0.0
    var = float(np.mean(np.concatenate(rest) ** 2))
    together = 1.0
    for lag in range(1, 13):
        pairs = [r[:-lag] * r[lag:] for r in rest if len(r) > 2 * lag]
        rho = float(np.mean(np.concatenate(pairs))) / max(var, 1e-300) if pairs else 0.0
        if rho < 0.1:
            break
        together += 2 * rho
    return var * together


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

    def run(shift: int, inv2s: float):
        q = np.roll(p, -shift, axis=0)
        q = q - q.mean(axis=0)
        _, back, kind = _best_splits(np.ascontiguousarray(q), inv2s, _PRICE_LINE, _PRICE_ARC, _FEWEST, longest)
        out, j = [], n
        while j > 0:
            i = int(back[j])
            out.append(((i + shift), (j - 1 + shift), int(kind[j])))
            j = i
        return out[::-1]

    found = run(0, inv2s)
    # Neighbouring samples share their noise: count each for less, by the correlation of what the pieces left over.
    inv2s = 1.0 / (2 * max(_shared_noise(p, found, n), spread**2))
    found = run(0, inv2s)
    if loop.closed and len(found) > 1:
        # Start again at a true break, so that the loop's arbitrary first sample is not one.
        found = run(found[len(found) // 2][0] % n, inv2s)
    found = _melted(p, found, n, loop.closed)
    return [Piece((k, i % n, j % n)) for i, j, k in found]


def _residuals(q: np.ndarray, kind: int) -> np.ndarray:
    if kind == 1:
        c, r, _ = fit_circle_2d(q)
        return np.linalg.norm(q - c, axis=1) - r
    d = q - q.mean(axis=0)
    return d @ np.linalg.svd(d, full_matrices=False)[2][1]


def _sagitta(q: np.ndarray) -> float:
    chord = q[-1] - q[0]
    n = np.array([-chord[1], chord[0]]) / max(float(np.hypot(*chord)), 1e-12)
    _, r, _ = fit_circle_2d(q)
    return float(max(min(np.ptp((q - q[0]) @ n), np.hypot(*chord) ** 2 / (8 * r)), 0.0))


def _melted(p, found, n: int, closed: bool):
    """Neighbours of one kind that lie on one line or circle as well as apart, made one: no maker means such a kink."""
    found = [
        (i, j, 0 if kind == 1 and _sagitta(p[np.arange(i, j + 1) % n]) < _FLAT_MM else kind) for i, j, kind in found
    ]
    k = 0
    while len(found) > 2 and k < len(found):
        nxt = (k + 1) % len(found)
        if (nxt == 0 and not closed) or found[k][2] != found[nxt][2]:
            k += 1
            continue
        (i, j, kind), (a, b, _) = found[k], found[nxt]
        one, two = (p[np.arange(f[0], f[1] + 1) % n] for f in (found[k], found[nxt]))
        apart = np.concatenate([_residuals(one, kind), _residuals(two, kind)])
        both = _residuals(np.vstack([one, two]), kind)
        if np.sqrt(np.mean(both**2)) > _KINK_GROWTH * np.sqrt(np.mean(apart**2)) + _KINK_MM:
            k += 1
            continue
        found[k] = (i, j + (b - a) + 1, kind)
        found.pop(nxt)
        k = max(k - 2, 0)
    return found


def samples_of(loop: TraceLoop, piece: Piece) -> np.ndarray:
    _, i, j = piece
    if i <= j:
        return loop.points[i : j + 1]
    return np.vstack([loop.points[i:], loop.points[: j + 1]])
