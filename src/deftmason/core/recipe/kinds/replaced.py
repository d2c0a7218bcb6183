"""A face of a body replaced by a surface."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef
from ..step import Told, register
from .surface_edits import ShapedTold, as_shape, shaped
from .whole_bodies import BodyStep, gave

__all__: list[str] = []


@register
class ReplaceFaceStep(BodyStep):
    """A face of a body that becomes a surface, the faces around it led on to it."""

    title: ClassVar[str] = "Replace face"
    tells: ClassVar[type[Told]] = ShapedTold

    kind: Literal["replaceface"] = "replaceface"
    face: str | None = Field(None, description="The face that is replaced, by name.")
    by: BodyRef | None = Field(None, description="The surface it becomes.", json_schema_extra=shown("by"))

    def in_script(self, told, script):
        return as_shape(told, script, "a body with a face replaced by a surface")

    def run(self, context, progress):
        from ...kernel.replacing import face_replaced

        if not self.face:
            raise BadInput("Pick the face that is replaced.", field="face")
        if self.by is None or self.by == self.body:
            raise BadInput("Name the surface that the face becomes.", field="by")
        tool = context.output(self.by, "body")
        if tool.solid_count:
            raise BadInput("A face is replaced by a surface; this is a solid.", field="by")
        done = face_replaced(context.output(self.body, "body"), self.face, tool, self.name)
        return gave(done, [], **shaped(done))
