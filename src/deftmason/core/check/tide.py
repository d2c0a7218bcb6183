"""The tide scale: bone inside tolerance, clay to umber proud, mist to deep teal short, grey where unanswered."""

from __future__ import annotations

import numpy as np

__all__ = ["NO_ANSWER", "tide_colors"]

BONE = (0xEF, 0xEB, 0xDD)
PROUD = ((0xE3, 0xB6, 0x94), (0xC9, 0x7F, 0x4F), (0x9A, 0x4E, 0x24), (0x4A, 0x26, 0x14))
SHORT = ((0xB9, 0xD3, 0xD6), (0x79, 0xAE, 0xB5), (0x35, 0x7A, 0x86), (0x0C, 0x3B, 0x47))
NO_ANSWER = (0x9A, 0x97, 0x90)


def tide_colors(distance: np.ndarray, tolerance: float, reach: float, low: float | None = None) -> np.ndarray:
    """Colours (n, 3) uint8 of distances (n,) in mm; bone from −``low`` (none: −``tolerance``) to ``tolerance``, full
    colour at ±``reach``.
    """
    d = np.asarray(distance, float)
    out = np.empty((len(d), 3))
    band = np.where(d >= 0, tolerance, tolerance if low is None else low)
    share = np.clip((np.abs(d) - band) / np.maximum(reach - band, 1e-12), 0, 1)
    stops = np.linspace(0, 1, 4)
    for side, scale in ((d >= 0, PROUD), (d < 0, SHORT)):
        for k in range(3):
            out[side, k] = np.interp(share[side], stops, [c[k] for c in scale])
    out[np.abs(d) <= band] = BONE
    out[~np.isfinite(d)] = NO_ANSWER
    return np.round(out).astype(np.uint8)
