"""A trace on the paper: the loops of a section, evenly resampled, with the noise they carry."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..scan.section import Section, SectionPlane

__all__ = ["TraceLoop", "trace_of", "trace_noise"]

_SMALLEST_LOOP = 12  # samples; shorter loops are scraps
_WIDEST_GAP = 12.0  # mm a hole in the scan may leave open in a loop that is still drawn closed
_GAP_SHARE = 0.2  # of the loop's length


@dataclass(frozen=True)
class TraceLoop:
    """Even samples (n, 2) in mm along one loop, anticlockwise where closed; ``length`` in mm."""

    points: np.ndarray
    closed: bool
    length: float


def _resample(p: np.ndarray, closed: bool, step: float) -> np.ndarray:
    q = np.vstack([p, p[:1]]) if closed else p
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    count = max(int(round(s[-1] / step)), 2)
    at = np.arange(count) * s[-1] / count if closed else np.linspace(0, s[-1], count + 1)
    return np.column_stack([np.interp(at, s, q[:, k]) for k in range(2)])


def trace_of(section: Section, plane: SectionPlane, step: float) -> list[TraceLoop]:
    """Loops longer than a scrap, longest first, sampled every ``step`` mm."""
    out = []
    for points, closed in section.loops():
        uv = plane.to_paper(points)
        q = np.vstack([uv, uv[:1]]) if closed else uv
        length = float(np.linalg.norm(np.diff(q, axis=0), axis=1).sum())
        if length < _SMALLEST_LOOP * step:
            continue
        r = _resample(uv, closed, step)
        if closed and np.sum(r[:, 0] * np.roll(r[:, 1], -1) - np.roll(r[:, 0], -1) * r[:, 1]) < 0:
            r = r[::-1].copy()
        out.append(TraceLoop(r, closed, length))
    return sorted(_bridged(out), key=lambda t: -t.length)


def _bridged(loops: list[TraceLoop]) -> list[TraceLoop]:
    """Open stretches whose ends face each other over a hole in the scan, put in order round one loop.

    All stretches run with the material on the same side, so an end only ever meets a beginning.
    """
    whole, parts = [t for t in loops if t.closed], [t for t in loops if not t.closed]
    while parts:
        chain = [parts.pop(0)]
        while True:
            end = chain[-1].points[-1]
            total = sum(t.length for t in chain)
            ahead = [(float(np.linalg.norm(t.points[0] - end)), k) for k, t in enumerate(parts)]
            home = float(np.linalg.norm(chain[0].points[0] - end))
            gap, k = min(ahead, default=(np.inf, -1))
            if gap < home and gap <= _WIDEST_GAP:
                chain.append(parts.pop(k))
                continue
            points = np.vstack([t.points for t in chain])
            closes = home <= min(_WIDEST_GAP, _GAP_SHARE * total)
            if (
                closes
                and np.sum(points[:, 0] * np.roll(points[:, 1], -1) - np.roll(points[:, 0], -1) * points[:, 1]) < 0
            ):
                points = points[::-1].copy()
            whole.append(TraceLoop(points, closes, total))
            break
    return whole


def trace_noise(loops: list[TraceLoop]) -> float:
    """Scatter of the samples about local parabolas (mm), robust to corners."""
    half, res = 5, []
    x = np.arange(-half, half + 1.0)
    basis = np.linalg.qr(np.column_stack([np.ones_like(x), x, x * x]))[0]
    for loop in loops:
        p = loop.points
        if len(p) < 2 * half + 2:
            continue
        win = np.lib.stride_tricks.sliding_window_view(p, 2 * half + 1, axis=0)
        chord = win[:, :, -1] - win[:, :, 0]
        n = np.column_stack([-chord[:, 1], chord[:, 0]]) / np.maximum(np.linalg.norm(chord, axis=1), 1e-12)[:, None]
        d = np.einsum("ikj,ik->ij", win, n)
        r = d - d @ basis @ basis.T
        res.append(np.sqrt(np.sum(r**2, axis=1) / (len(x) - 3)))
    return float(np.median(np.concatenate(res))) if res else 0.0
