"""Steps laid one after the other by the same code a user's job goes through: ready recipes and first drafts."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from .kinds.sketch import SketchStep
from .parse import parse_step
from .replay import Ran, Replay
from .sketching import Change, automatic, changed, sized
from .store import ResultStore

__all__ = ["Laying"]

_DRAWN = ("strokes", "sizes", "relations")


def _sketch(record: dict[str, Any]) -> SketchStep:
    """Raises `TypeError` for another step's record."""
    step = parse_step(record)
    if not isinstance(step, SketchStep):
        raise TypeError(f"{record.get('name')} is no sketch")
    return step


class Laying:
    """A recipe that grows. ``pose`` leads from the part to the scan; places are picked on the true part."""

    def __init__(
        self,
        steps: list[dict],
        pose: RigidMotion,
        store: ResultStore,
        scan_file: Callable[[str, str], str],
    ):
        self.steps, self.pose, self._store, self._scan_file = steps, pose, store, scan_file
        self.ran: dict[str, Ran] = {}

    def pick(self, place, normal, rule: str = "same facing", angle: float | None = None) -> dict:
        return {
            "place": [float(c) for c in self.pose.points(np.array(place, float))],
            "normal": [float(c) for c in self.pose.vectors(np.array(normal, float))],
            "rule": rule,
            "angle_deg": angle,
        }

    def replay(self) -> Replay:
        return Replay([parse_step(s) for s in self.steps], self._store, self._scan_file)

    def lay(self, step: dict) -> Ran:
        """Raises `BadInput` where it fails; then it is not laid."""
        self.steps.append(step)
        ran = self.replay().run()[-1]
        if not ran.done:
            self.steps.pop()
            raise BadInput(f"{step['name']}: {ran.says}")
        self.ran[step["id"]] = ran
        return ran

    def choose(self, step: dict, ran: Ran) -> None:
        """Take the round number the measurement allows, as a user would with one click."""
        from ..sketch.sizes import round_value

        for v in ran.values:
            if v.measured is None or not v.path or v.path[0] == "sizes" or (v.name == "draft" and v.source != "scan"):
                continue
            value, why = round_value(v.measured, v.uncertainty or 0.0)
            target = step
            for k in v.path[:-1]:
                target = target.setdefault(k, {})
            if why == "round":
                target[v.path[-1]], target["source"] = value, "rounded"
        self.replay().run()

    def drawn(self, record: dict[str, Any]) -> dict[str, Any]:
        """A sketch's record with the whole trace drawn."""
        found = automatic(_sketch({"kind": "sketch", **record}), self.replay())
        return {"kind": "sketch", **record, **{k: found[k] for k in _DRAWN}}

    def changed(self, record: dict[str, Any], **change: Any) -> dict[str, Any]:
        """A sketch's record after one change by hand."""
        found = changed(_sketch(record), self.replay(), Change(**change))
        return {**record, **{k: found[k] for k in _DRAWN}}

    def sized(self, record: dict[str, Any]) -> dict[str, Any]:
        """A sketch's record with the sizes that its trace supports, in place of those it had."""
        found = sized(_sketch(record), self.replay())
        return {**record, **{k: found[k] for k in _DRAWN}}

    def loops(self, sketch: str, test: Callable[[dict, int], bool]) -> list[str]:
        """One entity of each loop of a laid sketch whose first entity and count of pieces pass a test."""
        told = self.ran[sketch].summary
        entities = {e["id"]: e for e in told["geometry"]}
        return [ids[0] for ids in told["loops"] if test(entities[ids[0]], len(ids))]
