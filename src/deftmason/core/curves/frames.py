"""Frames that are carried along a curve without turning about it.

Wang, Jüttler, Zheng and Liu 2008, "Computation of rotation minimizing frames", ACM Transactions on Graphics 27 (the
double reflection method).
"""

from __future__ import annotations

import numpy as np

from .spatial import SpaceCurve

__all__ = ["moving_frames"]


def moving_frames(curve: SpaceCurve, s: np.ndarray, first=None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places (n, 3) at lengths along the curve, and two unit vectors (n, 3) each, square to it and to each other.

    ``first`` (3,) is where the first of them points at the beginning, as near as it can.
    """
    x, t = curve.at(s), curve.direction(s)
    u = np.asarray(first, float) if first is not None else np.eye(3)[int(np.argmin(np.abs(t[0])))]
    u = u - (u @ t[0]) * t[0]
    if np.linalg.norm(u) < 1e-9:
        u = np.eye(3)[int(np.argmin(np.abs(t[0])))]
        u = u - (u @ t[0]) * t[0]
    out = [u / np.linalg.norm(u)]
    for k in range(len(x) - 1):
        step = x[k + 1] - x[k]
        c = float(step @ step)
        if c < 1e-300:
            out.append(out[-1])
            continue
        r = out[-1] - (2 / c) * (step @ out[-1]) * step
        d = t[k] - (2 / c) * (step @ t[k]) * step
        w = t[k + 1] - d
        m = float(w @ w)
        r = r if m < 1e-300 else r - (2 / m) * (w @ r) * w
        out.append(r)
    frames = np.array(out)
    return x, frames, np.cross(t, frames)
