"""Steps on clouds of points: thinned, combined, and made a mesh."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..records import Size, shown
from ..references import ScanRef
from ..step import Outcome, Step, Told, register
from .cleaning import CleanStep
from .scan import ScanTold, told

__all__: list[str] = []


class ThinTold(ScanTold):
    before: int


@register
class ThinStep(CleanStep):
    """Fewer points: evenly spaced, or sparser where the surface is flat."""

    title: ClassVar[str] = "Thin out"
    tells: ClassVar[type[Told]] = ThinTold

    kind: Literal["thin"] = "thin"
    spacing: Size = Field(
        0.5, description="No two points nearer than this, mm.", json_schema_extra=shown("spacing", "mm", step=0.1)
    )
    flat_spacing: Size | None = Field(
        None,
        description="On flat places up to this, mm; none: the same everywhere.",
        json_schema_extra=shown("where flat, to", "mm", step=0.1, empty="the same"),
    )

    def run(self, context, progress):
        from ...clean.cloud import thin

        cloud = context.cloud(self.scan)
        done = thin(cloud, self.spacing, flat_spacing=self.flat_spacing, progress=progress)
        return Outcome(done, {**told(done), "before": len(cloud.points), "says": f"{len(done.points):,} points"})


class CombineTold(ScanTold):
    dropped: int
    layer: float


@register
class CombineStep(Step):
    """Several clouds made one, doubled layers dropped."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Combine"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"
    tells: ClassVar[type[Told]] = CombineTold

    kind: Literal["combine"] = "combine"
    scans: list[ScanRef] = Field(min_length=2, max_length=200, description="The clouds, best first.")
    layer: Size | None = Field(
        None, description="How far apart two layers still count as one, mm; none: six times the scatter."
    )

    def run(self, context, progress):
        from ...clean.cloud import combine

        done, dropped, layer = combine([context.cloud(s) for s in self.scans], layer=self.layer, progress=progress)
        return Outcome(done, {**told(done), "dropped": dropped, "layer": layer, "says": f"{len(done.points):,} points"})


class NormalsTold(ScanTold):
    outward: float


@register
class NormalsStep(CleanStep):
    """Which way the surface faces at each point, all turned the same way round."""

    title: ClassVar[str] = "Normals"
    tells: ClassVar[type[Told]] = NormalsTold

    kind: Literal["normals"] = "normals"
    turned: bool = Field(
        False, description="All the other way round.", json_schema_extra=shown("all the other way round")
    )

    def run(self, context, progress):
        from ...clean.cloud import with_normals
        from ...scan.mesh import PointCloud

        cloud = with_normals(context.cloud(self.scan), progress=progress)
        if self.turned:
            cloud = PointCloud(cloud.points, -cloud.normals, cloud.colors)
        # Facing away from the middle is what most parts do most of the time; the figure warns where it is far from all.
        outward = np.einsum("ij,ij->i", cloud.points - cloud.bounds.mean(axis=0), cloud.normals) > 0
        summary = {**told(cloud), "outward": float(outward.mean()), "says": f"{outward.mean():.0%} outward"}
        return Outcome(cloud, summary)


class TriangulateTold(ScanTold):
    spacing: float
    resolution: float
    rms: float
    max: float


@register
class TriangulateStep(CleanStep):
    """A cloud made a mesh; open where nothing was seen."""

    title: ClassVar[str] = "Triangulate"
    tells: ClassVar[type[Told]] = TriangulateTold

    kind: Literal["triangulate"] = "triangulate"
    accuracy: Size | None = Field(
        None,
        description="The scanner's stated accuracy, mm.",
        json_schema_extra=shown("accuracy stated", "mm", step=0.01, empty="not stated"),
    )
    resolution: Size | None = Field(
        None,
        description="Edge length of the mesh, mm; none: from the points' pitch and the accuracy.",
        json_schema_extra=shown("edge length", "mm", step=0.1, empty="from the points"),
    )

    def run(self, context, progress):
        from ...clean.triangulate import triangulate

        done, info = triangulate(
            context.cloud(self.scan), accuracy=self.accuracy, resolution=self.resolution, progress=progress
        )
        return Outcome(
            done, {**told(done), **{k: v for k, v in info.items()}, "says": f"{len(done.faces):,} triangles"}
        )
