"""A datum read from the scan: a plane or an axis, with its evidence."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...datums.telling import anchor_of, direction_of, roles_of, size_of
from ...errors import BadInput
from ..records import Size
from ..references import DatumRef, ScanRef
from ..step import Outcome, Pick, Step, Told, Value, register, selected

if TYPE_CHECKING:
    from ...scan.index import ScanIndex
    from ...scan.picking import Gathered

__all__ = ["BEST", "DatumStep", "datum_record", "resolve_pick"]

_LOST = 0.03  # of the scan's size: a place that lies farther from it is lost
_KINDS = ("plane", "cylinder", "cone", "sphere", "torus")
#: Whichever kind of element says what is there.
BEST = "best"


def datum_record(step_id: str, name: str, scan: str, element: str, place, normal) -> dict:
    """The record of what the surface at a place (3,) with a normal (3,) is read as."""
    pick = {"place": [float(v) for v in place], "normal": [float(v) for v in normal], "rule": "same bend"}
    return {"id": step_id, "kind": "datum", "name": name, "scan": scan, "element": element, "pick": pick}


def resolve_pick(index: ScanIndex, pick: Pick, what: str, element: str | None = None) -> Gathered:
    """The facets a pick means on this scan; ``element`` is the kind it shall lie on, `BEST` the likeliest.

    Raises `BadInput` where the scan is nowhere near its place.
    """
    return brushed(index, _spread(index, pick, what, element), pick)


def brushed(index: ScanIndex, g: Gathered, pick: Pick) -> Gathered:
    """What was gathered with what was brushed on or off it; a rounding then is told by its own places, not its sides.

    Raises `BadInput` where nothing is left.
    """
    if not pick.marks:
        return g
    begun = np.zeros(len(index.mesh.faces), bool)
    begun[g.facets] = True
    facets = np.nonzero(selected(index, pick.marks, begun=begun))[0].astype(np.int32)
    if not len(facets):
        raise BadInput("Nothing of the pick is left; brush less off it.", field="pick")
    return replace(g, facets=facets, between=None)


def _spread(index: ScanIndex, pick: Pick, what: str, element: str | None = None) -> Gathered:
    """What a pick spreads over by itself."""
    from ...datums.reading import reading_as, readings
    from ...scan.picking import gather

    missed = index.nearest_facet(np.asarray(pick.place, float))[1]
    if missed > max(_LOST * index.size, 4 * index.mesh.median_edge):
        raise BadInput(
            f"The place picked for {what} is {missed:.1f} mm away from the scan; pick it again.", field="pick"
        )
    if element == BEST or (element in _KINDS and pick.rule == "same bend"):
        read = readings(index, pick.place, angle_deg=pick.angle_deg, normal=pick.normal)
        for r in read:
            assert r.gathered.element is not None
            if element in (BEST, r.gathered.element.kind):
                return r.gathered
        assert element is not None
        try:
            return reading_as(index, pick.place, element, angle_deg=pick.angle_deg, normal=pick.normal)
        except BadInput as e:
            raise BadInput(f"{what[:1].upper()}{what[1:]}: {e.message}", field="pick") from None
    return gather(index, pick.place, pick.rule, pick.angle_deg, normal=pick.normal)


def residual_histogram(residuals: np.ndarray, bins: int = 31) -> dict:
    reach = float(max(np.percentile(np.abs(residuals), 99.5), 1e-6))
    counts, edges = np.histogram(residuals, bins=bins, range=(-reach, reach))
    return {"counts": counts.tolist(), "reach": reach}


class Histogram(BaseModel):
    counts: list[int]
    reach: float


class CouldBe(BaseModel):
    """A kind that a picked surface could be: its size, how far it scatters where it spreads (mm), and what it would
    scatter as where the likeliest spread (mm; None: it cannot lie there).
    """

    element: str
    size: str
    scatter: float
    cost: float | None


class DatumTold(Told):
    """Uncertainties are standard deviations; ``parameters`` and ``uncertainty`` as the element's own; ``between`` the
    kinds of the two sides that a narrow rounding was held tangent to.
    """

    line: ClassVar[tuple[str, ...]] = ("element", "roles", "parameters", "area", "length", "scatter", "facets")

    element: str
    roles: list[str] = []
    parameters: dict[str, Any]
    uncertainty: dict[str, Any]
    scatter: float
    max_distance: float
    facets: int
    points: int
    set_aside: int
    area: float
    rule: str
    angle_deg: float | None
    histogram: Histogram
    inflation: float
    length: float | None = None
    place_uncertainty: float | None = None
    direction_uncertainty_deg: float | None = None
    could_be: list[CouldBe] = []
    free_scatter: float | None = None
    between: list[str] = []


#: What a kind of element leaves as a value: its parameter, name, sign, factor and unit.
_SIZES = {
    "cylinder": ("radius", "diameter", "⌀", 2.0),
    "sphere": ("radius", "diameter", "⌀", 2.0),
    "torus": ("minor_radius", "ring radius", "R", 1.0),
}


@register
class DatumStep(Step):
    """A plane, axis, cone, ball or ring through the surface at a picked place."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Datum"
    produces: ClassVar[str] = "datum"
    tells: ClassVar[type[Told]] = DatumTold

    computation: ClassVar[int] = 9

    kind: Literal["datum"] = "datum"
    scan: ScanRef = Field(description="The scan it is read from.")
    element: Literal["best", "plane", "cylinder", "cone", "sphere", "torus"] = Field(
        "plane", description="What the surface is; 'best': whichever kind says it most simply."
    )
    pick: Pick = Field(description="A place on the surface.")
    along: DatumRef | None = Field(None, description="Datum whose direction it is held to.")
    square_to: DatumRef | None = Field(None, description="Datum it is held square to.")
    angle_to: DatumRef | None = Field(None, description="Datum it stands to at an angle.")
    angle_deg: float = Field(90.0, ge=0, le=90, description="The angle it stands at to that datum, degrees.")
    about: DatumRef | None = Field(None, description="Datum whose axis its own axis, or a ball's middle, lies on.")
    through: DatumRef | None = Field(None, description="Datum whose middle it passes, or a ball's middle lies at.")
    radius: Size | None = Field(None, description="Radius it is held to (of a ring, the tube's).")
    keep_all: bool = Field(False, description="Count what stands off the rest as well.")
    flip: bool = Field(False, description="Turn its direction round.")

    def run(self, context, progress):
        from ...datums.reading import readings, spread_held
        from ...scan.picking import fit_gathered, set_aside

        index = context.index(self.scan)
        what = f"'{self.name}'"
        picked = resolve_pick(index, self.pick, what, self.element)
        could_be = []
        kind = self.element
        if kind == BEST:
            assert picked.element is not None
            kind = picked.element.kind
        if self.pick.rule == "same bend":
            could_be = readings(index, self.pick.place, angle_deg=self.pick.angle_deg, normal=self.pick.normal)
        holds = self._holds(context, kind)
        free = None
        if holds:
            free = fit_gathered(index, picked, kind)[0].sigma
            picked = brushed(index, spread_held(index, picked, kind, **holds), self.pick)
        f, ids = fit_gathered(index, picked, kind, keep_all=self.keep_all, **holds)
        e = f.element
        if self.flip:
            e = _flipped(e)
        summary = {
            "element": e.kind,
            "roles": list(roles_of(e)),
            "parameters": e.parameters(),
            "uncertainty": f.uncertainty,
            "scatter": f.sigma,
            "max_distance": f.max_distance,
            "facets": int(len(picked.facets)),
            "area": float(index.mesh.areas[picked.facets].sum()),
            "points": int(len(ids)),
            "set_aside": 0 if self.keep_all else len(set_aside(index, picked, f)),
            "rule": picked.rule,
            "angle_deg": picked.angle_deg,
            "histogram": residual_histogram(f.residuals),
            "inflation": f.inflation,
            "free_scatter": free,
            "between": [] if holds or picked.between is None else [side.element.kind for side in picked.between],
            "could_be": [
                {
                    "element": r.gathered.element.kind,
                    "size": size_of(e if r.gathered is picked else r.gathered.element),
                    "scatter": r.scatter,
                    "cost": r.cost,
                }
                for r in could_be
            ],
        }
        values, says = [], ""
        if e.kind == "plane":
            place = float(np.linalg.norm(f.uncertainty["point"]))
            summary["place_uncertainty"] = place
            summary["says"] = f"± {max(2 * place, 0.001):.3f}"
        elif e.kind in _SIZES:
            key, name, sign, factor = _SIZES[e.kind]
            size, off = factor * getattr(e, key), 2 * factor * f.uncertainty[key]
            values.append(Value(name, sign, size, off / 2, size, "scan", path=[]))
            summary["says"] = f"{sign} {size:.3f} ± {off:.3f}"
        else:
            summary["says"] = f"{e.half_angle_deg:.3f} ± {2 * f.uncertainty['half_angle_deg']:.3f}°"
        if e.kind in ("cylinder", "cone"):
            summary["length"] = float(np.ptp(index.mesh.vertices[ids] @ e.direction))
        if direction_of(e) is not None:
            spread = np.linalg.norm(f.uncertainty["normal" if e.kind == "plane" else "direction"])
            summary["direction_uncertainty_deg"] = float(np.degrees(spread))
        status = "sound"
        if f.sigma > max(0.25, 6 * index.mesh.median_edge) or (free is not None and f.sigma > 2 * free):
            status = "attention"
            says = f"The surface scatters by {f.sigma:.2f} mm: it may not be one {e.kind}."
            if free is not None and f.sigma > 2 * free:
                says = f"Held so, it scatters by {f.sigma:.3f} mm; free it would by {free:.3f} mm."
        output = {
            "element": e,
            "facets": picked.facets,
            "uncertainty": f.uncertainty,
            "area": summary["area"],
            "length": summary.get("length", 0.0),
            "extremes": index.extremes.tolist(),
            "middle": index.mesh.vertices[ids].mean(axis=0).tolist(),
        }
        return Outcome(output, summary, says, status, values)

    def _holds(self, context, kind: str) -> dict:
        """What the fit is held to, as `fit` takes it."""
        given = [k for k in ("along", "square_to", "angle_to", "about") if getattr(self, k) is not None]
        if len(given) > 1:
            raise BadInput(
                "One direction is enough: hold it along, square to, at an angle to or about the axis of one datum.",
                field=given[1],
            )
        out: dict = {}
        for key in given:
            e = context.output(getattr(self, key), "datum")["element"]
            direction = direction_of(e)
            if direction is None or (kind == "sphere" and key != "about"):
                raise BadInput("A ball and a point have no direction to hold to.", field=key)
            if key == "about" and "axis" not in roles_of(e):
                raise BadInput("A flat face has no axis; choose a bore, a cone, a ring or an axis.", field=key)
            if key == "angle_to":  # to a plane an axis stands as it leans from the plane, as Measure tells it
                across = (kind == "plane") != (e.kind == "plane")
                out["angle"] = (direction, 90.0 - self.angle_deg if across else self.angle_deg)
            else:
                at = anchor_of(e)
                out.update({"along": {"parallel": direction}, "square_to": {"perpendicular": direction}}.get(
                    key, {"axis": (at, direction)}
                ))  # fmt: skip
        if self.through is not None:
            e = context.output(self.through, "datum")["element"]
            if "middle" not in roles_of(e):
                raise BadInput(
                    "A flat face and an axis have no middle; choose a point, a circle or a ball.", field="through"
                )
            out["through"] = anchor_of(e)
        if self.radius is not None and kind in _SIZES:
            out["radius"] = self.radius
        return out


def _flipped(e):
    key = "normal" if e.kind == "plane" else "direction"
    return e if e.kind in ("sphere", "cone") else type(e)(**{**e.__dict__, key: -getattr(e, key)})
