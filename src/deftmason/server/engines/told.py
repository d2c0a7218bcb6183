"""How a value of the ledger is told to a screen."""

from __future__ import annotations

from typing import Any

from deftmason.core.recipe.ledger import Line
from deftmason.core.recipe.readings import HandReading, against_the_scan
from deftmason.core.recipe.step import Value, two_sigma
from deftmason.core.sketch.sizes import suggestions

__all__ = ["suggestions_for", "value_line"]

_FIELDS = ("step", "label", "measured", "uncertainty", "chosen", "source", "unit", "cost")


def value_line(line: Line, formulas: dict[str, str], used: dict[str, list[str]]) -> dict[str, Any]:
    """A line of the ledger; ``formulas`` and ``used`` of the whole ledger."""
    name, r, v = line
    return {
        "name": name,
        **{k: getattr(v, k) for k in _FIELDS},
        "fixed": not v.path,
        "given": v.name in r.step.value_names,
        "reading": _reading(r.step.readings.get(v.name), v),
        "formula": formulas.get(name),
        "used_by": used.get(name, []),
    }


def _reading(reading: HandReading | None, v: Value) -> dict[str, Any] | None:
    if reading is None:
        return None
    verdict = against_the_scan(reading, v.measured, two_sigma(v.uncertainty))
    return {**reading.model_dump(), "apart": verdict.apart, "says": verdict.says}


def suggestions_for(v: Value) -> list[dict[str, Any]]:
    """The round numbers that could be chosen, and how far each moves it."""
    return suggestions(v.measured, v.uncertainty or 0.0) if v.measured is not None else []
