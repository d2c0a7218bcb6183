"""The bracket's ready recipe: the steps a user would lay, made by the same code a user's job goes through.

Places are picked on the true part and carried to the scan by the pose it was taken in; everything else is read from
the scan.
"""

from __future__ import annotations

from collections.abc import Callable

from ..core.elements import RigidMotion
from ..core.recipe.laying import Laying
from ..core.recipe.replay import Replay
from ..core.recipe.store import ResultStore

__all__ = ["bracket_steps"]


def bracket_steps(
    scan_step: dict,
    pose: RigidMotion,
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    *,
    until: str = "check",
) -> list[dict]:
    """Step records from the scan up to the step of the id ``until``."""
    j = Laying([dict(scan_step)], pose, store, scan_file)
    pick = j.pick

    def drawn(step_id: str, name: str, height: float) -> dict:
        where = {"scan": "scan", "frame": "frame", "axis": "z", "height": height}
        return j.drawn({"id": step_id, "name": name, **where})

    common = {"scan": "scan", "frame": "frame"}
    j.replay().run()
    plan: list[tuple[str, Callable[[], dict]]] = [
        (
            "seat",
            lambda: {
                "id": "seat",
                "kind": "datum",
                "name": "Seat face",
                "scan": "scan",
                "element": "plane",
                "pick": pick((22, 9, 0), (0, 0, -1)),
            },
        ),
        (
            "side",
            lambda: {
                "id": "side",
                "kind": "datum",
                "name": "Long side",
                "scan": "scan",
                "element": "plane",
                "pick": pick((10, -30, 6), (0, -1, 0)),
            },
        ),
        (
            "pivot",
            lambda: {
                "id": "pivot",
                "kind": "datum",
                "name": "Pivot bore",
                "scan": "scan",
                "element": "cylinder",
                "pick": pick((6, 0, 6), (-1, 0, 0), "same bend"),
            },
        ),
        (
            "frame",
            lambda: {
                "id": "frame",
                "kind": "frame",
                "name": "Part frame",
                "first": "seat",
                "second": "side",
                "origin": "pivot",
            },
        ),
        ("outline", lambda: drawn("outline", "Base outline", 3.5)),
        (
            "base",
            lambda: {
                "id": "base",
                "kind": "extrude",
                "name": "Base",
                **common,
                "sketch": "outline",
                "how": "join",
                "start": {"to": "face", "pick": pick((22, 9, 0), (0, 0, -1))},
                "end": {"to": "face", "pick": pick((38, 2, 12), (0, 0, 1), angle=6)},
            },
        ),
        ("bosscut", lambda: drawn("bosscut", "Boss outline", 22.0)),
        (
            "boss",
            lambda: {
                "id": "boss",
                "kind": "extrude",
                "name": "Boss",
                **common,
                "sketch": "bosscut",
                "body": "base",
                "how": "join",
                "start": {"to": "face", "pick": pick((38, 2, 12), (0, 0, 1), angle=6)},
                "end": {"to": "face", "pick": pick((-20, 4, 30), (0, 0, 1))},
                "draft": {"value": None, "source": "scan"},
            },
        ),
        (
            "pocket",
            lambda: {
                "id": "pocket",
                "kind": "extrude",
                "name": "Pocket",
                **common,
                "sketch": "bosscut",
                "body": "boss",
                "how": "cut",
                "loops": j.loops("bosscut", lambda e, n: n > 1)[1:2],
                "start": {"to": "face", "pick": pick((11, 2, 14), (0, 0, 1))},
                "end": {"to": "through"},
            },
        ),
        (
            "bores",
            lambda: {
                "id": "bores",
                "kind": "extrude",
                "name": "Bores",
                **common,
                "sketch": "outline",
                "body": "pocket",
                "how": "cut",
                "loops": j.loops("outline", lambda e, n: e["kind"] == "circle"),
                "start": {"to": "through"},
                "end": {"to": "through"},
            },
        ),
        (
            "foot",
            lambda: {
                "id": "foot",
                "kind": "fillet",
                "name": "Foot rounding",
                **common,
                "body": "bores",
                "edges": _edges_between(j.replay(), "bores", "Base/top", "Boss/side"),
            },
        ),
        (
            "check",
            lambda: {
                "id": "check",
                "kind": "check",
                "name": "After rounding",
                **common,
                "body": "foot",
                "tolerance": 0.1,
                "reach": 1.0,
            },
        ),
    ]
    for name, make in plan:
        if until == "scan":
            break
        step = make()
        j.choose(step, j.lay(step))
        if name == until:
            break
    return j.steps


def _edges_between(replay: Replay, body: str, first: str, second: str) -> list[list]:
    """Names of the edges where a face of one name meets faces whose names begin with the other."""
    names = [n for n, _ in replay.output(body, "body").edges()]
    return [list(n) for n in names if first in n[:2] and any(x.startswith(second) for x in n[:2])]
