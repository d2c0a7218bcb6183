"""A recipe's order: where a new step goes, steps moved, steps taken out with what rests on them."""

from __future__ import annotations

from ..errors import BadInput
from .parse import kind_of, moved_onto, parse_step

__all__ = ["moved_after", "placed", "resting_on", "taken_out"]

Records = list[dict]


def _at(steps: Records, step_id: str) -> int:
    found = next((k for k, s in enumerate(steps) if s["id"] == step_id), None)
    if found is None:
        raise BadInput("That step is not in the recipe any more; look at it as it is now.", field="id")
    return found


def placed(steps: Records, data: dict, after: str | None = None) -> Records:
    """The recipe with a new step: right after ``after``, or at the end.

    A step that betters another and is put in between, or always slips in right after it, is what the later steps rest
    on then.
    """
    kind = kind_of(data)
    below = data.get(kind.betters) if kind is not None and kind.betters else None
    at = len(steps) - 1
    if kind is not None and kind.slips_in and any(s["id"] == below for s in steps):
        at = _at(steps, below or "")
    elif after is not None:
        at = _at(steps, after)
    rest = steps[at + 1 :]
    if kind is not None and below and rest:
        rest = [moved_onto(s, below, data["id"], kind.produces) for s in rest]
    return [*steps[: at + 1], data, *rest]


def resting_on(steps: Records, step_id: str) -> list[str]:
    """Ids of all steps that rest on one, through others, in order."""
    found = {step_id}
    for s in steps:
        if found.intersection(parse_step(s).inputs()):
            found.add(s["id"])
    return [s["id"] for s in steps if s["id"] in found and s["id"] != step_id]


def moved_after(steps: Records, step_id: str, after: str) -> Records:
    """The recipe with a step moved right after another. Raises `BadInput` with the reason where it cannot be."""
    if step_id == after:
        return steps
    step = steps[_at(steps, step_id)]
    rest = [s for s in steps if s["id"] != step_id]
    at = _at(rest, after)
    out = [*rest[: at + 1], step, *rest[at + 1 :]]
    order = {s["id"]: k for k, s in enumerate(out)}
    by_id = {s["id"]: s for s in steps}
    for s in out:
        late = next((i for i in parse_step(s).inputs() if order.get(i, -1) > order[s["id"]]), None)
        if late is not None:
            raise BadInput(f"'{s['name']}' rests on '{by_id[late]['name']}' and cannot come before it.", field="after")
    return out


def taken_out(steps: Records, step_id: str, *, along: bool = False) -> Records:
    """The recipe without a step. What rested on one that slipped in rests on what was under it.

    Raises `BadInput` naming what rests on it otherwise, unless that goes ``along``.
    """
    step = parse_step(steps[_at(steps, step_id)])
    under = step.stands_for()
    if not along and under and step.slips_in:
        return [moved_onto(s, step_id, under, step.produces) for s in steps if s["id"] != step_id]
    above = resting_on(steps, step_id)
    if above and not along:
        names = {s["id"]: s["name"] for s in steps}
        direct = [names[s["id"]] for s in steps if step_id in parse_step(s).inputs()]
        raise BadInput(f"{', '.join(direct)} rest on '{step.name}'; take them out first, or switch it off.")
    gone = {step_id, *above}
    return [s for s in steps if s["id"] not in gone]
