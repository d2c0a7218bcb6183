"""At what height does a cut have something to draw? Not in a face of the scan, where it is a web of noise."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

__all__ = ["clean_height"]

_TRIED = 33  # heights over the whole scan
_ASIDE = 2.0  # median edges from a height to where its neighbours are looked at
_SAME = 0.35  # of the length: what a cut may change over that little way and still be clean
_SCRAPS = 3  # times as many loops as the cleanest cut has


def _worth(loops: list[tuple[float, bool]]) -> tuple[float, int, float]:
    """Length, number of loops, and the share of length in closed ones."""
    length = sum(l for l, _ in loops)
    closed = sum(l for l, closed in loops if closed)
    return length, len(loops), closed / length if length > 0 else 0.0


def clean_height(
    cut: Callable[[float], list[tuple[float, bool]]], low: float, high: float, wanted: float, edge: float
) -> dict[str, Any]:
    """The height nearest to ``wanted`` mm at which the cut is clean, between the scan's ``low`` and ``high``, and why
    it is not the one that was wanted: {"height", "says"}. ``cut`` gives the loops at a height: length and whether
    closed.
    """

    def clean(h: float) -> bool:
        length, count, closed = _worth(cut(h))
        if not count or closed < 0.6:
            return False
        for other in (h - _ASIDE * edge, h + _ASIDE * edge):
            near, several, _ = _worth(cut(other))
            if abs(near - length) > _SAME * length or several > _SCRAPS * count or count > _SCRAPS * several:
                return False
        return True

    inside = low + 1.5 * edge < wanted < high - 1.5 * edge
    if inside and clean(wanted):
        return {"height": wanted, "says": ""}
    tried = low + (np.arange(_TRIED) + 0.5) / _TRIED * (high - low)
    step = max((high - low) / 200, edge)
    near = wanted + step * np.array([1, -1, 2, -2, 3, -3, 4, -4])
    order = [*near, *sorted(tried, key=lambda h: abs(h - wanted))]
    found = next((float(h) for h in order if low < h < high and clean(float(h))), None)
    if found is None:
        middle = 0.5 * (low + high)
        return {"height": middle, "says": "No height has a clean cut; this is the middle of the scan."}
    digits = 10.0 ** np.floor(np.log10(max(step, 1e-9)))
    neat = float(np.round(found / digits) * digits)
    found = neat if clean(neat) else found
    why = "lies in a face of the scan" if inside or abs(wanted - low) < 2 * edge else "does not cut the scan well"
    return {"height": round(found, 6), "says": f"Height {wanted:g} {why}; the nearest clean cut is at {found:g}."}
