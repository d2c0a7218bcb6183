"""What winds about an axis: in a relief laid flat, the ridge of which all rows show the same shape, moved on.

Row by row the part that repeats n times a turn has the phase of an n-fold ridge there; waves whose phase turns evenly
up the axis are candidates, and the one whose folding explains most of the relief is taken.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from .unrolling import HARMONICS, Relief, cylindrical, unrolled

__all__ = ["FEWEST_RIDGES", "Wound", "wound_about"]

FEWEST_RIDGES = 1.9  # passed along the axis
_EDGE = 0.5  # share of its own strength at which a thread ends
_LEAST_EXPLAINED = 0.3  # of the relief's variance by a ridge that is called one


@dataclass(frozen=True)
class Wound:
    """What winds about an axis: starts, hand, phase (coefficients of ridges passed by height) between two heights."""

    point: np.ndarray
    direction: np.ndarray
    starts: int
    right: bool
    phase: np.ndarray
    low: float
    high: float
    strength: float


def wound_about(places, normals, point, direction, spacing, *, held: bool) -> Wound | None:
    """The strongest ridge about an axis; unless ``held``, the axis goes to the middle of it first."""
    for turn in range(1 if held else 3):
        point = point + ((places.mean(axis=0) - point) @ direction) * direction
        radius, angle, height, u, v = cylindrical(places, point, direction)
        relief = unrolled(radius, angle, height, spacing)
        got = _strongest(relief)
        if got is None:
            return None
        if held or turn == 2:
            break
        m, sign, phase, first, last, _ = got
        # What repeats once a turn and does not wind is the axis being off, and leaning.
        h = relief.heights[first : last + 1]
        c = relief.waves[first : last + 1, 1]
        ok = relief.known[first : last + 1].copy()
        rim = int(0.5 / abs(phase[1]) / relief.step) if len(phase) > 1 and phase[1] else 0
        if ok.sum() > 4 * rim + 16:
            ok[: rim + 1] = ok[len(ok) - rim - 1 :] = False  # a head's or a shank's own rows reach in there
        if ok.sum() < 8:
            break
        a = np.column_stack([np.ones(ok.sum()), h[ok]]).astype(complex)
        if m == 1:
            ridge = np.exp(2j * np.pi * sign * np.polynomial.polynomial.polyval(h[ok], phase))
            a = np.column_stack([a, ridge])
        off = np.linalg.lstsq(a, c[ok], rcond=None)[0]
        point = point + off[0].real * u + off[0].imag * v
        lean = np.clip(np.abs(off[1]), 0, 0.2) * np.exp(1j * np.angle(off[1]))
        direction = direction + lean.real * u + lean.imag * v
        direction = direction / np.linalg.norm(direction)
    starts, sign, phase, first, last, strength = got
    return Wound(
        point,
        direction,
        starts,
        sign > 0,
        phase,
        float(relief.heights[first] - 0.5 * relief.step),
        float(relief.heights[last] + 0.5 * relief.step),
        strength,
    )


def _strongest(relief: Relief):
    """(starts, sign of the hand, phase coefficients, first and last row, strength) of what winds most strongly."""
    rows = len(relief.heights)
    length = rows * relief.step
    ok = relief.known.astype(float)
    if ok.sum() < 16:
        return None
    pad = 4 * rows
    freq = np.fft.fftfreq(pad, relief.step)
    found = []
    for m in range(1, HARMONICS + 1):
        c = _moving(relief.waves[:, m], relief.heights, ok > 0, lean=m == 1)
        spectrum = np.abs(np.fft.fft(c, pad)) / ok.sum()
        spectrum[np.abs(freq) < FEWEST_RIDGES / length] = 0.0
        for _ in range(2):
            k = int(np.argmax(spectrum))
            if spectrum[k] <= 0:
                break
            found.append((float(spectrum[k]), m, float(freq[k]), c))
            spectrum[np.abs(freq - freq[k]) < 2 / length] = 0.0
    if not found:
        return None
    top = max(b[0] for b in found)
    told = [(_explained(relief, m, f, length), m, f, c) for p, m, f, c in found if p > 0.15 * top]
    most = max(t[0] for t in told)
    if most < _LEAST_EXPLAINED:
        return None
    # A ridge and the same taken twice fold as well: the one with more starts is the simpler ridge.
    _, m, f, c = max((t for t in told if t[0] > 0.97 * most), key=lambda t: t[1])
    width = 0.5 / abs(f) / relief.step
    carrier = np.exp(-2j * np.pi * f * relief.heights)
    weight = gaussian_filter1d(ok, width, mode="constant") + 1e-9
    z = c * carrier
    smooth = gaussian_filter1d(z.real, width, mode="constant") + 1j * gaussian_filter1d(z.imag, width, mode="constant")
    smooth = smooth / weight
    strength = np.abs(smooth)
    level = float(np.quantile(strength[ok > 0], 0.85))
    on = (strength > _EDGE * level) & (weight > 0.2)
    first, last = _longest(on)
    if (last - first + 1) * relief.step * abs(f) < FEWEST_RIDGES:
        return None
    h = relief.heights[first : last + 1]
    turned = (np.unwrap(np.angle(smooth[first : last + 1])) / (2 * np.pi) + f * h) * np.sign(f)
    trim = min(int(0.5 * width) + 1, max((len(h) - 8) // 2, 0))
    inner = slice(trim, len(h) - trim)
    w = strength[first : last + 1][inner]
    even = np.polynomial.polynomial.polyfit(h[inner], turned[inner], 1, w=w)
    bent = np.polynomial.polynomial.polyfit(h[inner], turned[inner], 3, w=w) if len(h) > 24 else even
    off = [
        float(np.sqrt(np.mean((turned[inner] - np.polynomial.polynomial.polyval(h[inner], p)) ** 2)))
        for p in (even, bent)
    ]
    phase = bent if off[0] > 0.03 and off[1] < 0.6 * off[0] else even
    # A head or a shank may be most of what there is: only how well it winds where it does counts.
    return m, float(np.sign(f)), phase, first, last, most


def _moving(c: np.ndarray, heights: np.ndarray, ok: np.ndarray, *, lean: bool) -> np.ndarray:
    """A wave by height without what stands still: of an axis that is off and leans, of flats, heads and flanges. What
    is rare and large counts no more than the rest."""
    out = np.where(ok, c, 0.0)
    x, y = heights[ok], c[ok]
    still = np.full(len(y), complex(np.median(y.real), np.median(y.imag)))
    if lean:
        a = np.column_stack([np.ones(len(x)), x]).astype(complex)
        w = np.ones(len(y))
        for _ in range(8):
            still = a @ np.linalg.lstsq(a * w[:, None], y * w, rcond=None)[0]
            off = np.abs(y - still)
            w = np.minimum(1.0, 1.3 * float(np.median(off)) / np.maximum(off, 1e-300)) ** 0.5
    left = y - still
    cap = 2.5 * float(np.median(np.abs(left))) + 1e-300
    out[ok] = left * np.minimum(1.0, cap / np.maximum(np.abs(left), 1e-300))
    return out


def _explained(relief: Relief, m: int, f: float, length: float) -> float:
    """The share of the relief's variance that folding it onto one such ridge explains, over the third of the rows where
    it explains most."""
    rows, columns = relief.radius.shape
    middles = (np.arange(columns) + 0.5) / columns * 2 * np.pi - np.pi
    still = _still(relief)
    flat = relief.radius - still
    best = 0.0
    for g in f + np.linspace(-0.4, 0.4, 7) / length:
        at = (abs(g) * relief.heights[:, None] - np.sign(g) * m * middles[None] / (2 * np.pi)) % 1.0
        there = np.isfinite(flat)
        i = np.minimum((at * 32).astype(int), 31)
        row = np.broadcast_to(np.arange(rows)[:, None], flat.shape)[there]
        value, i = flat[there], i[there]
        size = np.sqrt(np.bincount(row, value**2, rows) / np.maximum(np.bincount(row, minlength=rows), 1))
        value = value * np.minimum(1.0, 2 * np.median(size[size > 0]) / np.maximum(size, 1e-300))[row]
        mean = np.bincount(i, value, 32) / np.maximum(np.bincount(i, minlength=32), 1)
        left = np.bincount(row, (value - mean[i]) ** 2, rows)
        whole = np.bincount(row, value**2, rows)
        ok = whole > 0
        share = 1 - left[ok] / whole[ok]
        best = max(best, float(np.mean(np.sort(share)[int(0.7 * len(share)) :])))
    return best


def _still(relief: Relief) -> np.ndarray:
    """Mean radius of each row and what an axis that is off adds to it: (rows, columns)."""
    columns = relief.radius.shape[1]
    middles = (np.arange(columns) + 0.5) / columns * 2 * np.pi - np.pi
    c = relief.waves[:, 1]
    ok = relief.known
    moving = np.where(ok, c, 0.0) - _moving(c, relief.heights, ok, lean=True)
    mean = np.nanmean(relief.radius - np.real(moving[:, None] * np.exp(-1j * middles)[None]), axis=1, keepdims=True)
    return mean + np.real(moving[:, None] * np.exp(-1j * middles)[None])


def _longest(on: np.ndarray) -> tuple[int, int]:
    edges = np.diff(np.concatenate([[0], on.astype(int), [0]]))
    a, b = np.nonzero(edges == 1)[0], np.nonzero(edges == -1)[0]
    if not len(a):
        return 0, 0
    k = int(np.argmax(b - a))
    return int(a[k]), int(b[k]) - 1
