"""The line or circle a piece of a trace lies on, run on past its ends; and where two of them meet."""

from __future__ import annotations

import numpy as np

__all__ = ["PieceCurve", "fit_circle_2d", "meeting_of"]


def fit_circle_2d(p: np.ndarray) -> tuple[np.ndarray, float, float]:
    """Orthogonal least-squares circle: centre (2,), radius, rms."""
    mean = p.mean(axis=0)
    q = p - mean
    size = max(float(np.abs(q).max()), 1e-300)
    q = q / size
    a = np.column_stack([2 * q, np.ones(len(q))])
    s = np.linalg.lstsq(a, np.einsum("ij,ij->i", q, q), rcond=None)[0]
    c, r = s[:2], float(np.sqrt(max(s[2] + s[:2] @ s[:2], 1e-12)))
    for _ in range(50):
        v = q - c
        rho = np.maximum(np.linalg.norm(v, axis=1), 1e-12)
        j = np.column_stack([-v / rho[:, None], -np.ones(len(q))])
        d = np.linalg.lstsq(j, -(rho - r), rcond=None)[0]
        c, r = c + d[:2], r + d[2]
        if np.max(np.abs(d)) < 1e-13 * max(1.0, abs(r)):
            break
    res = np.linalg.norm(q - c, axis=1) - r
    return c * size + mean, float(abs(r)) * size, float(np.sqrt(np.mean(res**2))) * size


class PieceCurve:
    """A line or circle fitted to a piece, without the samples next to its ends where it has enough others."""

    def __init__(self, q: np.ndarray, kind: int):
        inner = q[2:-2] if len(q) > 9 else q[1:-1] if len(q) > 6 else q
        self.kind = kind if len(inner) > 3 else 0
        if self.kind == 1:
            self.c, self.r, _ = fit_circle_2d(inner)
        else:
            self.c = inner.mean(axis=0)
            self.t = np.linalg.svd(inner - self.c, full_matrices=False)[2][0]
            if self.t @ (q[-1] - q[0]) < 0:
                self.t = -self.t

    def off(self, x: np.ndarray) -> np.ndarray:
        if self.kind == 1:
            return np.abs(np.linalg.norm(x - self.c, axis=-1) - self.r)
        d = x - self.c
        return np.abs(d[..., 0] * self.t[1] - d[..., 1] * self.t[0])

    def direction(self, x: np.ndarray, along: np.ndarray) -> np.ndarray:
        t = (
            self.t
            if self.kind == 0
            else np.array([-(x - self.c)[1], (x - self.c)[0]]) / max(float(np.linalg.norm(x - self.c)), 1e-300)
        )
        return t if t @ along >= 0 else -t


def meeting_of(a: PieceCurve, b: PieceCurve, near: np.ndarray) -> np.ndarray | None:
    """Where two curves meet, nearest to a place; None where they do not."""
    if a.kind == b.kind == 0:
        det = a.t[0] * b.t[1] - a.t[1] * b.t[0]
        if abs(det) < 1e-3:
            return None
        d = b.c - a.c
        return a.c + (d[0] * b.t[1] - d[1] * b.t[0]) / det * a.t
    if a.kind == 1 and b.kind == 0:
        a, b = b, a
    if a.kind == 0:
        d = a.c - b.c
        m = d @ a.t
        under = m * m - d @ d + b.r**2
        if under < 0:
            return None
        two = [a.c + (-m + s * np.sqrt(under)) * a.t for s in (-1, 1)]
    else:
        d = b.c - a.c
        l = float(np.linalg.norm(d))
        if l < 1e-300:
            return None
        x = (l * l + a.r**2 - b.r**2) / (2 * l)
        under = a.r**2 - x * x
        if under < 0:
            return None
        e = d / l
        two = [a.c + x * e + s * np.sqrt(under) * np.array([-e[1], e[0]]) for s in (-1, 1)]
    return min(two, key=lambda q: float(np.linalg.norm(q - near)))
