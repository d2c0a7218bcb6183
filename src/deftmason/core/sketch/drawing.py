"""The drawing: points and radii as one vector of unknowns, entities over them, relations and sizes between them.

Ends that join share one point, so a corner cannot come apart. Lengths in mm on the paper, angles in degrees.

A relation speaks of entities (``e1``) and of places on them: ``e1.start``, ``e1.end``, ``e1.center``, ``e1.p2`` (its
third point). ``origin``, ``axis_x`` and ``axis_y`` are the paper's own and do not move.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ..errors import BadInput

__all__ = [
    "ENTITY_KINDS",
    "PAPER",
    "RELATION_KINDS",
    "SIZE_KINDS",
    "Drawing",
    "Entity",
    "Relation",
    "Size",
    "check_said",
    "line_of",
    "paper_entities",
    "said_once",
    "uniform_knots",
]

_LINE, _ROUND, _ARC = frozenset({"line"}), frozenset({"arc", "circle"}), frozenset({"arc"})
_PLACE = frozenset({"place"})
_ELLIPSE, _SPLINE = frozenset({"ellipse"}), frozenset({"spline"})
_BENT = _ROUND | _ELLIPSE
_CENTRED = _ROUND | _ELLIPSE
_CURVE = _LINE | _BENT | _SPLINE
#: What each relation and size may hold of, as kinds of entity (or 'place') in order.
_RELATIONS = {
    "coincident": ((_PLACE, _PLACE),),
    "on_curve": ((_PLACE, _CURVE),),
    "horizontal": ((_LINE,), (_CENTRED | _PLACE, _CENTRED | _PLACE)),
    "vertical": ((_LINE,), (_CENTRED | _PLACE, _CENTRED | _PLACE)),
    "parallel": ((_LINE, _LINE),),
    "perpendicular": ((_LINE, _LINE),),
    "tangent": ((_LINE | _ROUND, _ROUND), (_ROUND, _LINE), (_SPLINE, _LINE | _ARC | _SPLINE), (_LINE | _ARC, _SPLINE)),
    "equal": ((_LINE, _LINE), (_ROUND, _ROUND)),
    "concentric": ((_CENTRED, _CENTRED),),
    "collinear": ((_LINE, _LINE),),
    "symmetric": ((_PLACE, _PLACE, _LINE), (_ROUND, _ROUND, _LINE)),
    "midpoint": ((_PLACE, _LINE),),
    "fixed": ((_CURVE | _PLACE,),),
    "turned": ((_PLACE, _PLACE, _PLACE),),
    "stepped": ((_PLACE, _PLACE, _PLACE, _PLACE),),
    "offset": ((_LINE, _LINE), (_ROUND, _ROUND)),
}
_SIZES = {
    "radius": ((_ROUND,),),
    "diameter": ((_ROUND,),),
    "minor_radius": ((_ELLIPSE,),),
    "major_radius": ((_ELLIPSE,),),
    "length": ((_LINE,),),
    "distance": ((_PLACE, _PLACE), (_PLACE, _LINE)),
    "angle": ((_LINE, _LINE),),
    "width": ((_LINE, _LINE),),
    "spacing": ((_CENTRED | _PLACE, _CENTRED | _PLACE),),
    "spacing_x": ((_CENTRED | _PLACE, _CENTRED | _PLACE),),
    "spacing_y": ((_CENTRED | _PLACE, _CENTRED | _PLACE),),
    "place_x": ((_CENTRED | _PLACE,),),
    "place_y": ((_CENTRED | _PLACE,),),
}
_POSITIVE = ("radius", "diameter", "width", "minor_radius", "major_radius", "length", "distance", "angle", "spacing")

RELATION_KINDS, SIZE_KINDS = tuple(_RELATIONS), tuple(_SIZES)
ENTITY_KINDS = ("point", "line", "arc", "circle", "ellipse", "spline")
#: The paper's own entities.
PAPER = ("origin", "axis_x", "axis_y")


def uniform_knots(poles: int, degree: int = 3) -> np.ndarray:
    """Clamped knots (poles + degree + 1,) from 0 to 1, evenly between."""
    inner = np.linspace(0, 1, poles - degree + 1)
    return np.concatenate([np.zeros(degree), inner, np.ones(degree)])


@dataclass
class Entity:
    """``points`` names unknowns: point (at,); line (start, end); arc (start, end, center); circle (center,); ellipse
    (center, end of the major axis); spline (its poles, cubic). ``radius`` is a column: of an ellipse the minor one.
    ``knots`` are a spline's.
    """

    id: str
    kind: str
    points: tuple[int, ...]
    radius: int | None = None
    ccw: bool = True
    construction: bool = False
    knots: np.ndarray | None = None

    @property
    def column(self) -> int:
        """The column of its radius; only what is round has one."""
        assert self.radius is not None
        return self.radius

    @property
    def centre(self) -> int:
        """Its centre's point."""
        return self.points[0] if self.kind == "ellipse" else self.points[-1]

    @property
    def ends(self) -> tuple[int, int] | None:
        """Its first and last point, where it has ends."""
        if self.kind in ("line", "arc"):
            return self.points[0], self.points[1]
        return (self.points[0], self.points[-1]) if self.kind == "spline" else None

    def columns(self) -> list[int]:
        """All unknowns it depends on."""
        out = [c for p in self.points for c in (2 * p, 2 * p + 1)]
        return out if self.radius is None else [*out, self.radius]


@dataclass(frozen=True)
class Relation:
    """A relation between entities and places; ``cost`` is the rise of the trace's rms in mm that it causes.

    ``by`` counts for 'turned' (degrees that the second place is turned about the third from the first), 'stepped' (how
    many times the step from the first to the second place leads from the third to the fourth) and 'offset' (how far the
    second lies to the left of the first, or how much larger its radius is, mm).
    """

    kind: str
    of: tuple[str, ...]
    cost: float = 0.0
    by: float = 0.0


@dataclass
class Size:
    """A dimension: what the trace says, what was chosen (mm or degrees), and from where ('scan', 'typed', …)."""

    id: str
    kind: str
    of: tuple[str, ...]
    label: str = ""
    measured: float | None = None
    uncertainty: float | None = None
    chosen: float | None = None
    source: str = "scan"
    cost: float = 0.0

    @property
    def held(self) -> bool:
        """Whether its number is held; else it is only measured."""
        return self.chosen is not None and self.source != "scan"

    @property
    def unit(self) -> str:
        return "deg" if self.kind == "angle" else "mm"


@dataclass
class Drawing:
    """Unknowns ``x``: point i at columns 2i, 2i+1, then radii. ``stretches`` are each entity's trace samples (k, 2);
    ``crowded`` how many of these lie within one facet, and so share their corners' noise. ``still`` (n,) marks columns
    that do not move; ``references`` are entities that are not drawn here: the paper's own and projected ones."""

    x: np.ndarray
    point_count: int
    entities: dict[str, Entity]
    stretches: dict[str, np.ndarray] = field(default_factory=dict)
    crowded: float = 1.0
    references: dict[str, Entity] = field(default_factory=dict)
    still: np.ndarray | None = None

    def point(self, i: int, x=None) -> np.ndarray:
        x = self.x if x is None else x
        return x[2 * i : 2 * i + 2]

    @cached_property
    def scale(self) -> float:
        """The extent of all its unknown coordinates at the start, mm."""
        return float(np.ptp(self.x[: 2 * self.point_count])) if self.point_count else 1.0

    @cached_property
    def span(self) -> float:
        """How far the drawing reaches, mm."""
        ids = [i for e in self.entities.values() for i in e.points]
        if not ids:
            return 1.0
        p = self.x[: 2 * self.point_count].reshape(-1, 2)[ids]
        radius = max((float(self.x[e.radius]) for e in self.entities.values() if e.radius is not None), default=0.0)
        return max(float(np.ptp(p, axis=0).max()), 2 * radius) or 1.0

    def entity(self, name: str) -> Entity:
        """An entity of the drawing or of the paper."""
        name = name.partition(".")[0]
        return self.entities.get(name) or self.references[name]

    def has(self, name: str) -> bool:
        return name.partition(".")[0] in self.entities or name.partition(".")[0] in self.references

    def kind_of(self, name: str) -> str:
        """'place' for a place on an entity (and for a point), else the entity's kind."""
        return "place" if "." in name or self.entity(name).kind == "point" else self.entity(name).kind

    def place(self, name: str) -> int:
        """The point a name stands for: ``e1.end``, or what is round by its centre. Raises `BadInput`."""
        who, _, which = name.partition(".")
        e = self.entity(who)
        if not which:
            return e.points[0] if e.kind == "point" else e.centre
        if which == "center" and e.kind in ("arc", "circle", "ellipse"):
            return e.centre
        if which in ("start", "end") and e.ends:
            return e.ends[which == "end"]
        if which[:1] == "p" and which[1:].isdigit() and int(which[1:]) < len(e.points):
            return e.points[int(which[1:])]
        raise BadInput(f"There is no place '{which}' on the {e.kind} '{who}'.", field="relations")

    def apart(self) -> Drawing:
        """The same entities with their own ends, none shared: each held by its own stretch alone."""
        points: list[np.ndarray] = []
        copies: list[dict[str, Entity]] = []
        for group in (self.entities, self.references):
            own = {}
            for e in group.values():
                points += [self.point(i) for i in e.points]
                n = len(points)
                at = tuple(range(n - len(e.points), n))
                own[e.id] = Entity(e.id, e.kind, at, e.radius, e.ccw, e.construction, e.knots)
            copies.append(own)
        radii = self.x[2 * self.point_count :]
        for e in (*copies[0].values(), *copies[1].values()):
            if e.radius is not None:
                e.radius = 2 * len(points) + e.radius - 2 * self.point_count
        still = np.zeros(2 * len(points) + len(radii), bool)
        for e in copies[1].values():
            still[e.columns()] = True
        return Drawing(
            np.concatenate([*points, radii]) if points else radii.copy(),
            len(points),
            copies[0],
            self.stretches,
            self.crowded,
            copies[1],
            still,
        )

    def geometry(self, x=None) -> list[dict[str, Any]]:
        """Entities with coordinates, in contract keys; ``construction`` where one only guides."""
        x = self.x if x is None else x
        out = []
        for e in self.entities.values():
            said: dict[str, Any] = {"id": e.id, "kind": e.kind}
            p = [self.point(i, x).tolist() for i in e.points]
            if e.kind == "point":
                said |= {"at": p[0]}
            elif e.kind == "line":
                said |= {"start": p[0], "end": p[1]}
            elif e.kind == "arc":
                said |= {"center": p[2], "radius": float(x[e.column]), "start": p[0], "end": p[1], "ccw": e.ccw}
            elif e.kind == "circle":
                said |= {"center": p[0], "radius": float(x[e.column])}
            elif e.kind == "ellipse":
                said |= {"center": p[0], "major": p[1], "minor_radius": float(x[e.column])}
            else:
                knots = uniform_knots(len(p)) if e.knots is None else e.knots
                said |= {"degree": len(knots) - len(p) - 1, "knots": list(map(float, knots)), "poles": p}
            if e.construction:
                said["construction"] = True
            out.append(said)
        return out


def line_of(d: Drawing, e: Entity, x):
    """A line's first point, direction, normal and length. Raises `BadInput` where it has no length."""
    a, b = d.point(e.points[0], x), d.point(e.points[1], x)
    t = b - a
    length = float(np.hypot(*t))
    if not length > 1e-9 * max(abs(float(t[0])), abs(float(t[1])), d.scale):
        raise BadInput(f"The line '{e.id}' has shrunk to a point; take it out or fix its ends.", field="entities")
    t = t / length
    return a, t, np.array([-t[1], t[0]]), length


def paper_entities(points: int, span: float) -> tuple[dict[str, Entity], np.ndarray]:
    """The paper's origin and axes as entities over three points after ``points`` others; and these points (3, 2),
    ``span`` mm apart.
    """
    o, x, y = points, points + 1, points + 2
    entities = {
        "origin": Entity("origin", "point", (o,)),
        "axis_x": Entity("axis_x", "line", (o, x), construction=True),
        "axis_y": Entity("axis_y", "line", (o, y), construction=True),
    }
    return entities, span * np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]])


def check_said(d: Drawing, relations: list[Relation], sizes: list[Size]) -> None:
    """Refuse relations and sizes on entities that are not there or that they do not fit. Raises `BadInput` in a
    sentence.
    """
    for field_, fits, said in (("relations", _RELATIONS, relations), ("sizes", _SIZES, sizes)):
        for s in said:
            if s.kind not in fits:
                raise BadInput(f"There is no {field_[:-1]} of kind '{s.kind}'.", field=field_)
            gone = [i for i in s.of if not d.has(i)]
            if gone:
                raise BadInput(
                    f"A {s.kind} names an entity that is not in the sketch: {', '.join(gone)}.", field=field_
                )
            kinds = [d.kind_of(i) for i in s.of]
            for i, k in zip(s.of, kinds):
                if k == "place":
                    d.place(i)
            fit = any(len(kinds) == len(want) and all(k in w for k, w in zip(kinds, want)) for want in fits[s.kind])
            twice = len(set(s.of)) < len(s.of) and s.kind != "stepped"
            if not fit or twice:
                raise BadInput(
                    f"A {s.kind} does not fit {' and '.join(f'{k} {i}' for k, i in zip(kinds, s.of))}; take it away.",
                    field=field_,
                )
    for size in sizes:
        if size.kind in _POSITIVE and size.chosen is not None and size.chosen <= 0:
            raise BadInput(
                f"The {size.kind} '{size.label or size.id}' is more than 0; choose another number.", field="sizes"
            )
        if size.kind == "angle" and size.chosen is not None and size.chosen >= 180:
            raise BadInput(f"The angle '{size.label or size.id}' is less than 180°.", field="sizes")


def said_once(relations: list[Relation]) -> list[Relation]:
    """Relations without those said already, in either order of their entities."""

    def same(r: Relation) -> tuple:
        ordered = r.kind in ("turned", "stepped", "symmetric", "on_curve", "midpoint", "offset")
        return r.kind, r.of if ordered else frozenset(r.of), r.by

    return list({same(r): r for r in reversed(relations)}.values())[::-1]
