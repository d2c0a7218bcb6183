"""A smooth sheet over an area of the scan: past its rim, or trimmed to it; nearer where it is brushed."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ...progress import part
from ..records import Length, shown
from ..references import DatumRef, FrameRef, ScanRef
from ..step import MarkRecord, Outcome, Step, Told, register, selected
from .bodied import BodyTold, body_summary, typed_value

__all__ = ["SheetStep"]

_JAGGED = 0.5  # of the scan's median edge: how far a rim is smoothed


class SheetTold(BodyTold):
    """What the area lies off the sheet, mm; ``spans`` each way; ``net`` its lines of even parameters in the scan's
    coordinates; ``closer`` rms where it was brushed closer, before and after, mm."""

    spans: int
    degree: int
    noise: float
    rms: float
    p95: float
    worst: float
    net: list[list[list[float]]]
    closer: list[float] | None
    surface: dict[str, Any]


@register
class SheetStep(Step):
    """One smooth patch over an area of the scan."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Sheet"
    produces: ClassVar[str] = "body"
    tells: ClassVar[type[Told]] = SheetTold

    kind: Literal["sheet"] = "sheet"
    scan: ScanRef = Field(description="The scan it is fitted to.")
    frame: FrameRef = Field(description="The frame it lies in.")
    marks: list[MarkRecord] = Field(default_factory=list, max_length=400, description="The area it lies over.")
    ends: Literal["past the rim", "at the rim"] = Field(
        "past the rim",
        description="Whether it reaches past the area, or is trimmed to it.",
        json_schema_extra=shown("ends", choices={"past the rim": "past the rim", "at the rim": "at the rim"}),
    )
    reach: Length = Field(
        5.0,
        ge=0,
        description="How far it reaches past the area's rim, mm.",
        json_schema_extra=shown("reaches past", "mm", step=1, when={"ends": "past the rim"}),
    )
    sides: list[Length] = Field(
        default_factory=list,
        max_length=4,
        description="How far on each side, where they differ: before and after along the longer side, then the other.",
    )
    closeness: float = Field(
        0.0,
        ge=-3,
        le=3,
        description="0 as the scan's noise asks; above it lies tighter, below calmer.",
        json_schema_extra=shown("tighter", step=0.25),
    )
    closer: list[MarkRecord] = Field(
        default_factory=list, max_length=400, description="Where it has to lie closer to the scan."
    )
    mirror: DatumRef | None = Field(
        None,
        description="A plane the area is one half about: the sheet lies over both, one face, even about it.",
        json_schema_extra=shown("mirrored in"),
    )

    def in_script(self, told, script):
        s = told["surface"]
        out = [f"# {script.word}: a spline surface as it was fitted", f"{script.word} = patched("]
        out += [f"    {s['degree']}, {s['spans']}, [", f"        {s['poles']!r},", "    ],"]
        if s["rims"]:
            out.append(f"    rims={s['rims']!r},")
        return [*out, ")"]

    def _reach(self) -> tuple[float, float, float, float]:
        if self.ends == "at the rim":
            return 0.0, 0.0, 0.0, 0.0
        if not self.sides:
            return self.reach, self.reach, self.reach, self.reach
        if len(self.sides) != 4 or min(self.sides) < 0:
            raise BadInput("Give how far it reaches on each of its four sides, 0 mm or more.", field="sides")
        a, b, c, d = self.sides
        return a, b, c, d

    def _plane(self, context: Any) -> tuple[np.ndarray, np.ndarray]:
        e = context.output(self.mirror, "datum")["element"]
        if e.kind != "plane":
            raise BadInput(f"A {e.kind} is no plane to mirror in; give a plane.", field="mirror")
        return e.point, e.normal

    def run(self, context, progress):
        from ...kernel.lofted import sewn
        from ...kernel.splined import spline_surface, surface_face
        from ...kernel.trimmed import rim_curves, trimmed_face
        from ...scan.mesh import TriMesh
        from ...surfaces.mirroring import even_about, with_image
        from ...surfaces.sheet import sheet_over
        from ...zones.noise import scan_noise

        if not self.marks:
            raise BadInput("Mark the area the sheet lies over.", field="marks")
        motion = context.output(self.frame, "frame")
        index = context.index(self.scan)
        area = np.asarray(selected(index, self.marks, part(progress, 0, 0.1)), bool)
        free = np.asarray(selected(index, self.closer), bool) if self.closer else None
        noise = scan_noise(index)
        mesh, plane = index.mesh, None
        if self.mirror is not None:
            plane = self._plane(context)
            mesh, of = with_image(TriMesh(mesh.vertices, mesh.faces[area]), *plane)
            free = None if free is None else free[area][of]
            area = np.ones(len(mesh.faces), bool)
        got = sheet_over(
            mesh,
            area,
            noise=noise,
            reach=self._reach(),
            closer=10**self.closeness,
            free=free,
            progress=part(progress, 0.1, 0.9),
        )
        network = got.network if plane is None else even_about(got.network, *plane)
        if network is None:
            raise BadInput("The sheet does not lie along the mirror plane; mark the area up to it.", field="mirror")
        net = network.moved(motion.points)
        poles = net.poles[net.ids[0]]
        size = float(np.linalg.norm(np.ptp(net.poles, axis=0)))
        off = np.full(2, _JAGGED * index.mesh.median_edge) / net.sizes[0]
        trimmed = self.ends == "at the rim"
        rims = rim_curves(got.rims, off) if trimmed else []
        if trimmed:
            surface = spline_surface(poles, net.knots, net.knots, net.degree, net.degree)
            face = trimmed_face(surface, rims)
        else:
            face = surface_face(poles, net.knots, net.knots, net.degree, net.degree)
        body = sewn([(face, f"{self.name}/sheet")], self.name, size, solid=False)
        grid = network.grid(13)[0]
        lines = np.concatenate([grid, np.swapaxes(grid, 0, 1)])
        summary = body_summary(body) | {
            "spans": net.spans,
            "degree": net.degree,
            "noise": noise,
            "rms": got.rms,
            "p95": got.p95,
            "worst": got.worst,
            "net": [] if trimmed else np.round(lines, 5).tolist(),
            "closer": None if got.closer is None else list(got.closer),
            "surface": {
                "degree": net.degree,
                "spans": net.spans,
                "poles": np.round(poles, 6).tolist(),
                "rims": [[np.round(k, 12).tolist(), np.round(p, 12).tolist()] for k, p in rims],
            },
            "readings": {},
        }
        values = [typed_value("closeness", "tighter", self.closeness, "typed", "", ["closeness"])]
        if not trimmed and not self.sides:
            values.append(typed_value("reach", "reaches past", self.reach, "typed", path=["reach"]))
        if not summary["valid"]:
            return Outcome(body, summary, "The sheet crosses itself; let it reach less far.", "failed", values)
        return Outcome(body, summary, "", "sound", values)
