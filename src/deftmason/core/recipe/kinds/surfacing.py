"""An organic body as smooth patches: what is not organic left out and bridged, laid out by itself or by hand."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ...progress import part
from ..records import Place, Record, shown
from ..references import FrameRef, ScanRef
from ..step import MarkRecord, Outcome, Step, Told, register
from .bodied import BodyTold, body_summary, typed_value
from .patched import DRAWN, JointsTold, joints_told, network_told, patches_in_script, working_copy

__all__ = ["SurfacingStep"]


class LayoutChange(Record):
    """One change of the layout by hand, at a place of the scan."""

    do: Literal["move", "split", "join"] = Field(
        "move", description="Move a corner, split the strip of patches through an edge, or take that strip out."
    )
    place: Place = Field(description="At the corner or edge, in the scan's coordinates, mm.")
    to: Place | None = Field(None, description="Where the corner goes, mm.")


class SurfacingTold(BodyTold):
    """``patches`` of ``spans`` each way; what the scan lies off them, mm; the layout's ``corners`` and ``edges`` as
    lines in the scan's coordinates; ``left_out`` share of the scan's area, ``holes`` closed in the working copy."""

    line: ClassVar[tuple[str, ...]] = (*BodyTold.line, "patches")

    patches: int
    spans: int
    degree: int
    noise: float
    rms: float
    p95: float
    worst: float
    joints: JointsTold
    corners: list[list[float]]
    edges: list[list[list[float]]]
    left_out: float
    holes: int
    network: dict[str, Any]


@register
class SurfacingStep(Step):
    """The organic part of a scan as a closed body of smooth patches."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Organic body"
    produces: ClassVar[str] = "body"
    quick: ClassVar[bool] = False
    tells: ClassVar[type[Told]] = SurfacingTold

    kind: Literal["surfacing"] = "surfacing"
    scan: ScanRef = Field(description="The scan it is fitted to.")
    frame: FrameRef = Field(description="The frame it lies in.")
    marks: list[MarkRecord] = Field(default_factory=list, max_length=400, description="What of the scan is marked.")
    marked: Literal["left out", "kept"] = Field(
        "left out",
        description="Whether the marks say what is not organic, or what is.",
        json_schema_extra=shown("what is marked is", choices={"left out": "left out", "kept": "kept"}),
    )
    patches: int = Field(
        60, ge=6, le=400, description="How many patches at most.", json_schema_extra=shown("patches at most", step=6)
    )
    closeness: float = Field(
        0.0,
        ge=-2,
        le=2,
        description="0 as the scan's noise asks; above follows it more closely, below runs calmer.",
        json_schema_extra=shown("closer", step=0.25),
    )
    by_hand: list[LayoutChange] = Field(
        default_factory=list, max_length=200, description="What of the layout was changed by hand, in order."
    )

    def in_script(self, told, script):
        return patches_in_script(told, script)

    def run(self, context, progress):
        from ...kernel.patches import network_body
        from ...surfaces.closed import found_layout, surfaced
        from ...surfaces.fitting import distances_to
        from ...zones.noise import scan_noise

        motion = context.output(self.frame, "frame")
        work, share, label = working_copy(context, self.scan, self.marks, self.marked, part(progress, 0, 0.1))
        noise = scan_noise(context.index(self.scan))
        layout = context.read(
            self.scan,
            (*label, "layout", self.patches),
            lambda: found_layout(work.mesh, self.patches, part(progress, 0.1, 0.4)),
        )
        held = start = None
        if self.by_hand:
            layout, held, start = _changed(work.mesh, layout, self.by_hand)
        got = surfaced(
            work.mesh,
            noise=noise,
            closer=10**self.closeness,
            layout=layout,
            held=held,
            start=start,
            progress=part(progress, 0.4, 0.9),
        )
        off = np.abs(distances_to(got.network, work.own))
        progress(0.9, "Sewing the patches")
        laid = got.network.moved(motion.points)
        body = network_body(laid, self.name, solid=True)
        net = got.network
        summary = body_summary(body) | {
            "patches": len(net.layout.quads),
            "spans": net.spans,
            "degree": net.degree,
            "noise": noise,
            "rms": float(np.sqrt((off**2).mean())),
            "p95": float(np.quantile(off, 0.95)),
            "worst": float(off.max()),
            "joints": joints_told(body),
            "corners": np.round(net.layout.corners, 5).tolist(),
            "edges": np.round(net.edge_lines(DRAWN), 5).tolist(),
            "left_out": share,
            "holes": work.holes,
            "network": network_told(laid),
            "readings": {},
        }
        values = [typed_value("closeness", "closer", self.closeness, "typed", "", ["closeness"])]
        if not summary["valid"]:
            return Outcome(body, summary, "The body crosses itself; change its layout.", "failed", values)
        return Outcome(body, summary, " ".join(work.warnings), "sound", values)


def _changed(mesh: Any, layout: Any, changes: list[LayoutChange]):
    """The layout with what was changed by hand, which of its corners stay, and its patches' grids."""
    from ...surfaces.changing import WHOLE, grids_of, joined, moved, nearest_corner, nearest_edge, split
    from ...surfaces.closed import drawn_layout

    drawn = drawn_layout(mesh, layout)
    put: list[tuple[np.ndarray, np.ndarray]] = []
    for c in changes:
        place = np.array(c.place, float)
        if c.do == "move":
            if c.to is None:
                raise BadInput("Say where the corner goes.", field="by_hand")
            put.append((place, np.array(c.to, float)))
            continue
        made, came = (split if c.do == "split" else joined)(drawn.layout, nearest_edge(drawn.edge_lines(DRAWN), place))
        drawn = drawn_layout(mesh, made, grids_of(drawn, made, came, 9))
    # Corners are put where they go once the patches are what they are.
    held = np.zeros(len(drawn.layout.corners), bool)
    made, came = drawn.layout, [(k, WHOLE) for k in range(len(drawn.layout.quads))]
    for place, to in put:
        corner = nearest_corner(drawn.layout, place)
        held[corner] = True
        made, came = moved(made, corner, to)
    return made, held, grids_of(drawn, made, came, 9)
