"""Scan and model cut by one plane, with the distances between them drawn."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..records import Length, Size, shown
from ..references import ScanRef, SolidRef
from ..step import Outcome, Step, Told, register
from .bodied import AxisRecord, axis_in_frame

__all__ = ["SectionStep"]

_MOST = 6000  # places of the trace that are told
_WORST = 6


class TracedTold(BaseModel):
    """One run of the scan in the plane: places (mm in the plane), their signed distances to the model, and where the
    hairs end that draw them.
    """

    closed: bool
    points: list[list[float]]
    distance: list[float | None]
    tips: list[list[float]]


class WorstTold(BaseModel):
    at: list[float]
    place: list[float]
    distance: float


class SectionTold(Told):
    """``origin``, ``normal`` and ``u`` of the plane, in the frame's coordinates."""

    line: ClassVar[tuple[str, ...]] = ("rms", "most")

    origin: list[float]
    normal: list[float]
    u: list[float]
    model: list[dict[str, Any]]
    scan: list[TracedTold]
    worst: list[WorstTold]
    places: int
    mean: float | None
    rms: float | None
    most: float | None
    hair: float


@register
class SectionStep(Step, AxisRecord):
    """Scan and model in one plane, the distances between them drawn as hairs."""

    course: ClassVar[str] = "checks"
    title: ClassVar[str] = "Section"
    produces: ClassVar[str] = "section"
    tells: ClassVar[type[Told]] = SectionTold

    kind: Literal["section"] = "section"
    scan: ScanRef = Field(description="The scan that is cut.", json_schema_extra=shown("scan"))
    body: SolidRef = Field(description="The body that is cut.", json_schema_extra=shown("model"))
    offset: Length = Field(0.0, description="Along the axis, mm.", json_schema_extra=shown("at", "mm", step=0.5))
    reach: Size | None = Field(
        None,
        description="Places farther off than this are not answered, mm.",
        json_schema_extra=shown("reach", "mm", step=0.1, empty="a twentieth of the size", more=True),
    )
    hair: Size | None = Field(
        None,
        description="How many times longer than the distance its hair is drawn.",
        json_schema_extra=shown("hairs ×", step=1, empty="as they fit", more=True),
    )

    def run(self, context, progress):
        from ...kernel.sectioning import section_curves
        from ...scan.section import SectionPlane, cut_section

        point, direction = axis_in_frame(self, context)
        plane = SectionPlane.at(point + self.offset * direction, direction)
        motion = context.output(self.frame, "frame")
        back = motion.inverse()
        index = context.index(self.scan)
        there = SectionPlane(back.points(plane.origin), back.vectors(plane.normal), back.vectors(plane.u))
        loops = [(motion.points(p), closed) for p, closed in cut_section(index, there).loops() if len(p) > 1]
        model = section_curves(context.output(self.body, "body", "model"), plane.origin, plane.normal, plane.u)
        if not loops and not model:
            raise BadInput("The plane meets neither scan nor model; move it.", field="offset")
        every = np.vstack([p for p, _ in loops]) if loops else np.zeros((0, 3))
        found = context.surface(self.body).distances(every, reach=self.reach or 0.05 * index.size)
        ok = np.isfinite(found.distance)
        d = found.distance[ok]
        most = float(np.abs(d).max()) if len(d) else 0.0
        hair = self.hair or _fitting(most, index.size)
        away = np.where(ok, found.distance, 0.0)[:, None] * hair * _in_plane(found.normal, plane)
        thin = max(1, -(-len(every) // _MOST))
        traced, begin = [], 0
        for p, closed in loops:
            s = np.arange(begin, begin + len(p))[::thin]
            begin += len(p)
            uv, tips = plane.to_paper(every[s]), plane.to_paper(every[s] + away[s])
            told = [None if not ok[i] else float(found.distance[i]) for i in s]
            traced.append({"closed": closed, "points": uv.tolist(), "distance": told, "tips": tips.tolist()})
        s = {
            "origin": plane.origin.tolist(),
            "normal": plane.normal.tolist(),
            "u": plane.u.tolist(),
            "model": model,
            "scan": traced,
            "worst": _worst(every, found.distance, plane, index.size),
            "places": int(ok.sum()),
            "mean": float(d.mean()) if len(d) else None,
            "rms": float(np.sqrt(np.mean(d**2))) if len(d) else None,
            "most": most if len(d) else None,
            "hair": hair,
            "says": f"{most:.3f} at most" if len(d) else "no answer",
        }
        return Outcome({"model": model}, s)


def _fitting(most: float, size: float) -> float:
    """How many times a hair is drawn, so that the longest is a twentieth of the size: 1, 2, 5, 10 …"""
    if not most > 0:
        return 1.0
    wanted = max(0.05 * size / most, 1.0)
    ten = 10.0 ** np.floor(np.log10(wanted))
    return float(ten * max(k for k in (1, 2, 5) if k * ten <= wanted * (1 + 1e-9)))


def _in_plane(normals: np.ndarray, plane: Any) -> np.ndarray:
    """Directions (n, 3) of hairs: the surface's normals laid into the plane."""
    n = normals - (normals @ plane.normal)[:, None] * plane.normal
    return n / np.maximum(np.linalg.norm(n, axis=1), 1e-12)[:, None]


def _worst(points: np.ndarray, distance: np.ndarray, plane: Any, size: float) -> list[dict]:
    """The farthest places, some way apart from each other."""
    out: list[dict] = []
    for i in np.argsort(-np.abs(np.nan_to_num(distance))):
        if len(out) == _WORST or not np.isfinite(distance[i]):
            break
        if all(np.linalg.norm(points[i] - np.array(w["place"])) > 0.08 * size for w in out):
            at = plane.to_paper(points[i])
            out.append({"at": at.tolist(), "place": points[i].tolist(), "distance": float(distance[i])})
    return out
