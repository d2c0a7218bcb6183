"""How a datum may lie in truth, by the standard deviations of its parameters.

These are told along x, y and z, but what they belong to has fewer ways: a direction turns about two axes, a plane moves
along its normal, an axis across itself. Three deviations tell a variance in two ways and what both have in common
wherever the ways lie askew; where they lie along the axes nothing is in common that could be seen. To move x, y and z
each for itself instead would lose the part of every step that leads out of these ways.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element, perpendicular_pair

__all__ = ["Datum", "drawn", "moved_each_way"]

_UNIT = ("normal", "direction", "up")
_TOLD = 0.03  # of the strongest: what three deviations tell more weakly of two ways is taken as not told


@dataclass(frozen=True)
class Datum:
    """An element with the standard deviations of its parameters, as a fit gives them."""

    element: Element
    uncertainty: dict


def _across(axis: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """Steps (2, 3) of one standard deviation each, apart from one another, of what moves only square to an axis (3,)
    and deviates so along x, y and z (3,).
    """
    t = np.column_stack(perpendicular_pair(axis / np.linalg.norm(axis)))
    told = np.column_stack([t[:, 0] ** 2, np.sqrt(2) * t[:, 0] * t[:, 1], t[:, 1] ** 2])
    one, both, other = np.linalg.pinv(told, rcond=_TOLD) @ sigma**2  # of those that tell the same, the least
    variance, ways = np.linalg.eigh([[one, both / np.sqrt(2)], [both / np.sqrt(2), other]])
    kept = np.maximum(variance, 0.0)
    kept *= max(one + other, 0.0) / max(float(kept.sum()), 1e-300)
    return (t @ ways * np.sqrt(kept)).T


def _along(normal: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """One standard deviation (3,) of what moves only along a normal (3,) and deviates so along x, y and z (3,)."""
    square = normal**2
    return normal * float(np.sqrt(square @ sigma**2 / (square @ square)))


def _steps(d: Datum) -> list[tuple[str, np.ndarray | float]]:
    """One standard deviation of each way in which an element may be off, with the parameter it moves."""
    out: list[tuple[str, np.ndarray | float]] = []
    values = d.element.__dict__
    for key, value in values.items():
        sigma = np.asarray(d.uncertainty.get(key, 0.0), float)
        if not np.any(sigma):
            continue
        if not isinstance(value, np.ndarray):
            out.append((key, float(sigma)))
        elif key in _UNIT:
            out += [(key, s) for s in _across(value, sigma)]
        elif key == "point" and "normal" in values:
            out.append((key, _along(values["normal"], sigma)))
        elif key == "point" and "direction" in values:
            out += [(key, s) for s in _across(values["direction"], sigma)]
        else:
            out += [(key, s) for s in np.diag(sigma)]
    return out


def _moved(e: Element, by: dict) -> Element:
    values = dict(e.__dict__)
    for key, step in by.items():
        values[key] = values[key] + step
        if key in _UNIT:
            values[key] = values[key] / np.linalg.norm(values[key])
    return type(e)(**values)


def moved_each_way(d: Datum) -> list[Element]:
    """The element moved by one standard deviation in each way in which it may be off, one at a time."""
    return [_moved(d.element, {key: step}) for key, step in _steps(d)]


def drawn(d: Datum, rng: np.random.Generator) -> Element:
    """The element as it may be in truth, drawn from its uncertainty."""
    by: dict = {}
    for key, step in _steps(d):
        by[key] = by.get(key, 0.0) + step * float(rng.standard_normal())
    return _moved(d.element, by)
