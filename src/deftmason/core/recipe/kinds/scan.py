"""Bring a scan in from its file, the original untouched; on replay another scan of the same part may stand in."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ...scan.files import read_scan, size_in_words
from ...scan.likeness import settle_onto
from ...scan.mesh import TriMesh
from ..step import Outcome, Step, register


@register
class ScanStep(Step):
    """A captured mesh, in its own coordinates."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Scan"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"

    kind: Literal["scan"] = "scan"
    file: str = Field(description="The original file's name.")
    sha256: str = Field(description="Checksum of the original file.")
    units: Literal["mm", "cm", "m", "in"] = Field("mm", description="What the file's numbers are in.")
    likeness: list[tuple[float, float, float]] = Field(
        default_factory=list, description="A few hundred places of the scan, so that another scan can be laid onto it."
    )

    def run(self, context, progress):
        progress(0.05, f"Reading {self.file}")
        read = read_scan(context.scan_file(self.sha256, self.name), self.units)
        if not isinstance(read.scan, TriMesh):
            raise BadInput(f"{self.file} holds points without triangles; open it as a mesh.", field="file")
        mesh, says = read.scan, " ".join(read.warnings)
        summary = {}
        if context.scan_replaced(self.name) and self.likeness:
            progress(0.5, "Laying the other scan onto the first")
            motion, rms = settle_onto(mesh, self.likeness)
            mesh = mesh.moved(motion)
            summary["settled_rms"] = rms
            says = f"Another scan, laid onto the first one's place (rms {rms:.3f} mm). {says}".strip()
        progress(0.9, "Finding neighbours")
        summary |= {
            "triangles": len(mesh.faces),
            "points": len(mesh.vertices),
            "bounds": mesh.bounds.tolist(),
            "size": size_in_words(mesh.bounds),
            "file": self.file,
        }
        return Outcome(mesh, summary, says)
