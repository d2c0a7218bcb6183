"""The paper a sketch lies on, the traces laid on it, and what is projected onto it.

The paper is square to an axis of the frame, or holds it; instead of the axis it may follow a datum. Traces are worked
out once for each plane and kept while the scan is in hand.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Literal
from weakref import WeakKeyDictionary

import numpy as np
from pydantic import Field

from ..errors import BadInput
from .records import Id, Length, Record, Size
from .references import AnyRef, FrameRef, PaperOnRef, ScanRef

if TYPE_CHECKING:
    from ..scan.index import ScanIndex
    from ..scan.section import SectionPlane
    from ..sketch.trace import TraceLoop
    from .step import Context

__all__ = ["Laid", "PaperRecord", "ProjectedRecord", "TraceRecord", "paper_plane", "projected", "traces_on"]

_NORMALS = {"x": ((1, 0, 0), (0, 1, 0)), "y": ((0, 1, 0), (0, 0, 1)), "z": ((0, 0, 1), (1, 0, 0))}
_KEPT = 24  # traces of one scan that are kept
_PARALLEL = 1e-4  # rad to which what is square to the paper is seen end on

#: Traces of each scan in hand, by plane and kind.
_TRACES: WeakKeyDictionary[ScanIndex, OrderedDict[tuple, list[TraceLoop]]] = WeakKeyDictionary()


class TraceRecord(Record):
    """What of the scan is laid on the paper to draw over."""

    kind: Literal["cut", "slab", "silhouette", "turned"] = Field(
        "cut",
        description="A cut, all between two planes, the outline seen along the paper's normal, or all turned into it.",
    )
    offset: Length = Field(0.0, description="How far beside the paper it is cut, mm.")
    depth: Size | None = Field(None, description="Of a slab, mm.")
    hidden: bool = Field(False, description="Not shown.")
    counts: bool = Field(True, description="Whether what is drawn is fitted to it.")


class ProjectedRecord(Record):
    """A datum, or an entity of another sketch, seen on the paper: it stands still, and what is drawn may hold to it."""

    id: Id
    of: AnyRef = Field(description="The datum or sketch.")
    entity: Id | None = Field(None, description="Of a sketch, which entity; none: all.")


class PaperRecord(Record):
    """Where a sketch lies and what is traced on it."""

    scan: ScanRef = Field(description="The scan that is cut.")
    frame: FrameRef = Field(description="The frame the plane is placed in.")
    axis: Literal["x", "y", "z"] = Field("z", description="The frame axis the paper is square to, or that it holds.")
    along: bool = Field(False, description="The paper holds the axis, upright on it, instead of being square to it.")
    on: PaperOnRef | None = Field(
        None, description="A plane or an axis that stands in for the frame's, or a curve the paper is square to."
    )
    share: float = Field(0.0, ge=0, le=1, description="Of a curve, where along it the paper lies.")
    height: Length = Field(0.0, description="Where the paper lies, along its normal, mm.")
    turn_deg: float = Field(0.0, ge=-90, le=90, description="How far it is turned about its upright, degrees.")
    lean_deg: float = Field(0.0, ge=-90, le=90, description="How far it leans about its level, degrees.")
    traces: list[TraceRecord] = Field(
        default_factory=lambda: [TraceRecord()], max_length=12, description="What is laid on it to draw over."
    )
    projected: list[ProjectedRecord] = Field(default_factory=list, max_length=200, description="What is seen on it.")


@dataclass(frozen=True)
class Laid:
    """The paper in the frame and in the scan's coordinates; each trace's loops, in the record's order; the sample step,
    mm.
    """

    plane: SectionPlane
    in_scan: SectionPlane
    traces: list[list[TraceLoop]]
    counts: list[bool]
    step: float

    @property
    def loops(self) -> list[TraceLoop]:
        """What is fitted to."""
        return [l for loops, on in zip(self.traces, self.counts) if on for l in loops]


def _turned(axis: np.ndarray, angle_deg: float) -> np.ndarray:
    from scipy.spatial.transform import Rotation

    return Rotation.from_rotvec(np.radians(angle_deg) * axis).as_matrix()


def paper_plane(record: PaperRecord, context: Context) -> SectionPlane:
    """The paper in frame coordinates. Raises `BadInput` where the datum has no direction."""
    from ..scan.section import SectionPlane

    n, u = (np.array(a, float) for a in _NORMALS[record.axis])
    at = np.zeros(3)
    if record.on and context.gives(record.on) == "curve":
        return _square_to(context.output(record.on, "curve"), record)
    if record.on:
        e = context.output(record.on, "datum")["element"]
        motion = context.output(record.frame, "frame")
        p = e.parameters()
        direction = p.get("normal") or p.get("direction")
        place = p.get("point") or p.get("center") or p.get("apex")
        if direction is None or place is None:
            raise BadInput(f"A {e.kind} has no direction to lay a paper by; give a plane or an axis.", field="on")
        n, at = motion.vectors(np.array(direction)), motion.points(np.array(place))
        level = [np.array(a, float) for a in np.eye(3)]
        if n[int(np.argmax(np.abs(n)))] < 0:
            n = -n
        u = next(a for a in level if abs(a @ n) < 0.9)
        u = u - (u @ n) * n
        u /= np.linalg.norm(u)
        if not record.along:  # its middle may lie anywhere: the origin's foot is the paper's
            at = at @ n * n
    if record.along:
        n, u = np.cross(u, n), u
    v = np.cross(n, u)
    m = _turned(v, record.turn_deg) @ _turned(u, record.lean_deg)
    n, u = m @ n, m @ u
    return SectionPlane.at(at + n * record.height, n, u)


def _square_to(curve: Any, record: PaperRecord) -> SectionPlane:
    """The paper square to a curve at a share of its length, its origin where the curve passes; ``height`` goes on along
    the curve's way."""
    from ..curves.frames import moving_frames
    from ..scan.section import SectionPlane

    s = np.linspace(0, max(record.share, 1e-9) * curve.length, 200)
    places, u, _ = moving_frames(curve, s)
    n = curve.direction(s[-1:])[0]
    m = _turned(np.cross(n, u[-1]), record.turn_deg) @ _turned(u[-1], record.lean_deg)
    n = m @ n
    return SectionPlane.at(places[-1] + n * record.height, n, m @ u[-1])


def _kept(index: ScanIndex, key: tuple, make) -> list[TraceLoop]:
    known = _TRACES.setdefault(index, OrderedDict())
    if key not in known:
        known[key] = make()
        while len(known) > _KEPT:
            known.popitem(last=False)
    known.move_to_end(key)
    return known[key]


def traces_on(record: PaperRecord, context: Any) -> Laid:
    """Everything the paper has to draw over."""
    from ..scan.section import SectionPlane
    from ..sketch.trace import step_for

    motion = context.output(record.frame, "frame")
    index = context.index(record.scan)
    plane = paper_plane(record, context)
    back = motion.inverse()
    in_scan = SectionPlane.at(back.points(plane.origin), back.vectors(plane.normal), back.vectors(plane.u))
    step = step_for(index.mesh.median_edge)

    def one(t: TraceRecord) -> list[TraceLoop]:
        where = tuple(np.round(np.concatenate([in_scan.origin, in_scan.normal, in_scan.u]), 9))
        if t.kind == "silhouette":  # the same wherever along its normal the paper lies
            where = tuple(np.round(np.concatenate([in_scan.normal, in_scan.u, in_scan.to_paper(np.zeros(3))]), 9))
        return _kept(
            index, (t.kind, t.offset, t.depth, where), lambda: _traced(record, t, context, index, in_scan, step)
        )

    return Laid(plane, in_scan, [one(t) for t in record.traces], [t.counts for t in record.traces], step)


def _traced(record, t: TraceRecord, context, index, in_scan, step: float) -> list[TraceLoop]:
    from ..sketch.silhouette import silhouette
    from ..sketch.slab import slab
    from ..sketch.trace import trace_of
    from ..sketch.turned import turned
    from ..zones.noise import scan_noise

    if t.kind == "silhouette":
        return silhouette(index.mesh, in_scan, step, noise=scan_noise(index))
    if t.kind == "turned":
        if not record.along:
            raise BadInput("Only a paper that holds the axis can have everything turned into it.", field="traces")
        centred = replace(in_scan, origin=in_scan.origin - record.height * in_scan.normal)
        return turned(index, centred)
    at = float(in_scan.origin @ in_scan.normal) + t.offset
    cut = context.cutter(record.scan, in_scan.normal).at(at)
    loops = trace_of(cut, in_scan, step, cut.lifted(index))
    if t.kind == "slab":
        return slab(index, in_scan, loops, t.offset, t.depth or 4 * index.mesh.median_edge)
    return loops


def projected(record: PaperRecord, context: Context, plane: SectionPlane) -> dict[str, dict]:
    """What is seen on the paper, by id, as entities in contract keys. Raises `BadInput` where it cannot be."""
    out: dict[str, dict] = {}
    motion = context.output(record.frame, "frame") if record.projected else None
    for p in record.projected:
        seen = context.output(p.of)
        if isinstance(seen, dict) and "geometry" in seen:
            out |= _sketch_seen(seen, p, plane)
        elif isinstance(seen, dict) and "element" in seen:
            out[p.id] = _datum_seen(seen["element"], motion, plane, p.id)
        else:
            raise BadInput("Only datums and sketches can be seen on the paper.", field="projected")
    return out


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


def _datum_seen(element: Any, motion: Any, plane: SectionPlane, name: str) -> dict:
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
        return {"id": name, "kind": "line", "start": (a - 10 * t).tolist(), "end": (a + 10 * t).tolist()}
    t = np.array([d @ plane.u, d @ plane.v])
    if np.hypot(*t) < _PARALLEL:  # seen end on
        if element.kind == "cylinder":
            return {"id": name, "kind": "circle", "center": at.tolist(), "radius": p["radius"]}
        return {"id": name, "kind": "point", "at": at.tolist()}
    t /= np.hypot(*t)
    return {"id": name, "kind": "line", "start": (at - 10 * t).tolist(), "end": (at + 10 * t).tolist()}
