"""The drawing: points and radii as one vector of unknowns, entities over them, equations between them.

Ends that join share one point, so a corner cannot come apart. Lengths in mm on the paper.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..errors import BadInput

__all__ = ["Entity", "Relation", "Size", "Drawing", "RELATION_KINDS", "SIZE_KINDS", "check_said", "said_once"]

_LINES, _ROUND = frozenset({"line"}), frozenset({"arc", "circle"})
_ANY = _LINES | _ROUND
#: What each relation and size may hold of, as kinds of entity in order.
_RELATIONS = {
    "horizontal": ((_LINES,), (_ROUND, _ROUND)),
    "vertical": ((_LINES,), (_ROUND, _ROUND)),
    "parallel": ((_LINES, _LINES),),
    "perpendicular": ((_LINES, _LINES),),
    "tangent": ((_ANY, _ROUND), (_ROUND, _ANY)),
    "equal": ((_LINES, _LINES), (_ROUND, _ROUND)),
    "concentric": ((_ROUND, _ROUND),),
    "collinear": ((_LINES, _LINES),),
}
_SIZES = {
    "radius": ((_ROUND,),),
    "diameter": ((_ROUND,),),
    "width": ((_LINES, _LINES),),
    "spacing_x": ((_ROUND, _ROUND),),
    "spacing_y": ((_ROUND, _ROUND),),
    "place_x": ((_ROUND,),),
    "place_y": ((_ROUND,),),
}
_POSITIVE = ("radius", "diameter", "width")

RELATION_KINDS, SIZE_KINDS = tuple(_RELATIONS), tuple(_SIZES)


@dataclass
class Entity:
    """``points`` names unknowns: line (start, end); arc (start, end, center); circle (center,). ``radius`` is a
    column.
    """

    id: str
    kind: str
    points: tuple[int, ...]
    radius: int | None = None
    ccw: bool = True

    @property
    def column(self) -> int:
        """The column of its radius; only what is round has one."""
        assert self.radius is not None
        return self.radius


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
    """Unknowns ``x``: point i at columns 2i, 2i+1, then radii. ``stretches`` are each entity's trace samples (k, 2);
    ``crowded`` how many of
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


def check_said(d: Drawing, relations: list[Relation], sizes: list[Size]) -> None:
    """Refuse relations and sizes on entities that are not there or that they do not fit. Raises `BadInput` in a
    sentence.
    """
    for field_, fits, said in (("relations", _RELATIONS, relations), ("sizes", _SIZES, sizes)):
        for s in said:
            if s.kind not in fits:
                raise BadInput(f"There is no {field_[:-1]} of kind '{s.kind}'.", field=field_)
            gone = [i for i in s.of if i not in d.entities]
            if gone:
                raise BadInput(
                    f"A {s.kind} names an entity that is not in the sketch: {', '.join(gone)}.", field=field_
                )
            kinds = [d.entities[i].kind for i in s.of]
            fit = any(len(kinds) == len(want) and all(k in w for k, w in zip(kinds, want)) for want in fits[s.kind])
            if not fit or len(set(s.of)) < len(s.of):
                raise BadInput(
                    f"A {s.kind} does not fit {' and '.join(f'{k} {i}' for k, i in zip(kinds, s.of))}; take it away.",
                    field=field_,
                )
    for size in sizes:
        if size.kind in _POSITIVE and size.chosen is not None and size.chosen <= 0:
            raise BadInput(
                f"The {size.kind} '{size.label or size.id}' is more than 0 mm; choose another number.", field="sizes"
            )


def said_once(relations: list[Relation]) -> list[Relation]:
    """Relations without those said already, in either order of their entities."""
    return list({(r.kind, frozenset(r.of)): r for r in reversed(relations)}.values())[::-1]
