"""Recipes run, steps tried."""

from __future__ import annotations

from typing import Any

from deftmason.core.recipe.ledger import formula_shown, ledger, used_by
from deftmason.core.scan.likeness import likeness_of
from deftmason.core.scan.mesh import TriMesh

from ..desk import Desk, asked
from ..told import suggestions_for, value_line

__all__ = ["run", "preview", "likenesses"]


@asked
def run(desk: Desk, *, steps: list[dict]) -> None:
    """Work out every step whose result is not there; what became of each is read from the results."""
    desk.replay(steps).run(desk.progress)


@asked
def preview(desk: Desk, *, steps: list[dict], step_id: str) -> dict[str, Any]:
    """What a step would say, after those it rests on."""
    ran = desk.replay(steps).run(desk.progress)
    fate = next(r for r in ran if r.step.id == step_id)
    lines = ledger(ran)
    values = [
        {**value_line(line, formula_shown(lines), used_by(lines)), "suggestions": suggestions_for(line[2])}
        for line in lines
        if line[1].step.id == step_id
    ]
    return {"status": fate.status, "says": fate.says, "summary": fate.summary, "values": values, "key": fate.key}


@asked
def likenesses(desk: Desk, *, steps: list[dict]) -> dict[str, list]:
    """By step id a few hundred places of each scan that has a result, so that another scan can be laid onto it."""
    replay = desk.replay(steps)
    done = [r.step.id for r in replay.run(compute=False) if r.done]
    found = {i: replay.output(i) for i in done}
    return {i: likeness_of(s) for i, s in found.items() if isinstance(s, TriMesh)}
