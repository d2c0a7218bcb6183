"""The part's own axes, from a first, a second and an origin datum."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ..references import DatumRef
from ..step import Outcome, Step, Told, register

__all__ = ["FrameStep", "frame_record", "frame_there"]


def frame_record(step_id: str, first: str, **more) -> dict:
    """The record of a frame that its first datum holds, and what ``more`` of its fields say."""
    return {"id": step_id, "kind": "frame", "name": "Frame", "first": first} | more


def frame_there(steps: list[dict]) -> str | None:
    """The first frame of a recipe, its step's id."""
    return next((s["id"] for s in steps if s["kind"] == "frame"), None)


class Miss(BaseModel):
    what: str
    datum: str
    degrees: float


class Order(BaseModel):
    """One order of trust: which datums come first and second, how far the second then misses (degrees, and mm at the
    part's edge), how far the part would land from where the chosen order puts it, and how far zero would lie from where
    it lies now, mm.
    """

    first: str
    second: str
    degrees: float
    edge_mm: float | None
    moves_mm: float | None
    zero_mm: float | None = None
    chosen: bool


class FrameTold(Told):
    """The frame as a rigid motion from the scan's coordinates (4 × 4), and how far each datum misses its ideal."""

    line: ClassVar[tuple[str, ...]] = ("matrix", "open_freedoms")

    matrix: list[list[float]]
    misses: list[Miss]
    open_freedoms: int
    open: list[str] = []
    orders: list[Order] = []


@register
class FrameStep(Step):
    """Axes set by datums; the scan sits on them from here on."""

    course: ClassVar[str] = "datums"
    title: ClassVar[str] = "Frame"
    produces: ClassVar[str] = "frame"
    tells: ClassVar[type[Told]] = FrameTold

    computation: ClassVar[int] = 5

    kind: Literal["frame"] = "frame"
    first: DatumRef = Field(description="Datum that holds the first axis exactly.")
    second: DatumRef | None = Field(None, description="Datum that stops the part turning.")
    origin: DatumRef | None = Field(None, description="Datum the zero point lies on.")
    first_axis: Literal["x", "y", "z"] = Field("z", description="Axis the first datum sets.")
    second_axis: Literal["x", "y", "z"] = Field("y", description="Axis the second datum sets.")
    flip_first: bool = Field(False, description="Turn the first axis round.")
    flip_second: bool = Field(False, description="Turn the second axis round.")

    def run(self, context, progress):
        f = self._set(context)
        worst = max((abs(m["degrees"]) for m in f.misses), default=0.0)
        says = ""
        if f.open_freedoms:
            says = f"Still open: {', '.join(f.open)}."
        elif worst > 1.0:
            says = f"A datum misses its ideal by {worst:.2f}°."
        summary = {
            "matrix": f.motion.matrix.tolist(),
            "misses": f.misses,
            "open_freedoms": f.open_freedoms,
            "open": f.open,
            "orders": self._orders(context, f.motion),
            "says": "active" if not f.open_freedoms else f"{f.open_freedoms} open",
        }
        return Outcome(f.motion, summary, says, "attention" if says else "sound")

    def _set(self, context, swapped: bool = False):
        from ...frame.align import set_frame

        def element(i):
            return None if i is None else context.output(i, "datum")["element"]

        turned = [(self.first, self.first_axis, self.flip_first), (self.second, self.second_axis, self.flip_second)]
        (first, first_axis, flip_first), (second, second_axis, flip_second) = turned[::-1] if swapped else turned
        return set_frame(
            element(first),
            element(second),
            element(self.origin),
            first_axis=first_axis,
            second_axis=second_axis,
            flip_first=flip_first,
            flip_second=flip_second,
        )

    def _orders(self, context, motion) -> list[dict]:
        """Both orders of trust of the first two datums, the chosen one first."""
        from scipy.spatial.distance import pdist

        from ...frame.align import farthest_move

        if self.second is None:
            return []
        edge = context.output(self.first, "datum").get("extremes")
        reach = None if edge is None else float(pdist(edge).max())
        out = []
        for swapped in (False, True):
            try:
                f = self._set(context, swapped)
            except BadInput:
                continue
            ids = (self.second, self.first) if swapped else (self.first, self.second)
            off = next((m["degrees"] for m in f.misses if m["datum"] == "second"), 0.0)
            out.append(
                {
                    "first": ids[0],
                    "second": ids[1],
                    "degrees": off,
                    "edge_mm": None if reach is None else abs(float(np.tan(np.radians(off)))) * reach,
                    "moves_mm": None if edge is None else farthest_move(f.motion, motion, edge),
                    "zero_mm": farthest_move(f.motion.inverse(), motion.inverse(), np.zeros((1, 3))),
                    "chosen": not swapped,
                }
            )
        return out
