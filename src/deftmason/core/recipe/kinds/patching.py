"""Smooth patches between curves: one inside a loop, many in a net, running on into the surfaces beside them."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ...progress import part
from ..records import Place, shown
from ..references import BodyRef, CurveRef, FrameRef, ScanRef
from ..step import MarkRecord, Outcome, Step, Told, register
from .bodied import BodyTold, body_summary, typed_value
from .patched import DRAWN, JointsTold, joints_told, network_told, patches_in_script, working_copy

__all__ = ["PatchingStep"]

_BESIDE = 0.01  # of the curves' size: rims so near a surface lie on it
_ALONG = 200  # places along each piece of a curve
_MEETS = {"edge": 0, "tangent": 1, "curvature": 2}


class RimsMeetTold(BaseModel):
    """How the rims meet the surfaces beside them: the ``length`` that does, mm; the widest ``gap``, mm; the greatest
    ``angle``, degrees; by how much the bending across differs at most (``bend``, per mm) and how much there is of it.
    """

    length: float
    gap: float
    angle: float
    bend: float
    bent: float


class NetRegionTold(BaseModel):
    """A region of the net: its ``corners``, a ``place`` inside it in the scan's coordinates, whether it is filled."""

    corners: int
    place: list[float]
    filled: bool


class PatchingTold(BodyTold):
    """``patches`` of ``spans`` each way; what the scan lies off them, mm; how far ``rims`` lie off their curves, mm;
    ``edges`` of the patches as lines in the scan's coordinates."""

    line: ClassVar[tuple[str, ...]] = (*BodyTold.line, "patches")

    patches: int
    spans: int
    degree: int
    noise: float
    rms: float
    p95: float
    worst: float
    rims: float | None
    joints: JointsTold
    meeting: RimsMeetTold | None
    regions: list[NetRegionTold]
    edges: list[list[list[float]]]
    network: dict[str, Any]


@register
class PatchingStep(Step):
    """Patches in the regions between curves."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Patches"
    produces: ClassVar[str] = "body"
    quick: ClassVar[bool] = False
    tells: ClassVar[type[Told]] = PatchingTold

    kind: Literal["patching"] = "patching"
    scan: ScanRef = Field(description="The scan they are fitted to.")
    frame: FrameRef = Field(description="The frame they lie in.")
    curves: list[CurveRef] = Field(
        default_factory=list,
        max_length=200,
        description="The curves they lie between.",
        json_schema_extra=shown("curves"),
    )
    whole: bool = Field(
        False,
        description="Every region is filled; otherwise the largest, outside the net, is left open.",
        json_schema_extra=shown("fill every region"),
    )
    turned: list[Place] = Field(
        default_factory=list,
        max_length=200,
        description="Places in regions that are left open although they would be filled, or the other way.",
    )
    marks: list[MarkRecord] = Field(
        default_factory=list, max_length=400, description="What of the scan they do not follow: it is bridged."
    )
    beside: list[BodyRef] = Field(
        default_factory=list,
        max_length=40,
        description="Surfaces their rims lie on.",
        json_schema_extra=shown("runs on into"),
    )
    meets: Literal["edge", "tangent", "curvature"] = Field(
        "tangent",
        description="How they go on from there: only at the edge, without a kink, or bending alike.",
        json_schema_extra=shown(
            "meets", choices={"edge": "at the edge", "tangent": "without a kink", "curvature": "bending alike"}
        ),
    )
    closeness: float = Field(
        0.0,
        ge=-3,
        le=3,
        description="0 as the scan's noise asks; above follows it more closely, below runs calmer.",
        json_schema_extra=shown("closer", step=0.25),
    )

    def in_script(self, told, script):
        return patches_in_script(told, script)

    def run(self, context, progress):
        from ...kernel.beside import beside
        from ...kernel.patches import network_body
        from ...surfaces.fitting import distances_to
        from ...surfaces.netted import netted
        from ...zones.noise import scan_noise

        if not self.curves:
            raise BadInput("Name the curves that the patches lie between.", field="curves")
        motion = context.output(self.frame, "frame")
        back = motion.inverse()
        curves = []
        for ref in self.curves:
            c = context.output(ref, "curve")
            t = np.linspace(0, 1, _ALONG)
            places = np.vstack([piece.at(piece.parameter(t * piece.length)) for piece in c.pieces])
            curves.append((back.points(places), bool(c.closed)))
        size = float(np.linalg.norm(np.ptp(np.vstack([c for c, _ in curves]), axis=0)))
        mesh, own = context.index(self.scan).mesh, None
        if self.marks:
            work, *_ = working_copy(context, self.scan, self.marks, "left out", part(progress, 0, 0.2))
            mesh, own = work.mesh, work.own
        noise = scan_noise(context.index(self.scan))
        runs_on = None
        if self.beside:
            asked = beside([context.output(b, "body") for b in self.beside], _BESIDE * size)

            def runs_on(p: np.ndarray):
                on, feet, normals, bends = asked(motion.points(p))
                turn = motion.rotation
                return on, back.points(feet), back.vectors(normals), turn.T @ bends @ turn

        got = netted(
            mesh,
            curves,
            words=[f"'{context.called(c)}'" for c in self.curves],
            whole=self.whole,
            turned=np.array(self.turned, float) if self.turned else None,
            beside=runs_on,
            smooth=_MEETS[self.meets],
            noise=noise,
            closer=10**self.closeness,
            progress=part(progress, 0.2, 0.9),
        )
        progress(0.9, "Sewing the patches")
        net = got.fit.network
        laid = net.moved(motion.points)
        solid = not len(net.layout.rim)
        body = network_body(laid, self.name, solid=solid)
        off = None if own is None or not solid else np.abs(distances_to(net, own))
        summary = body_summary(body) | {
            "patches": len(net.layout.quads),
            "spans": net.spans,
            "degree": net.degree,
            "noise": noise,
            "rms": got.fit.rms if off is None else float(np.sqrt((off**2).mean())),
            "p95": got.fit.p95 if off is None else float(np.quantile(off, 0.95)),
            "worst": got.fit.worst if off is None else float(off.max()),
            "rims": got.rims_off,
            "joints": joints_told(body),
            "meeting": got.meeting,
            "regions": [
                {"corners": c, "place": np.round(p, 5).tolist(), "filled": bool(f)}
                for c, p, f in zip(got.corners, got.places, got.filled)
            ],
            "edges": np.round(net.edge_lines(DRAWN), 5).tolist(),
            "network": network_told(laid),
            "readings": {},
        }
        values = [typed_value("closeness", "closer", self.closeness, "typed", "", ["closeness"])]
        if not summary["valid"]:
            return Outcome(body, summary, "The patches cross each other; redraw the curves.", "failed", values)
        return Outcome(body, summary, "", "sound", values)
