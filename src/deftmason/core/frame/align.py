"""Set a part's axes from datums: first direction, second direction, origin; how far each misses its ideal, and what is
left open.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element, Plane, Point, RigidMotion
from ..errors import BadInput

__all__ = ["Frame", "farthest_move", "set_frame"]

_AXES = {"x": 0, "y": 1, "z": 2}
_ALONG = 1e-3  # of a unit: how far a direction may lean from an axis and be called by its name


@dataclass(frozen=True)
class Frame:
    """``motion`` takes scan coordinates to the frame; ``misses`` are sentences with numbers; ``open`` the freedoms that
    no datum holds, in words.
    """

    motion: RigidMotion
    misses: list[dict]
    open: list[str]

    @property
    def open_freedoms(self) -> int:
        return len(self.open)


def _direction(e: Element, which: str) -> np.ndarray:
    d = getattr(e, "normal", None) if hasattr(e, "normal") else getattr(e, "direction", None)
    if d is None:
        raise BadInput(f"A {e.kind} points nowhere; take a plane or an axis as the {which} datum.", field=which)
    return d


def _place(e: Element) -> np.ndarray:
    for key in ("point", "center", "apex"):
        if hasattr(e, key):
            return np.asarray(getattr(e, key), float)
    raise AssertionError(e.kind)


def _is_axis(e: Element | None) -> bool:
    return e is not None and e.kind in ("line", "cylinder")


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
    direction exactly; the second only what is left. Zero is the origin where that is a point; else it lies on the first
    datum, and on the second datum and the origin's axis or plane as far as the first leaves that open.
    """
    if first_axis == second_axis:
        raise BadInput("First and second datum cannot both set the same axis; choose two.", field="second_axis")
    sign = -1.0 if isinstance(first, Plane) else 1.0
    a = _direction(first, "first") * sign * (-1.0 if flip_first else 1.0)
    misses = []
    open_ = []
    if second is not None:
        sign = -1.0 if isinstance(second, Plane) else 1.0
        raw = _direction(second, "second") * sign * (-1.0 if flip_second else 1.0)
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
    else:
        helper = np.eye(3)[int(np.argmin(np.abs(a)))]
        b = helper - (helper @ a) * a
        b /= np.linalg.norm(b)
        open_.append(f"turn about {first_axis}")
    i, j = _AXES[first_axis], _AXES[second_axis]
    rows = np.zeros((3, 3))
    rows[i], rows[j] = a, b
    k = 3 - i - j
    rows[k] = np.cross(a, b) * (1.0 if (j - i) % 3 == 1 else -1.0)
    zero = np.asarray(fallback_origin, float)
    held: list[np.ndarray] = []  # directions in which something holds the part
    if origin is not None:
        zero = _place(origin)
        if _is_axis(origin):
            d = _direction(origin, "origin")
            tilt = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(d, a)), abs(d @ a))))
            misses.append({"datum": "origin", "what": f"off parallel to {first_axis}", "degrees": tilt})
            if isinstance(first, Plane) and abs(d @ first.normal) > 0.1:
                zero = zero - d * ((zero - first.point) @ first.normal) / (d @ first.normal)
            held += _across(rows[int(np.argmax(np.abs(rows @ d)))])
        elif isinstance(origin, Plane):
            held.append(rows[int(np.argmax(np.abs(rows @ origin.normal)))])
        else:
            held += list(np.eye(3))
    if _is_axis(first):
        if origin is None:
            zero = _place(first)
        elif isinstance(origin, Plane) and abs(a @ origin.normal) > 0.1:  # where the axis meets it
            start = _place(first)
            zero = start - a * float((start - origin.point) @ origin.normal) / float(a @ origin.normal)
        held += _across(a)
    settled = isinstance(origin, Point)  # a point says where zero is, whatever the planes say
    if isinstance(first, Plane) and not settled:
        zero = zero - first.normal * float((zero - first.point) @ first.normal)
        held.append(a)
    if isinstance(second, Plane) and not _is_axis(origin) and not _is_axis(first) and not settled:
        zero = zero - b * float((zero - second.point) @ b)
        held.append(b)
    open_ += _free_moves(rows, held)
    return Frame(RigidMotion.of(rows, -rows @ zero), misses, open_)


def _across(d: np.ndarray) -> list[np.ndarray]:
    """Two directions square to one."""
    return list(np.linalg.svd(d[None])[2][1:])


def _free_moves(rows: np.ndarray, held: list[np.ndarray]) -> list[str]:
    """Moves along the frame's axes that nothing holds."""
    span = np.zeros((0, 3))
    if held:
        _, s, vt = np.linalg.svd(np.array(held))
        span = vt[: int((s > _ALONG).sum())]
    out = []
    for name, k in _AXES.items():
        left = rows[k] - span.T @ (span @ rows[k])
        if np.linalg.norm(left) > 1 - _ALONG:
            out.append(f"move along {name}")
    return out


def farthest_move(a: RigidMotion, b: RigidMotion, places) -> float:
    """How far (mm) the farthest of some places (n, 3) lands elsewhere under one motion than under another."""
    p = np.asarray(places, float)
    return float(np.linalg.norm(a.points(p) - b.points(p), axis=1).max())
