"""The part's own axes, from a first, a second and an origin datum."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import BaseModel, Field

from ..references import DatumRef
from ..step import Outcome, Step, Told, register


class Miss(BaseModel):
    what: str
    datum: str
    degrees: float


class FrameTold(Told):
    """The frame as a rigid motion from the scan's coordinates (4 × 4), and how far each datum misses its ideal."""

    line: ClassVar[tuple[str, ...]] = ("matrix", "open_freedoms")

    matrix: list[list[float]]
    misses: list[Miss]
    open_freedoms: int


@register
class FrameStep(Step):
    """Axes set by datums; the scan sits on them from here on."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Frame"
    produces: ClassVar[str] = "frame"
    tells: ClassVar[type[Told]] = FrameTold

    kind: Literal["frame"] = "frame"
    first: DatumRef = Field(description="Datum that holds the first axis exactly.")
    second: DatumRef | None = Field(None, description="Datum that stops the part turning.")
    origin: DatumRef | None = Field(None, description="Datum the zero point lies on.")
    first_axis: Literal["x", "y", "z"] = Field("z", description="Axis the first datum sets.")
    second_axis: Literal["x", "y", "z"] = Field("y", description="Axis the second datum sets.")
    flip_first: bool = Field(False, description="Turn the first axis round.")
    flip_second: bool = Field(False, description="Turn the second axis round.")

    def run(self, context, progress):
        from ...frame.align import set_frame

        def element(i):
            return None if i is None else context.output(i, "datum")["element"]

        f = set_frame(
            element(self.first),
            element(self.second),
            element(self.origin),
            first_axis=self.first_axis,
            second_axis=self.second_axis,
            flip_first=self.flip_first,
            flip_second=self.flip_second,
        )
        worst = max((abs(m["degrees"]) for m in f.misses), default=0.0)
        says = ""
        if f.open_freedoms:
            says = f"{f.open_freedoms} of 6 freedoms are still open."
        elif worst > 1.0:
            says = f"A datum misses its ideal by {worst:.2f}°."
        summary = {
            "matrix": f.motion.matrix.tolist(),
            "misses": f.misses,
            "open_freedoms": f.open_freedoms,
            "says": "active" if not f.open_freedoms else f"{f.open_freedoms} open",
        }
        return Outcome(f.motion, summary, says, "attention" if says else "sound")
