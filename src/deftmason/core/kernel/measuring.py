"""What a person measures on a model: how long, how wide, how far apart, at what angle, how heavy."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepGProp import BRepGProp
from OCP.GeomAbs import GeomAbs_Circle, GeomAbs_Line
from OCP.GProp import GProp_GProps

from ..elements import Element
from ..errors import BadInput
from .body import Body, EdgeName, as_array, faces_of
from .surfaces import face_surfaces

__all__ = ["Figure", "measured"]

_SQUARE_DEG = 1e-4  # directions that differ by less are one


@dataclass(frozen=True)
class Figure:
    """A number with what it is of: ``unit`` mm, mm², mm³ or deg."""

    label: str
    value: float
    unit: str


@dataclass(frozen=True)
class _Thing:
    """A face or an edge: its shape; a plane's normal or an axis's direction, and a place on it; what it says alone."""

    shape: Any
    normal: np.ndarray | None
    axis: np.ndarray | None
    place: np.ndarray | None
    alone: list[Figure]


def measured(body: Body, faces: list[str], edges: list[EdgeName]) -> list[Figure]:
    """Figures of what is named of a body: one thing alone, two as they lie to each other, several together; of nothing,
    the whole body's.

    Raises `BadInput` where the body has no such face or edge.
    """
    things = [_face(body, n) for n in faces] + [_edge(body, n) for n in edges]
    if not things:
        return _whole(body)
    if len(things) == 1:
        return things[0].alone
    if len(things) == 2:
        own = [
            Figure(f"{w}: {t.alone[0].label}", t.alone[0].value, t.alone[0].unit)
            for t, w in zip(things, ("first", "second"))
        ]
        return [*_between(*things), *own]
    sums: dict[tuple[str, str], float] = {}
    for t in things:
        f = t.alone[0]
        sums[f.label, f.unit] = sums.get((f.label, f.unit), 0.0) + f.value
    return [Figure(f"{label} together", value, unit) for (label, unit), value in sums.items()]


def _props(shape: Any, of: Any) -> Any:
    props = GProp_GProps()
    of(shape, props)
    return props


def _face(body: Body, name: str) -> _Thing:
    at = next((k for k, n in enumerate(body.face_names) if n == name), None)
    if at is None:
        raise BadInput(f"The body has no face '{name}' any more; pick again.", field="faces")
    shape = faces_of(body.shape)[at]
    surface = face_surfaces(Body(shape, (name,)))[0]
    area = float(_props(shape, BRepGProp.SurfaceProperties_s).Mass())
    alone = [Figure("area", area, "mm²")]
    e: Element | None = surface.element
    if e is None:
        return _Thing(shape, None, None, None, alone)
    p = e.parameters()
    normal, axis = p.get("normal"), p.get("direction")
    place = p.get("point") or p.get("center") or p.get("apex")
    if e.kind in ("cylinder", "sphere"):
        alone.insert(0, Figure("diameter", 2 * float(p["radius"]), "mm"))
    elif e.kind == "torus":
        alone.insert(0, Figure("radius", float(p["minor_radius"]), "mm"))
    elif e.kind == "cone":
        alone.insert(0, Figure("full angle", 2 * float(p["half_angle_deg"]), "deg"))
    return _Thing(
        shape,
        None if normal is None else np.array(normal),
        None if axis is None or normal is not None else np.array(axis),
        None if place is None else np.array(place),
        alone,
    )


def _edge(body: Body, name: EdgeName) -> _Thing:
    shape = dict(body.edges()).get((name[0], name[1], name[2]))
    if shape is None:
        raise BadInput(f"The body has no edge between '{name[0]}' and '{name[1]}' any more; pick again.", field="edges")
    curve = BRepAdaptor_Curve(shape)
    alone = [Figure("length", float(_props(shape, BRepGProp.LinearProperties_s).Mass()), "mm")]
    if curve.GetType() == GeomAbs_Circle:
        c = curve.Circle()
        alone.insert(0, Figure("diameter", 2 * c.Radius(), "mm"))
        d = c.Axis().Direction()
        return _Thing(shape, None, np.array([d.X(), d.Y(), d.Z()]), as_array(c.Location()), alone)
    if curve.GetType() == GeomAbs_Line:
        d = curve.Line().Direction()
        return _Thing(shape, None, np.array([d.X(), d.Y(), d.Z()]), as_array(curve.Line().Location()), alone)
    return _Thing(shape, None, None, None, alone)


def _between(a: _Thing, b: _Thing) -> list[Figure]:
    out = [Figure("nearest", float(BRepExtrema_DistShapeShape(a.shape, b.shape).Value()), "mm")]
    u, v = (t.normal if t.normal is not None else t.axis for t in (a, b))
    if u is None or v is None:
        return out
    turn = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(u, v)), abs(u @ v))))
    flat = (a.normal is not None) + (b.normal is not None)
    if flat == 1:
        turn = 90 - turn
    if turn > _SQUARE_DEG:
        return [*out, Figure("angle", turn, "deg")]
    if a.place is None or b.place is None:
        return out
    way = b.place - a.place
    if flat:
        n = a.normal if a.normal is not None else b.normal
        return [Figure("apart", abs(float(way @ n)), "mm"), *out]
    return [Figure("axes apart", float(np.linalg.norm(np.cross(way, u))), "mm"), *out]


def _whole(body: Body) -> list[Figure]:
    props = _props(body.shape, BRepGProp.VolumeProperties_s)
    centre = as_array(props.CentreOfMass())
    area = float(_props(body.shape, BRepGProp.SurfaceProperties_s).Mass())
    return [
        Figure("volume", float(props.Mass()), "mm³"),
        Figure("area", area, "mm²"),
        *(Figure(f"centre of mass {axis}", float(c), "mm") for axis, c in zip("xyz", centre)),
    ]
