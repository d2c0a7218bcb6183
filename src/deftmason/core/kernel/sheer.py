"""Surfaces of a profile, open or closed: its line pushed square to its plane, or turned about an axis in it."""

from __future__ import annotations

import numpy as np
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism, BRepPrimAPI_MakeRevol
from OCP.gp import gp_Ax1, gp_Vec

from ..errors import BadInput
from .body import Body, faces_of, listed
from .features import Curve2D, PaperPlane, kernel_direction, kernel_point
from .lofted import sewn
from .solids import on_one_side
from .swept import profile_wire

__all__ = ["pushed_sheet", "turned_sheet"]

_WHOLE = 360.0 - 1e-9


def pushed_sheet(chains: list[list[Curve2D]], plane: PaperPlane, start: float, end: float, feature: str) -> Body:
    """Chains of curves pushed from ``start`` to ``end`` (mm along the plane's normal) as one surface.

    Faces: ``feature/side/ID``. Raises `BadInput` where a chain does not hang together or the ends are level.
    """
    low, high = min(start, end), max(start, end)
    if high - low < 1e-6:
        raise BadInput("The two ends of the extrusion are at the same height; give faces that lie apart.", field="to")
    way = gp_Vec(*map(float, plane.normal * (high - low)))
    lifted = PaperPlane(plane.origin + low * plane.normal, plane.normal, plane.u)
    return _sheet(chains, lifted, lambda wire: BRepPrimAPI_MakePrism(wire, way, True), feature)


def turned_sheet(
    chains: list[list[Curve2D]], plane: PaperPlane, axis: tuple, feature: str, *, angle_deg: float = 360.0
) -> Body:
    """Chains of curves turned about an axis in their plane (a place and a direction on the paper) as one surface.

    Faces: ``feature/side/ID``; what lies along the axis gives none. Raises `BadInput` where nothing is left, or where
    the profile crosses its axis.
    """
    if not 0 < abs(angle_deg) <= 360:
        raise BadInput("A profile is turned by more than 0° and at most 360°.", field="angle")
    at, along = on_one_side([c for chain in chains for c in chain], axis)
    start = plane.at(at)
    turn = gp_Ax1(kernel_point(start), kernel_direction(plane.at(at + along) - start))
    if abs(angle_deg) < _WHOLE:
        return _sheet(
            chains, plane, lambda w: BRepPrimAPI_MakeRevol(w, turn, float(np.radians(angle_deg)), True), feature
        )
    return _sheet(chains, plane, lambda w: BRepPrimAPI_MakeRevol(w, turn, True), feature)


def _sheet(chains: list[list[Curve2D]], plane: PaperPlane, made, feature: str) -> Body:
    faces = []
    for chain in chains:
        wire, edges = profile_wire(chain, plane)
        maker = made(wire)
        faces += [(f, f"{feature}/side/{i}") for e, i in edges for g in listed(maker.Generated(e)) for f in faces_of(g)]
    if not faces:
        raise BadInput("This profile gives no surface; draw one that lies beside its axis.", field="sketch")
    size = float(np.linalg.norm(np.ptp([plane.at(p) for chain in chains for c in chain for p in _ends(c)], axis=0)))
    return sewn(faces, feature, max(size, 1e-3), solid=False)


def _ends(c: Curve2D) -> list:
    return [p for p in (c.start, c.end, c.center) if p is not None] or [p for p in c.poles]
