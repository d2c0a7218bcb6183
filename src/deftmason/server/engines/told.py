"""How a value of the ledger is told to a screen."""

from __future__ import annotations

from deftmason.core.recipe.step import Value
from deftmason.core.sketch.sizes import suggestions

__all__ = ["value_line"]

_FIELDS = ("step", "label", "measured", "uncertainty", "chosen", "source", "unit", "cost", "path")


def value_line(name: str, v: Value) -> dict:
    """A line of the ledger with the round numbers that could be chosen."""
    near = suggestions(v.measured, v.uncertainty or 0.0) if v.measured is not None else []
    return {"name": name, **{k: getattr(v, k) for k in _FIELDS}, "suggestions": near}
