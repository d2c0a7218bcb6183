"""The shape that drilling takes out of a body: a wall, a floor or none, and a wider head."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements.motion import perpendicular_pair
from ..errors import BadInput
from .body import Body
from .features import Curve2D, PaperPlane
from .solids import revolve

__all__ = ["Drill", "drilled"]


@dataclass(frozen=True)
class Drill:
    """Sizes of a hole, mm and degrees. ``depth`` to the floor's rim, or how far it goes where it is ``through``;
    ``tip`` the full angle of a pointed floor, 0 for a flat one; ``head`` plain, counterbore or countersink.
    """

    radius: float
    depth: float
    through: bool = False
    tip: float = 0.0
    head: str = "plain"
    head_radius: float = 0.0
    head_depth: float = 0.0
    head_angle: float = 90.0


def drilled(drill: Drill, point, inward, past: float, feature: str) -> Body:
    """The solid a drill takes out, from ``past`` mm outside of ``point`` (3,) along ``inward`` (3,).

    Faces: ``feature/wall``, ``floor``, ``head``, ``seat``. Raises `BadInput` for sizes that make no hole.
    """
    _check(drill)
    d = np.asarray(inward, float) / np.linalg.norm(inward)
    u, _ = perpendicular_pair(d)
    plane = PaperPlane(np.asarray(point, float), np.cross(u, -d), u)  # v runs out of the part
    outline: list[tuple[float, float, str]] = []  # each place with the name of the line that leads to it
    r, rh = drill.radius, drill.head_radius
    if drill.head == "plain":
        outline += [(r, past, "mouth")]
    else:
        outline += [(rh, past, "mouth")]
        deep = drill.head_depth if drill.head == "counterbore" else _sunk(drill)
        if drill.head == "counterbore":
            outline += [(rh, -deep, "head"), (r, -deep, "seat")]
        else:
            outline += [(rh, 0.0, "rim"), (r, -deep, "head")]
    bottom = -drill.depth - (past if drill.through else 0.0)
    outline += [(r, bottom, "wall")]
    tall = r / np.tan(np.radians(drill.tip / 2)) if drill.tip and not drill.through else 0.0
    outline += [(0.0, bottom - tall, "floor")]
    lines, last = [], (0.0, past)
    for x, y, name in outline:
        if np.hypot(x - last[0], y - last[1]) > 1e-12:
            lines.append(Curve2D(name, "line", start=last, end=(x, y)))
        last = (x, y)
    lines.append(Curve2D("axis", "line", start=last, end=(0.0, past)))
    body = revolve(lines, [], plane, ((0.0, 0.0), (0.0, 1.0)), feature)
    return Body(body.shape, tuple(n.replace("/side/", "/") for n in body.face_names))


def _sunk(drill: Drill) -> float:
    """How deep a countersink's cone reaches."""
    return (drill.head_radius - drill.radius) / np.tan(np.radians(drill.head_angle / 2))


def _check(drill: Drill) -> None:
    if not drill.radius > 0:
        raise BadInput("A hole is wider than 0 mm; choose another diameter.", field="diameter")
    if not drill.depth > 0:
        raise BadInput("A hole is deeper than 0 mm; choose another depth.", field="depth")
    if drill.tip and not 20 <= drill.tip < 180:
        raise BadInput("A pointed floor has an angle from 20° to under 180°; 0 makes it flat.", field="tip")
    if drill.head == "plain":
        return
    if not drill.head_radius > drill.radius:
        raise BadInput(f"The {drill.head} is wider than the hole; choose a larger diameter.", field="head_diameter")
    if drill.head == "countersink" and not 20 <= drill.head_angle < 170:
        raise BadInput("A countersink has an angle from 20° to 170°; choose another.", field="head_angle")
    deep = drill.head_depth if drill.head == "counterbore" else _sunk(drill)
    if not 0 < deep < drill.depth:
        raise BadInput(
            f"The {drill.head} is {deep:g} mm deep, the hole {drill.depth:g}; choose one that is less deep.",
            field="head_depth",
        )
