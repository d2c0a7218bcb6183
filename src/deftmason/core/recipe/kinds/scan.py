"""Bring a scan in from its file, the original untouched; on replay another scan of the same part may stand in."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from pydantic import Field

from ..records import Checksum, FileName, Place, Record
from ..step import Outcome, Step, register

if TYPE_CHECKING:
    from ...scan.mesh import PointCloud, TriMesh


class TextColumns(Record):
    """How a text file of points is read."""

    delimiter: Literal["spaces", "comma", "semicolon", "tab"] = Field("spaces", description="What parts the columns.")
    columns: list[str] = Field(max_length=64, description="What each column holds: x, y, z, nx, ny, nz, red, green, blue, intensity or skip.")
    skip: int = Field(0, ge=0, le=100_000, description="Lines before the first point.")
    decimal_comma: bool = Field(False, description="Decimals are written with a comma.")


@register
class ScanStep(Step):
    """A captured mesh or cloud, in its own coordinates."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Scan"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"
    follows: ClassVar[tuple[str, ...]] = ("likeness",)

    kind: Literal["scan"] = "scan"
    file: FileName = Field(description="The original file's name.")
    sha256: Checksum = Field(description="Checksum of the original file.")
    units: Literal["mm", "cm", "m", "in"] = Field("mm", description="What the file's numbers are in.")
    layout: TextColumns | None = Field(None, description="How a text file's columns are read; none: as recognised.")
    likeness: list[Place] = Field(
        default_factory=list, max_length=5000, description="A few hundred places of the scan, so that another scan can be laid onto it."
    )

    def run(self, context, progress):
        from ...scan.files import read_scan
        from ...scan.likeness import settle_onto
        from ...scan.mesh import TriMesh
        from ...scan.textpoints import TextLayout

        progress(0.05, f"Reading {self.file}")
        layout = None if self.layout is None else TextLayout(**self.layout.model_dump())
        read = read_scan(context.scan_file(self.sha256, self.name), self.units, layout, called=None if context.scan_replaced(self.name) else self.file)
        scan, says = read.scan, " ".join(read.warnings)
        summary = {}
        if context.scan_replaced(self.name) and self.likeness and isinstance(scan, TriMesh):
            progress(0.5, "Laying the other scan onto the first")
            motion, rms = settle_onto(scan, self.likeness)
            scan = scan.moved(motion)
            summary["settled_rms"] = rms
            says = f"Another scan, laid onto the first one's place (rms {rms:.3f} mm). {says}".strip()
        progress(0.9, "Finding neighbours")
        summary |= {**told(scan), "file": self.file}
        return Outcome(scan, summary, says)


def told(scan: TriMesh | PointCloud) -> dict:
    """What every step that gives a scan says of it."""

    from ...scan.files import size_in_words
    from ...scan.mesh import TriMesh

    mesh = isinstance(scan, TriMesh)
    return {
        "is": "mesh" if mesh else "cloud",
        "triangles": len(scan.faces) if mesh else 0,
        "points": len(scan.vertices) if mesh else len(scan.points),
        "coloured": scan.colors is not None,
        "bounds": scan.bounds.tolist(),
        "size": size_in_words(scan.bounds),
    }
