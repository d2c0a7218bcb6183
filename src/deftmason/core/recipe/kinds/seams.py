"""How a body's faces meet along the edges they share: gaps and angles; and how they bend, as combs."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ..records import Size, shown
from ..references import FrameRef, SolidRef
from ..step import Outcome, Step, Told, register

__all__ = ["SeamsStep"]

_TALL = 0.1  # of the body's size: the tallest tooth
_LINES, _TEETH = 3, 24
_MOST = 40_000  # teeth that are told: fewer lines a face where it has many
_COUNTED = 0.95  # of an edge's length that its angle is told of


class SeamTold(BaseModel):
    """One edge between two faces: ``faces`` their names, ``length`` mm, the widest ``gap`` mm, the ``angle`` degrees at
    95 % of its length, ``is`` smooth, a kink or a gap; its ``line`` in the frame."""

    faces: list[str]
    length: float
    gap: float
    angle: float
    kind: Literal["smooth", "kink", "gap"]
    line: list[list[float]]


class SeamsTold(Told):
    """``counts`` of seams by kind; edges only one face has: how many and how long (``open_edges``, ``open_length``),
    their ``rims`` as lines; ``combs`` as lines of teeth (foot, tip), in the frame; ``bend`` the strongest, per mm, and
    ``scale`` mm a tooth stands for each 1 / mm."""

    line: ClassVar[tuple[str, ...]] = ("counts",)

    seams: list[SeamTold]
    counts: dict[str, int]
    angle_p95: float
    angle_max: float
    gap: float
    open_edges: int
    open_length: float
    rims: list[list[list[float]]]
    combs: list[list[list[float]]]
    bend: float
    scale: float


@register
class SeamsStep(Step):
    """Gaps and angles between a body's faces, and its curvature combs."""

    course: ClassVar[str] = "checks"
    title: ClassVar[str] = "Seams"
    produces: ClassVar[str] = "seams"
    tells: ClassVar[type[Told]] = SeamsTold

    kind: Literal["seams"] = "seams"
    frame: FrameRef = Field(description="The frame the body lies in.")
    body: SolidRef = Field(description="The body whose faces are looked at.", json_schema_extra=shown("model"))
    smooth: Size = Field(
        0.5,
        description="Up to this angle faces count as going on smoothly, degrees.",
        json_schema_extra=shown("smooth up to", "deg", step=0.1),
    )
    gap: Size = Field(
        0.005,
        description="From this gap on an edge is called open, mm.",
        json_schema_extra=shown("gap from", "mm", step=0.001),
    )
    show: Literal["seams", "combs"] = Field(
        "seams",
        description="Whether edges are drawn by how faces meet, or combs by how they bend.",
        json_schema_extra=shown("draws", choices={"seams": "seams", "combs": "combs"}),
    )

    def run(self, context, progress):
        from ...kernel.combs import combs_of
        from ...kernel.patches import joints_of, rims_of
        from ...kernel.tessellate import diagonal_of

        body = context.output(self.body, "body", "model")
        progress(0.1, "Measuring along the edges")
        joints = joints_of(body)
        seams = []
        for k, names in enumerate(joints.names):
            order = np.argsort(joints.angle[k])
            length = np.cumsum(joints.step[k][order])
            angle = float(joints.angle[k][order][np.searchsorted(length, _COUNTED * length[-1])])
            gap = float(joints.gap[k].max())
            kind = "gap" if gap >= self.gap else "smooth" if angle <= self.smooth else "kink"
            seams.append(
                {
                    "faces": list(names),
                    "length": float(length[-1]),
                    "gap": gap,
                    "angle": angle,
                    "kind": kind,
                    "line": np.round(joints.places[k], 5).tolist(),
                }
            )
        rims, lengths = rims_of(body)
        combs, bend, scale = [], 0.0, 0.0
        if self.show == "combs":
            progress(0.5, "Measuring how it bends")
            lines = int(np.clip(_MOST // (2 * _TEETH * max(len(body.face_names), 1)), 2, _LINES))
            combs, bend, scale = _drawn(combs_of(body, lines, _TEETH), diagonal_of(body))
        counts = {kind: sum(s["kind"] == kind for s in seams) for kind in ("smooth", "kink", "gap")}
        says = f"{counts['kink']} kinks, {counts['gap']} gaps" if seams else "no seams"
        told = {
            "seams": seams,
            "counts": counts,
            "angle_p95": joints.quantile(0.95),
            "angle_max": float(joints.angle.max()) if seams else 0.0,
            "gap": max((s["gap"] for s in seams), default=0.0),
            "open_edges": len(rims),
            "open_length": float(sum(lengths)),
            "rims": [np.round(r, 5).tolist() for r in rims],
            "combs": combs,
            "bend": bend,
            "scale": scale,
            "says": says if not rims else f"{says}, {len(rims)} open edges",
        }
        return Outcome({"seams": seams}, told)


def _drawn(combs: Any, size: float) -> tuple[list, float, float]:
    """Teeth as lines and the line along their tips; the strongest bend; mm of tooth for each 1 / mm."""
    if not len(combs.feet):
        return [], 0.0, 0.0
    bend = float(np.abs(combs.bends).max())
    if bend * size < 1e-6:  # flat, but for rounding
        return [], bend, 0.0
    # A hundredth of the teeth may stand out beyond the picture, so that one sharp place does not flatten all others.
    usual = float(np.quantile(np.abs(combs.bends), 0.99)) or bend
    scale = _TALL * size / usual
    tall = np.clip(combs.bends * scale, -2 * _TALL * size, 2 * _TALL * size)
    tips = combs.feet - tall[:, None] * combs.normals
    out = [np.round([a, b], 4).tolist() for a, b in zip(combs.feet, tips)]
    ends = np.flatnonzero(np.diff(combs.line)) + 1
    out += [np.round(t, 4).tolist() for t in np.split(tips, ends) if len(t) > 1]
    return out, bend, scale
