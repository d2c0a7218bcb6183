"""A thread's ridge or groove along a helix, with the profile the scan shows, joined to a body or cut from it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, CurveRef, FrameRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import BodyTold, body_summary, settled, vector
from .curved import curve_in_script

if TYPE_CHECKING:
    from ...curves.spatial import SpaceCurve

__all__ = ["ThreadStep"]


class ThreadTold(BodyTold):
    """``paths`` one for each start, as their pieces; ``outline`` the profile's corners (4 × 3) in the frame; the axis'
    direction ``up``."""

    paths: list[list[dict[str, Any]]]
    outlines: list[list[list[float]]]
    up: list[float]
    length: float


@register
class ThreadStep(Step):
    """A ridge joined, or a groove cut, all along a helix."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Thread"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = ThreadTold
    quick: ClassVar[bool] = False

    kind: Literal["thread"] = "thread"
    helix: CurveRef = Field(description="The helix it follows.", json_schema_extra=shown("helix"))
    frame: FrameRef = Field(description="The frame it lies in.")
    body: BodyRef | None = Field(
        None,
        description="The body it is joined to or cut from; none: it stands alone.",
        json_schema_extra=shown("body"),
    )
    how: Literal["join", "cut"] = Field(
        "join",
        description="A ridge joined, or a groove cut.",
        json_schema_extra=shown("is", choices={"join": "a ridge", "cut": "a groove"}),
    )
    tip: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"),
        description="Width of the ridge's tip, or the groove's bottom, along the axis, mm; none: as the scan says.",
        json_schema_extra=shown("tip width", "mm", step=0.1, empty="as the scan says"),
    )
    foot: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"),
        description="Width of its foot along the axis, mm; none: as the scan says.",
        json_schema_extra=shown("foot width", "mm", step=0.1, empty="as the scan says"),
    )

    def in_script(self, told, script):
        word, out, tools = script.word, [], []
        for k, (path, corners) in enumerate(zip(told["paths"], told["outlines"])):
            out += curve_in_script({"pieces": path}, f"{word}_path_{k + 1}")
            ring = f"Wire.make_polygon([{', '.join(f'Vector{vector(c)}' for c in corners)}], close=True)"
            tools.append(f"swept({ring}, {word}_path_{k + 1}, 'upright', {vector(told['up'])}, None)")
        sign = "+" if self.how == "join" else "-"
        first = [script.named(self.body)] if self.body else []
        return [*out, f"{word} = " + f" {sign} ".join(first + tools)]

    def run(self, context, progress):
        from ...features.evidence import Reading
        from ...kernel.ridges import outline_at, wound

        told = context.outcome(self.helix).summary
        if "profile" not in told or "frame_axis" not in told:
            raise BadInput("A thread follows a helix read from a scan; name one.", field="helix")
        if self.how == "cut" and self.body is None:
            raise BadInput("Name the body the groove is cut from.", field="body")
        helix: SpaceCurve = context.output(self.helix, "curve")
        point, up = (np.array(v) for v in told["frame_axis"])
        # A groove is the same outline seen from the other side: its tip lies at the root.
        groove = self.how == "cut"
        widths = _widths(np.array(told["profile"]), told["inside"] != groove)
        readings, values, widest = {}, [], told["pitch"]
        for name, label in (("tip", "tip width"), ("foot", "foot width")):
            r = Reading(widths[name], 0.02 * told["pitch"], 1, told["rms"])
            chosen, source = settled(getattr(self, name), r)
            if not 0 <= chosen < widest * (1 + 1e-6):
                raise BadInput(f"The {label} is between 0 and the pitch, {widest:.4g} mm.", field=name)
            readings[name] = r
            values.append(Value(name, label, r.value, r.uncertainty, chosen, source, "mm", None, [name, "value"]))
        tip, foot = values[0].chosen, values[1].chosen
        if foot <= tip:
            raise BadInput("A thread's foot is wider than its tip; choose other widths.", field="foot")
        on, off = (told["crest"][0], told["root"][0]) if not groove else (told["root"][0], told["crest"][0])
        outline = outline_at(helix.at([0.0])[0], point, up, (on, off), (tip, foot))
        body = context.output(self.body, "body") if self.body else None
        progress(0.2, "Winding the thread")
        got = wound(body, self.how, helix, outline, (point, up), told["starts"], self.name)
        summary = body_summary(got.body) | {
            "paths": [[q.told() for q in p.pieces] for p in got.paths],
            "outlines": [c.tolist() for c in got.outlines],
            "up": up.tolist(),
            "length": helix.length,
            "readings": {k: vars(r) for k, r in readings.items()},
        }
        return Outcome(got.body, summary, "", "sound", values)


def _widths(profile: np.ndarray, inward: bool) -> dict[str, float]:
    """Widths (mm along the axis) of a ridge's tip and foot, from one pitch of the mean profile (k, 2): where straight
    flanks through the middle half of its depth meet tip and foot."""
    q, r = profile.T
    pitch = (q[-1] - q[0]) * len(q) / (len(q) - 1)
    r = -r if inward else r
    top = int(np.argmax(np.convolve(np.tile(r, 3), np.ones(5) / 5, "same")[len(r) : 2 * len(r)]))
    at = (q - q[top] + 0.5 * pitch) % pitch - 0.5 * pitch
    order = np.argsort(at)
    at, r = at[order], r[order]
    high, low = np.percentile(r, 97), np.percentile(r, 3)
    share = (r - low) / (high - low)
    tips, feet = [], []
    for side in (-1, 1):
        flank = (share > 0.25) & (share < 0.75) & (side * at > 0)
        if flank.sum() < 2:
            return {"tip": 0.1 * pitch, "foot": 0.9 * pitch}
        slope, begin = np.polyfit(share[flank], side * at[flank], 1)
        tips.append(begin + slope)
        feet.append(begin)
    return {"tip": max(float(sum(tips)), 0.0), "foot": min(float(sum(feet)), 0.98 * pitch)}
