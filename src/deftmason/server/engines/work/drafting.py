"""A first draft of a whole part: the steps it would lay, and what they leave unexplained."""

from __future__ import annotations

from typing import Any

from deftmason.core.draft.drafting import first_draft
from deftmason.core.recipe.parse import parse_recipe

from ..desk import Desk, asked

__all__ = ["draft_part"]


@asked
def draft_part(desk: Desk, *, steps: list[dict], scan: str) -> dict[str, Any]:
    """New steps after those that the scan rests on, how much they explain, and what is left."""
    under = _under(steps, scan)
    found = first_draft(under, desk.store, desk.scan_file, scan=scan, progress=desk.progress)
    return {
        "steps": found.steps[len(under) :],
        "explained": found.explained,
        "left": [{"area": p.area, "place": p.place.tolist(), "why": p.why} for p in found.left],
        "said": found.said,
    }


def _under(steps: list[dict], scan: str) -> list[dict]:
    """The scan's step and all it rests on, in order."""
    inputs = {s.id: s.inputs() for s in parse_recipe(steps)}
    wanted, todo = set(), [scan]
    while todo:
        name = todo.pop()
        if name not in wanted:
            wanted.add(name)
            todo += inputs.get(name, [])
    return [s for s in steps if s["id"] in wanted]
