"""The drawing: points and radii as one vector of unknowns, entities over them, equations between them.

Ends that join share one point, so a corner cannot come apart. Lengths in mm on the paper.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

__all__ = ["Entity", "Relation", "Size", "Drawing", "RELATION_KINDS", "SIZE_KINDS"]

RELATION_KINDS = ("horizontal", "vertical", "parallel", "perpendicular", "tangent", "equal", "concentric", "collinear")
SIZE_KINDS = ("radius", "diameter", "width", "spacing_x", "spacing_y", "place_x", "place_y")


@dataclass
class Entity:
    """``points`` names unknowns: line (start, end); arc (start, end, center); circle (center,). ``radius`` is a column."""

    id: str
    kind: str
    points: tuple[int, ...]
    radius: int | None = None
    ccw: bool = True


@dataclass(frozen=True)
class Relation:
    """A relation between entities; ``cost`` is the rise of the trace's rms in mm that it causes."""

    kind: str
    of: tuple[str, ...]
    cost: float = 0.0


@dataclass
class Size:
    """A dimension: what the trace says, what was chosen (mm), and from where ('scan', 'rounded', 'typed')."""

    id: str
    kind: str
    of: tuple[str, ...]
    label: str = ""
    measured: float | None = None
    uncertainty: float | None = None
    chosen: float | None = None
    source: str = "scan"
    cost: float = 0.0


@dataclass
class Drawing:
    """Unknowns ``x``: point i at columns 2i, 2i+1, then radii. ``stretches`` are each entity's trace samples (k, 2); ``crowded`` how many of
    these lie within one facet, and so share their corners' noise."""

    x: np.ndarray
    point_count: int
    entities: dict[str, Entity]
    stretches: dict[str, np.ndarray] = field(default_factory=dict)
    crowded: float = 1.0

    def point(self, i: int, x=None) -> np.ndarray:
        x = self.x if x is None else x
        return x[2 * i : 2 * i + 2]

    def apart(self) -> Drawing:
        """The same entities with their own ends, none shared: each held by its own stretch alone."""
        points, entities = [], {}
        for e in self.entities.values():
            points += [self.point(i) for i in e.points]
            n = len(points)
            entities[e.id] = Entity(e.id, e.kind, tuple(range(n - len(e.points), n)), e.radius, e.ccw)
        radii = self.x[2 * self.point_count :]
        for e in entities.values():
            if e.radius is not None:
                e.radius = 2 * len(points) + e.radius - 2 * self.point_count
        return Drawing(np.concatenate([*points, radii]), len(points), entities, self.stretches, self.crowded)

    def geometry(self, x=None) -> list[dict]:
        """Entities with coordinates, in contract keys."""
        x = self.x if x is None else x
        out = []
        for e in self.entities.values():
            if e.kind == "line":
                a, b = (self.point(i, x).tolist() for i in e.points)
                out.append({"id": e.id, "kind": "line", "start": a, "end": b})
            elif e.kind == "arc":
                a, b, c = (self.point(i, x).tolist() for i in e.points)
                out.append(
                    {
                        "id": e.id,
                        "kind": "arc",
                        "center": c,
                        "radius": float(x[e.radius]),
                        "start": a,
                        "end": b,
                        "ccw": e.ccw,
                    }
                )
            else:
                c = self.point(e.points[0], x).tolist()
                out.append({"id": e.id, "kind": "circle", "center": c, "radius": float(x[e.radius])})
        return out
