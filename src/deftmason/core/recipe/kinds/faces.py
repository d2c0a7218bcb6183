"""Steps on faces of a body, chosen by name: hollowed out, healed over, leaned."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from ..records import shown
from ..step import Chosen, Told, register
from .bodied import AxisRecord, BodyTold, axis_in_frame, number, places_on, typed_value, vector
from .whole_bodies import AxisTold, BodyStep, gave

__all__: list[str] = []


class HollowTold(BodyTold):
    middles: list[list[float]]


@register
class HollowStep(BodyStep):
    """A body hollowed out to walls, open where faces are named."""

    title: ClassVar[str] = "Hollow"
    tells: ClassVar[type[Told]] = HollowTold

    kind: Literal["hollow"] = "hollow"
    thickness: Chosen = Field(
        default_factory=lambda: Chosen(value=2.0, source="typed"),
        description="Of the walls, mm.",
        json_schema_extra=shown("walls", "mm", step=0.5),
    )
    open_faces: list[str] = Field(
        default_factory=list, max_length=200, description="Faces that are left open, by name."
    )

    def in_script(self, told, script):
        faces = f"faces_at({script.named(self.body)}, {[tuple(round(c, 6) for c in p) for p in told['middles']]!r})"
        return [
            f"{script.word} = offset({script.named(self.body)}, -{script.value('thickness')}, openings={faces}, "
            "kind=Kind.INTERSECTION)"
        ]

    def run(self, context, progress):
        from ...kernel.whole import hollowed

        body = context.output(self.body, "body")
        thick = number(self.thickness, "how thick the walls are, in mm", "thickness")
        done = hollowed(body, thick, self.open_faces, self.name)
        value = typed_value("thickness", "walls", thick, self.thickness.source)
        return gave(done, [value], middles=places_on(body, self.open_faces))


@register
class HealStep(BodyStep):
    """Faces taken off a body, those around them grown until they meet."""

    title: ClassVar[str] = "Heal over"
    tells: ClassVar[type[Told]] = HollowTold

    kind: Literal["heal"] = "heal"
    faces: list[str] = Field(default_factory=list, max_length=200, description="Faces that are taken off, by name.")

    def in_script(self, told, script):
        body = script.named(self.body)
        faces = f"faces_at({body}, {[tuple(round(c, 6) for c in p) for p in told['middles']]!r})"
        return [f"{script.word} = without_faces({body}, {faces})"]

    def run(self, context, progress):
        from ...kernel.whole import healed

        body = context.output(self.body, "body")
        done = healed(body, self.faces, self.name)
        return gave(done, [], middles=places_on(body, self.faces))


class LeanTold(AxisTold):
    middles: list[list[float]]


@register
class LeanStep(BodyStep, AxisRecord):
    """Faces of a body leaned, as a mould's draft."""

    title: ClassVar[str] = "Lean faces"
    tells: ClassVar[type[Told]] = LeanTold

    kind: Literal["lean"] = "lean"
    faces: list[str] = Field(default_factory=list, max_length=200, description="Faces that lean, by name.")
    angle: Chosen = Field(
        default_factory=lambda: Chosen(value=2.0, source="typed"),
        description="How far they lean, degrees; the body narrows along the axis where it is more than 0.",
        json_schema_extra=shown("lean", "°", step=0.5),
    )
    offset: Chosen = Field(
        default_factory=lambda: Chosen(value=0.0, source="typed"),
        description="How far along the axis from the frame's origin, or the datum, the body keeps its size, mm.",
        json_schema_extra=shown("keeps its size at", "mm", step=0.5),
    )

    def in_script(self, told, script):
        (point, way), body = told["axis"], script.named(self.body)
        faces = f"faces_at({body}, {[tuple(round(c, 6) for c in p) for p in told['middles']]!r})"
        at = f"Plane({vector(point)}, z_dir={vector(way)}).offset({script.value('offset')})"
        return [f"{script.word} = draft({faces}, {at}, {script.value('angle')})"]

    def run(self, context, progress):
        from ...kernel.whole import leaning

        body = context.output(self.body, "body")
        point, way = axis_in_frame(self, context)
        angle, offset = number(self.angle, "the lean, in degrees", "angle"), number(self.offset, "a height", "offset")
        done = leaning(body, self.faces, point + offset * way, way, angle, self.name)
        values = [
            typed_value("angle", "lean", angle, self.angle.source, "deg"),
            typed_value("offset", "keeps its size at", offset, self.offset.source),
        ]
        return gave(done, values, middles=places_on(body, self.faces), axis=[point.tolist(), way.tolist()])
