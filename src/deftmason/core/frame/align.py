"""Set a part's axes from datums: first direction, second direction, origin; and how far each misses its ideal."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Cylinder, Element, Plane, RigidMotion
from ..errors import BadInput

__all__ = ["Frame", "set_frame"]

_AXES = {"x": 0, "y": 1, "z": 2}


@dataclass(frozen=True)
class Frame:
    """``motion`` takes scan coordinates to the frame; ``misses`` are sentences with numbers; ``open_freedoms`` 0…6."""

    motion: RigidMotion
    misses: list[dict]
    open_freedoms: int


def _direction(e: Element) -> np.ndarray:
    return e.normal if isinstance(e, Plane) else e.direction  # type: ignore[attr-defined]


def set_frame(
    first: Element,
    second: Element | None,
    origin: Element | None,
    *,
    first_axis: str = "z",
    second_axis: str = "y",
    flip_first: bool = False,
    flip_second: bool = False,
    fallback_origin=(0.0, 0.0, 0.0),
) -> Frame:
    """The frame in which ``first`` gives one axis, ``second`` the next, and ``origin`` the zero point.

    A plane's axis points into the material (against its outward normal) unless flipped. The first datum holds its
    direction exactly; the second only what is left. Zero lies on the first datum where it is a plane, and on the
    second datum's and origin's axis as far as they fix it.
    """
    if first_axis == second_axis:
        raise BadInput("First and second datum cannot both set the same axis; choose two.", field="second_axis")
    sign = -1.0 if isinstance(first, Plane) else 1.0
    a = _direction(first) * sign * (-1.0 if flip_first else 1.0)
    misses, freedoms = [], 6 - (3 if isinstance(first, Plane) else 4)
    if second is not None:
        sign = -1.0 if isinstance(second, Plane) else 1.0
        raw = _direction(second) * sign * (-1.0 if flip_second else 1.0)
        b = raw - (raw @ a) * a
        if np.linalg.norm(b) < 0.1:
            raise BadInput(
                "First and second datum point the same way, so the part can still turn; pick a "
                "second datum across the first.",
                field="second",
            )
        off = float(np.degrees(np.arcsin(np.clip(raw @ a, -1, 1))))
        misses.append({"datum": "second", "what": "off square to the first", "degrees": off})
        b /= np.linalg.norm(b)
        freedoms -= 1
    else:
        helper = np.eye(3)[int(np.argmin(np.abs(a)))]
        b = helper - (helper @ a) * a
        b /= np.linalg.norm(b)
    i, j = _AXES[first_axis], _AXES[second_axis]
    rows = np.zeros((3, 3))
    rows[i], rows[j] = a, b
    k = 3 - i - j
    rows[k] = np.cross(a, b) * (1.0 if (j - i) % 3 == 1 else -1.0)
    zero = np.asarray(fallback_origin, float)
    if origin is not None:
        if isinstance(origin, Cylinder):
            d = origin.direction
            tilt = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(d, a)), abs(d @ a))))
            misses.append({"datum": "origin", "what": f"off parallel to {first_axis}", "degrees": tilt})
            zero = origin.point
            if isinstance(first, Plane) and abs(d @ first.normal) > 0.1:
                zero = origin.point - d * ((origin.point - first.point) @ first.normal) / (d @ first.normal)
            freedoms -= 2
        elif isinstance(origin, Plane):
            zero = origin.point
            freedoms -= 1
        else:
            zero = getattr(origin, "center", getattr(origin, "point", getattr(origin, "apex", zero)))
            freedoms -= 2
    if isinstance(first, Plane):
        zero = zero - first.normal * float((zero - first.point) @ first.normal)
    if isinstance(second, Plane) and not isinstance(origin, Cylinder):
        zero = zero - b * float((zero - second.point) @ b)
        freedoms -= 1
    return Frame(RigidMotion.of(rows, -rows @ zero), misses, max(freedoms, 0))
