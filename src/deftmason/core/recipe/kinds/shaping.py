"""Cleaning steps that keep the shape: smoothing, fewer or even triangles, a watertight mesh; with how far it moved."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ...progress import part
from ..records import Size, shown
from ..step import Outcome, Told, register
from .cleaning import CleanStep
from .scan import ScanTold, told

if TYPE_CHECKING:
    from ...scan.mesh import TriMesh

__all__: list[str] = []


def _moved(before: TriMesh, after: TriMesh) -> dict[str, np.ndarray]:
    """Signed distance of the new vertices from the surface before, for the map."""

    from ...clean.fewer import Distance

    return {"moved": Distance(before).signed(after.vertices).astype(np.float32)}


class SmoothTold(ScanTold):
    bound: float
    moved_rms: float
    moved_max: float
    volume_change: float | None


@register
class SmoothStep(CleanStep):
    """Noise calmed within a bound; edges and volume kept."""

    title: ClassVar[str] = "Smooth"
    tells: ClassVar[type[Told]] = SmoothTold

    kind: Literal["smooth"] = "smooth"
    strength: float = Field(
        0.4,
        ge=0,
        le=1,
        description="0 leaves the mesh as it is, 1 is strong.",
        json_schema_extra=shown("strength", step=0.1),
    )
    bound: Size | None = Field(
        None,
        description="Farthest a vertex may move, mm; none: four times the scan's scatter.",
        json_schema_extra=shown("bound", "mm", step=0.01, empty="4 × the scatter"),
    )

    def run(self, context, progress):
        from ...clean.smooth import smooth

        mesh = context.mesh(self.scan)
        done, info = smooth(mesh, self.strength, bound=self.bound, progress=part(progress, 0, 0.8))
        progress(0.85, "Measuring how far it moved")
        return Outcome(
            done, {**told(done), **info, "says": f"moved ≤ {info['moved_max']:.3f}"}, arrays=_moved(mesh, done)
        )


class DecimateTold(ScanTold):
    before: int
    deviation_rms: float
    deviation_max: float


@register
class DecimateStep(CleanStep):
    """Fewer triangles, with the deviation that cost."""

    title: ClassVar[str] = "Decimate"
    tells: ClassVar[type[Told]] = DecimateTold

    kind: Literal["decimate"] = "decimate"
    to: Literal["count", "share", "tolerance"] = Field(
        "share",
        description="What decides how far to go.",
        json_schema_extra=shown("to", choices={"share": "a share", "count": "a count", "tolerance": "a tolerance"}),
    )
    triangles: int = Field(
        100_000,
        ge=4,
        le=100_000_000,
        description="How many to leave.",
        json_schema_extra=shown("leave", "triangles", step=1000, when={"to": "count"}),
    )
    share: float = Field(
        0.25,
        gt=0,
        le=1,
        description="Which share to leave.",
        json_schema_extra=shown("leave", "of all", step=0.05, when={"to": "share"}),
    )
    tolerance: Size = Field(
        0.05,
        description="How far the two surfaces may part, mm.",
        json_schema_extra=shown("stay within", "mm", step=0.01, when={"to": "tolerance"}),
    )

    def run(self, context, progress):
        from ...clean.fewer import decimate, decimate_within, deviation_between

        mesh = context.mesh(self.scan)
        if self.to == "tolerance":
            done, info = decimate_within(mesh, self.tolerance, part(progress, 0, 0.9))
        else:
            count = self.triangles if self.to == "count" else int(self.share * len(mesh.faces))
            done = decimate(mesh, max(4, count), part(progress, 0, 0.5))
            progress(0.55, "Measuring the deviation")
            info = deviation_between(mesh, done)
        summary = {**told(done), "before": len(mesh.faces), "deviation_rms": info["rms"], "deviation_max": info["max"]}
        summary["says"] = f"{len(done.faces):,}, ≤ {info['max']:.3f}"
        return Outcome(done, summary, arrays=_moved(mesh, done))


class RemeshTold(DecimateTold):
    edge_median: float
    edge_spread: float


@register
class RemeshStep(CleanStep):
    """Even triangles on the same surface; sharp edges and rims stay."""

    title: ClassVar[str] = "Remesh"
    tells: ClassVar[type[Told]] = RemeshTold

    kind: Literal["remesh"] = "remesh"
    edge: Size = Field(1.0, description="Edge length, mm.", json_schema_extra=shown("edge length", "mm", step=0.1))

    def run(self, context, progress):
        from ...clean.fewer import deviation_between
        from ...clean.remesh import remesh

        mesh = context.mesh(self.scan)
        done, info = remesh(mesh, self.edge, part(progress, 0, 0.9))
        progress(0.92, "Measuring the deviation")
        d = deviation_between(mesh, done)
        summary = {
            **told(done),
            "before": len(mesh.faces),
            **info,
            "deviation_rms": d["rms"],
            "deviation_max": d["max"],
        }
        summary["says"] = f"{len(done.faces):,}, ≤ {d['max']:.3f}"
        return Outcome(done, summary, arrays=_moved(mesh, done))


class WatertightTold(ScanTold):
    volume: float
    notes: list[str]


@register
class WatertightStep(CleanStep):
    """Closed and sound, for printing."""

    title: ClassVar[str] = "Watertight"
    tells: ClassVar[type[Told]] = WatertightTold

    kind: Literal["watertight"] = "watertight"
    shape: Literal["flat", "tangent", "curved"] = Field(
        "tangent",
        description="How holes are closed.",
        json_schema_extra=shown("patches", choices={"flat": "flat", "tangent": "tangent", "curved": "curved"}),
    )

    def run(self, context, progress):
        from ...clean.defects import survey_mesh
        from ...clean.repair import watertight

        mesh = context.mesh(self.scan)
        done, notes = watertight(mesh, shape=self.shape, progress=part(progress, 0, 0.9))
        survey = survey_mesh(done, part(progress, 0.9, 1))
        if not survey.watertight:
            raise BadInput(
                f"The mesh could not be made watertight. {' '.join(notes)}. Repair and close the large holes first."
            )
        t = done.vertices[done.faces] - done.bounds.mean(axis=0)
        volume = float(np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6)
        summary = {**told(done), "volume": volume, "notes": notes, "says": "closed"}
        return Outcome(done, summary, " ".join(notes), "attention" if notes else "sound")
