"""The paper a sketch lies on, and the traces laid on it.

The paper is square to an axis of the frame, or holds it; instead of the axis it may follow a datum, a flat face of a
body, or a curve. Traces are worked out once for each plane and kept while the scan is in hand. Where only some of the
scan is traced, that is a scan of its own, cut out once and kept likewise.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Literal
from weakref import WeakKeyDictionary

import numpy as np
from pydantic import Field

from ..elements import RigidMotion
from ..errors import BadInput
from .projections import ProjectedRecord
from .records import Length, Record, Size
from .references import FrameRef, PaperOnRef, ScanRef
from .step import MarkRecord, selected

if TYPE_CHECKING:
    from ..scan.index import ScanIndex
    from ..scan.section import SectionPlane
    from ..sketch.trace import TraceLoop
    from .step import Context

__all__ = ["Laid", "PaperRecord", "TraceRecord", "paper_plane", "traces_on"]

_NORMALS = {"x": ((1, 0, 0), (0, 1, 0)), "y": ((0, 1, 0), (0, 0, 1)), "z": ((0, 0, 1), (1, 0, 0))}
_KEPT = 24  # traces of one scan that are kept
_KEPT_PARTS = 4  # of one scan

#: Traces of each scan in hand, by plane and kind.
_TRACES: WeakKeyDictionary[ScanIndex, OrderedDict[tuple, list[TraceLoop]]] = WeakKeyDictionary()
#: Parts of each scan in hand that are traced on their own, by what marks them.
_PARTS: WeakKeyDictionary[ScanIndex, OrderedDict[str, ScanIndex]] = WeakKeyDictionary()


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


class PaperRecord(Record):
    """Where a sketch lies and what is traced on it."""

    scan: ScanRef = Field(description="The scan that is cut.")
    frame: FrameRef = Field(description="The frame the plane is placed in.")
    axis: Literal["x", "y", "z"] = Field("z", description="The frame axis the paper is square to, or that it holds.")
    along: bool = Field(False, description="The paper holds the axis, upright on it, instead of being square to it.")
    on: PaperOnRef | None = Field(
        None,
        description="A plane or an axis that stands in for the frame's, a body with a flat face to lie on, or a curve "
        "the paper is square to.",
    )
    on_face: str | None = Field(None, max_length=400, description="Of a body, the face it lies on, by name.")
    share: float = Field(0.0, ge=0, le=1, description="Of a curve, where along it the paper lies.")
    height: Length = Field(0.0, description="Where the paper lies, along its normal, mm.")
    turn_deg: float = Field(0.0, ge=-90, le=90, description="How far it is turned about its upright, degrees.")
    lean_deg: float = Field(0.0, ge=-90, le=90, description="How far it leans about its level, degrees.")
    traces: list[TraceRecord] = Field(
        default_factory=lambda: [TraceRecord()], max_length=12, description="What is laid on it to draw over."
    )
    only: list[MarkRecord] = Field(
        default_factory=list, max_length=400, description="What of the scan is traced; none: all of it."
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
        motion = context.output(record.frame, "frame")
        if context.gives(record.on) == "body":
            e, motion = _flat_face(context.output(record.on, "body"), record.on_face), RigidMotion.identity()
        else:
            e = context.output(record.on, "datum")["element"]
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


def _flat_face(body: Any, name: str | None) -> Any:
    """The plane a face of a body lies in; where it was split since, its parts lie in one."""
    from ..kernel.surfaces import face_surfaces

    if not name:
        raise BadInput("Name the face of the body that the paper lies on.", field="on_face")
    named = set(body.faces_named(name))
    if not named:
        raise BadInput(f"The body has no face '{name}' any more; choose another.", field="on_face")
    e = next(s.element for n, s in zip(body.face_names, face_surfaces(body)) if n in named)
    if e is None or e.kind != "plane":
        raise BadInput(f"The face '{name}' is not flat; choose one that a paper can lie on.", field="on_face")
    return e


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


def _kept(store: WeakKeyDictionary, most: int, index: ScanIndex, key: Any, make: Callable[[], Any]) -> Any:
    """What was made of a scan before, or made now; of each scan the newest ``most`` are kept."""
    known = store.setdefault(index, OrderedDict())
    if key not in known:
        known[key] = make()
        while len(known) > most:
            known.popitem(last=False)
    known.move_to_end(key)
    return known[key]


def traces_on(record: PaperRecord, context: Any) -> Laid:
    """Everything the paper has to draw over."""
    from ..scan.section import SectionPlane
    from ..sketch.trace import step_for

    motion = context.output(record.frame, "frame")
    index = _traced_part(record, context)
    plane = paper_plane(record, context)
    back = motion.inverse()
    in_scan = SectionPlane.at(back.points(plane.origin), back.vectors(plane.normal), back.vectors(plane.u))
    step = step_for(context.index(record.scan).mesh.median_edge)

    def one(t: TraceRecord) -> list[TraceLoop]:
        where = tuple(np.round(np.concatenate([in_scan.origin, in_scan.normal, in_scan.u]), 9))
        if t.kind == "silhouette":  # the same wherever along its normal the paper lies
            where = tuple(np.round(np.concatenate([in_scan.normal, in_scan.u, in_scan.to_paper(np.zeros(3))]), 9))
        key = (t.kind, t.offset, t.depth, where)
        return _kept(_TRACES, _KEPT, index, key, lambda: _traced(record, t, context, index, in_scan, step))

    return Laid(plane, in_scan, [one(t) for t in record.traces], [t.counts for t in record.traces], step)


def _traced_part(record: PaperRecord, context: Any) -> ScanIndex:
    """What of the scan is traced, as a scan of its own where that is not all. Raises `BadInput` where nothing is."""
    from ..scan.index import ScanIndex
    from ..scan.mesh import TriMesh
    from ..scan.topology import compact

    whole = context.index(record.scan)
    if not record.only:
        return whole

    def cut_out() -> ScanIndex:
        on = selected(whole, record.only)
        if not on.any():
            raise BadInput("Nothing of the scan is marked to be traced; mark some, or trace all of it.", field="only")
        vertices, faces = compact(whole.mesh.vertices, whole.mesh.faces[on])[:2]
        return ScanIndex(TriMesh(vertices, faces))

    return _kept(_PARTS, _KEPT_PARTS, whole, "".join(m.model_dump_json() for m in record.only), cut_out)


def _traced(record, t: TraceRecord, context, index, in_scan, step: float) -> list[TraceLoop]:
    from ..scan.section import SectionCutter
    from ..sketch.silhouette import silhouette
    from ..sketch.slab import slab
    from ..sketch.trace import trace_of
    from ..sketch.turned import turned
    from ..zones.noise import scan_noise

    if t.kind == "silhouette":
        return silhouette(index.mesh, in_scan, step, noise=scan_noise(context.index(record.scan)))
    if t.kind == "turned":
        if not record.along:
            raise BadInput("Only a paper that holds the axis can have everything turned into it.", field="traces")
        centred = replace(in_scan, origin=in_scan.origin - record.height * in_scan.normal)
        return turned(index, centred)
    at = float(in_scan.origin @ in_scan.normal) + t.offset
    cutter = SectionCutter(index, in_scan.normal) if record.only else context.cutter(record.scan, in_scan.normal)
    cut = cutter.at(at)
    loops = trace_of(cut, in_scan, step, cut.lifted(index))
    if t.kind == "slab":
        return slab(index, in_scan, loops, t.offset, t.depth or 4 * index.mesh.median_edge)
    return loops
