"""A first draft of a whole part: the steps it would lay, and what they leave unexplained."""

from __future__ import annotations

from typing import Any

from deftmason.core.draft.drafting import first_draft
from deftmason.core.draft.proposals import propose
from deftmason.core.recipe.parse import parse_recipe

from ..desk import Desk, asked

__all__ = ["draft_part", "propose_features", "propose_frames"]


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


@asked
def propose_features(
    desk: Desk, *, steps: list[dict], scan: str, frame: str, zones: str, picked: list[int], body: str | None
) -> dict[str, Any]:
    """Ready features of zones of a scan that were picked, best first, each with its steps and what it explains."""
    found = propose(
        steps,
        desk.store,
        desk.scan_file,
        scan=scan,
        frame=frame,
        zones=zones,
        picked=picked,
        body=body,
        progress=desk.progress,
    )
    keys = [desk.replay([*steps, *p.steps]).keys[p.body] for p in found]
    return {"proposals": [vars(p) | {"key": key} for p, key in zip(found, keys)]}


@asked
def propose_frames(desk: Desk, *, steps: list[dict], scan: str, zones: str | None) -> dict[str, Any]:
    """Frames that a scan suggests by itself, best first, each with the steps that lay it."""
    from deftmason.core.draft.frames import suggested

    found = suggested(desk.replay(steps), scan, zones, [s["id"] for s in steps], progress=desk.progress)
    return {"frames": [vars(f) for f in found]}


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
