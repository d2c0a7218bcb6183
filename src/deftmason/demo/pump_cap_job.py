"""The pump cap's job, up to its frame or to the built model, laid through the same code a user's job goes through."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..core.elements import RigidMotion
from ..core.recipe.laying import Laying
from ..core.recipe.store import ResultStore
from .pump_cap import PumpCap

__all__ = ["pump_cap_built", "pump_cap_steps"]


def pump_cap_steps(scan_step: dict, pose: RigidMotion, cap: PumpCap = PumpCap()) -> list[dict]:
    """Step records: the scan, barrel, rim and boss read, and the frame on them."""

    def datum(name: str, kind: str, place, normal, rule: str) -> dict:
        return {
            "id": name,
            "kind": "datum",
            "name": name.capitalize(),
            "scan": scan_step["id"],
            "element": kind,
            "pick": {
                "place": [float(c) for c in pose.points(place)],
                "normal": [float(c) for c in pose.vectors(normal)],
                "rule": rule,
            },
        }

    wide, height, reach = cap.boss
    barrel = cap.profile[11][0]
    return [
        scan_step,
        datum("barrel", "cylinder", np.array([-barrel, 0.0, 26.0]), np.array([-1.0, 0, 0]), "same bend"),
        datum("rim", "plane", np.array([26.0, 3.0, 0.0]), np.array([0, 0, -1.0]), "same facing"),
        datum("boss", "cylinder", np.array([0, 0.9 * reach, height + wide / 2]), np.array([0, 0, 1.0]), "same bend"),
        {
            "id": "frame",
            "kind": "frame",
            "name": "Part frame",
            "first": "barrel",
            "second": "boss",
            "origin": "rim",
        },
    ]


def _typed(value: float) -> dict:
    return {"value": value, "source": "typed"}


def pump_cap_built(
    scan_step: dict,
    pose: RigidMotion,
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    cap: PumpCap = PumpCap(),
) -> list[dict]:
    """The whole model: its profile turned, the boss, seven holes from one pin, and the slot."""
    j = Laying(pump_cap_steps(scan_step, pose, cap), pose, store, scan_file)
    j.replay().run()
    on = {"scan": "scan", "frame": "frame"}
    profile = j.drawn(
        {"id": "profile", "name": "Profile", **on, "axis": "z", "along": True, "traces": [{"kind": "turned"}]}
    )
    j.lay(_closed_on_the_axis(j, profile))
    j.lay({"id": "turned", "kind": "revolve", "name": "Cap", "sketch": "profile", "frame": "frame"})
    _, _, reach = cap.boss
    wall = 0.5 * (cap.profile[2][0] + cap.profile[7][0])
    rod = {"id": "rod", "kind": "solid", "name": "Boss", "frame": "frame", "on": "boss", "shape": "cylinder"}
    j.lay({**rod, "low": _typed(wall), "high": _typed(reach + 5)})
    end = {"id": "rodend", "kind": "cutoff", "name": "Boss end", "frame": "frame", "axis": "y", "body": "rod"}
    j.lay({**end, "offset": _typed(reach)})
    j.lay(
        {
            "id": "joined",
            "kind": "bodycombine",
            "name": "With boss",
            "body": "turned",
            "how": "join",
            "tools": ["rodend"],
        }
    )
    w = np.pi / cap.holes
    out, beside = np.array([np.cos(w), np.sin(w), 0]), np.array([-np.sin(w), np.cos(w), 0])
    inside = cap.ring * out + cap.hole / 2 * beside + [0, 0, 4]
    read = {"id": "hole", "kind": "datum", "name": "First hole", "scan": "scan", "element": "cylinder"}
    j.lay({**read, "pick": j.pick(inside, -beside, "same bend")})
    pin = {"id": "pin", "kind": "solid", "name": "Pin", "frame": "frame", "on": "hole", "shape": "cylinder"}
    j.lay({**pin, "low": _typed(-2), "high": _typed(12)})
    j.lay({"id": "pins", "kind": "repeat", "name": "Pins", "frame": "frame", "body": "pin", "count": cap.holes})
    j.lay({"id": "drilled", "kind": "bodycombine", "name": "Holes", "body": "joined", "how": "cut", "tools": ["pins"]})
    top, deep = cap.profile[-1][1], cap.slot[2]
    j.lay(j.drawn({"id": "slotcut", "name": "Slot outline", **on, "axis": "z", "height": top - 0.5 * deep}))
    floor = j.pick((cap.slot_x, 0, top - deep), (0, 0, 1))
    j.lay(
        {
            "id": "slot",
            "kind": "extrude",
            "name": "Slot",
            **on,
            "sketch": "slotcut",
            "body": "drilled",
            "how": "cut",
            "loops": j.loops("slotcut", lambda e, n: n == 4),
            "start": {"to": "face", "pick": floor},
            "end": {"to": "through"},
        }
    )
    j.lay({"id": "check", "kind": "check", "name": "Against the scan", **on, "body": "slot"})
    return j.steps


def _closed_on_the_axis(j: Laying, profile: dict) -> dict:
    """A turned profile whose two open ends are put on the axis and joined there."""
    joined = {s["joins"] for s in profile["strokes"]}
    begins = [(f"{s['id']}.start", s["at"][0]) for s in profile["strokes"] if s["id"] not in joined]
    ends = [(f"{s['id']}.end", s["at"][1]) for s in profile["strokes"] if s["joins"] is None]
    for place, at in (*begins, *ends):
        profile = j.changed(profile, do="put", of=[place], places=[[0.0, at[1]]], reach=1.0)
    at_now = {s["id"]: s["at"] for s in profile["strokes"]}
    last, first = (at_now[p.partition(".")[0]][k] for (p, _), k in ((ends[0], 1), (begins[0], 0)))
    return j.changed(profile, do="draw", kind="line", places=[last, first], reach=0.5)
