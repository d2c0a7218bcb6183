"""A skin over sections, led by guides where there are any: a solid, or a surface of open sections."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import shown
from ..references import BodyRef, CurveRef, FrameRef, SketchRef
from ..step import Outcome, Step, Told, register
from .bodied import BodyTold, body_summary, curve_of_entity, wanted_loops
from .sweep import HOW, joined_to

__all__ = ["LoftStep"]


class LoftTold(BodyTold):
    """``matches`` lines from section to section where their corners belong together, in the frame and (``shown``) in
    the scan's coordinates; ``strips`` the grids of places the faces go through, with their parameters."""

    matches: list[list[list[float]]]
    shown: list[list[list[float]]]
    strips: list[dict[str, Any]]
    sections: int


@register
class LoftStep(Step):
    """A body or surface from section to section."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Loft"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = LoftTold

    kind: Literal["loft"] = "loft"
    frame: FrameRef = Field(description="The frame the sections lie in.")
    sections: list[SketchRef] = Field(
        default_factory=list,
        max_length=60,
        description="The sketches it goes through, in order.",
        json_schema_extra=shown("sections"),
    )
    guides: list[CurveRef] = Field(
        default_factory=list,
        max_length=20,
        description="Curves it follows between them.",
        json_schema_extra=shown("guides"),
    )
    ruled: bool = Field(
        False, description="Straight from section to section.", json_schema_extra=shown("straight between sections")
    )
    begin: Literal["free", "square"] = Field(
        "free",
        description="How it leaves the first section.",
        json_schema_extra=shown("begins", choices={"free": "begins free", "square": "begins square"}),
    )
    end: Literal["free", "square"] = Field(
        "free",
        description="How it reaches the last section.",
        json_schema_extra=shown("ends", choices={"free": "ends free", "square": "ends square"}),
    )
    starts: list[int] = Field(
        default_factory=list,
        max_length=60,
        description="By section, how many corners on from where it is found that it begins.",
    )
    result: Literal["solid", "surface"] = Field(
        "solid",
        description="A solid of closed sections, or a surface.",
        json_schema_extra=shown("gives", choices={"solid": "a solid", "surface": "a surface"}),
    )
    body: BodyRef | None = Field(
        None, description="The body to join to or cut from; none makes a new one.", json_schema_extra=shown("body")
    )
    how: Literal["join", "cut", "intersect"] = Field(
        "join", description="What to do with the body.", json_schema_extra=shown("how", choices=HOW)
    )

    def in_script(self, told, script):
        word = script.word
        out = [f"{word}_tool = skinned(["]
        for s in told["strips"]:
            out.append(f"    ({s['u']!r}, {s['v']!r}, {s['grid']!r}, {s['straight']!r}),")
        out.append(f"], solid={self.result == 'solid'!r})")
        if self.body is None:
            return [*out, f"{word} = {word}_tool"]
        sign = {"join": "+", "cut": "-", "intersect": "&"}[self.how]
        return [*out, f"{word} = {script.named(self.body)} {sign} {word}_tool"]

    def _section(self, context: Any, ref: str):
        from ...curves.spatial import SpaceCurve, joined
        from ...kernel.features import PaperPlane, paper_edge
        from ...kernel.spatial import edge_piece

        sketch = context.output(ref, "sketch")
        p = sketch["plane"]
        paper = PaperPlane(p.origin, p.normal, p.u)
        entities = {e["id"]: e for e in sketch["geometry"]}
        if self.result == "solid":
            wanted = sketch["loops"][wanted_loops(sketch, [])[0]]
        else:
            wanted = [i for i, e in entities.items() if e["kind"] != "point" and not e.get("construction")]
        if not wanted:
            raise BadInput(f"Nothing is drawn in '{context.called(ref)}'; draw a section first.", field="sections")
        pieces, names = [], []
        for i in wanted:
            e = entities[i]
            made = edge_piece(paper_edge(curve_of_entity(e), paper, 0.0))
            pieces += made
            names += [i] if len(made) == 1 else [f"{i}.{k + 1}" for k in range(len(made))]
        whole = joined([SpaceCurve((q,)) for q in pieces], reach=1e-4 * sum(q.length for q in pieces))
        # Pieces keep their names where joining put them in another order.
        order = []
        for q in whole.pieces:
            middle = q.at(np.array([0.5]))[0]
            k = int(np.argmin([np.linalg.norm(o.at(np.array([0.5]))[0] - middle) for o in pieces]))
            order.append(names[k])
        return whole, order, np.asarray(p.normal, float)

    def run(self, context, progress):
        from ...curves.skinning import matched, skin
        from ...kernel.lofted import lofted

        motion = context.output(self.frame, "frame")
        if len(self.sections) < 2:
            raise BadInput("Name at least two sections, in the order it goes through them.", field="sections")
        given = [self._section(context, s) for s in self.sections]
        match = matched([(c, names) for c, names, _ in given], self.starts)
        middles = [c.at(np.linspace(0, c.length, 65)[:-1]).mean(axis=0) for c, *_ in given]

        def square(k: int, other: int, sign: float):
            way = sign * (middles[other] - middles[k])
            n = given[k][2]
            return n * (np.sign(n @ way) or 1.0)

        begin = square(0, 1, 1.0) if self.begin == "square" else None
        end = square(-1, -2, -1.0) if self.end == "square" else None
        guides = [context.output(g, "curve") for g in self.guides]
        progress(0.2, "Laying the skin")
        strips = skin(match, guides, ruled=self.ruled, begin=begin, end=end)
        tool = lofted(match, strips, self.name, solid=self.result == "solid")
        result = joined_to(context, self.body, tool, self.how, self.name)
        corners = [c.at(b) for c, b in zip(match.curves, match.breaks)]
        matches = [[c[k].tolist() for c in corners] for k in range(len(match.names) + (0 if match.closed else 1))]
        back = motion.inverse()
        summary = body_summary(result) | {
            "matches": matches,
            "shown": [back.points(np.array(m)).tolist() for m in matches],
            "strips": [
                {
                    "u": s.u.tolist(),
                    "v": s.v.tolist(),
                    "grid": np.round(s.grid, 9).tolist(),
                    "straight": s.straight,
                }
                for s in strips
            ],
            "sections": len(given),
            "readings": {},
        }
        status, says = "sound", ""
        if not summary["valid"]:
            status = "failed"
            says = "The skin crosses itself; move a section's begin on, or give the sections in another order."
        return Outcome(result, summary, says, status, [])
