"""Round edges with a radius read from the scan."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..references import BodyRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .extrude import BodyTold, body_summary, settled


class FilletTold(BodyTold):
    radius: float
    edges: int
    middles: list[list[float]]


@register
class FilletStep(Step):
    """A constant-radius rounding along named edges and what runs smoothly on from them."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Fillet"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = FilletTold

    kind: Literal["fillet"] = "fillet"
    body: BodyRef = Field(description="The body whose edges are rounded.")
    scan: ScanRef = Field(description="The scan the radius is read from.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    edges: list[tuple[str, str, int]] = Field(
        max_length=400, description="Edges by the names of their two faces, and a number among several."
    )
    radius: Chosen = Field(default_factory=lambda: Chosen(), description="Radius in mm; none: as the scan says.")

    def in_script(self, told, script):
        places = [tuple(round(c, 6) for c in p) for p in told["middles"]]
        return [f"{script.word} = fillet(edges_at({script.named(self.body)}, {places!r}), {script.value('radius')})"]

    def run(self, context, progress):
        from ...features.evidence import edge_radius
        from ...kernel.features import fillet_edges
        from ...kernel.surfaces import face_surfaces
        from ...kernel.tessellate import edge_polylines

        body = context.output(self.body, "body")
        if not self.edges:
            raise BadInput("Pick at least one edge of the body to round.", field="edges")
        surfaces = {s.name: s for s in face_surfaces(body)}
        lines, normals = [], []
        chain = {tuple(n): p for n, p in edge_polylines(body, 0.05)}
        for name in self.edges:
            line = chain.get(tuple(name))
            if line is None:
                raise BadInput(f"The body has no edge between '{name[0]}' and '{name[1]}' any more.", field="edges")
            middle = line[[len(line) // 2]] if len(line) > 2 else line.mean(axis=0, keepdims=True)
            pair = [surfaces[n] for n in name[:2]]
            if all(s.element is not None for s in pair):
                lines.append(line)
                normals.append(tuple(s.element.normals(middle)[0] * s.outward for s in pair))
        motion = context.output(self.frame, "frame")
        reading = edge_radius(context.index(self.scan), motion, lines, normals)
        if reading is None and self.radius.value is None:
            raise BadInput("The scan shows too little of these edges to read a radius; type one.", field="radius")
        radius, source = settled(self.radius, reading) if reading else (self.radius.value, self.radius.source)
        result = fillet_edges(body, [(tuple(n), radius) for n in self.edges], self.name)
        summary = body_summary(result)
        summary |= {
            "radius": radius,
            "edges": len(self.edges),
            "readings": {"radius": vars(reading)} if reading else {},
        }
        value = Value(
            "radius",
            "R",
            reading.value if reading else None,
            reading.uncertainty if reading else None,
            radius,
            source,
            "mm",
            None,
            ["radius", "value"],
        )
        says, status = "", "sound"
        if reading and abs(reading.value - radius) > max(0.25 * radius, 5 * reading.uncertainty, 0.2):
            status, says = (
                "attention",
                f"The scan says R {reading.value:.2f} ± {reading.uncertainty:.2f}; chosen is {radius:g}.",
            )
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this fillet; take a smaller radius."
        summary["middles"] = [np.asarray(chain[tuple(n)]).mean(axis=0).tolist() for n in self.edges]
        return Outcome(result, summary, says, status, [value])
