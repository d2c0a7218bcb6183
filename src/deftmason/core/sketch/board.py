"""A drawing while it is changed: strokes, relations and sizes together, with where everything was last.

A change takes a board and gives a new one. Whatever loses what it spoke of goes with it; nothing is left that names an
entity that is no more.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..errors import BadInput
from .curve import Curve, curve_of, meetings
from .drawing import PAPER, Relation, Size
from .sketcher import Stroke

__all__ = ["Board", "as_stroke", "geometry_of"]


def as_stroke(e: dict[str, Any], **more: Any) -> Stroke:
    """An entity in contract keys as a stroke that was drawn there."""
    k = e["kind"]
    at: list = {
        "point": lambda: [e["at"]],
        "line": lambda: [e["start"], e["end"]],
        "arc": lambda: [e["start"], e["end"], e["center"]],
        "circle": lambda: [e["center"]],
        "ellipse": lambda: [e["center"], e["major"]],
        "spline": lambda: e["poles"],
    }[k]()
    radius = e.get("minor_radius") if k == "ellipse" else e.get("radius")
    knots = np.array(e["knots"], float) if k == "spline" else None
    more.setdefault("construction", bool(e.get("construction", False)))
    return Stroke(e["id"], k, at=np.array(at, float), radius=radius, ccw=bool(e.get("ccw", True)), knots=knots, **more)


def geometry_of(s: Stroke) -> dict[str, Any]:
    """A stroke that was placed as an entity in contract keys. Raises `BadInput` where it was not."""
    from .drawing import uniform_knots

    if s.at is None:
        raise BadInput(f"'{s.id}' has not been solved yet.", field="strokes")
    p = np.asarray(s.at, float).tolist()
    e: dict[str, Any] = {"id": s.id, "kind": s.kind}
    if s.kind == "point":
        e |= {"at": p[0]}
    elif s.kind == "line":
        e |= {"start": p[0], "end": p[1]}
    elif s.kind == "arc":
        e |= {"start": p[0], "end": p[1], "center": p[2], "radius": s.radius, "ccw": s.ccw}
    elif s.kind == "circle":
        e |= {"center": p[0], "radius": s.radius}
    elif s.kind == "ellipse":
        e |= {"center": p[0], "major": p[1], "minor_radius": s.radius}
    else:
        knots = uniform_knots(len(p)) if s.knots is None else s.knots
        e |= {"degree": len(knots) - len(p) - 1, "knots": list(map(float, knots)), "poles": p}
    return e | ({"construction": True} if s.construction else {})


@dataclass
class Board:
    """Strokes in order, relations, sizes; ``references`` are projected entities in contract keys; ``fresh`` the ids
    that a change added or fitted anew.
    """

    strokes: list[Stroke]
    relations: list[Relation] = field(default_factory=list)
    sizes: list[Size] = field(default_factory=list)
    references: dict[str, dict] = field(default_factory=dict)
    fresh: list[str] = field(default_factory=list)

    def copy(self) -> Board:
        return Board(list(self.strokes), list(self.relations), [replace(s) for s in self.sizes], self.references)

    def stroke(self, name: str) -> Stroke:
        """Raises `BadInput` where there is none of that name."""
        for s in self.strokes:
            if s.id == name:
                return s
        raise BadInput(f"There is no '{name}' in the drawing any more; pick another.", field="of")

    def curve(self, name: str) -> Curve:
        if name in self.references:
            return curve_of({**self.references[name], "id": name})
        return curve_of(geometry_of(self.stroke(name)))

    def curves(self, but: Iterable[str] = ()) -> list[Curve]:
        gone = set(but)
        own = [curve_of(geometry_of(s)) for s in self.strokes if s.id not in gone and s.at is not None]
        return own + [self.curve(n) for n in self.references if n not in gone]

    def names(self, count: int) -> list[str]:
        """So many names that nothing has yet."""
        taken = {s.id for s in self.strokes} | set(self.references)
        free = (f"e{k}" for k in range(1, 100_000) if f"e{k}" not in taken)
        return [next(free) for _ in range(count)]

    def name(self) -> str:
        return self.names(1)[0]

    def size_name(self) -> str:
        taken = {s.id for s in self.sizes}
        return next(f"s{k}" for k in range(1, 100_000) if f"s{k}" not in taken)

    def add(self, e: dict[str, Any], **more: Any) -> str:
        """A new entity; its name."""
        name = e.get("id") or self.name()
        if any(s.id == name for s in self.strokes):
            name = self.name()
        self.strokes.append(as_stroke({**e, "id": name}, **more))
        self.fresh.append(name)
        return name

    def hold(self, kind: str, *of: str, by: float = 0.0) -> None:
        """A relation, if it is not said yet."""
        r = Relation(kind, of, by=by)
        if all(not (x.kind == kind and set(x.of) == set(of) and x.by == by) for x in self.relations):
            self.relations.append(r)

    def size(self, kind: str, *of: str, chosen: float | None = None, label: str = "") -> None:
        source = "scan" if chosen is None else "typed"
        self.sizes.append(Size(self.size_name(), kind, of, label, chosen=chosen, source=source))

    def put(self, s: Stroke) -> None:
        """In the place of the stroke of the same name."""
        self.strokes = [s if x.id == s.id else x for x in self.strokes]

    def join(self, one: str, two: str) -> None:
        """Two ends made one place, unless they are."""
        if one.partition(".")[0] != two.partition(".")[0] or "." not in one:
            self.hold("coincident", one, two)

    def handles(self, name: str) -> list[tuple[str, np.ndarray]]:
        """Its places by name: ends, centre, poles; of a point itself."""
        s = self.stroke(name)
        assert s.at is not None
        p = np.asarray(s.at, float)
        if s.kind == "point":
            return [(name, p[0])]
        if s.kind == "line":
            return [(f"{name}.start", p[0]), (f"{name}.end", p[1])]
        if s.kind == "arc":
            return [(f"{name}.start", p[0]), (f"{name}.end", p[1]), (f"{name}.center", p[2])]
        if s.kind == "circle":
            return [(f"{name}.center", p[0])]
        if s.kind == "ellipse":
            return [(f"{name}.center", p[0]), (f"{name}.p1", p[1])]
        inner = [(f"{name}.p{k}", p[k]) for k in range(1, len(p) - 1)]
        return [(f"{name}.start", p[0]), *inner, (f"{name}.end", p[-1])]

    def remove(self, names: Iterable[str]) -> None:
        """Take entities out, and what spoke of them."""
        gone = set(names)
        self.strokes = [replace(s, joins=None) if s.joins in gone else s for s in self.strokes if s.id not in gone]
        self.prune()

    def prune(self) -> None:
        """Drop relations and sizes that name what is not there, or that do not fit what is."""
        from .drawing import check_said
        from .sketcher import draw

        here = {s.id for s in self.strokes} | set(self.references) | set(PAPER)

        def stands(of: Iterable[str]) -> bool:
            return all(n.partition(".")[0] in here for n in of)

        self.relations = [r for r in self.relations if stands(r.of)]
        self.sizes = [s for s in self.sizes if stands(s.of)]
        if not self.strokes:
            return
        d = draw([], [replace(s, places=np.zeros((0, 2))) for s in self.strokes], 1.0, references=self.references)

        def fits(relations: list[Relation], sizes: list[Size]) -> bool:
            try:
                check_said(d, relations, sizes)
                return True
            except BadInput:
                return False

        self.relations = [r for r in self.relations if fits([r], [])]
        self.sizes = [s for s in self.sizes if fits([], [s])]

    def pieces(self, name: str, parts: list[tuple[float, float]]) -> list[str]:
        """An entity replaced by pieces of it (from, to along it); the first keeps its name. What was said of its start
        is said of the first piece's, of its end of the last one's; its trace is shared out.
        """
        old = self.stroke(name)
        c = self.curve(name)
        if not parts:
            self.remove([name])
            return []
        names = [name, *self.names(len(parts) - 1)]
        made = [{**c.between(a, b, n), "construction": old.construction} for (a, b), n in zip(parts, names)]
        shares = [np.zeros((0, 2)) for _ in made]
        if len(old.places):
            t = c.nearest(old.places)
            for k, (a, b) in enumerate(parts):
                inside = (t >= a - 1e-9) & (t <= b + 1e-9)
                inside |= (t + 1 >= a - 1e-9) & (t + 1 <= b + 1e-9) if c.closed else False
                shares[k] = old.places[inside]
        fewest = {"line": 2, "arc": 3, "spline": 5, "circle": 3, "ellipse": 6}
        strokes = []
        for e, share in zip(made, shares):
            alike = e["kind"] == old.kind or old.kind == "circle"
            kept = share if alike and len(share) >= fewest.get(e["kind"], 2) else np.zeros((0, 2))
            strokes.append(as_stroke(e, places=kept, construction=old.construction))
        last = names[-1]
        cut_first, cut_last = parts[0][0] > 1e-9 or c.closed, parts[-1][1] < 1 - 1e-9 or c.closed
        strokes[-1] = replace(strokes[-1], joins=None if cut_last else old.joins)
        at = next(i for i, s in enumerate(self.strokes) if s.id == name)
        self.strokes[at : at + 1] = strokes
        if cut_first:
            self.strokes = [replace(s, joins=None) if s.joins == name else s for s in self.strokes]

        def moved(of: tuple[str, ...]) -> tuple[str, ...] | None:
            out = []
            for n in of:
                who, _, which = n.partition(".")
                if who != name or which in ("", "center"):
                    out.append(n)
                elif which == "start" and not cut_first:
                    out.append(n)
                elif which == "end" and not cut_last:
                    out.append(f"{last}.end")
                else:
                    return None
            return tuple(out)

        # What was said of its whole extent is said no more.
        self.relations = [r for r in self.relations if not (r.kind == "midpoint" and r.of[1] == name)]
        if old.kind == "line":
            self.relations = [r for r in self.relations if not (r.kind == "equal" and name in r.of)]
            self.sizes = [z for z in self.sizes if not (z.kind == "length" and name in z.of)]
        self.relations = [replace(r, of=of) for r in self.relations if (of := moved(r.of)) is not None]
        self.sizes = [replace(s, of=of) for s in self.sizes if (of := moved(s.of)) is not None]
        if old.kind in ("arc", "circle"):
            for n in names[1:]:
                self.hold("concentric", name, n)
                self.hold("equal", name, n)
        elif old.kind == "line":
            for n in names[1:]:
                self.hold("collinear", name, n)
        self.fresh += names
        self.prune()
        return names

    def meetings(self, name: str) -> list[tuple[float, str, float]]:
        """Where others meet an entity: (t on it, the other, t on that), in order."""
        c = self.curve(name)
        found = [(t, o.id, s) for o in self.curves([name]) if o.kind != "point" for t, s in meetings(c, o)]
        return sorted(found)
