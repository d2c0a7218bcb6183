"""The rowlock hinge's job, laid through the same code a user's job goes through; the sizes that six pieces share.

The bore, the saddle and the leaf are read from the scan; one lug is drawn on a cut, pushed, and mirrored.
"""

from __future__ import annotations

from collections.abc import Callable

from ..core.elements import RigidMotion
from ..core.recipe.laying import Laying
from ..core.recipe.store import ResultStore
from .hinge import Hinge

__all__ = ["hinge_steps"]


def hinge_steps(
    scan_step: dict,
    pose: RigidMotion,
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    h: Hinge = Hinge(),
) -> list[dict]:
    """Step records from the scan to the check."""
    j = Laying([dict(scan_step)], pose, store, scan_file)
    j.replay().run()
    on = {"scan": "scan", "frame": "frame"}

    def datum(name: str, element: str, place, normal, rule: str = "same facing") -> dict:
        known = {"id": name.lower().replace(" ", "_"), "kind": "datum", "name": name, "scan": "scan"}
        return {**known, "element": element, "pick": j.pick(place, normal, rule)}

    def laid(step: dict) -> None:
        j.choose(step, j.lay(step))

    middle, side = h.lug_inner + h.lug_thick / 2, h.lug_inner + h.lug_thick
    j.lay(datum("Bore", "cylinder", (middle, 0, -h.bore / 2), (0, 0, 1), "same bend"))
    j.lay(datum("Underside", "plane", (3, 8, h.under), (0, 0, -1)))
    j.lay(datum("Right cheek", "plane", (side, 2, -9), (1, 0, 0)))
    j.lay(datum("Left cheek", "plane", (-side, 2, -9), (-1, 0, 0)))
    made = {"kind": "construct", "of": ["right_cheek", "left_cheek"]}
    j.lay({"id": "middle", "name": "Middle", "way": "middle plane", **made})
    j.lay({"id": "centre", "name": "Centre", "kind": "construct", "way": "point on plane", "of": ["bore", "middle"]})
    ordered = {"first": "bore", "first_axis": "x", "second": "underside", "second_axis": "z"}
    j.lay({"id": "frame", "kind": "frame", "name": "Hinge frame", "origin": "centre", **ordered})
    plan = {**on, "axis": "z"}
    foot, top = h.under, h.under + h.saddle[2]
    deep, thick = h.under + h.saddle[2] / 2, h.leaf[2]
    tip = -h.saddle[1] / 2 - 0.5 * h.leaf[1]

    j.lay(j.drawn({"id": "saddle_outline", "name": "Saddle outline", **plan, "height": foot + 1.2}))
    laid(
        {
            "id": "saddle", "kind": "extrude", "name": "Saddle", **on, "sketch": "saddle_outline", "how": "join",
            "start": {"to": "face", "pick": j.pick((3, 8, foot), (0, 0, -1))},
            "end": {"to": "face", "pick": j.pick((2, 8, top), (0, 0, 1))},
        }
    )  # fmt: skip
    j.lay(j.drawn({"id": "leaf_outline", "name": "Leaf outline", **plan, "height": deep}))
    laid(
        {
            "id": "leaf", "kind": "extrude", "name": "Leaf", **on, "sketch": "leaf_outline", "how": "join",
            "body": "saddle", "keep_inner": True,
            "start": {"to": "face", "pick": j.pick((3, tip, deep - thick / 2), (0, 0, -1))},
            "end": {"to": "face", "pick": j.pick((3, tip, deep + thick / 2), (0, 0, 1))},
        }
    )  # fmt: skip
    j.lay(j.drawn({"id": "lug_outline", "name": "Lug outline", **on, "axis": "x", "height": side - 3}))
    laid(
        {
            "id": "lug", "kind": "extrude", "name": "Lug", **on, "sketch": "lug_outline", "how": "join",
            "keep_inner": True,
            "start": {"to": "face", "pick": j.pick((h.lug_inner, 2, -9), (-1, 0, 0))},
            "end": {"to": "face", "pick": j.pick((side, 2, -9), (1, 0, 0))},
        }
    )  # fmt: skip
    j.lay(
        {
            "id": "lugs",
            "kind": "bodymirror",
            "keep": True,
            "name": "Both lugs",
            "frame": "frame",
            "axis": "x",
            "body": "lug",
        }
    )
    whole = {"id": "hinge", "kind": "bodycombine", "name": "Hinge", "how": "join"}
    j.lay({**whole, "body": "leaf", "tools": ["lugs"]})
    j.lay({"id": "check", "kind": "check", "name": "Against the scan", **on, "body": "hinge"})
    return j.steps
