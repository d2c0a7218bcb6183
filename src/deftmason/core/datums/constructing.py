"""Datums made from datums: where planes and axes meet, what lies between them, what is offset, turned or projected.

Each way is one function of what its parents are reduced to (planes, axes, points), so that any datum that has an axis
may stand where an axis is asked for. The result's uncertainty follows from its parents' by drawing them many times
(JCGM 101:2008, *Propagation of distributions using a Monte Carlo method*).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ..elements import Element, Line, Plane, Point, unit
from ..errors import BadInput
from .telling import anchor_of, roles_of
from .unsure import Datum, drawn

__all__ = ["WAYS", "Way", "construct"]

_DRAWS = 240
_PARALLEL = 0.02  # sine of the angle below which planes or axes do not meet
_NEAR_PARALLEL = 0.35


def _axis(e: Element) -> tuple[np.ndarray, np.ndarray]:
    return anchor_of(e), e.normal if e.kind == "circle" else e.direction


def _meet_two(a: Plane, b: Plane, *_) -> Element:
    d = np.cross(a.normal, b.normal)
    if np.linalg.norm(d) < _PARALLEL:
        raise BadInput(
            "These planes are parallel and meet nowhere; take the middle plane, or another plane.", field="of"
        )
    d = d / np.linalg.norm(d)
    middle = 0.5 * (a.point + b.point)
    m = np.stack([a.normal, b.normal, d])
    return Line(np.linalg.solve(m, [a.normal @ a.point, b.normal @ b.point, d @ middle]), d)


def _meet_three(a: Plane, b: Plane, c: Plane, *_) -> Element:
    m = np.stack([a.normal, b.normal, c.normal])
    if abs(np.linalg.det(m)) < _PARALLEL:
        raise BadInput("These three planes have no one point in common; take planes that face three ways.", field="of")
    return Point(np.linalg.solve(m, [p.normal @ p.point for p in (a, b, c)]))


def _pierced(plane: Plane, axis: Element, *_) -> Element:
    p, d = _axis(axis)
    along = float(d @ plane.normal)
    if abs(along) < _PARALLEL:
        raise BadInput("The axis runs along the plane and meets it nowhere; take a plane across it.", field="of")
    return Point(p - d * float((p - plane.point) @ plane.normal) / along)


def _through_two(a: Element, b: Element, *_) -> Element:
    p, q = anchor_of(a), anchor_of(b)
    if np.linalg.norm(q - p) < 1e-9:
        raise BadInput("Both lie in one place; take two that lie apart.", field="of")
    return Line(0.5 * (p + q), unit(q - p))


def _middle_plane(a: Plane, b: Plane, *_) -> Element:
    n = b.normal if a.normal @ b.normal >= 0 else -b.normal
    if np.linalg.norm(np.cross(a.normal, n)) > _NEAR_PARALLEL:
        raise BadInput(
            "These planes lean too far for a middle plane; take the plane that halves their corner.", field="of"
        )
    return Plane(0.5 * (a.point + b.point), unit(a.normal + n))


def _bisecting(a: Plane, b: Plane, _distance: float, _angle: float, flip: bool) -> Element:
    line = _meet_two(a, b)
    return Plane(line.point, unit(a.normal - b.normal if flip else a.normal + b.normal))


def _offset(a: Plane, distance: float, _angle: float, flip: bool) -> Element:
    return Plane(a.point + a.normal * (-distance if flip else distance), a.normal)


def _turned(a: Plane, axis: Element, _distance: float, angle_deg: float, flip: bool) -> Element:
    from scipy.spatial.transform import Rotation

    p, d = _axis(axis)
    r = Rotation.from_rotvec(np.radians(-angle_deg if flip else angle_deg) * d)
    return Plane(p + r.apply(a.point - p), r.apply(a.normal))


def _three_points(a: Element, b: Element, c: Element, *_) -> Element:
    p, q, r = anchor_of(a), anchor_of(b), anchor_of(c)
    n = np.cross(q - p, r - p)
    if np.linalg.norm(n) < 1e-9 * max(float(np.linalg.norm(q - p)) ** 2, 1e-300):
        raise BadInput("The three places lie on one line; take three that do not.", field="of")
    return Plane((p + q + r) / 3, unit(n))


def _axis_and_point(axis: Element, b: Element, *_) -> Element:
    p, d = _axis(axis)
    q = anchor_of(b)
    n = np.cross(d, q - p)
    if np.linalg.norm(n) < 1e-9 * max(float(np.linalg.norm(q - p)), 1e-300):
        raise BadInput("The point lies on the axis; take one beside it.", field="of")
    return Plane(p, unit(n))


def _square_at(axis: Element, b: Element, *_) -> Element:
    return Plane(anchor_of(b), _axis(axis)[1])


def _along_plane(a: Plane, axis: Element, *_) -> Element:
    p, d = _axis(axis)
    along = d - a.normal * float(d @ a.normal)
    foot = p - a.normal * float((p - a.point) @ a.normal)
    return Point(foot) if np.linalg.norm(along) < _PARALLEL else Line(foot, unit(along))


def _dropped(a: Plane, b: Element, *_) -> Element:
    p = anchor_of(b)
    return Point(p - a.normal * float((p - a.point) @ a.normal))


def _square_axis(a: Plane, b: Element, *_) -> Element:
    return Line(anchor_of(b), a.normal)


def _middle_point(a: Element, b: Element, *_) -> Element:
    return Point(0.5 * (anchor_of(a) + anchor_of(b)))


def _nearest_of_axes(a: Element, b: Element, *_) -> Element:
    p, d = _axis(a)
    q, e = _axis(b)
    n = np.cross(d, e)
    if np.linalg.norm(n) < _PARALLEL:
        raise BadInput("These axes are parallel and meet nowhere; take two that cross.", field="of")
    t = np.linalg.lstsq(np.column_stack([d, -e]), q - p, rcond=None)[0]
    return Point(0.5 * (p + t[0] * d + q + t[1] * e))


def _middle_axis(a: Element, b: Element, *_) -> Element:
    p, d = _axis(a)
    q, e = _axis(b)
    e = e if d @ e >= 0 else -e
    if np.linalg.norm(np.cross(d, e)) > _NEAR_PARALLEL:
        raise BadInput("These axes lean too far for a middle axis; take two that run alike.", field="of")
    return Line(0.5 * (p + q), unit(d + e))


@dataclass(frozen=True)
class Way:
    """``title`` in words, the roles it takes in order, and what numbers it asks for besides."""

    title: str
    takes: tuple[str, ...]
    make: Callable[..., Element]
    asks: tuple[str, ...] = ()
    turns_round: bool = False


#: Ways to make a datum of others, by name.
WAYS: dict[str, Way] = {
    "line of planes": Way("Line where two planes meet", ("plane", "plane"), _meet_two),
    "point of planes": Way("Point where three planes meet", ("plane", "plane", "plane"), _meet_three),
    "point on plane": Way("Point where an axis meets a plane", ("plane", "axis"), _pierced),
    "middle plane": Way("Middle plane of two", ("plane", "plane"), _middle_plane),
    "bisecting plane": Way("Plane that halves a corner", ("plane", "plane"), _bisecting, turns_round=True),
    "offset plane": Way("Plane offset by a distance", ("plane",), _offset, ("distance",), True),
    "turned plane": Way("Plane turned about an axis", ("plane", "axis"), _turned, ("angle_deg",), True),
    "axis through two": Way("Axis through two middles", ("middle", "middle"), _through_two),
    "middle axis": Way("Axis midway between two", ("axis", "axis"), _middle_axis),
    "crossing of axes": Way("Point where two axes come nearest", ("axis", "axis"), _nearest_of_axes),
    "plane through three": Way("Plane through three middles", ("middle", "middle", "middle"), _three_points),
    "plane of axis and point": Way("Plane through an axis and a middle", ("axis", "middle"), _axis_and_point),
    "plane square to axis": Way("Plane square to an axis, at a middle", ("axis", "middle"), _square_at),
    "axis square to plane": Way("Axis square to a plane, through a middle", ("plane", "middle"), _square_axis),
    "axis on plane": Way("Axis seen square onto a plane", ("plane", "axis"), _along_plane),
    "point dropped on plane": Way("Middle dropped square onto a plane", ("plane", "middle"), _dropped),
    "middle point": Way("Point midway between two middles", ("middle", "middle"), _middle_point),
}


def _suits(e: Element, role: str) -> bool:
    return role in roles_of(e)


def _ordered(way: Way, parents: Sequence[Datum]) -> list[int]:
    """Which parent stands for each role, whatever order they were picked in."""
    from itertools import permutations

    if len(parents) != len(way.takes):
        raise BadInput(f"{way.title} needs {len(way.takes)} datums; there are {len(parents)}.", field="of")
    for order in permutations(range(len(parents))):
        if all(_suits(parents[i].element, role) for i, role in zip(order, way.takes)):
            return list(order)
    names = {"plane": "a plane", "axis": "an axis", "middle": "something with a middle"}
    raise BadInput(f"{way.title} needs {', '.join(names[t] for t in way.takes)}.", field="of")


def construct(
    name: str, parents: Sequence[Datum], *, distance: float = 0.0, angle_deg: float = 0.0, flip: bool = False
) -> Datum:
    """A datum made of others in one of the `WAYS`, with its uncertainty.

    ``distance`` mm and ``angle_deg`` where the way asks for them; ``flip`` takes the other side or the other half.

    Raises
    ------
    BadInput : where the parents do not suit the way, or lie so that it gives nothing.
    """
    way = WAYS[name]
    given = [parents[i] for i in _ordered(way, parents)]
    element = way.make(*(g.element for g in given), distance, angle_deg, flip)
    rng = np.random.default_rng(17)
    several = []
    for _ in range(_DRAWS if any(np.any(np.asarray(v)) for g in given for v in g.uncertainty.values()) else 0):
        try:
            other = way.make(*(drawn(g, rng) for g in given), distance, angle_deg, flip)
        except BadInput:
            continue
        if other.kind == element.kind:
            several.append(other)
    uncertainty = {}
    for key, value in element.__dict__.items():
        if len(several) < _DRAWS // 2:
            uncertainty[key] = np.zeros(np.shape(value)).tolist()
            continue
        values = np.array([getattr(o, key) for o in several])
        if key in ("normal", "direction"):
            values = values * np.sign(values @ value)[:, None]
        if key == "point" and hasattr(element, "direction"):
            off = values - element.point
            values = values - np.outer(off @ element.direction, element.direction)
        if key == "point" and hasattr(element, "normal"):
            values = element.point + np.outer((values - element.point) @ element.normal, element.normal)
        uncertainty[key] = values.std(axis=0).tolist()
    return Datum(element, uncertainty)
