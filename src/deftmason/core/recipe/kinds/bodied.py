"""What steps that give a body have in common: what they say of it, choices settled, profiles from sketches, and where
axes and planes lie in the frame.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Record, shown
from ..references import DatumRef, FrameRef
from ..step import Chosen, Told, Value

if TYPE_CHECKING:
    from ...features.evidence import Reading
    from ...kernel.body import Body
    from ...kernel.features import Curve2D

__all__ = [
    "AxisRecord",
    "BodyTold",
    "axis_in_frame",
    "body_summary",
    "curve_of_entity",
    "met_face",
    "number",
    "profile_curves",
    "settled",
    "typed_value",
    "unseen_notes",
    "vector",
    "wanted_chains",
    "wanted_loops",
]

_SLIVER = 2e-4  # of the body's diagonal: heights this near are one


def settled(chosen: Chosen, reading: Reading) -> tuple[float, str]:
    """The number a choice means for a reading, and its source: chosen, rounded anew, or as the scan says."""

    from ...sketch.sizes import round_value

    if chosen.value is not None and chosen.source != "scan":
        return chosen.value, chosen.source
    if chosen.source == "rounded":
        value, why = round_value(reading.value, reading.uncertainty)
        if abs(reading.value) < max(3 * reading.uncertainty, reading.scatter):
            value, why = 0.0, "round"
        if why == "round":
            return value, "rounded"
    return reading.value, "scan"


def places_on(body, faces: list[str]) -> list[list[float]]:
    """A place (3,) on each named face, well inside it, mm: the midst of its largest facet."""
    from ...kernel.tessellate import FINE, diagonal_of, tessellate

    facets = tessellate(body, FINE * diagonal_of(body))
    out = []
    for n in dict.fromkeys(m for given in faces for m in body.faces_named(given)):
        corners = facets.vertices[facets.faces[facets.face_ids == body.face_names.index(n)]]
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        out.append(corners[np.argmax(area)].mean(axis=0).tolist())
    return out


def body_summary(body) -> dict:
    from ...kernel.tessellate import FINE, diagonal_of, tessellate

    facets = tessellate(body, FINE * diagonal_of(body))
    return {
        "volume": body.volume,
        "area": body.area,
        "faces": len(body.face_names),
        "valid": body.is_valid,
        "solids": body.solid_count,
        "face_names": list(body.face_names),
        "bounds": [facets.vertices.min(axis=0).tolist(), facets.vertices.max(axis=0).tolist()],
        "says": f"{len(body.face_names)} face{'s' if len(body.face_names) != 1 else ''}",
    }


class ReadingTold(BaseModel):
    value: float
    uncertainty: float
    count: int
    scatter: float
    note: str = ""


class Candidate(BaseModel):
    """What could stand for something that is gone: its value in the record, in words, and where it lies (frame)."""

    value: Any
    label: str
    place: list[float]


class LostPart(BaseModel):
    """A reference to a face or an edge that the body has no more: where in the record, in words, what could stand
    there.
    """

    path: list[str | int]
    what: str
    candidates: list[Candidate]


class BodyTold(Told):
    """What every step that gives a body says of it: mm³, mm²."""

    line: ClassVar[tuple[str, ...]] = ("volume", "area", "faces", "valid", "solids")

    volume: float
    area: float
    faces: int
    valid: bool
    solids: int
    face_names: list[str]
    bounds: list[list[float]]
    readings: dict[str, ReadingTold]
    lost_parts: list[LostPart] = []


def met_face(body: Body | None, normal, height: float, reading: Reading | None) -> tuple[float, str | None]:
    """The height of the body's own face where the reading cannot tell it from that: features meet without a sliver."""

    from ...kernel.surfaces import face_surfaces
    from ...kernel.tessellate import diagonal_of

    if body is None:
        return height, None
    limit = max(_SLIVER * diagonal_of(body), 3 * reading.uncertainty if reading else 0.0)
    best = None
    for s in face_surfaces(body):
        if s.kind == "plane" and s.element is not None and abs(abs(s.element.normal @ normal) - 1) < 1e-9:
            off = float(s.element.point @ normal) - height
            if abs(off) <= limit and (best is None or abs(off) < abs(best[0])):
                best = (off, s.name)
    return (height + best[0], best[1]) if best else (height, None)


def unseen_notes(body: Body, before: Body | None, context: Any, scan: str, motion: Any) -> list[str]:
    """A note where a step makes faces that the scan says nothing of."""
    from ...features.coverage import unseen_faces

    if not context.reads:
        return []
    names = unseen_faces(body, before, context.index(scan), motion)
    if not names:
        return []
    more = f" and {len(names) - 1} more" if len(names) > 1 else ""
    return [f"{names[0].replace('/', ' ')}{more} lies where there is no scan; nothing was measured there"]


def wanted_loops(sketch: dict[str, Any], entities: list[str]) -> list[int]:
    """The loops of a sketch's outcome that pass through entities, each once; the outermost where none is named.

    Raises `BadInput` where there is none.
    """
    if not sketch["loops"]:
        raise BadInput("The sketch has no closed loop to push; join its ends first.", field="loops")
    wanted = []
    for entity in entities or [sketch["loops"][0][0]]:
        k = next((k for k, ids in enumerate(sketch["loops"]) if entity in ids), None)
        if k is None:
            raise BadInput(f"The loop through '{entity}' is gone or open; pick the loops again.", field="loops")
        if k not in wanted:
            wanted.append(k)
    return wanted


def wanted_chains(sketch: dict[str, Any], entities: list[str]) -> list[list[str]]:
    """The chains of a sketch's outcome, open or closed, that pass through entities; all that is drawn where none is
    named. Raises `BadInput` where there is none.
    """
    from ...sketch.loops import chains

    every = chains(sketch["geometry"])
    gone = [e for e in entities if not any(e in ids for ids in every)]
    if gone:
        raise BadInput(f"'{gone[0]}' is no longer drawn in the sketch; pick again.", field="loops")
    if not every:
        raise BadInput("Nothing is drawn in the sketch; draw a profile first.", field="sketch")
    return [ids for ids in every if not entities or any(e in ids for e in entities)]


def profile_curves(sketch: dict[str, Any], loop: int, keep_inner: bool) -> tuple[list[Curve2D], list[list[Curve2D]]]:
    """A loop of a sketch's outcome as a profile, and the loops inside it where they are left open."""
    entities = {e["id"]: e for e in sketch["geometry"]}
    inner = [i for i, parent in enumerate(sketch["inside"]) if parent == loop] if keep_inner else []
    return [curve_of_entity(entities[i]) for i in sketch["loops"][loop]], [
        [curve_of_entity(entities[i]) for i in sketch["loops"][m]] for m in inner
    ]


def curve_of_entity(e: dict) -> Curve2D:
    from ...kernel.features import Curve2D

    known = ("start", "end", "center", "radius", "major", "minor_radius", "degree")
    more = {k: e[k] for k in known if e.get(k) is not None}
    knots, poles = tuple(e.get("knots") or ()), tuple(tuple(p) for p in e.get("poles") or ())
    return Curve2D(e["id"], e["kind"], **more, ccw=e.get("ccw", True), knots=knots, poles=poles)


class AxisRecord(Record):
    """An axis, or a plane by its normal: the frame's, or that of a datum."""

    frame: FrameRef = Field(description="The frame the body lies in.")
    axis: Literal["x", "y", "z"] = Field(
        "z",
        description="The frame's axis, where no datum is given.",
        json_schema_extra=shown("axis", when={"on": None}),
    )
    on: DatumRef | None = Field(
        None,
        description="A datum whose axis, or normal, and place stand in for the frame's.",
        json_schema_extra=shown("by a datum"),
    )


def axis_in_frame(record: AxisRecord, context: Any) -> tuple[np.ndarray, np.ndarray]:
    """A place (3,) on the axis and its direction (3,), in the frame. Raises `BadInput` where a datum has none."""
    if record.on is None:
        return np.zeros(3), np.eye(3)["xyz".index(record.axis)]
    e = context.output(record.on, "datum")["element"]
    p = e.parameters()
    direction = p.get("normal") or p.get("direction")
    place = p.get("point") or p.get("center") or p.get("apex")
    if direction is None or place is None:
        raise BadInput(f"A {e.kind} has no axis and no normal; give a plane, a cylinder or a line.", field="on")
    motion = context.output(record.frame, "frame")
    return motion.points(np.array(place)), motion.vectors(np.array(direction))


def number(chosen: Chosen, what: str, field: str) -> float:
    """A number that has to be chosen. Raises `BadInput` where it is not."""
    if chosen.value is None:
        raise BadInput(f"Give {what}.", field=field)
    return chosen.value


def typed_value(name: str, label: str, value: float, source: str = "typed", unit: str = "mm", path=None) -> Value:
    """A line of the ledger for a number that the scan was not asked about."""
    return Value(name, label, None, None, value, source, unit, None, path or [name, "value"])


def vector(v) -> str:
    """A place or direction as a script writes it."""
    return "(" + ", ".join(repr(round(float(c), 12)) for c in v) + ")"
