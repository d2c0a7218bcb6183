"""Plain solids: boxes, cylinders, cones, balls and rings, placed by the frame or by a datum that gives their size."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import BadInput
from ..records import Length, shown
from ..step import Chosen, Outcome, Step, Told, Value, register
from .bodied import AxisRecord, BodyTold, axis_in_frame, body_summary, number, settled, typed_value, vector

__all__: list[str] = []

_STANDS = ["cylinder", "box", "cone"]  # what reaches from one height to another
#: What of a datum gives a solid's size.
_SIZES_OF = {"cylinder": "radius", "sphere": "radius", "torus": "major_radius"}


def _size(label: str, kinds: str, default: float | None = None, **more: Any) -> Any:
    return Field(
        default_factory=lambda: Chosen(value=default, source="typed" if default is not None else "rounded"),
        description=f"Of a {kinds}, mm; none: as the datum says.",
        json_schema_extra=shown(label, "mm", step=0.5, **more),
    )


class SolidTold(BodyTold):
    point: list[float]
    axis: list[list[float]]
    sizes: dict[str, float]


@register
class SolidStep(Step, AxisRecord):
    """A plain solid, reaching along its axis from one height to another."""

    course: ClassVar[str] = "bodies"
    title: ClassVar[str] = "Solid"
    produces: ClassVar[str] = "body"
    tells: ClassVar[type[Told]] = SolidTold
    computation: ClassVar[int] = 2

    kind: Literal["solid"] = "solid"
    shape: Literal["cylinder", "box", "cone", "ball", "ring"] = Field(
        "cylinder",
        description="What it is.",
        json_schema_extra=shown("shape"),
    )
    place_x: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("x", "mm", when={"on": None}))
    place_y: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("y", "mm", when={"on": None}))
    place_z: Length = Field(0.0, description="Its middle, mm.", json_schema_extra=shown("z", "mm", when={"on": None}))
    radius: Chosen = _size(
        "radius", "cylinder, cone, ball or ring", when={"shape": ["cylinder", "cone", "ball", "ring"]}
    )
    top_radius: Chosen = _size("top radius", "cone", 0.0, when={"shape": "cone"})
    tube_radius: Chosen = _size("tube radius", "ring", 1.0, when={"shape": "ring"})
    width: Chosen = _size("width", "box", 10.0, when={"shape": "box"})
    depth: Chosen = _size("depth", "box", 10.0, when={"shape": "box"})
    low: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="Where it begins along its axis, from the frame's origin, mm.",
        json_schema_extra=shown("from", "mm", step=0.5, when={"shape": _STANDS}),
    )
    high: Chosen = Field(
        default_factory=lambda: Chosen(value=10.0, source="typed"),
        description="Where it ends along its axis, from the frame's origin, mm.",
        json_schema_extra=shown("to", "mm", step=0.5, when={"shape": _STANDS}),
    )

    def in_script(self, told, script):
        point, direction = told["axis"]
        at = f"Plane(np.array({vector(point)}) + {{low}} * np.array({vector(direction)}), z_dir={vector(direction)})"
        low, high = script.value("low") or "0.0", script.value("high") or "0.0"
        middle, foot = at.format(low="0.0"), at.format(low=low)
        size = {k: script.value(k) or repr(v) for k, v in told["sizes"].items()}
        text = {
            "cylinder": lambda: f"{foot} * up(Cylinder({size['radius']}, {high} - {low}))",
            "cone": lambda: f"{foot} * up(Cone({size['radius']}, {size['top_radius']}, {high} - {low}))",
            "box": lambda: f"across({foot}) * up(Box({size['width']}, {size['depth']}, {high} - {low}))",
            "ball": lambda: f"{middle} * Sphere({size['radius']})",
            "ring": lambda: f"{middle} * Torus({size['radius']}, {size['tube_radius']})",
        }[self.shape]()
        return [f"{script.word} = {text}"]

    def run(self, context, progress):
        from ...kernel.solids import SOLIDS, solid

        point, direction = axis_in_frame(self, context)
        if self.on is None:
            point = np.array([self.place_x, self.place_y, self.place_z])
        sizes: dict[str, float] = {}
        values: list[Value] = []
        readings = {}
        for name in SOLIDS[self.shape]:
            if name == "height":
                continue
            chosen: Chosen = getattr(self, name)
            reading = self._read(context) if name == "radius" else None
            if reading is not None:
                sizes[name], source = settled(chosen, reading)
                readings[name] = vars(reading)
                values.append(
                    Value(
                        name, "R", reading.value, reading.uncertainty, sizes[name], source, "mm", None, [name, "value"]
                    )
                )
            else:
                sizes[name] = number(chosen, f"the {name.replace('_', ' ')}, in mm", name)
                values.append(typed_value(name, name.replace("_", " "), sizes[name], chosen.source))
        stands = "height" in SOLIDS[self.shape]
        if stands:
            low, high = number(self.low, "where it begins, in mm", "low"), number(self.high, "where it ends", "high")
            if abs(high - low) < 1e-9:
                raise BadInput("The solid begins and ends at the same height; give two that differ.", field="high")
            low, high = min(low, high), max(low, high)
            values += [
                typed_value("low", "from", low, self.low.source),
                typed_value("high", "to", high, self.high.source),
            ]
            # Heights count from the frame's origin, wherever on the axis the datum's own place lies.
            point = point - (point @ direction) * direction
            body = solid(self.shape, self.name, point + low * direction, direction, height=high - low, **sizes)
        else:
            body = solid(self.shape, self.name, point, direction, **sizes)
        summary = body_summary(body) | {
            "readings": readings,
            "point": point.tolist(),
            "axis": [point.tolist(), direction.tolist()],
            "sizes": sizes,
        }
        return Outcome(body, summary, "", "sound", values)

    def _read(self, context: Any):
        """What the datum says its radius is."""
        from ...features.evidence import Reading

        if self.on is None:
            return None
        datum = context.output(self.on, "datum")
        key = _SIZES_OF.get(datum["element"].kind)
        if key is None or (datum["element"].kind == "torus") != (self.shape == "ring"):
            return None
        off = datum.get("uncertainty") or {}
        return Reading(float(getattr(datum["element"], key)), float(np.max(off.get(key, 0.0))), 0, 0.0)
