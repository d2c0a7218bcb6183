"""Deviation of a scan from a body, another scan, an element, a sketch or a curve, measured to the true surface."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ...progress import part
from ..records import Direction, Name, Place, Record, Size, shown
from ..references import ComparedRef, FrameRef, ScanRef, SolidRef, ZonesRef
from ..step import MarkRecord, Outcome, Step, Told, register, selected

if TYPE_CHECKING:
    from ...check.targets import Target

__all__ = ["CheckStep", "Pin", "limits_of"]

_DENSE = 0.1  # of what counts as near an edge: how far apart the edges' places lie

Text = Annotated[str, Field(max_length=200)]


class TideHistogram(BaseModel):
    counts: list[int]
    edges: list[float]


class RowTold(BaseModel):
    """One part's numbers: a face, all faces of a step, or a zone. mm, mm²."""

    face: str
    kind: str
    points: int
    mean: float | None
    spread: float | None = None
    rms: float | None
    p95: float | None
    within: float | None
    worst: float | None = None
    place: list[float] | None = None
    verdict: str = ""
    area: float | None = None
    unseen_area: float | None = None


class RegionTold(BaseModel):
    place: list[float]
    worst: float
    mean: float
    places: int
    area: float
    face: str


class PositionTold(BaseModel):
    shift: list[float]
    turn: list[float]
    rms_before: float
    rms_after: float
    share: float


class RuleTold(BaseModel):
    name: str
    faces: list[str]
    tolerance: float
    low: float
    share: float
    points: int
    within: float | None
    passes: bool | None


class DeviationTold(Told):
    """``matrix`` leads from the scan's coordinates to those that were measured in; ``size`` is what it was compared
    with, across.
    """

    line: ClassVar[tuple[str, ...]] = ("rms", "within", "tolerance", "verdict")

    points: int
    answered: int
    tolerance: float
    low: float | None = None
    within: float | None
    mean: float | None
    spread: float | None = None
    rms: float | None
    p95: float | None
    min: float | None
    max: float | None
    unseen_area: float
    faces: list[RowTold]
    steps: list[RowTold] = []
    zones: list[RowTold] = []
    regions: list[RegionTold] = []
    position: PositionTold | None = None
    rules: list[RuleTold] = []
    verdict: str = ""
    histogram: TideHistogram
    matrix: list[list[float]] = []
    own_points: int = 0
    spacing: float = 0.0
    size: float = 0.0
    finer: bool = False
    against: str = ""
    beside: list[str] = []
    on_model: bool = False


class RuleRecord(Record):
    """A demand on some faces, or on all."""

    name: Name = Field(description="What the rule is called.")
    faces: list[Annotated[str, Field(max_length=400)]] = Field(
        default_factory=list, max_length=500, description="Faces it is about, by name; none: all."
    )
    tolerance: Size = Field(description="Allowed outward, mm.")
    low: Size | None = Field(None, description="Allowed inward, mm; none: as outward.")
    share: float = Field(1.0, gt=0, le=1, description="Share of the answered points that must lie within.")


class Pin(Record):
    """A note at a place of the scan."""

    place: Place = Field(description="On the scan, in its own coordinates, mm.")
    text: Text = Field("", description="What is noted.")


class ViewRecord(Record):
    """A way of looking that is kept: in the coordinates that are shown, mm."""

    name: Name = Field(description="What it is called.")
    toward: Direction = Field(description="From what is seen to the viewer.")
    up: Direction = Field(description="What is up in the picture.")
    middle: Place = Field(description="The middle of the picture.")
    span: Size = Field(description="The height that is seen, mm.")


@register
class CheckStep(Step):
    """A deviation map with a tolerance band, a reach, a limit on angle and a fineness."""

    course: ClassVar[str] = "checks"
    title: ClassVar[str] = "Check"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "deviation"
    tells: ClassVar[type[Told]] = DeviationTold
    computation: ClassVar[int] = 3
    aside: ClassVar[tuple[str, ...]] = ("pins", "views")

    kind: Literal["check"] = "check"
    scan: ScanRef = Field(description="The scan that is compared.", json_schema_extra=shown("scan"))
    body: ComparedRef = Field(
        description="What it is compared with: a body, a foreign model, another scan, a datum, a sketch, a curve.",
        json_schema_extra=shown("against"),
    )
    also: list[SolidRef] = Field(
        default_factory=list,
        max_length=50,
        description="More bodies it is compared with.",
        json_schema_extra=shown("and with", more=True),
    )
    beside: list[ScanRef] = Field(
        default_factory=list,
        max_length=50,
        description="More scans in the same coordinates that are measured together with it.",
        json_schema_extra=shown("and scans", more=True),
    )
    frame: FrameRef | None = Field(None, description="The frame the body lies in; none: the scan's own coordinates.")
    laid: Literal["as it lies", "best fit"] = Field(
        "as it lies",
        description="Where the scan is: as it lies, or laid onto what it is compared with as well as it fits.",
        json_schema_extra=shown("placed", more=True),
    )
    tolerance: float = Field(
        0.1,
        gt=0,
        le=100,
        description="Allowed outward, mm.",
        json_schema_extra=shown("tolerance +", "mm", step=0.01),
    )
    low: Size | None = Field(
        None,
        description="Allowed inward, mm; none: as outward.",
        json_schema_extra=shown("tolerance −", "mm", step=0.01, empty="the same"),
    )
    reach: float = Field(
        2.0,
        gt=0,
        le=1000,
        description="Points farther off than this are not answered, mm.",
        json_schema_extra=shown("reach", "mm", step=0.1),
    )
    angle_deg: float | None = Field(
        60.0,
        gt=0,
        le=180,
        description="Points facing away more than this are not answered.",
        json_schema_extra=shown("angle", "°", step=1, empty="any"),
    )
    fineness: Size | None = Field(
        None,
        description="Facets of the scan longer than this are measured between their corners too, mm.",
        json_schema_extra=shown("fineness", "mm", step=0.1, empty="the scan's points"),
    )
    near_edges: Size | None = Field(
        None,
        description="Points nearer to an edge of the model are not answered, mm.",
        json_schema_extra=shown("leave out by edges", "mm", step=0.1, empty="none", more=True),
    )
    marks: list[MarkRecord] = Field(
        default_factory=list, max_length=500, description="What of the scan is left out: damage, welds."
    )
    zones: ZonesRef | None = Field(None, description="The surfaces by which it is told as well.")
    rules: list[RuleRecord] = Field(default_factory=list, max_length=200, description="What must hold.")
    pins: list[Pin] = Field(default_factory=list, max_length=200, description="Notes at places.")
    views: list[ViewRecord] = Field(default_factory=list, max_length=60, description="Ways of looking that are kept.")

    def target(self, context: Any, progress: Any) -> Target:
        """What the scan is measured to, in the frame's coordinates."""
        from ...check.curvetarget import CurveTarget
        from ...check.measuring import spacing_of
        from ...check.targets import ElementSurface, MeshSurface, WallsSurface

        gives, out = context.gives(self.body), context.output(self.body)
        motion = context.output(self.frame, "frame") if self.frame else None
        if gives in ("body", "model"):
            return context.surface(self.body, progress, tuple(self.also))
        if self.also:
            raise BadInput("Only bodies can be compared with together; take the others out.", field="also")
        name = context.called(self.body)
        if gives == "scan":
            mesh = context.mesh(self.body)
            return MeshSurface(mesh if motion is None else mesh.moved(motion), name, progress)
        size = context.index(self.scan).size
        if gives == "datum":
            element = out["element"]
            return ElementSurface(element if motion is None else element.moved(motion), name, size)
        if gives == "curve":
            return CurveTarget(out, spacing_of(context.output(self.scan, "scan")), size)
        p = out["plane"]
        return WallsSurface(out["geometry"], p.origin, p.u, p.v, self.reach, size)

    def _edges(self, context: Any) -> np.ndarray | None:
        from ...kernel.tessellate import edge_places

        if not self.near_edges or context.gives(self.body) not in ("body", "model"):
            return None
        every = [context.output(b, "body", "model") for b in (self.body, *self.also)]
        return np.vstack([edge_places(b, _DENSE * self.near_edges) for b in every])

    def run(self, context, progress):
        from ...check.laying import best_motion
        from ...check.measuring import measure, model_map
        from ...check.places import side_by_side
        from ...elements import RigidMotion
        from ...scan.mesh import TriMesh

        alone = context.output(self.scan, "scan")
        scan = side_by_side([alone, *(context.output(b, "scan") for b in self._others())])
        target = self.target(context, part(progress, 0.0, 0.25))
        motion = context.output(self.frame, "frame") if self.frame else RigidMotion.identity()
        moved = scan.moved(motion)
        if self.laid == "best fit":
            better = best_motion(moved, target, part(progress, 0.25, 0.35))
            moved, motion = moved.moved(better), better.after(motion)
        limits = limits_of(self)
        if not isinstance(scan, TriMesh) and scan.normals is None:
            limits = limits_of(self, angle=False)
        done = measure(
            moved,
            target,
            limits,
            edges=self._edges(context),
            ignored=selected(context.items(self.scan), self.marks) if self.marks else None,
            zones=self._zones(context),
            before=self._before(context),
            first=(len(_places(alone)), len(alone.faces) if isinstance(alone, TriMesh) else 0),
            progress=part(progress, 0.35, 0.9),
        )
        progress(0.92, "Looking at what no scan supports")
        spacing = done.scan.median_edge if isinstance(done.scan, TriMesh) else 0.0
        on_model = model_map(target, done.points, done.found, spacing)
        s = {**done.summary, "matrix": motion.matrix.tolist(), "spacing": spacing, "size": target.size}
        s |= {
            "finer": len(done.points) > done.own,
            "against": context.called(self.body),
            "beside": [context.called(b) for b in self._others()],
            "on_model": on_model is not None,
        }
        broken = [r for r in s["rules"] if r["passes"] is False]
        s["verdict"] = "" if not s["rules"] else "fails" if broken else "passes"
        s["says"] = "no answer" if s["rms"] is None else f"{s['rms']:.3f}"
        says, status = self._said(s, done.warnings, broken, target.spread is not None)
        output = {"distance": done.found.distance, "face": done.found.face, "names": list(target.names)}
        arrays = {}
        own = len(_places(alone))
        if len(done.points) > own:
            arrays["places"] = moved_back(done.points[own:], motion)
            if isinstance(done.scan, TriMesh):
                arrays["facets"] = done.scan.faces
        if on_model is not None:
            arrays |= {
                "model_vertices": on_model.vertices,
                "model_faces": on_model.faces.astype(np.int32),
                "model_distance": on_model.distance.astype(np.float32),
                "model_part": on_model.part.astype(np.int32),
            }
        return Outcome(output, s, says, status, arrays=arrays)

    def _others(self) -> list[str]:
        """The other scans, each once."""
        return [b for b in dict.fromkeys(self.beside) if b != self.scan]

    def _before(self, context: Any) -> Any:
        """What this scan was measured to last, kept at hand: the same places in the same coordinates."""
        from ...check.again import Answers

        frame = context.key_of(self.frame) if self.frame else ""
        others = tuple(context.key_of(b) for b in self._others())
        return context.read(self.scan, ("answers", frame, self.laid, self.fineness, others), Answers)

    def _said(self, s: dict, warnings: list[str], broken: list[dict], whole: bool) -> tuple[str, Any]:
        """``whole``: whether what it is compared with stands for a part, and not for a line or a face of it."""
        share = s["answered"] / max(s["points"], 1)
        if broken:
            names = ", ".join(f"'{r['name']}'" for r in broken[:3]) + (" and more" if len(broken) > 3 else "")
            return f"{'Rules' if len(broken) > 1 else 'Rule'} {names} not held.", "attention"
        if not s["answered"]:
            return f"No place of the scan lies within {self.reach:g} mm of it.", "attention"
        if whole and share < 0.5 and s["size"]:
            return f"Only {share:.0%} of the scan lies within {self.reach:g} mm of the model.", "attention"
        return " ".join(warnings), "attention" if warnings else "sound"

    def _zones(self, context: Any) -> tuple[np.ndarray, list[str], list[str]] | None:
        if self.zones is None:
            return None
        found = context.outcome(self.zones)
        labels = np.asarray(found.arrays["labels"])
        if len(labels) != len(context.mesh(self.scan).faces):
            raise BadInput("These zones belong to another scan; read them on the scan that is compared.", field="zones")
        told = found.summary["zones"]
        return labels, [z["name"] for z in told], [z["kind"] for z in told]


def _places(scan: Any) -> np.ndarray:
    return scan.vertices if hasattr(scan, "vertices") else scan.points


def moved_back(points: np.ndarray, motion: Any) -> np.ndarray:
    """Places in the scan's own coordinates again."""
    return motion.inverse().points(points)


def limits_of(step: CheckStep, angle: bool = True) -> Any:
    """A check's limits as the computation takes them."""
    from ...check.measuring import Limits
    from ...check.statistics import Band, Rule

    rules = tuple(Rule(r.name, tuple(r.faces), Band.of(r.tolerance, r.low), r.share) for r in step.rules)
    turned = step.angle_deg if angle else None
    return Limits(step.tolerance, step.low, step.reach, turned, step.near_edges, step.fineness, rules)
