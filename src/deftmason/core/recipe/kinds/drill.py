"""Holes, several at once: where they are, how wide and how deep is read from their walls on the scan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field, StringConstraints

from ...errors import BadInput
from ..records import Record, shown
from ..references import BodyRef, FrameRef, ScanRef
from ..step import Chosen, Outcome, Pick, Step, Told, Value, register
from .bodied import BodyTold, body_summary, met_face, settled, typed_value, vector
from .datum import resolve_pick

if TYPE_CHECKING:
    from ...features.evidence import Reading
    from ...features.hole import HoleReading
    from ...kernel.drilled import Drill

__all__ = ["DrillStep"]

_SNAP_DEG = 0.5  # a direction this near to an axis of the frame is that axis
_ALIKE = 0.02, 5.0  # of the size, and standard deviations, by which holes of one step may differ
_APART_DEG = 2.0
_EVEN = 0.06  # of the turn between holes: a ring that is farther from even is meant so
_PAST = 0.5  # of the widest radius: how far over its mouth a hole is cut
#: Full angles that drills and countersinks have in the trade.
_TRADE = (60.0, 82.0, 90.0, 100.0, 118.0, 120.0, 130.0, 135.0, 140.0)
_HEAD = ["read", "counterbore", "countersink"]


class HolePlace(Record):
    """One hole: a place on its wall, and where its axis meets the frame's plane across it."""

    pick: Pick = Field(description="A place on its wall.")
    u: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"),
        description="Where it lies along the first axis across it, mm.",
    )
    v: Chosen = Field(
        default_factory=lambda: Chosen(source="rounded"), description="Where it lies along the second axis, mm."
    )


class HoleTold(BaseModel):
    """Where a hole opens and which way it goes, in the frame, mm; what is to be known of it."""

    point: list[float]
    inward: list[float]
    note: str = ""


class DrillTold(BodyTold):
    """``sizes`` as `Drill` has them; ``axes`` the two the places are counted along and the one the holes run along;
    ``reach`` from that plane to each mouth, ``past`` how far over it they are cut, mm.
    """

    holes: list[HoleTold]
    head: str
    through: bool
    sizes: dict[str, float]
    axes: list[list[float]]
    reach: list[float]
    past: float
    notes: list[str]


def _size(label: str, unit: str, what: str, **more: Any) -> Any:
    return Field(
        default_factory=lambda: Chosen(source="rounded"),
        description=f"{what}; none: as the scan says.",
        json_schema_extra=shown(label, unit, step=0.5 if unit == "mm" else 1, empty="as the scan says", **more),
    )


@register
class DrillStep(Step):
    """Drilled holes of one size, through or blind, plain, counterbored or countersunk."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Drilled holes"
    produces: ClassVar[str] = "body"
    betters: ClassVar[str | None] = "body"
    tells: ClassVar[type[Told]] = DrillTold

    kind: Literal["drill"] = "drill"
    body: BodyRef = Field(description="The body they are drilled into.", json_schema_extra=shown("body"))
    scan: ScanRef = Field(description="The scan they are read from.")
    frame: FrameRef = Field(description="The frame the body lies in.")
    places: list[HolePlace] = Field(default_factory=list, max_length=200, description="The holes.")
    goes: Literal["read", "through", "blind"] = Field(
        "read",
        description="How far: as read, through the whole body, or to a floor.",
        json_schema_extra=shown("goes", choices={"read": "As read", "through": "Through", "blind": "Blind"}),
    )
    head: Literal["read", "plain", "counterbore", "countersink"] = Field(
        "read",
        description="What its mouth is.",
        json_schema_extra=shown(
            "head",
            choices={"read": "as read", "plain": "plain", "counterbore": "counterbore", "countersink": "countersink"},
        ),
    )
    along: Literal["read", "x", "y", "z"] = Field(
        "read",
        description="The frame's axis they run along; as read: that axis where they run along one, else their own.",
        json_schema_extra=shown("along", choices={"read": "as read", "x": "x", "y": "y", "z": "z"}, more=True),
    )
    diameter: Chosen = _size("diameter", "mm", "Of the hole, mm")
    depth: Chosen = _size("depth", "mm", "To the floor's rim, mm", when={"goes": ["read", "blind"]})
    tip: Chosen = _size("floor", "°", "Full angle of a pointed floor, degrees; 0 is flat", more=True)
    head_diameter: Chosen = _size("head", "mm", "Of the head, mm", when={"head": _HEAD})
    head_depth: Chosen = _size("head depth", "mm", "Of a counterbore, mm", when={"head": ["read", "counterbore"]})
    head_angle: Chosen = _size("head angle", "°", "Of a countersink, degrees", when={"head": ["read", "countersink"]})
    thread: Annotated[str, StringConstraints(max_length=40)] = Field(
        "", description="A note of its thread.", json_schema_extra=shown("thread", more=True)
    )

    def in_script(self, told, script):
        u, v, w = told["axes"]
        names = {"radius": ("diameter", 2.0), "head_radius": ("head_diameter", 2.0)}
        sizes = []
        for key, value in told["sizes"].items():
            name, by = names.get(key, (key, 1.0))
            known = script.value(name)
            sizes.append(f"{key}={known} / {by:g}" if known and by != 1 else f"{key}={known or repr(value)}")
        head, through = f"head={told['head']!r}", f"through={told['through']}"
        tools = []
        for k, (hole, reach) in enumerate(zip(told["holes"], told["reach"]), start=1):
            x, y = script.value(f"u{k}"), script.value(f"v{k}")
            at = f"{x} * np.array({vector(u)}) + {y} * np.array({vector(v)}) + {reach!r} * np.array({vector(w)})"
            out = vector(-np.array(hole["inward"]))
            tools.append(f"    drill(Plane(Vector(*({at})), z_dir={out}), {told['past']!r}, **{script.word}_drill),")
        return [
            f"{script.word}_drill = dict({', '.join([*sizes, head, through])})",
            f"{script.word} = {script.named(self.body)} - [",
            *tools,
            "]",
        ]

    # Reading.

    def _readings(self, context: Any) -> list[HoleReading]:
        from ...features.hole import read_hole

        index = context.index(self.scan)
        out = []
        for k, place in enumerate(self.places, start=1):
            what = f"'{self.name}', hole {k}"

            def read(place=place, what=what):
                return read_hole(index, resolve_pick(index, place.pick, what, "cylinder"))

            out.append(context.read(self.scan, ("hole", place.pick.model_dump_json()), read))
        return out

    def _axes(self, ways: np.ndarray, sure_deg: float) -> np.ndarray:
        """Two axes across the holes and the one they run along, as rows."""
        mean = ways.mean(axis=0)
        mean /= np.linalg.norm(mean)
        apart = np.degrees(np.arccos(np.clip(ways @ mean, -1, 1)))
        if apart.max() > _APART_DEG:
            k = int(np.argmax(apart)) + 1
            raise BadInput(
                f"Hole {k} runs {apart.max():.1f}° from the others; give it a step of its own.", field="places"
            )
        axis = "xyz".index(self.along) if self.along != "read" else int(np.argmax(np.abs(mean)))
        square = np.eye(3)[axis] * (np.sign(mean[axis]) or 1.0)
        lean = float(np.degrees(np.arccos(np.clip(mean @ square, -1, 1))))
        snaps = self.along != "read" or lean < max(_SNAP_DEG, 3 * sure_deg)
        if self.along != "read" and lean > 5:
            raise BadInput(f"The holes run {lean:.1f}° from {self.along}; choose another axis.", field="along")
        across = np.eye(3)[[k for k in range(3) if k != axis]]
        return np.vstack([across, square if snaps else mean])

    def run(self, context, progress):
        from ...features.evidence import Reading
        from ...kernel.drilled import drilled
        from ...kernel.features import combine
        from ...kernel.whole import combine_all, together

        if not self.places:
            raise BadInput("Click the wall of at least one hole on the scan.", field="places")
        body = context.output(self.body, "body")
        motion = context.output(self.frame, "frame")
        read = self._readings(context)
        inward = np.array([motion.vectors(r.inward) for r in read])
        side = np.sign(inward @ inward[0])
        axes = self._axes(inward * side[:, None], max(r.turn_deg for r in read))
        values: list[Value] = []
        drill, said = self._drill(read, values)
        widest = max(drill.radius, drill.head_radius if drill.head != "plain" else 0.0)
        past = _PAST * widest
        reach, tools, holes = [], [], []
        for k, (r, place) in enumerate(zip(read, self.places)):
            mouth, way = motion.points(r.point), side[k] * axes[2]
            foot, off = self._foot(mouth, axes), float(np.linalg.norm(motion.vectors(r.off))) / np.sqrt(2)
            uv = []
            for name, chosen, value in (("u", place.u, foot[0]), ("v", place.v, foot[1])):
                n, source = settled(chosen, Reading(float(value), off, r.radius.count, r.radius.scatter))
                uv.append(n)
                label = f"{'xyz'[int(np.argmax(axes['uv'.index(name)]))]} {k + 1}"
                path = ["places", k, name, "value"]
                values.append(Value(f"{name}{k + 1}", label, float(value), off, n, source, "mm", None, path))
            height = float(mouth @ axes[2]) if len(read) else 0.0
            met = met_face(body, axes[2], height, Reading(height, max(off, r.radius.scatter), 1, 0.0))[0]
            base = uv[0] * axes[0] + uv[1] * axes[1]
            # Along their own direction from the plane across it to the mouth.
            reach.append(float((met - base @ axes[2]) / (axes[2] @ axes[2])))
            point = base + reach[-1] * axes[2]
            holes.append({"point": point.tolist(), "inward": way.tolist(), "note": r.note})
            tools.append(drilled(self._far(drill, body, point, way), point, way, past, f"{self.name}/{k + 1}"))
        apart = all(
            np.linalg.norm(np.cross(np.subtract(a["point"], b["point"]), axes[2])) > 2.1 * widest
            for i, a in enumerate(holes)
            for b in holes[:i]
        )
        if apart:
            result = combine(body, together(tools), "cut", self.name)
        else:
            result = combine_all(body, tools, "cut", self.name)
        sizes = {k: v for k, v in vars(drill).items() if isinstance(v, float)}
        if self.goes == "through":
            sizes["depth"] = max(self._far(drill, body, h["point"], np.array(h["inward"])).depth for h in holes)
        notes = [f"hole {k + 1} {r.note}" for k, r in enumerate(read) if r.note]
        notes += self._uneven(np.array([h["point"] for h in holes]), axes, widest, read)
        unseen = [k + 1 for k, r in enumerate(read) if r.depth is None and not r.seen_through]
        if unseen and self.goes == "read":
            notes.append(f"of hole {unseen[0]} neither a floor nor the far mouth was seen; it is taken to go through")
        summary = body_summary(result) | {
            "readings": {k: vars(r) for k, r in said.items()},
            "holes": holes,
            "head": drill.head,
            "through": drill.through,
            "sizes": sizes,
            "axes": axes.tolist(),
            "reach": reach,
            "past": past,
            "notes": notes,
        }
        if not summary["valid"]:
            return Outcome(result, summary, "The body is not valid after these holes.", "failed", values)
        odd = self._odd(read)
        says = odd or (f"{notes[0][0].upper()}{notes[0][1:]}." if notes else "")
        return Outcome(result, summary, says, "attention" if says else "sound", values)

    @staticmethod
    def _uneven(points: np.ndarray, axes: np.ndarray, widest: float, read: list[HoleReading]) -> list[str]:
        """What is to be known of a ring of holes that is nearly even, and is not."""
        if len(points) < 3:
            return []
        w = np.cross(axes[0], axes[1])
        xy = np.column_stack([points @ axes[0], points @ axes[1]]) if abs(axes[2] @ w) > 0.99 else None
        if xy is None:
            return []
        basis = np.column_stack([2 * xy, np.ones(len(xy))])
        c = np.linalg.lstsq(basis, (xy**2).sum(axis=1), rcond=None)[0]
        away = xy - c[:2]
        r = np.linalg.norm(away, axis=1)
        sure = float(np.median([np.linalg.norm(h.off) for h in read]))
        if np.ptp(r) > max(6 * sure, 0.02 * widest) or r.mean() < 2 * widest:
            return []
        turn = np.degrees(np.arctan2(away[:, 1], away[:, 0]))
        order = np.argsort(turn)
        even = 360.0 / len(xy)
        off = (turn[order] - even * np.arange(len(xy))) % 360
        off = (off - off[0] + 180) % 360 - 180
        off -= np.median(off)
        k = int(np.argmax(np.abs(off)))
        least = np.degrees(max(4 * sure, 0.005 * widest) / r.mean())
        if not least < abs(off[k]) < _EVEN * even:
            return []
        return [
            f"hole {order[k] + 1} lies {abs(off[k]):.2f}° from where an even ring ⌀ {2 * r.mean():.4g} would have it"
        ]

    @staticmethod
    def _foot(mouth: np.ndarray, axes: np.ndarray) -> tuple[float, float]:
        """Where an axis through the mouth meets the frame's plane across it, along the first two axes."""
        w = np.cross(axes[0], axes[1])
        at = mouth - (mouth @ w) / (axes[2] @ w) * axes[2]
        return float(at @ axes[0]), float(at @ axes[1])

    def _far(self, drill: Drill, body: Any, point: Any, way: np.ndarray) -> Drill:
        """Where holes go through the whole body, as deep as this one then is."""
        from dataclasses import replace

        from ...kernel.tessellate import bounds_of

        if self.goes != "through":
            return drill
        corners = np.array(np.meshgrid(*bounds_of(body).T)).reshape(3, -1).T
        return replace(drill, depth=max(float(((corners - point) @ way).max()), drill.radius))

    def _drill(self, read: list[HoleReading], values: list[Value]) -> tuple[Drill, dict[str, Reading]]:
        """One drill for all, each size with its line of the ledger."""
        from ...kernel.drilled import Drill

        said: dict[str, Reading] = {}

        def size(name: str, label: str, readings: list[Reading | None], unit: str = "mm", by: float = 1.0) -> float:
            reading = _mean([r for r in readings if r is not None], by)
            chosen: Chosen = getattr(self, name)
            if reading is None:
                if chosen.value is None:
                    what = label if unit == "mm" else f"{label} (degrees)"
                    raise BadInput(f"The scan does not show the {what} of these holes; type one.", field=name)
                values.append(typed_value(name, label, chosen.value, chosen.source, unit))
                return chosen.value / by
            said[name] = reading
            number, source = _angle(chosen, reading) if unit == "deg" else settled(chosen, reading)
            at = [name, "value"]
            values.append(Value(name, label, reading.value, reading.uncertainty, number, source, unit, None, at))
            return number / by

        radius = size("diameter", "⌀", [r.radius for r in read], by=2.0)
        blind = [r.depth is not None for r in read]
        through = self.goes == "through" or (self.goes == "read" and sum(blind) * 2 < len(read))
        tip = 0.0
        if not through:
            depth = size("depth", "depth", [r.depth for r in read])
            if any(r.tip for r in read) or self.tip.value is not None:
                tip = size("tip", "floor angle", [r.tip for r in read], "deg")
        else:
            depth = max(r.length for r in read)
        heads = [r.head for r in read]
        head = self.head if self.head != "read" else max(sorted(set(heads)), key=heads.count)
        wide = deep = 0.0
        angle = 90.0
        if head != "plain":
            mine = [r for r in read if r.head == head]
            wide = size("head_diameter", "head ⌀", [r.head_radius for r in mine], by=2.0)
            if head == "counterbore":
                deep = size("head_depth", "head depth", [r.head_depth for r in mine])
            else:
                angle = size("head_angle", "head angle", [r.head_angle for r in mine], "deg")
        return Drill(radius, depth, through, tip, head, wide, deep, angle), said

    def _odd(self, read: list[HoleReading]) -> str:
        """A sentence on the first hole that is unlike the others."""
        r = np.array([h.radius.value for h in read])
        middle = float(np.median(r))
        off = np.abs(r - middle)
        limit = np.maximum(_ALIKE[0] * middle, _ALIKE[1] * np.array([h.radius.uncertainty for h in read]))
        k = int(np.argmax(off / limit))
        if off[k] > limit[k]:
            return (
                f"Hole {k + 1} is ⌀ {2 * r[k]:.2f} on the scan, most are ⌀ {2 * middle:.2f}; give it a step of its own."
            )
        kinds = [(h.head, h.depth is None) for h in read]
        usual = max(sorted(set(kinds)), key=kinds.count)
        odd = next((k for k, kind in enumerate(kinds) if kind != usual), None)
        if odd is not None and self.head == "read" and self.goes == "read":
            head, through = kinds[odd]
            return f"Hole {odd + 1} reads as {head}, {'through' if through else 'blind'}, unlike the others."
        return ""


def _mean(readings: list[Reading], by: float) -> Reading | None:
    """What several readings say together, times ``by``: weighed by how sure each is, as sure as they agree."""
    from ...features.evidence import Reading

    if not readings:
        return None
    x, u = np.array([[r.value, r.uncertainty] for r in readings]).T
    w = 1 / np.maximum(u, 1e-9) ** 2
    mean = float(np.average(x, weights=w))
    spread = float(np.std(x) / np.sqrt(max(len(x) - 1, 1))) if len(x) > 1 else 0.0
    sure = max(float(1 / np.sqrt(w.sum())), spread)
    count, scatter = sum(r.count for r in readings), float(np.mean([r.scatter for r in readings]))
    return Reading(by * mean, by * sure, count, scatter)


def _angle(chosen: Chosen, reading: Reading) -> tuple[float, str]:
    """As `settled`, but rounded to an angle that tools have."""
    if chosen.value is not None and chosen.source != "scan":
        return chosen.value, chosen.source
    near = min(_TRADE, key=lambda a: abs(a - reading.value))
    if chosen.source == "rounded" and abs(near - reading.value) < max(3 * reading.uncertainty, 1.5):
        return near, "rounded"
    return reading.value, "scan"
