"""Datums made from datums, and what lies between two of them."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...datums.constructing import WAYS, construct
from ...datums.measuring import Measured, measure
from ...datums.telling import direction_of, roles_of
from ...datums.unsure import Datum
from ...errors import BadInput
from ..records import Length, shown
from ..references import DatumRef, ScanRef
from ..step import Chosen, Outcome, Pick, Step, Told, Value, register

__all__ = ["ConstructStep", "MeasureStep", "MirrorStep", "WallStep", "mirror_record"]


def mirror_record(step_id: str, name: str, scan: str, which: int) -> dict:
    """The record of a scan's plane of symmetry, the ``which``-th from 1."""
    return {"id": step_id, "kind": "mirror", "name": name, "scan": scan, "which": which}


def _datum(context, ref: str) -> Datum:
    out = context.output(ref, "datum")
    return Datum(out["element"], out.get("uncertainty", {}))


def _said() -> list[Any]:
    """The ways as the screens offer them: what each is called, takes and asks for."""
    return [
        {"name": name, "title": w.title, "takes": list(w.takes), "asks": list(w.asks), "turns_round": w.turns_round}
        for name, w in WAYS.items()
    ]


def _in_words(m: Measured) -> str:
    says = []
    if m.distance is not None:
        says.append(f"{m.distance:.3f} ± {max(2 * (m.distance_uncertainty or 0), 0.001):.3f} mm")
    if m.angle_deg is not None:
        says.append(f"{m.angle_deg:.3f} ± {max(2 * (m.angle_uncertainty or 0), 0.001):.3f}°")
    return " · ".join(says)


class MadeDatumTold(Told):
    """A made datum as its element, with standard deviations of its parameters."""

    line: ClassVar[tuple[str, ...]] = ("element", "parameters", "length", "area", "roles")

    element: str
    roles: list[str]
    parameters: dict[str, Any]
    uncertainty: dict[str, Any]
    place_uncertainty: float
    direction_uncertainty_deg: float | None
    area: float
    length: float


class ConstructTold(MadeDatumTold):
    """What is made; ``between`` tells in words what lies between its parents, where they are two."""

    between: str


@register
class ConstructStep(Step):
    """A plane, axis or point made from datums, which it follows."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Construct"
    computation: ClassVar[int] = 4
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = ConstructTold

    kind: Literal["construct"] = "construct"
    way: Literal[
        "line of planes",
        "point of planes",
        "point on plane",
        "middle plane",
        "bisecting plane",
        "offset plane",
        "turned plane",
        "axis through two",
        "middle axis",
        "crossing of axes",
        "plane through three",
        "plane of axis and point",
        "plane square to axis",
        "axis square to plane",
        "axis on plane",
        "point dropped on plane",
        "middle point",
    ] = Field("line of planes", description="How it is made.", json_schema_extra={"ways": _said()})
    of: list[DatumRef] = Field(min_length=1, max_length=3, description="The datums it is made of.")
    distance: Length = Field(0.0, description="How far it is offset.")
    angle_deg: float = Field(0.0, ge=-360, le=360, description="How far it is turned, in degrees.")
    flip: bool = Field(False, description="The other side, or the other half of the corner.")

    def run(self, context, progress):
        parents = [_datum(context, i) for i in self.of]
        made = construct(self.way, parents, distance=self.distance, angle_deg=self.angle_deg, flip=self.flip)
        e = made.element
        place = float(np.linalg.norm(made.uncertainty["point"]))
        direction = direction_of(e)
        turn = None
        if direction is not None:
            turn = float(np.degrees(np.linalg.norm(made.uncertainty["normal" if e.kind == "plane" else "direction"])))
        sizes = [context.output(i, "datum") for i in self.of]
        area = float(np.mean([s.get("area", 0.0) for s in sizes]))
        length = float(max((s.get("length", 0.0) for s in sizes), default=0.0)) or float(np.sqrt(area))
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": made.uncertainty,
            "place_uncertainty": place,
            "direction_uncertainty_deg": turn,
            "area": area,
            "length": length,
            "between": _in_words(measure(*parents)) if len(parents) == 2 else "",
            "says": f"± {max(2 * place, 0.001):.3f}",
        }
        values = []
        if WAYS[self.way].asks == ("distance",):
            values.append(Value("offset", "", None, None, self.distance, "typed", path=["distance"]))
        output = {
            "element": e,
            "facets": np.zeros(0, np.int32),
            "uncertainty": made.uncertainty,
            "area": area,
            "length": length,
            "extremes": next((s["extremes"] for s in sizes if s.get("extremes") is not None), None),
        }
        return Outcome(output, summary, "", "sound", values)


class MirrorTold(MadeDatumTold):
    """A plane of symmetry; ``share`` of the scan's area that agrees when mirrored, ``rms`` there in mm, the shares of
    all that were found, and how far off (mm) 98 of 100 mirrored places lie at most.
    """

    line: ClassVar[tuple[str, ...]] = ("element", "parameters", "length", "area", "roles", "share")

    share: float
    rms: float
    found: list[float]
    unlike_mm: float = 0.0


@register
class MirrorStep(Step):
    """The plane in which a scan mirrors itself."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Plane of symmetry"
    computation: ClassVar[int] = 4
    produces: ClassVar[str] = "datum"
    quick: ClassVar[bool] = False
    tells: ClassVar[type[Told]] = MirrorTold

    kind: Literal["mirror"] = "mirror"
    scan: ScanRef = Field(description="The scan it is found on.")
    which: int = Field(
        1,
        ge=1,
        le=5,
        description="Of several, the one that most of the scan agrees with first.",
        json_schema_extra=shown("which one", empty="", step=1),
    )

    def run(self, context, progress):
        from ...frame.symmetry import symmetries, unlike

        index = context.index(self.scan)
        found = context.read(self.scan, ("symmetries",), lambda: symmetries(index, progress=progress)).planes
        if not found:
            raise BadInput("No plane mirrors half of this scan onto itself; take a middle plane of two faces instead.")
        if self.which > len(found):
            raise BadInput(f"This scan has {len(found)} planes of symmetry; choose one of them.", field="which")
        s = found[self.which - 1]
        e = s.plane
        area = float(np.prod(np.sort(np.ptp(index.mesh.bounds, axis=0))[1:]))
        u = float(np.radians(s.angle_sigma_deg)) / np.sqrt(2)
        uncertainty = {
            "point": (np.abs(e.normal) * s.offset_sigma).tolist(),
            "normal": (u * np.sqrt(np.maximum(1 - e.normal**2, 0))).tolist(),
        }
        off = unlike(index, e)
        seen = np.abs(off[np.isfinite(off)])
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": uncertainty,
            "place_uncertainty": s.offset_sigma,
            "direction_uncertainty_deg": s.angle_sigma_deg,
            "area": area,
            "length": float(np.sqrt(area)),
            "share": s.share,
            "rms": s.rms,
            "found": [p.share for p in found],
            "unlike_mm": float(np.quantile(seen, 0.98)) if len(seen) else 0.0,
            "says": f"{100 * s.share:.0f} % agrees",
        }
        output = {
            "element": e,
            "facets": np.zeros(0, np.int32),
            "uncertainty": uncertainty,
            "area": area,
            "length": float(np.sqrt(area)),
            "extremes": index.extremes.tolist(),
        }
        return Outcome(output, summary, arrays={"unlike": off})


class MeasureTold(Told):
    """Distance in mm and angle in degrees with standard deviations; ``places`` (2 × 3) where the distance runs, in the
    scan's coordinates.
    """

    line: ClassVar[tuple[str, ...]] = ("distance", "angle_deg", "places")

    distance: float | None
    distance_uncertainty: float | None
    angle_deg: float | None
    angle_uncertainty: float | None
    places: list[list[float]]


@register
class MeasureStep(Step):
    """Distance and angle between two datums, kept as a note."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Measure"
    produces: ClassVar[str] = "note"
    tells: ClassVar[type[Told]] = MeasureTold
    computation: ClassVar[int] = 3

    kind: Literal["measure"] = "measure"
    first: DatumRef = Field(description="From this datum.", json_schema_extra=shown("from"))
    second: DatumRef = Field(description="To this datum.", json_schema_extra=shown("to"))
    taken: Chosen = Field(
        default_factory=lambda: Chosen(), description="The distance that is taken for true, mm; none: as measured."
    )

    def run(self, context, progress):
        m = measure(_datum(context, self.first), _datum(context, self.second))
        summary = {
            "distance": m.distance,
            "distance_uncertainty": m.distance_uncertainty,
            "angle_deg": m.angle_deg,
            "angle_uncertainty": m.angle_uncertainty,
            "places": [p.tolist() for p in m.places],
            "says": _in_words(m),
        }
        values = []
        if m.distance is not None:
            chosen = m.distance if self.taken.value is None else self.taken.value
            path = ["taken", "value"]
            values.append(
                Value("distance", "distance", m.distance, m.distance_uncertainty, chosen, self.taken.source, path=path)
            )
        return Outcome(summary, summary, values=values)


@register
class WallStep(Step):
    """How thick the wall is at a place of a scan, kept as a note."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Wall thickness"
    produces: ClassVar[str] = "note"
    tells: ClassVar[type[Told]] = MeasureTold

    kind: Literal["wall"] = "wall"
    scan: ScanRef = Field(description="The scan.")
    pick: Pick = Field(description="A place on the wall.")

    def run(self, context, progress):
        from ...datums.thickness import thickness

        w = thickness(context.index(self.scan), self.pick.place, self.pick.normal)
        m = Measured(w.thickness, w.uncertainty, w.lean_deg, w.lean_uncertainty_deg, (w.enters, w.leaves))
        summary = {
            "distance": w.thickness,
            "distance_uncertainty": w.uncertainty,
            "angle_deg": w.lean_deg,
            "angle_uncertainty": w.lean_uncertainty_deg,
            "places": [p.tolist() for p in m.places],
            "says": _in_words(m).split(" · ")[0],
        }
        values = [Value("thickness", "", w.thickness, w.uncertainty, w.thickness, "scan", path=[])]
        return Outcome(summary, summary, values=values)
