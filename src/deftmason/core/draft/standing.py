"""How a part was most likely made: along which direction it was pushed, or about which axis it was turned.

Every direction that planes and axes of the zones suggest is asked how much of the surface it explains: caps square to
it, walls along it, cylinders along it; or what turns about one axis.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Cone, Cylinder, Element, Plane, Sphere, Torus
from ..zones import Zone, Zones

__all__ = ["Standing", "caps_along", "lean_deg", "standings", "turns_about", "way_of"]

_SQUARE = 1.0  # degrees from square or along
_LEANING = 6.0  # degrees that a wall may lean and still be one
_NEAR = 0.01  # of the part's size: so far from an axis is on it
_CANDIDATES = 12
_TURNED = 0.7  # of the surface that turns about one axis: such a part was turned
_ROUND = 0.35  # of it that is round, not flat
_ONE_STEP = 0.15  # of the surface that a push has to explain more than turning does


@dataclass(frozen=True)
class Standing:
    """``direction`` (3,) to push along or turn about, ``point`` (3,) on the axis of what is turned; ``explains`` the
    share of the surface it accounts for; ``axis`` the zone that gives the axis of a turned part, else None."""

    direction: np.ndarray
    point: np.ndarray
    turned: bool
    explains: float
    axis: int | None = None


def way_of(e: Element | None) -> np.ndarray | None:
    """A plane's normal or an axis's direction; None for what has neither."""
    if isinstance(e, Plane):
        return e.normal
    return e.direction if isinstance(e, Cylinder | Cone | Torus) else None


def lean_deg(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), abs(float(a @ b)))))


def _pushed(z: Zone, d: np.ndarray) -> float:
    """How much of a zone a push along ``d`` explains, 0 to 1."""
    way = way_of(z.element)
    if way is None:
        return 0.0
    lean = lean_deg(way, d)
    if isinstance(z.element, Plane):
        if lean < _SQUARE or lean > 90 - _SQUARE:
            return 1.0
        return 0.8 if lean > 90 - _LEANING else 0.0
    if isinstance(z.element, Cylinder):
        return 1.0 if lean < _SQUARE else 0.0
    return 0.6 if isinstance(z.element, Cone) and lean < _SQUARE and z.element.half_angle_deg < _LEANING else 0.0


def turns_about(z: Zone, point: np.ndarray, d: np.ndarray, near: float) -> float:
    """1 where a zone is part of what is turned about an axis, else 0; ``near`` mm off it is on it."""
    e = z.element
    if isinstance(e, Plane):
        return 1.0 if lean_deg(e.normal, d) < _SQUARE else 0.0
    place = e.center if isinstance(e, Sphere | Torus) else e.apex if isinstance(e, Cone) else getattr(e, "point", None)
    if place is None:
        return 0.0
    off = float(np.linalg.norm(np.cross(np.asarray(place) - point, d)))
    way = way_of(e)
    return 1.0 if off < near and (way is None or lean_deg(way, d) < 2 * _SQUARE) else 0.0


def standings(zones: Zones, size: float) -> list[Standing]:
    """How the part may stand, the likeliest first; none where no plane and no axis was read. ``size`` of it, mm."""
    total = sum(z.area for z in zones.zones)
    pushed, turned = [], []
    with_way = [k for k, z in enumerate(zones.zones) if way_of(z.element) is not None]
    for k in sorted(with_way, key=lambda k: -zones.zones[k].area)[:_CANDIDATES]:
        z = zones.zones[k]
        d = way_of(z.element)
        assert d is not None
        pushed.append(Standing(d, np.zeros(3), False, sum(_pushed(o, d) * o.area for o in zones.zones) / total))
        if isinstance(z.element, Cylinder):  # the only kind whose axis a frame can stand on
            point = np.asarray(z.element.point)
            shares = [
                (turns_about(o, point, d, _NEAR * size) * o.area, not isinstance(o.element, Plane)) for o in zones.zones
            ]
            whole, bent = sum(a for a, _ in shares) / total, sum(a for a, r in shares if r) / total
            if whole > _TURNED and bent > _ROUND:
                turned.append(Standing(d, point, True, whole, k))
    # What is turned is told in one step; a push has to explain clearly more.
    likely = sorted([*turned, *pushed], key=lambda s: -s.explains - (_ONE_STEP if s.turned else 0.0))
    out: list[Standing] = []
    for s in likely:
        same = (o for o in out if o.turned == s.turned and lean_deg(o.direction, s.direction) < 2 * _SQUARE)
        if next(same, None) is None:
            out.append(s)
    return out


def caps_along(zones: Zones, d: np.ndarray) -> list[int]:
    """The planes square to a direction, by number."""
    return [
        k for k, z in enumerate(zones.zones) if isinstance(z.element, Plane) and lean_deg(z.element.normal, d) < _SQUARE
    ]
