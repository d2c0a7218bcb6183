"""Surfaces stitched to one, and thickened to solids."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef
from ..step import Chosen, Told, register
from .bodied import BodyTold, number, typed_value
from .whole_bodies import BodyStep, gave

__all__ = ["StitchStep", "ThickenStep"]


class StitchTold(BodyTold):
    """``open_rims`` edges that no other meets; ``gap`` the widest that was closed, mm."""

    open_rims: int
    gap: float


@register
class StitchStep(BodyStep):
    """Surfaces made one where their rims meet; a solid where they close."""

    title: ClassVar[str] = "Stitch"
    tells: ClassVar[type[Told]] = StitchTold

    kind: Literal["stitch"] = "stitch"
    others: list[BodyRef] = Field(
        default_factory=list,
        max_length=100,
        description="The surfaces it is stitched to.",
        json_schema_extra=shown("to"),
    )
    reach: Chosen = Field(
        default_factory=lambda: Chosen(value=0.05, source="typed"),
        description="Rims so far apart are closed, mm.",
        json_schema_extra=shown("closes gaps to", "mm", step=0.01),
    )

    def in_script(self, told, script):
        parts = [script.named(self.body), *(script.named(o) for o in self.others)]
        return [f"{script.word} = stitched([{', '.join(parts)}], {script.value('reach')})"]

    def run(self, context, progress):
        from ...kernel.shells import stitched

        if not self.others:
            raise BadInput("Name at least one other surface to stitch to.", field="others")
        if self.body in self.others:
            raise BadInput("A surface cannot be stitched to itself; take it out.", field="others")
        reach = number(self.reach, "how wide gaps are closed, in mm", "reach")
        if reach <= 0:
            raise BadInput("Gaps are closed up to more than 0 mm; choose another.", field="reach")
        bodies = [context.output(b, "body") for b in (self.body, *self.others)]
        got = stitched(bodies, reach, self.name)
        says = "" if got.open == 0 else f"{got.open} rims stay open; it is a surface."
        value = typed_value("reach", "closes gaps to", reach, self.reach.source)
        return gave(got.body, [value], says, open_rims=got.open, gap=got.gap)


@register
class ThickenStep(BodyStep):
    """A surface as a solid of one thickness."""

    title: ClassVar[str] = "Thicken"

    kind: Literal["thicken"] = "thicken"
    thickness: Chosen = Field(
        default_factory=lambda: Chosen(value=4.0, source="hand reading"),
        description="How thick, mm; less than 0: to the other side.",
        json_schema_extra=shown("thickness", "mm", step=0.5),
    )

    def in_script(self, told, script):
        return [f"{script.word} = thickened({script.named(self.body)}, {script.value('thickness')})"]

    def run(self, context, progress):
        from ...kernel.shells import thickened

        thick = number(self.thickness, "how thick it is, in mm", "thickness")
        done = thickened(context.output(self.body, "body"), thick, self.name)
        return gave(done, [typed_value("thickness", "thickness", thick, self.thickness.source)])
