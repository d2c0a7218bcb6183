"""Distance and angle between two datums, with how far each may be off.

Uncertainties are drawn as for constructed datums (JCGM 101:2008).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element
from .telling import anchor_of, direction_of
from .unsure import Datum, drawn

__all__ = ["Measured", "measure"]

_DRAWS = 300
_ALONGSIDE_DEG = 5.0  # what leans less has a distance


@dataclass(frozen=True)
class Measured:
    """``distance`` mm and ``angle_deg`` (None where there is none) with standard deviations, and the two places (3,)
    that the distance runs between.
    """

    distance: float | None
    distance_uncertainty: float | None
    angle_deg: float | None
    angle_uncertainty: float | None
    places: tuple[np.ndarray, np.ndarray]


def _angle(a: Element, b: Element) -> float | None:
    """Angle in degrees, 0…90: between planes as their corner shows it, between an axis and a plane from the plane."""
    u, v = direction_of(a), direction_of(b)
    if u is None or v is None:
        return None
    angle = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(u, v)), abs(u @ v))))
    return 90.0 - angle if (a.kind == "plane") != (b.kind == "plane") else angle


def _between_axes(a: Element, b: Element) -> tuple[np.ndarray, np.ndarray]:
    p, d, q, e = anchor_of(a), direction_of(a), anchor_of(b), direction_of(b)
    assert d is not None and e is not None
    if np.linalg.norm(np.cross(d, e)) < np.sin(np.radians(_ALONGSIDE_DEG)):
        middle = 0.5 * (p + q)
        return p + d * float((middle - p) @ d), q + e * float((middle - q) @ e)
    t = np.linalg.lstsq(np.column_stack([d, -e]), q - p, rcond=None)[0]
    return p + t[0] * d, q + t[1] * e


def _places(a: Element, b: Element, angle: float | None) -> tuple[np.ndarray, np.ndarray] | None:
    """The two places a distance runs between; None where the two cross."""
    if a.kind == "plane" or b.kind == "plane":
        plane, other = (a, b) if a.kind == "plane" else (b, a)
        if angle is not None and angle > _ALONGSIDE_DEG:
            return None
        p = anchor_of(other)
        if other.kind == "plane":  # from the middle of both, so that leaning little counts little
            middle = 0.5 * (p + anchor_of(plane))
            p = middle - other.normal * float((middle - p) @ other.normal)
        foot = p - plane.normal * float((p - anchor_of(plane)) @ plane.normal)
        return (foot, p) if plane is a else (p, foot)
    if direction_of(a) is None and direction_of(b) is None:
        return anchor_of(a), anchor_of(b)
    if direction_of(a) is None or direction_of(b) is None:
        point, axis = (a, b) if direction_of(a) is None else (b, a)
        p, q, d = anchor_of(point), anchor_of(axis), direction_of(axis)
        assert d is not None
        foot = q + d * float((p - q) @ d)
        return (p, foot) if point is a else (foot, p)
    return _between_axes(a, b)


def measure(a: Datum, b: Datum) -> Measured:
    """What lies between two datums."""
    angle = _angle(a.element, b.element)
    places = _places(a.element, b.element, angle)
    rng = np.random.default_rng(23)
    angles, distances = [], []
    for _ in range(_DRAWS):
        x, y = drawn(a, rng), drawn(b, rng)
        other = _angle(x, y)
        if angle is not None and other is not None:
            # Near a square or straight corner the folded angle bounces: unfolded about the measured one.
            angles.append(_signed_angle(x, y, a.element, b.element))
        if places is not None:
            run = _places(x, y, min(angle or 0.0, _ALONGSIDE_DEG))
            if run is not None:
                distances.append(float(np.linalg.norm(run[1] - run[0])))
    at = places or (anchor_of(a.element), anchor_of(b.element))
    return Measured(
        None if places is None else float(np.linalg.norm(places[1] - places[0])),
        float(np.std(distances)) if distances else None,
        angle,
        float(np.std(angles)) if angles else None,
        at,
    )


def _signed_angle(x: Element, y: Element, a: Element, b: Element) -> float:
    """The drawn angle in degrees on the branch of the measured one."""
    u, v, p, q = direction_of(x), direction_of(y), direction_of(a), direction_of(b)
    assert u is not None and v is not None and p is not None and q is not None
    s = 1.0 if p @ q >= 0 else -1.0
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(u, s * v)), u @ (s * v))))
