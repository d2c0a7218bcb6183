"""What steps that give a curve in space have in common: what they say of it, and where it begins."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ...errors import BadInput
from ..step import Told
from .bodied import ReadingTold, curve_of_entity, vector

if TYPE_CHECKING:
    from ...curves.spatial import SpaceCurve

__all__ = ["CurveTold", "curve_in_script", "curve_summary", "drawn_curves", "place_of"]


class CurveTold(Told):
    """What every step that gives a curve says of it: its ``length`` in mm, whether it is ``closed``, its ``pieces`` in
    the frame, and places along it for the eye in the scan's coordinates (``shown``)."""

    line: ClassVar[tuple[str, ...]] = ("length", "closed", "shown")

    length: float
    closed: bool
    pieces: list[dict[str, Any]]
    shown: list[list[float]]
    readings: dict[str, ReadingTold] = {}


def curve_summary(curve: SpaceCurve, motion: Any) -> dict:
    """``motion``: from the scan to the frame."""
    shown = motion.inverse().points(curve.drawn())
    return {
        "length": curve.length,
        "closed": curve.closed,
        "pieces": [p.told() for p in curve.pieces],
        "shown": np.round(shown, 5).tolist(),
        "readings": {},
        "says": f"{curve.length:.4g} mm",
    }


def curve_in_script(told: dict, word: str) -> list[str]:
    """The curve's pieces as edges of a script."""
    out = [f"{word} = Wire(["]
    for p in told["pieces"]:
        if p["kind"] == "line":
            out.append(f"    Edge.make_line({vector(p['places'][0])}, {vector(p['places'][1])}),")
        elif p["kind"] == "arc":
            out.append(f"    Edge.make_three_point_arc({', '.join(vector(q) for q in p['places'])}),")
        else:
            poles = ", ".join(vector(q) for q in p["poles"])
            knots = [round(float(k), 12) for k in p["knots"]]
            out.append(f"    space_spline({p['degree']}, {knots!r}, [{poles}]),")
    return [*out, "])"]


def drawn_curves(sketch: dict, wanted: list[str]) -> list[SpaceCurve]:
    """Each line, arc and spline of a sketch as a curve in the frame: those ``wanted`` by their ids, or where none is,
    all that is no construction.
    """
    from ...curves.spatial import SpaceCurve
    from ...kernel.features import PaperPlane, paper_edge
    from ...kernel.spatial import edge_piece

    p = sketch["plane"]
    paper = PaperPlane(p.origin, p.normal, p.u)
    drawn = [
        e
        for e in sketch["geometry"]
        if e["kind"] != "point" and (e["id"] in wanted if wanted else not e.get("construction"))
    ]
    return [SpaceCurve(tuple(edge_piece(paper_edge(curve_of_entity(e), paper, 0.0)))) for e in drawn]


def place_of(context: Any, ref: str, entity: str | None, motion: Any, field: str) -> np.ndarray:
    """A datum's place, or that of a sketch's point or line end (``e3``, ``e3.end``), in the frame.

    Raises `BadInput` where it has none.
    """
    from ...datums.telling import anchor_of

    given = context.output(ref)
    if isinstance(given, dict) and "geometry" in given:
        name, _, end = (entity or "").partition(".")
        e = next((e for e in given["geometry"] if e["id"] == name), None)
        if e is None:
            raise BadInput("Name a point of the sketch, or an entity and its end.", field=field)
        at = e.get(end or "at") or e.get("start") or e.get("center")
        return given["plane"].to_space(np.array([at], float))[0]
    if isinstance(given, dict) and "element" in given:
        return motion.points(anchor_of(given["element"])[None])[0]
    raise BadInput("Only a datum or a place of a sketch can be given here.", field=field)
