"""Solids that are not pushed: a profile turned about an axis; boxes, cylinders, cones, balls and rings."""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeRevol,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.gp import gp_Ax1, gp_Ax2, gp_Ax3, gp_Pln

from ..errors import BadInput
from .body import Body, carry_names, faces_of, listed
from .features import Curve2D, PaperPlane, kernel_direction, kernel_point, profile_face
from .lofted import sewn
from .surfaces import face_surfaces
from .tessellate import diagonal_of

__all__ = ["SOLIDS", "across_of", "bare", "flat", "revolve", "solid"]

_WHOLE = 360.0 - 1e-7
_TOUCH = 1e-7  # of the profile's size: how far it may reach over its axis

#: What each solid is told by, in mm.
SOLIDS = {
    "box": ("width", "depth", "height"),
    "cylinder": ("radius", "height"),
    "cone": ("radius", "top_radius", "height"),
    "ball": ("radius",),
    "ring": ("radius", "tube_radius"),
    "flat": ("width", "depth"),
}


def on_one_side(curves: list[Curve2D], axis: tuple) -> tuple[np.ndarray, np.ndarray]:
    """An axis's place and unit direction on the paper, (2,) each. Raises `BadInput` where curves cross it."""
    at, along = (np.asarray(a, float) for a in axis)
    along = along / np.hypot(*along)
    reach = [side for c in curves for side in _beside(c, at, along)]
    size = max(map(abs, reach), default=0.0)
    if min(reach) < -_TOUCH * size - 1e-9 and max(reach) > _TOUCH * size + 1e-9:
        raise BadInput("The profile crosses its axis; end it there, or turn only one side.", field="axis")
    return at, along


def revolve(
    outer: list[Curve2D],
    inner: list[list[Curve2D]],
    plane: PaperPlane,
    axis: tuple,
    feature: str,
    *,
    angle_deg: float = 360.0,
) -> Body:
    """Turn a profile about an axis in its plane: ``axis`` is a place and a direction on the paper, (2,) each.

    Faces: ``feature/side/ID``; a part of a turn has ``feature/begin`` and ``feature/end``. Raises `BadInput` where the
    profile crosses its axis.
    """
    if not 0 < abs(angle_deg) <= 360:
        raise BadInput("A profile is turned by more than 0° and at most 360°.", field="angle")
    at, along = on_one_side([c for loop in (outer, *inner) for c in loop], axis)
    base, named = profile_face(outer, inner, plane, 0.0)
    start = plane.at(at)
    turn = gp_Ax1(kernel_point(start), kernel_direction(plane.at(at + along) - start))
    part = abs(angle_deg) < _WHOLE
    maker = (
        BRepPrimAPI_MakeRevol(base, turn, float(np.radians(angle_deg)), True)
        if part
        else BRepPrimAPI_MakeRevol(base, turn, True)
    )
    if not maker.IsDone():
        raise BadInput("The profile cannot be turned about this axis; check that it lies on one side.", field="axis")
    shape = maker.Shape()
    body = carry_names(
        shape, [(e, f"{feature}/side/{i}") for e, i in named], lambda e: listed(maker.Generated(e)), feature
    )
    names = list(body.face_names)
    if part:
        for i, f in enumerate(faces_of(shape)):
            if f.IsSame(maker.FirstShape()):
                names[i] = f"{feature}/begin"
            elif f.IsSame(maker.LastShape()):
                names[i] = f"{feature}/end"
    return Body(shape, tuple(names))


def _beside(c: Curve2D, at: np.ndarray, along: np.ndarray) -> list[float]:
    """How far to one side of the axis a piece of a profile reaches, both ways."""
    places = [p for p in (c.start, c.end, *c.poles) if p is not None]
    if c.kind in ("circle", "arc", "ellipse") and c.center is not None:
        r = float(c.radius or np.hypot(*np.subtract(c.major or c.center, c.center)))
        if c.kind != "arc":
            middle = _cross(along, np.asarray(c.center) - at)
            return [middle - r, middle + r]
    return [_cross(along, np.asarray(p, float) - at) for p in places]


def _cross(a, b) -> float:
    return float(a[0] * b[1] - a[1] * b[0])


def solid(kind: str, feature: str, point, direction, across=None, **sizes: float) -> Body:
    """A solid of `SOLIDS` standing on ``point`` (3,) along ``direction`` (3,), sizes in mm.

    A box stands on the middle of its foot, its width along ``across`` (3,); a ball and a ring have their middle there.
    Faces: ``feature/side``, ``feature/top``, ``feature/bottom``; a box's walls ``feature/side/x+`` and so on.
    """
    _checked(kind, sizes)
    d = np.asarray(direction, float) / np.linalg.norm(direction)
    u = across_of(d)[0] if across is None else np.asarray(across, float)
    u = u - (u @ d) * d
    if np.linalg.norm(u) < 1e-9:
        raise BadInput("The width runs along the height; give another direction.", field="across")
    u /= np.linalg.norm(u)
    p = np.asarray(point, float)
    if kind == "box":
        p = p - 0.5 * sizes["width"] * u - 0.5 * sizes["depth"] * np.cross(d, u)
    place = gp_Ax2(kernel_point(p), kernel_direction(d), kernel_direction(u))
    if kind == "box":
        maker = BRepPrimAPI_MakeBox(place, sizes["width"], sizes["depth"], sizes["height"])
    elif kind == "cylinder":
        maker = BRepPrimAPI_MakeCylinder(place, sizes["radius"], sizes["height"])
    elif kind == "cone":
        if abs(sizes["radius"] - sizes["top_radius"]) < 1e-9:
            raise BadInput("A cone's two radii differ; take a cylinder.", field="top_radius")
        maker = BRepPrimAPI_MakeCone(place, sizes["radius"], sizes["top_radius"], sizes["height"])
    elif kind == "ball":
        maker = BRepPrimAPI_MakeSphere(place, sizes["radius"])
    else:
        if sizes["tube_radius"] >= sizes["radius"]:
            raise BadInput("A ring's tube is thinner than the ring; choose a smaller one.", field="tube_radius")
        maker = BRepPrimAPI_MakeTorus(place, sizes["radius"], sizes["tube_radius"])
    shape = maker.Shape()
    plain = Body(shape, tuple(str(i) for i in range(len(faces_of(shape)))))
    names = []
    axes = {"x": u, "y": np.cross(d, u), "z": d}
    for s in face_surfaces(plain):
        if s.kind != "plane" or s.element is None:
            names.append(f"{feature}/side")
            continue
        n = s.element.normal * s.outward
        axis, sign = max(((a, np.sign(v @ n)) for a, v in axes.items()), key=lambda t: abs(axes[t[0]] @ n))
        ends = {("z", 1.0): "top", ("z", -1.0): "bottom"}
        names.append(f"{feature}/{ends.get((axis, float(sign))) or f'side/{axis}' + ('+' if sign > 0 else '-')}")
    return Body(shape, tuple(names))


def _checked(kind: str, sizes: dict[str, float]) -> None:
    for name in SOLIDS[kind]:
        least = 0.0 if name == "top_radius" else 1e-9
        if not sizes.get(name, -1.0) >= least:
            raise BadInput(f"The {name.replace('_', ' ')} of a {kind} is above 0 mm; choose another.", field=name)


def across_of(direction) -> tuple[np.ndarray, np.ndarray]:
    """The two directions (3,) across a solid's own that its width and depth run along where none is given."""
    d = np.asarray(direction, float) / np.linalg.norm(direction)
    u = np.eye(3)[int(np.argmin(np.abs(d)))]
    u = u - (u @ d) * d
    u /= np.linalg.norm(u)
    return u, np.cross(d, u)


def flat(feature: str, point, normal, *, width: float, depth: float) -> Body:
    """A rectangle about ``point`` (3,) square to ``normal`` (3,), mm, as a surface. Face: ``feature/side``."""
    _checked("flat", {"width": width, "depth": depth})
    n, (u, _) = np.asarray(normal, float), across_of(normal)
    place = gp_Ax3(kernel_point(np.asarray(point, float)), kernel_direction(n), kernel_direction(u))
    maker = BRepBuilderAPI_MakeFace(gp_Pln(place), -width / 2, width / 2, -depth / 2, depth / 2)
    return Body(maker.Face(), (f"{feature}/side",))


def bare(body: Body, feature: str) -> Body:
    """A plain solid's surface alone, without its ends: its faces ``feature/side`` and what begins so."""
    sides = [(f, n) for f, n in zip(faces_of(body.shape), body.face_names) if n.startswith(f"{feature}/side")]
    return sewn(sides, feature, diagonal_of(body), solid=False)
