"""Plain solids and their surfaces: boxes, cylinders, cones, balls, rings and flats, placed by the frame or by a datum
that gives their size, between two heights or past the part.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Length, shown
from ..references import ScanRef
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import AxisRecord, BodyTold, axis_in_frame, body_summary, number, settled, typed_value, vector

if TYPE_CHECKING:
    from ...elements import Element
    from ...features.evidence import Reading

__all__: list[str] = []

_STANDS = ["cylinder", "box", "cone"]  # what reaches from one height to another
_REACHES = [*_STANDS, "flat"]  # what may be led past the part
_LEAST = 0.05  # of how well a cone's tip is known, at its places: less is told by none
_WIDE = ["box", "flat"]  # what has a width and a depth


def _size(label: str, kinds: str, default: float | None = None, **more: Any) -> Any:
    return Field(
        default_factory=lambda: Chosen(value=default, source="typed" if default is not None else "rounded"),
        description=f"Of a {kinds}, mm; none: as the datum says.",
        json_schema_extra=shown(label, "mm", step=0.5, **more),
    )


def _height(label: str, what: str, default: float) -> Any:
    return Field(
        default_factory=lambda: Chosen(value=default, source="typed"),
        description=f"Where it {what} along its axis, from the frame's origin, mm.",
        json_schema_extra=shown(label, "mm", step=0.5, when={"shape": _STANDS, "reach": "heights"}),
    )


class SolidTold(BodyTold):
    """``low`` and ``high`` mm along the axis, from the frame's origin."""

    point: list[float]
    axis: list[list[float]]
    sizes: dict[str, float]
    low: float = 0.0
    high: float = 0.0


@register
class SolidStep(Step, AxisRecord):
    """A plain solid or its surface, reaching along its axis from one height to another or past the part."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Solid"
    produces: ClassVar[str] = "body"
    tells: ClassVar[type[Told]] = SolidTold
    computation: ClassVar[int] = 3

    kind: Literal["solid"] = "solid"
    shape: Literal["cylinder", "box", "cone", "ball", "ring", "flat"] = Field(
        "cylinder",
        description="What it is; a flat is a surface only.",
        json_schema_extra=shown("shape", first=True),
    )
    result: Literal["solid", "surface"] = Field(
        "solid",
        description="A solid, or its surface alone, without the ends.",
        json_schema_extra=shown("gives", choices={"solid": "a solid", "surface": "a surface"}),
    )
    reach: Literal["heights", "part"] = Field(
        "heights",
        description="How far it reaches: between two heights, or past all of the part.",
        json_schema_extra=shown(
            "reaches", choices={"heights": "as far as told", "part": "past the part"}, when={"shape": _REACHES}
        ),
    )
    past: Chosen = Field(
        default_factory=lambda: Chosen(value=5.0, source="typed"),
        description="How far past the part on every side, mm.",
        json_schema_extra=shown("past by", "mm", step=1, when={"shape": _REACHES, "reach": "part"}),
    )
    scan: ScanRef | None = Field(None, description="The scan of the part that it is led past.")
    place_x: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("x", "mm", when={"on": None}))
    place_y: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("y", "mm", when={"on": None}))
    place_z: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("z", "mm", when={"on": None}))
    radius: Chosen = _size(
        "radius", "cylinder, cone, ball or ring", when={"shape": ["cylinder", "cone", "ball", "ring"]}
    )
    top_radius: Chosen = _size("top radius", "cone", 0.0, when={"shape": "cone"})
    tube_radius: Chosen = _size("tube radius", "ring", 1.0, when={"shape": "ring"})
    width: Chosen = _size("width", "box or flat", 10.0, when={"shape": _WIDE, "reach": "heights"})
    depth: Chosen = _size("depth", "box or flat", 10.0, when={"shape": _WIDE, "reach": "heights"})
    low: Chosen = _height("from", "begins", 0.0)
    high: Chosen = _height("to", "ends", 10.0)

    def in_script(self, told, script):
        point, direction = told["axis"]
        past = self.shape in _REACHES and self.reach == "part"
        ends = {k: told.get(k, 0.0) for k in ("low", "high")}
        low, high = (repr(v) if past else script.value(k) or repr(v) for k, v in ends.items())
        at = f"Plane(np.array({vector(point)}) + {{low}} * np.array({vector(direction)}), z_dir={vector(direction)})"
        middle, foot = at.format(low="0.0"), at.format(low=low)
        size = {k: repr(v) if past else script.value(k) or repr(v) for k, v in told["sizes"].items()}
        text = {
            "cylinder": lambda: f"{foot} * up(Cylinder({size['radius']}, {high} - {low}))",
            "cone": lambda: f"{foot} * up(Cone({size['radius']}, {size['top_radius']}, {high} - {low}))",
            "box": lambda: f"across({foot}) * up(Box({size['width']}, {size['depth']}, {high} - {low}))",
            "ball": lambda: f"{middle} * Sphere({size['radius']})",
            "ring": lambda: f"{middle} * Torus({size['radius']}, {size['tube_radius']})",
            "flat": lambda: f"across({middle}) * Face.make_rect({size['width']}, {size['depth']})",
        }[self.shape]()
        bare = self.result == "surface" and self.shape != "flat"
        return [f"{script.word} = bare({text}, {vector(direction)})" if bare else f"{script.word} = {text}"]

    def run(self, context, progress):
        from ...kernel.solids import SOLIDS, bare, flat, solid

        if self.shape == "flat" and self.result == "solid":
            raise BadInput("A flat has no inside; take it as a surface.", field="result")
        element = None if self.on is None else context.output(self.on, "datum")["element"]
        point, direction = self._stands(context, element)
        part = self._past_part(context, direction) if self.shape in _REACHES and self.reach == "part" else None
        values, sizes, readings, low, high = [], {}, {}, 0.0, 0.0
        if self.shape in _STANDS:
            low, high = self._heights(part, values, context, element, direction)
            # Heights count from the frame's origin, wherever on the axis the datum's own place lies.
            point = point - (point @ direction) * direction
        if part is not None:
            values.append(typed_value("past", "past by", number(self.past, "how far past", "past"), self.past.source))
            u, v = part.pop("u"), part.pop("v")
            for name, way in (("width", u), ("depth", v)) if self.shape in _WIDE else ():
                sizes[name] = part[name][1] - part[name][0]
                point = point + (0.5 * sum(part[name]) - point @ way) * way
        for name in SOLIDS[self.shape]:
            if name == "height" or name in sizes:
                continue
            chosen: Chosen = getattr(self, name)
            reading = self._read(context, element, name, low, high, direction)
            if reading is None:
                sizes[name] = number(chosen, f"the {name.replace('_', ' ')}, in mm", name)
                values.append(typed_value(name, name.replace("_", " "), sizes[name], chosen.source))
                continue
            # Where a cone is led past the part, its ends lie anywhere, and their radii are no sizes anybody chose.
            free = self.shape == "cone" and part is not None and chosen.value is None
            sizes[name], source = settled(Chosen(source="scan") if free else chosen, reading)
            readings[name] = vars(reading)
            label = "R" if name == "radius" else name.replace("_", " ")
            values.append(
                Value(name, label, reading.value, reading.uncertainty, sizes[name], source, "mm", None, [name, "value"])
            )
        if self.shape == "flat":
            body = flat(self.name, point, direction, **sizes)
        elif self.shape in _STANDS:
            body = solid(self.shape, self.name, point + low * direction, direction, height=high - low, **sizes)
        else:
            body = solid(self.shape, self.name, point, direction, **sizes)
        if self.result == "surface" and self.shape != "flat":
            body = bare(body, self.name)
        summary = body_summary(body) | {
            "readings": readings,
            "point": point.tolist(),
            "axis": [point.tolist(), direction.tolist()],
            "sizes": sizes,
            "low": low,
            "high": high,
        }
        return Outcome(body, summary, "", "sound", values)

    def _stands(self, context: Any, element: Element | None) -> tuple[np.ndarray, np.ndarray]:
        """Its place and direction in the frame; a ball needs only a place."""
        if element is None:
            return np.array([self.place_x, self.place_y, self.place_z]), axis_in_frame(self, context)[1]
        p = element.parameters()
        place = p.get("center") or p.get("point") or p.get("apex")
        if self.shape == "ball" and place is not None:
            return context.output(self.frame, "frame").points(np.array(place)), np.eye(3)[2]
        point, direction = axis_in_frame(self, context)
        if element.kind == "cone":  # its own direction runs from its tip; heights count upwards
            direction = direction * np.sign(direction[np.argmax(np.abs(direction))])
        return point, direction

    def _past_part(self, context: Any, direction: np.ndarray) -> dict[str, Any]:
        """From where to where the part reaches and past it, mm, along the direction and both ways across it."""
        from ...kernel.solids import across_of

        if self.scan is None:
            raise BadInput("There is no scan to reach past; give heights instead.", field="reach")
        past = number(self.past, "how far past the part it reaches, in mm", "past")
        p = context.output(self.frame, "frame").points(context.mesh(self.scan).vertices)
        u, v = across_of(direction)
        ways = {"width": u, "depth": v, "height": direction}
        spans = {k: (float((p @ w).min()) - past, float((p @ w).max()) + past) for k, w in ways.items()}
        if any(high <= low for low, high in spans.values()):
            raise BadInput("Drawn in by so much, nothing is left; take less.", field="past")
        return {**spans, "u": u, "v": v}

    def _heights(
        self, part: dict[str, Any] | None, values: list, context: Any, element: Element | None, direction: np.ndarray
    ) -> tuple[float, float]:
        """From which height to which it reaches along its axis, mm; a cone's ends at its tip."""
        if part is not None:
            low, high = part["height"]
            if self.shape == "cone" and element is not None and element.kind == "cone":
                tip, into = self._tip(context, element)
                at = float(tip @ direction)
                low, high = (max(low, at), high) if into @ direction > 0 else (low, min(high, at))
            return low, high
        low, high = number(self.low, "where it begins, in mm", "low"), number(self.high, "where it ends", "high")
        if abs(high - low) < 1e-9:
            raise BadInput("The solid begins and ends at the same height; give two that differ.", field="high")
        values += [typed_value("low", "from", low, self.low.source), typed_value("high", "to", high, self.high.source)]
        return min(low, high), max(low, high)

    def _tip(self, context: Any, element: Element) -> tuple[np.ndarray, np.ndarray]:
        """A cone's tip in the frame, and its direction into it."""
        motion, p = context.output(self.frame, "frame"), element.parameters()
        return motion.points(np.array(p["apex"])), motion.vectors(np.array(p["direction"]))

    def _read(
        self, context: Any, element: Element | None, name: str, low: float, high: float, direction: np.ndarray
    ) -> Reading | None:
        """What the datum says a size of its own kind of solid is; of a cone, at either height."""
        from ...features.evidence import Reading

        if element is None:
            return None
        off = context.output(self.on, "datum").get("uncertainty") or {}
        if element.kind == "cone" and self.shape == "cone":
            tip, into = self._tip(context, element)
            far = ((low if name == "radius" else high) - float(tip @ direction)) * float(into @ direction)
            if far < -1e-9 * (high - low):
                raise BadInput("The cone's tip lies between these heights; end it there.", field="low")
            half = np.radians(element.parameters()["half_angle_deg"])
            middle = context.output(self.on, "datum").get("middle")
            at = 0.0
            if middle is not None:
                at = float((context.output(self.frame, "frame").points(np.asarray(middle)) - tip) @ into)
            return Reading(float(max(far, 0.0) * np.tan(half)), _cone_unsure(element, off, far, at), 0, 0.0)
        keys = {"cylinder": "radius", "sphere": "radius", "torus": "major_radius"}
        key = keys.get(element.kind) if name == "radius" and self.shape != "cone" else None
        if element.kind == "torus":
            key = {"radius": "major_radius", "tube_radius": "minor_radius"}.get(name) if self.shape == "ring" else None
        elif self.shape == "ring":
            key = None
        if key is None:
            return None
        return Reading(float(element.parameters()[key]), float(np.max(off.get(key, 0.0))), 0, 0.0)


def _cone_unsure(element: Element, off: dict, far: float, at: float) -> float:
    """One standard deviation of a cone's radius so ``far`` from its tip, mm, where its places lie about ``at``: there
    it is known best, and tip and angle, which are not known apart, err against each other.
    """
    p = element.parameters()
    half = np.radians(p["half_angle_deg"])
    lean = np.radians(float(np.max(off.get("half_angle_deg", 0.0)))) / np.cos(half) ** 2
    tip = float(np.linalg.norm(np.asarray(off.get("apex", np.zeros(3))) * np.asarray(p["direction"]))) * np.tan(half)
    best = max(tip**2 - (at * lean) ** 2, (_LEAST * tip) ** 2)
    return float(np.sqrt(best + ((far - at) * lean) ** 2))
