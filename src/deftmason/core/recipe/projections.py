"""What is seen on a paper besides the traces: datums, other sketches, edges of bodies, places curves pass through.

It stands still, and what is drawn may hold to it.
"""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

import numpy as np
from pydantic import Field

from ..errors import BadInput
from .records import Id, Record
from .references import AnyRef

if TYPE_CHECKING:
    from ..scan.section import SectionPlane
    from .step import Context

__all__ = ["ProjectedRecord", "projected"]

_PLACES = 49  # of a piece of a curve that is laid onto the paper through places of it
_TURN = 2 * np.pi - 1e-6
_SHOWN = 0.3  # of the scan's size that a line of a datum is shown on either side of its place
_PARALLEL = 1e-4  # rad to which what is square to the paper is seen end on


class ProjectedRecord(Record):
    """A datum, an entity of another sketch, an edge of a body, or where a curve passes through the paper."""

    id: Id
    of: AnyRef = Field(description="The datum, sketch, body or curve.")
    entity: Id | None = Field(None, description="Of a sketch, which entity; none: all.")
    edge: tuple[str, str, str | int] | None = Field(None, description="Of a body, which edge by name; none: all.")


def projected(
    records: list[ProjectedRecord], scan: str, frame: str, context: Context, plane: SectionPlane
) -> dict[str, dict]:
    """What is seen on the paper, by id, as entities in contract keys. Raises `BadInput` where it cannot be."""
    out: dict[str, dict] = {}
    for p in records:
        seen, gives = context.output(p.of), context.gives(p.of)
        if gives == "sketch":
            out |= _sketch_seen(seen, p, plane)
        elif gives == "datum":
            out[p.id] = _datum_seen(
                seen["element"], context.output(frame, "frame"), plane, p.id, context.index(scan).size
            )
        elif gives == "body":
            out |= _body_seen(seen, p, plane)
        elif gives == "curve":
            out |= _curve_seen(seen, p, plane)
        else:
            raise BadInput("Only datums, sketches, bodies and curves can be seen on the paper.", field="projected")
    return out


def _body_seen(body: Any, p: ProjectedRecord, plane: SectionPlane) -> dict[str, dict]:
    """One edge of a body, or all that are lines or round as seen from here; each is known by its edge's own name."""
    from ..kernel.projecting import edges_seen

    wanted = None
    if p.edge is not None:
        wanted = body.edges_named(p.edge)
        if not wanted:
            raise BadInput(f"The body has no edge between '{p.edge[0]}' and '{p.edge[1]}' any more.", field="projected")
    seen = edges_seen(body, plane.origin, plane.normal, plane.u, wanted)
    if not seen:
        raise BadInput("No edge of that body is a line or round as seen on this paper; turn it.", field="projected")
    out = {}
    for edge, e in seen:
        name = f"{p.id}_{hashlib.sha1('|'.join(map(str, edge)).encode()).hexdigest()[:6]}"
        if p.edge is not None and len(seen) == 1:
            name = p.id
        out[name] = e | {"id": name}
    return out


def _curve_seen(curve: Any, p: ProjectedRecord, plane: SectionPlane) -> dict[str, dict]:
    """The places where a curve passes through the paper, in the order of its way, and its pieces as they are seen."""
    at = plane.to_paper(curve.crossings(plane.origin, plane.normal))
    names = [p.id] if len(at) == 1 else [f"{p.id}_{k + 1}" for k in range(len(at))]
    out = {n: {"id": n, "kind": "point", "at": q.tolist()} for n, q in zip(names, at)}
    for k, piece in enumerate(curve.pieces):
        name = f"{p.id}_p{k + 1}"
        seen = _piece_seen(piece, plane)
        if seen is not None:
            out[name] = seen | {"id": name}
    if not out:
        raise BadInput("The curve is seen end on and does not pass through this paper; move it.", field="projected")
    return out


def _piece_seen(piece: Any, plane: SectionPlane) -> dict | None:
    """A piece of a curve laid square onto the paper: a line, an arc where it is parallel, else a cubic; None end on."""
    from scipy.interpolate import make_interp_spline

    s = np.linspace(0, piece.length, _PLACES)
    flat = plane.to_paper(piece.at(piece.parameter(s)))
    if np.ptp(flat, axis=0).max() < _PARALLEL * piece.length:
        return None
    start, end = flat[0].tolist(), flat[-1].tolist()
    if piece.kind == "line":
        return {"kind": "line", "start": start, "end": end}
    if piece.kind == "arc":
        middle, x, y, radius, angle = piece.arc
        square = float(np.cross(x, y) @ plane.normal)
        if abs(square) > np.cos(_PARALLEL) and angle < _TURN:
            centre = plane.to_paper(middle).tolist()
            ends = {"start": start, "end": end, "ccw": square > 0}
            return {"kind": "arc", "center": centre, "radius": float(radius), **ends}
    c = make_interp_spline(s / piece.length, flat, k=3)  # twice smooth, as the drawing's own are
    return {"kind": "spline", "degree": 3, "knots": c.t.tolist(), "poles": c.c.tolist()}


def _sketch_seen(seen: dict, p: ProjectedRecord, plane: SectionPlane) -> dict[str, dict]:
    """One entity of another sketch, or all of it that can be seen, each by its own name after the projection's."""
    if p.entity:
        return {p.id: _entity_seen(seen, p.entity, plane, p.id)}
    out = {}
    for e in seen["geometry"]:
        name = f"{p.id}{e['id']}"
        try:
            out[name] = _entity_seen(seen, e["id"], plane, name)
        except BadInput:  # what is no line or circle seen from here
            continue
    if not out:
        raise BadInput("Nothing of that sketch can be seen on this paper; take one parallel to it.", field="projected")
    return out


def _entity_seen(sketch: dict, entity: str | None, plane: SectionPlane, name: str) -> dict:
    e = next((e for e in sketch["geometry"] if e["id"] == entity), None)
    if e is None:
        raise BadInput(f"'{entity}' is no longer in the sketch it was projected from.", field="projected")
    other = sketch["plane"]

    def over(p) -> list[float]:
        return plane.to_paper(other.to_space(np.array(p, float))).tolist()

    if e["kind"] == "point":
        return {"id": name, "kind": "point", "at": over(e["at"])}
    if e["kind"] == "line":
        return {"id": name, "kind": "line", "start": over(e["start"]), "end": over(e["end"])}
    if e["kind"] in ("arc", "circle") and abs(float(other.normal @ plane.normal)) > np.cos(_PARALLEL):
        same = float(other.normal @ plane.normal) > 0
        out = {"id": name, "kind": e["kind"], "center": over(e["center"]), "radius": e["radius"]}
        if e["kind"] == "arc":
            out |= {"start": over(e["start"]), "end": over(e["end"]), "ccw": bool(e["ccw"]) == same}
        return out
    raise BadInput(
        f"A {e['kind']} of that sketch cannot be seen on this paper; take a line or a point.", field="projected"
    )


def _datum_seen(element: Any, motion: Any, plane: SectionPlane, name: str, size: float) -> dict:
    half = _SHOWN * size
    p = element.parameters()
    place = np.array(p.get("point") or p.get("center") or p.get("apex"), float)
    at = plane.to_paper(motion.points(place))
    if element.kind in ("sphere", "point"):
        return {"id": name, "kind": "point", "at": at.tolist()}
    d = motion.vectors(np.array(p.get("normal") or p.get("direction"), float))
    if element.kind in ("plane", "circle"):
        line = np.cross(d, plane.normal)
        if np.linalg.norm(line) < _PARALLEL:
            if element.kind == "circle":
                return {"id": name, "kind": "circle", "center": at.tolist(), "radius": p["radius"]}
            raise BadInput("The plane is parallel to the paper and meets it nowhere.", field="projected")
        line /= np.linalg.norm(line)
        # The nearest place to the datum's own that lies on both.
        m = np.array([d, plane.normal, line])
        q = np.linalg.solve(m, [d @ motion.points(place), plane.normal @ plane.origin, line @ motion.points(place)])
        a, t = plane.to_paper(q), np.array([line @ plane.u, line @ plane.v])
        return {"id": name, "kind": "line", "start": (a - half * t).tolist(), "end": (a + half * t).tolist()}
    t = np.array([d @ plane.u, d @ plane.v])
    if np.hypot(*t) < _PARALLEL:  # seen end on
        if element.kind == "cylinder":
            return {"id": name, "kind": "circle", "center": at.tolist(), "radius": p["radius"]}
        return {"id": name, "kind": "point", "at": at.tolist()}
    t /= np.hypot(*t)
    return {"id": name, "kind": "line", "start": (at - half * t).tolist(), "end": (at + half * t).tolist()}
