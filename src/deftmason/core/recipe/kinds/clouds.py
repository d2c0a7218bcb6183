"""Steps on clouds of points: thinned, combined, and made a mesh."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..records import Size, StepId
from ..step import Outcome, Step, register
from .cleaning import CleanStep
from .scan import told

__all__: list[str] = []


@register
class ThinStep(CleanStep):
    """Fewer points: evenly spaced, or sparser where the surface is flat."""

    title: ClassVar[str] = "Thin out"

    kind: Literal["thin"] = "thin"
    spacing: Size = Field(0.5, description="No two points nearer than this, mm.")
    flat_spacing: Size | None = Field(None, description="On flat places up to this, mm; none: the same everywhere.")

    def run(self, context, progress):
        from ...clean.cloud import thin

        cloud = context.cloud(self.scan)
        done = thin(cloud, self.spacing, flat_spacing=self.flat_spacing, progress=progress)
        return Outcome(done, {**told(done), "before": len(cloud.points), "says": f"{len(done.points):,} points"})


@register
class CombineStep(Step):
    """Several clouds made one, doubled layers dropped."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Combine"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"

    kind: Literal["combine"] = "combine"
    scans: list[StepId] = Field(min_length=2, max_length=200, description="The clouds, best first.")
    layer: Size | None = Field(None, description="How far apart two layers still count as one, mm; none: six times the scatter.")

    def inputs(self):
        return list(self.scans)

    def run(self, context, progress):
        from ...clean.cloud import combine

        done, dropped, layer = combine([context.cloud(s) for s in self.scans], layer=self.layer, progress=progress)
        return Outcome(done, {**told(done), "dropped": dropped, "layer": layer, "says": f"{len(done.points):,} points"})


@register
class NormalsStep(CleanStep):
    """Which way the surface faces at each point, all turned the same way round."""

    title: ClassVar[str] = "Normals"

    kind: Literal["normals"] = "normals"
    turned: bool = Field(False, description="All the other way round.")

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


@register
class TriangulateStep(CleanStep):
    """A cloud made a mesh; open where nothing was seen."""

    title: ClassVar[str] = "Triangulate"

    kind: Literal["triangulate"] = "triangulate"
    accuracy: Size | None = Field(None, description="The scanner's stated accuracy, mm.")
    resolution: Size | None = Field(None, description="Edge length of the mesh, mm; none: from the points' pitch and the accuracy.")

    def run(self, context, progress):
        from ...clean.triangulate import triangulate

        done, info = triangulate(context.cloud(self.scan), accuracy=self.accuracy, resolution=self.resolution, progress=progress)
        return Outcome(done, {**told(done), **{k: v for k, v in info.items()}, "says": f"{len(done.faces):,} triangles"})
