"""A model made elsewhere, brought in from its file to be compared with, its faces under the file's own names."""

from __future__ import annotations

import os
from typing import ClassVar, Literal

from pydantic import Field

from ..records import FileName, one_line
from ..references import FileRef
from ..step import Outcome, Step, Told, register
from .bodied import BodyTold, body_summary

__all__ = ["ModelStep", "model_record"]


def model_record(sha256: str, file: str) -> dict:
    """The record of a model file's own step, without an id."""
    name = one_line(os.path.splitext(file)[0])[:70].strip() or "Model"
    return {"kind": "model", "name": name, "file": file, "sha256": sha256}


class ModelTold(BodyTold):
    line: ClassVar[tuple[str, ...]] = (*BodyTold.line, "file")

    file: str


@register
class ModelStep(Step):
    """A model from a STEP, IGES or B-rep file, in the frame's coordinates."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Foreign model"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "model"
    tells: ClassVar[type[Told]] = ModelTold

    kind: Literal["model"] = "model"
    file: FileName = Field(description="The original file's name.")
    sha256: FileRef = Field(description="Checksum of the original file.")

    def run(self, context, progress):
        from ...kernel.files import read_model

        progress(0.05, f"Reading {self.file}")
        body = read_model(context.scan_file(self.sha256, self.name), called=self.file)
        summary = body_summary(body) | {"readings": {}, "file": self.file}
        says = (
            "" if summary["valid"] else "The file's model is damaged: distances near its damaged places may be wrong."
        )
        return Outcome(body, summary, says, "sound" if summary["valid"] else "attention")
