"""Edges rounded with a radius read from the scan, or cut off."""

from __future__ import annotations

import hashlib
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import BodyTold, body_summary, number, settled, typed_value
from .edges import edges_there, middle_of, said_of_lost


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
    computation: ClassVar[int] = 2

    kind: Literal["fillet"] = "fillet"
    body: BodyRef = Field(description="The body whose edges are rounded.")
    scan: ScanRef = Field(description="The scan the radius is read from.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    edges: list[tuple[str, str, str | int]] = Field(
        max_length=400, description="Edges by the names of their two faces, and what tells one of several apart."
    )
    radius: Chosen = Field(default_factory=lambda: Chosen(), description="Radius in mm; none: as the scan says.")

    def in_script(self, told, script):
        places = [tuple(round(c, 6) for c in p) for p in told["middles"]]
        if not places:
            return [f"{script.word} = {script.named(self.body)}"]
        return [f"{script.word} = fillet(edges_at({script.named(self.body)}, {places!r}), {script.value('radius')})"]

    def run(self, context, progress):
        from ...features.evidence import BodyEdge, edge_radius, stretches_of
        from ...kernel.beside import normals_on
        from ...kernel.features import fillet_edges
        from ...kernel.surfaces import face_surfaces
        from ...kernel.tessellate import FINE, diagonal_of, edge_polylines

        body = context.output(self.body, "body")
        if not self.edges:
            raise BadInput("Pick at least one edge of the body to round.", field="edges")
        surfaces = {s.name: s for s in face_surfaces(body)}
        every = edge_polylines(body, FINE * diagonal_of(body))
        chain, faces = dict(every), body.edge_faces()
        there, lost = edges_there(body, self.edges, every)
        edges: list[BodyEdge] = []
        facet = context.index(self.scan).mesh.median_edge
        for name in there:
            line = chain[name]
            middle = line[[len(line) // 2]] if len(line) > 2 else line.mean(axis=0, keepdims=True)
            pair = [surfaces[n] for n in faces[name]]
            known_faces = all(s.element is not None for s in pair)
            held = tuple((s.element, s.outward) for s in pair) if known_faces else None
            if len(line) == 2 and known_faces:
                normals = tuple(s.element.normals(middle)[0] * s.outward for s in pair)
                edges.append(BodyEdge(line, held, [(line, normals)]))
                continue
            # A bent edge, or one of free faces: by stretches, each between the faces as they look there.
            parts = stretches_of(line, facet)
            middles = np.array([q.mean(axis=0) for q in parts]).reshape(-1, 3)
            looks = [normals_on(body, n, middles) for n in faces[name]] if parts else [[], []]
            edges.append(BodyEdge(line, held, list(zip(parts, zip(*looks)))))
        motion = context.output(self.frame, "frame")
        known = self.radius.value is not None and not context.reads
        lines = [np.asarray(x, float) for e in edges for x in (e.line, *(y for part in e.parts for y in part))]
        sides = repr([[(s.kind, s.parameters(), out) for s, out in e.faces or ()] for e in edges])
        seen = hashlib.sha256(b"".join([*(x.tobytes() for x in lines), sides.encode()])).hexdigest()

        def read():
            return edge_radius(context.index(self.scan), motion, edges, body.solid_count > 0)

        reading = None if known else context.read(self.scan, (context.key_of(self.frame), "edge", seen), read)
        if reading is None and self.radius.value is None and there:
            raise BadInput("The scan shows too little of these edges to read a radius; type one.", field="radius")
        radius, source = settled(self.radius, reading) if reading else (self.radius.value or 0.0, self.radius.source)
        result = fillet_edges(body, [(n, radius) for n in there], self.name) if there else body
        summary = body_summary(result)
        summary |= {
            "radius": radius,
            "edges": len(there),
            "readings": {"radius": vars(reading)} if reading else {},
            "lost_parts": lost,
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
        if reading and abs(reading.value - radius) > max(0.25 * radius, 5 * reading.uncertainty):
            status, says = (
                "attention",
                f"The scan says R {reading.value:.2f} ± {2 * reading.uncertainty:.2f}; chosen is {radius:g}.",
            )
        if lost:
            status, says = "attention", said_of_lost(lost, "it is not rounded.")
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this fillet; take a smaller radius."
        summary["middles"] = [middle_of(chain[n]) for n in there]
        return Outcome(result, summary, says, status, [value])


class ChamferTold(BodyTold):
    leg: float
    edges: int
    middles: list[list[float]]


@register
class ChamferStep(Step):
    """Named edges, and what runs smoothly on from them, cut off by a leg."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Chamfer"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = ChamferTold

    kind: Literal["chamfer"] = "chamfer"
    body: BodyRef = Field(description="The body whose edges are cut off.")
    edges: list[tuple[str, str, str | int]] = Field(
        max_length=400, description="Edges by the names of their two faces, and what tells one of several apart."
    )
    leg: Chosen = Field(
        default_factory=lambda: Chosen(value=1.0, source="typed"),
        description="How far from the edge it is cut on either face, mm.",
        json_schema_extra=shown("leg", "mm", step=0.5),
    )

    def in_script(self, told, script):
        places = [tuple(round(c, 6) for c in p) for p in told["middles"]]
        if not places:
            return [f"{script.word} = {script.named(self.body)}"]
        return [f"{script.word} = chamfer(edges_at({script.named(self.body)}, {places!r}), {script.value('leg')})"]

    def run(self, context, progress):
        from ...kernel.features import bevel_edges
        from ...kernel.tessellate import FINE, diagonal_of, edge_polylines

        body = context.output(self.body, "body")
        if not self.edges:
            raise BadInput("Pick at least one edge of the body to cut off.", field="edges")
        leg = number(self.leg, "the leg, in mm", "leg")
        every = edge_polylines(body, FINE * diagonal_of(body))
        chain = dict(every)
        there, lost = edges_there(body, self.edges, every)
        result = bevel_edges(body, [(n, leg) for n in there], self.name) if there else body
        summary = body_summary(result) | {"leg": leg, "edges": len(there), "readings": {}, "lost_parts": lost}
        summary["middles"] = [middle_of(chain[n]) for n in there]
        says, status = said_of_lost(lost, "it is not cut off."), "attention" if lost else "sound"
        if not summary["valid"]:
            status, says = "failed", "The body is not valid after this chamfer; take a smaller leg."
        return Outcome(result, summary, says, status, [typed_value("leg", "leg", leg, self.leg.source)])
