"""Bring a scan in from its file, the original untouched; on replay another scan of the same part may stand in."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ..records import FileName, Place, Record, one_line
from ..references import FileRef
from ..step import Outcome, Step, Told, register

__all__ = ["ScanStep", "TextColumns", "lacks_likeness", "other_scan", "scan_record", "told"]

if TYPE_CHECKING:
    from ...scan.files import ReadScan
    from ...scan.mesh import PointCloud, TriMesh


def scan_record(sha256: str, file: str, units: str, layout: dict | None = None, number: int = 0) -> dict:
    """The record of a file's own step; the first of a job is 'scan'."""
    return {
        "id": "scan" if number == 0 else f"scan_{number + 1}",
        "kind": "scan",
        "name": one_line(os.path.splitext(file)[0])[:80].strip() or "Scan",
        "file": file,
        "sha256": sha256,
        "units": units,
        "layout": layout,
    }


def lacks_likeness(record: dict) -> bool:
    """Whether a record is a scan's whose likeness is not known yet."""
    return record.get("kind") == "scan" and not record.get("likeness")


def other_scan(steps: list[dict], step_id: str, fresh: dict) -> list[dict]:
    """The recipe with another scan of the same part (``fresh``: its file's record) in a scan's place, laid onto it.

    Raises `BadInput` where there is no such scan, or its likeness is not known.
    """
    old = next((s for s in steps if s["id"] == step_id and s["kind"] == "scan"), None)
    if old is None:
        raise BadInput("There is no such scan in this job any more; choose another.", field="scan")
    if not old.get("likeness"):
        raise BadInput(
            "Another scan can be laid onto a mesh once that is read; this one is a cloud, or still being read.",
            field="scans",
        )
    kept = {k: old[k] for k in ("id", "name")}
    new = {**old, **fresh, **kept, "onto": old["likeness"]}  # where it lies it is as like as the first was
    return [new if s is old else s for s in steps]


class TextColumns(Record):
    """How a text file of points is read."""

    delimiter: Literal["spaces", "comma", "semicolon", "tab"] = Field("spaces", description="What parts the columns.")
    columns: list[str] = Field(
        max_length=64, description="What each column holds: x, y, z, nx, ny, nz, red, green, blue, intensity or skip."
    )
    skip: int = Field(0, ge=0, le=100_000, description="Lines before the first point.")
    decimal_comma: bool = Field(False, description="Decimals are written with a comma.")


class ScanTold(Told):
    """What every step that gives a scan says of it."""

    line: ClassVar[tuple[str, ...]] = ("is", "triangles", "points", "coloured", "bounds", "size")

    is_: Literal["mesh", "cloud"] = Field(alias="is")
    triangles: int
    points: int
    coloured: bool
    bounds: list[list[float]]
    size: str


class CaptureTold(ScanTold):
    line: ClassVar[tuple[str, ...]] = (*ScanTold.line, "file")

    file: str
    settled_rms: float | None = None


@register
class ScanStep(Step):
    """A captured mesh or cloud, in its own coordinates."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Scan"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"
    follows: ClassVar[tuple[str, ...]] = ("likeness",)
    tells: ClassVar[type[Told]] = CaptureTold

    kind: Literal["scan"] = "scan"
    file: FileName = Field(description="The original file's name.")
    sha256: FileRef = Field(description="Checksum of the original file.")
    units: Literal["mm", "cm", "m", "in"] = Field("mm", description="What the file's numbers are in.")
    layout: TextColumns | None = Field(None, description="How a text file's columns are read; none: as recognised.")
    likeness: list[Place] = Field(
        default_factory=list,
        max_length=5000,
        description="A few hundred places of the scan, so that another scan can be laid onto it.",
    )
    onto: list[Place] = Field(
        default_factory=list,
        max_length=5000,
        description="Places of the scan this one stands in for, where it is another scan of the same part.",
    )

    def run(self, context, progress):
        from ...scan.files import ReadScan, read_scan
        from ...scan.likeness import settle_onto
        from ...scan.mesh import TriMesh
        from ...scan.textpoints import TextLayout

        progress(0.05, f"Reading {self.file}")
        layout = None if self.layout is None else TextLayout(**self.layout.model_dump())
        read = read_scan(
            context.scan_file(self.sha256, self.name),
            self.units,
            layout,
            called=None if context.scan_replaced(self.name) else self.file,
        )
        first = self.likeness if context.scan_replaced(self.name) else self.onto
        if not first:
            return self.of_read(read)
        if not isinstance(read.scan, TriMesh):
            raise BadInput("A cloud cannot be laid onto the first scan's place; bring a mesh of the same part.")
        progress(0.5, "Laying the other scan onto the first")
        motion, rms = settle_onto(read.scan, first)
        laid = f"Another scan, laid onto the first one's place (rms {rms:.3f} mm)."
        out = self.of_read(ReadScan(read.scan.moved(motion), [laid, *read.warnings]))
        out.summary["settled_rms"] = rms
        return out

    def of_read(self, read: ReadScan) -> Outcome:
        """What `run` gives of its file, read already in the step's own unit and columns, without another to lie on."""
        return Outcome(read.scan, {**told(read.scan), "file": self.file}, " ".join(read.warnings))


def told(scan: TriMesh | PointCloud) -> dict:
    """What every step that gives a scan says of it."""

    from ...scan.files import size_in_words
    from ...scan.mesh import TriMesh

    mesh = scan if isinstance(scan, TriMesh) else None
    places = scan.vertices if isinstance(scan, TriMesh) else scan.points
    return {
        "is": "mesh" if mesh else "cloud",
        "triangles": len(mesh.faces) if mesh else 0,
        "points": len(places),
        "coloured": scan.colors is not None,
        "bounds": scan.bounds.tolist(),
        "size": size_in_words(scan.bounds),
    }
