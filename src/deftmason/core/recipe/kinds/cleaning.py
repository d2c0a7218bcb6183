"""Cleaning steps that take away: the background, noise, defects. Each gives the scan that later steps rest on."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ...progress import part
from ..records import shown
from ..references import ScanRef
from ..step import MarkRecord, Outcome, Step, Told, register, selected
from .scan import ScanTold, told

if TYPE_CHECKING:
    from ...scan.mesh import PointCloud, TriMesh

__all__ = ["CleanStep"]


class CleanStep(Step):
    """A step that takes a scan and gives a better one."""

    course: ClassVar[str] = "scan"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"
    betters: ClassVar[str | None] = "scan"
    slips_in: ClassVar[bool] = True

    scan: ScanRef = Field(description="The scan it works on.")


def _kept(scan: TriMesh | PointCloud, goes: np.ndarray) -> TriMesh | PointCloud:
    from ...clean.cloud import keep_points
    from ...scan.mesh import PointCloud, TriMesh
    from ...scan.topology import compact

    if isinstance(scan, PointCloud):
        return keep_points(scan, ~goes)
    v, f, c = compact(scan.vertices, scan.faces[~goes], scan.colors)
    return TriMesh(v, f, c)


class GoneTold(ScanTold):
    """What was taken from a scan: how much ``goes``, in ``what`` (triangles or points)."""

    goes: int
    what: str


class BackgroundTold(GoneTold):
    scrap_goes: int
    plane: dict[str, list[float]] | None = None
    scatter: float | None = None


@register
class BackgroundStep(CleanStep):
    """What is not the part, dropped: the slab it stood on, all but one island, or what lies in an outline."""

    title: ClassVar[str] = "Background"
    tells: ClassVar[type[Told]] = BackgroundTold

    kind: Literal["background"] = "background"
    way: Literal["slab", "island", "outline"] = Field("slab", description="How the background is told from the part.")
    marks: list[MarkRecord] = Field(
        default_factory=list, max_length=500, description="What was marked; the slab needs none."
    )
    drop: Literal["marked", "unmarked"] = Field("marked", description="Which side of the marks goes.")
    scraps: bool = Field(True, description="Loose scraps go too.")

    def run(self, context, progress):
        from ...clean.background import find_slab, slab_items
        from ...scan.mesh import TriMesh

        items = context.items(self.scan)
        scan = context.output(self.scan, "scan")
        summary: dict = {}
        if self.way == "slab":
            slab = find_slab(scan, part(progress, 0, 0.6))
            goes = slab_items(scan, slab)
            summary["plane"] = {"point": slab.point.tolist(), "normal": slab.normal.tolist()}
            summary["scatter"] = slab.scatter
        else:
            if not self.marks:
                raise BadInput("Mark the part or the background in the view first.", field="marks")
            progress(0.3, "Resolving the marks")
            goes = selected(items, self.marks, part(progress, 0.3, 0.6))
            goes = goes if self.drop == "marked" else ~goes
        marked = int(goes.sum())
        if self.scraps:
            progress(0.7, "Looking for loose scraps")
            goes = goes | self._scraps(scan, ~goes)
        if goes.all():
            raise BadInput("Nothing of the scan would be left; mark less, or drop the other side.", field="marks")
        left = _kept(scan, goes)
        what = "triangles" if isinstance(scan, TriMesh) else "points"
        summary |= {**told(left), "goes": int(goes.sum()), "scrap_goes": int(goes.sum()) - marked, "what": what}
        summary["says"] = f"− {int(goes.sum()):,} {what}"
        says = "" if goes.any() else "Nothing lies in what was marked."
        return Outcome(left, summary, says, "sound" if goes.any() else "attention", arrays={"goes": goes})

    def _scraps(self, scan, keep: np.ndarray) -> np.ndarray:
        from ...clean.background import loose_scraps
        from ...clean.cloud import keep_points
        from ...scan.mesh import TriMesh

        if isinstance(scan, TriMesh):
            return loose_scraps(scan, keep)
        from ...scan.selection import CloudIndex

        ids = np.nonzero(keep)[0]
        out = np.zeros(len(keep), bool)
        if len(ids) > 1:
            label = CloudIndex(keep_points(scan, keep)).pieces
            size = np.bincount(label[label >= 0], minlength=1)
            small = size < 0.01 * len(ids)
            small[np.argmax(size)] = False
            out[ids] = small[label]
        return out


class NoiseTold(GoneTold):
    off: int
    clumps: int
    scatter: float


@register
class NoiseStep(CleanStep):
    """Points off the surface and clumps apart from it, dropped from a cloud."""

    title: ClassVar[str] = "Noise"
    tells: ClassVar[type[Told]] = NoiseTold

    kind: Literal["noise"] = "noise"
    strictness: float = Field(
        4.0,
        ge=1,
        le=50,
        description="How many times the local scatter a point may stand off.",
        json_schema_extra=shown("goes beyond", "× scatter", step=0.5),
    )
    smallest_clump: int = Field(
        40,
        ge=1,
        le=1_000_000,
        description="Clumps apart with fewer points go.",
        json_schema_extra=shown("clumps below", "points", step=10),
    )

    def run(self, context, progress):
        from ...clean.cloud import find_noise, keep_points

        cloud = context.cloud(self.scan)
        found = find_noise(cloud, strictness=self.strictness, smallest_clump=self.smallest_clump, progress=progress)
        goes = found.goes
        left = keep_points(cloud, ~goes)
        summary = {
            **told(left),
            "goes": int(goes.sum()),
            "off": int(found.off.sum()),
            "clumps": int(found.clumps.sum()),
            "scatter": found.scatter,
            "what": "points",
            "says": f"− {int(goes.sum()):,} points",
        }
        return Outcome(left, summary, arrays={"goes": goes})


def _usual() -> list[str]:
    from ...clean.repair import USUAL

    return list(USUAL)


class Repaired(BaseModel):
    what: str
    count: int


class RepairTold(ScanTold):
    did: list[Repaired]
    left: dict[str, int]
    rims: int
    still: str


@register
class RepairStep(CleanStep):
    """The ticked kinds of defect, repaired together."""

    title: ClassVar[str] = "Repair"
    tells: ClassVar[type[Told]] = RepairTold

    kind: Literal["repair"] = "repair"
    fix: list[str] = Field(
        default_factory=_usual, min_length=1, max_length=40, description="Kinds of defect to repair."
    )

    def run(self, context, progress):
        from ...clean.defects import DEFECTS, survey_mesh
        from ...clean.repair import repair

        mesh = context.mesh(self.scan)
        found = repair(mesh, self.fix, part(progress, 0, 0.85))
        done, did = found.mesh, found.did
        left = survey_mesh(done, part(progress, 0.85, 1))
        total = sum(d["count"] for d in did)
        summary = {**told(done), "did": did, "left": left.counts, "rims": len(left.rims), "still": left.in_words()}
        summary["says"] = f"{total:,} repaired"
        remaining = {k: c for k, c in left.counts.items() if c and k in self.fix}
        says = (
            ""
            if not remaining
            else " ".join(found.left) or "Left: " + ", ".join(f"{c:,} {DEFECTS[k]}" for k, c in remaining.items()) + "."
        )
        return Outcome(done, summary, says, "attention" if remaining else "sound")
