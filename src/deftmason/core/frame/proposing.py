"""Frames that a scan suggests by itself: what it would stand on, what is square to that, and what zero lies on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..elements import Element, Plane
from ..errors import BadInput
from ..zones import Zones
from .align import Frame, set_frame
from .symmetry import SymmetryPlane

__all__ = ["Proposal", "Role", "framed", "proposals"]

_SQUARE_DEG, _ALONG_DEG = 5.0, 3.0
_LARGE = 0.02  # of the surface: smaller planes and bores set no axis


@dataclass(frozen=True)
class Role:
    """A datum and what it is for; ``to`` the axis its direction goes to, as '+z'."""

    role: str
    element: Element
    to: str | None
    angle_deg: float = 0.0
    mm: float = 0.0


@dataclass(frozen=True)
class Proposal:
    """``reason`` in one sentence."""

    frame: Frame
    roles: list[Role]
    reason: str


def _way(e: Element | None) -> np.ndarray:
    assert e is not None
    return e.normal if isinstance(e, Plane) else e.direction


def _leaning(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), abs(a @ b))))


def framed(
    first: tuple[Element, str], second: tuple[Element, str] | None, origin: Element | None, size: float, reason: str
) -> Proposal:
    """The frame in which the datums' directions go to their axes ('+x' … '-z'), with what each misses.

    ``size`` of the part in mm, at whose edge an angle is said as a length.
    """

    def turned(e: Element, to: str) -> bool:
        return (to[0] == "+") == isinstance(e, Plane)

    axes = [to[-1] for _, to in ([first, second] if second else [first])]
    other = axes[1] if len(axes) > 1 else next(a for a in "yxz" if a != axes[0])
    f = set_frame(
        first[0],
        second[0] if second else None,
        origin,
        first_axis=axes[0],
        second_axis=other,
        flip_first=turned(*first),
        flip_second=turned(*second) if second else False,
    )
    missed = {m["datum"]: abs(m["degrees"]) for m in f.misses}
    roles = [Role("first", first[0], first[1])]
    if second:
        off = missed.get("second", 0.0)
        roles.append(Role("second", second[0], second[1], off, float(np.tan(np.radians(off))) * size))
    if origin is not None:
        off = missed.get("origin", 0.0)
        roles.append(Role("origin", origin, None, off, float(np.tan(np.radians(min(off, 80.0)))) * size))
    return Proposal(f, roles, reason)


def proposals(zones: Zones, symmetric: Sequence[SymmetryPlane], size: float) -> list[Proposal]:
    """Frames worth offering, best first. ``size`` of the part, mm."""
    total = sum(z.area for z in zones.zones)
    planes = [z for z in zones.zones if z.kind == "plane" and z.area > _LARGE * total]
    bores = [z for z in zones.zones if z.kind == "cylinder" and z.area > 0.5 * _LARGE * total]
    mirrors = [s.plane for s in symmetric]
    out: list[Proposal] = []

    def offer(first, second, origin, reason):
        try:
            out.append(framed(first, second, origin, size, reason))
        except BadInput:
            return

    def square_to(d: np.ndarray) -> tuple[Element, str] | None:
        """What stops the part turning about a direction, and what it is called."""
        for m in mirrors:
            if _leaning(m.normal, d) > 90 - _SQUARE_DEG:
                return m, "its plane of symmetry"
        for z in planes:
            if z.element is not None and _leaning(_way(z.element), d) > 90 - _SQUARE_DEG:
                return z.element, "its longest side"
        return None

    def zero(d: np.ndarray) -> tuple[Element | None, str]:
        along = [z for z in bores if z.element is not None and _leaning(_way(z.element), d) < _ALONG_DEG]
        near = 0.02 * size
        middle = [
            z for z in along if z.element and all(abs(m.distance(z.element.point[None])[0]) < near for m in mirrors)
        ]
        best = (middle or along)[:1]
        return (best[0].element, "zero on its main bore") if best else (None, "zero left open")

    def told(start: str, second, at: str) -> str:
        return f"{start}{f', turned by {second[1]}' if second else ''}, {at}."

    for z in planes[:2]:
        assert z.element is not None
        d = _way(z.element)
        second, (origin, at) = square_to(d), zero(d)
        start = "Stands on its largest flat face" if z is planes[0] else "Stands on its next largest flat face"
        offer((z.element, "-z"), second and (second[0], "+y"), origin, told(start, second, at))
    for z in bores[:1]:
        assert z.element is not None
        d = _way(z.element)
        offer(
            (z.element, "+z"), (s := square_to(d)) and (s[0], "+y"), None, told("Along its main bore", s, "zero on it")
        )
    for m in mirrors[:1]:
        second = next(((p, "+z") for p in mirrors[1:] if _leaning(p.normal, m.normal) > 90 - _SQUARE_DEG), None)
        if second is None and planes:
            flat = next((z.element for z in planes if _leaning(_way(z.element), m.normal) > 90 - _SQUARE_DEG), None)
            second = (flat, "-z") if flat is not None else None
        words = "square to another face" if second else "what is square to it left open"
        offer((m, "+x"), second, None, f"On its plane of symmetry, {words}.")
    return out
