"""A capture as it stands: what was touched, drawn and streamed so far, rebuilt from its records alone, so that it is
the same while the device speaks and when the file is played again.

Records are the device's answers (``say``) and what the person did (``did``): ``put`` a thing (an element, a boundary, a
plane, the level, a mirror) under an id, ``drop`` it, take the last touches ``back``, begin a ``visit``.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..elements import RigidMotion, perpendicular_pair, unit
from ..errors import BadInput
from .coverage import Coverage
from .keeping import Boundary, CuttingPlane, Region
from .sections import section_lines
from .touched import Probed, Touches, probed
from .touched_curve import ProbedCurve, probed_curve
from .words import unpacked

__all__ = ["CaptureState", "ELEMENTS", "Touch"]

#: What touches are read as.
ELEMENTS = ("plane", "line", "circle", "rounding", "curve")
_ID = re.compile(r"t\d{1,9}")  # of a thing
_UPRIGHT = 0.35  # sine: touches led so nearly along the level are of something that stands on it


@dataclass(frozen=True)
class Touch:
    ball: np.ndarray
    along: np.ndarray
    radius: float


@dataclass
class CaptureState:
    """``points`` come in pieces as they were sent; ``things`` by id in the order they were put."""

    touches: list[Touch] = field(default_factory=list)
    used: int = 0  # touches that are part of something, or were let go
    things: dict[str, dict[str, Any]] = field(default_factory=dict)
    visits: list[dict[str, Any]] = field(default_factory=list)
    life: str = ""
    tremble: float = 0.0  # of a touch in each direction, mm: what the device says of itself
    seq: int = 0
    generation: int = 0  # changes where what is kept of the points changes
    taken: int = 0
    stands: np.ndarray | None = None  # (2, 3): where the device says the part stands
    _places: list[np.ndarray] = field(default_factory=list)
    _sight: list[np.ndarray] = field(default_factory=list)
    _masks: list[np.ndarray] = field(default_factory=list)
    _counts: list[int] = field(default_factory=list)
    _covered: tuple[int, int, dict[str, Coverage]] = (-1, 0, {})
    _cut: dict[str, tuple[tuple[int, int], list]] = field(default_factory=dict)

    def take(self, record: dict[str, Any]) -> bool:
        """Take one record; False where it was taken before (sent again after the line was lost). Raises `ValueError`,
        `KeyError`, `TypeError` or `BadInput` for one that is not as said, and stands as before then.
        """
        says = record.get("say")
        if says == "hello":
            self._met(record)
            return True
        if "seq" in record:
            if record["seq"] <= self.seq:
                return False
            self.seq = record["seq"]
        if says == "touched":
            self.touches.append(Touch(_three(record["ball"]), _three(record["along"]), float(record["radius"])))
        elif says == "points":
            self._add(*unpacked(record))
        did = record.get("did")
        if did == "put":
            self._put(record)
        elif did == "drop":
            self._drop(record["id"])
        elif did == "back":
            del self.touches[max(len(self.touches) - 1, self.used) :]
        elif did == "visit":
            self.visits.append(record)
        return True

    def _met(self, record: dict[str, Any]) -> None:
        """A device that is met in a new life counts from where it stands."""
        if record.get("life", "") != self.life:
            self.life, self.seq = record.get("life", ""), int(record.get("last", 0))
        self.tremble = max(float(record.get("tremble", 0.0)), 0.0)
        stands = record.get("stands")
        if stands:
            self.stands = np.array([stands["low"], stands["high"]], float)

    def _put(self, record: dict[str, Any]) -> None:
        thing = {k: v for k, v in record.items() if k != "did"}
        self._look_at(thing)
        used = int(thing.get("used", 0))
        self.things[thing["id"]] = thing
        self.used = max(self.used, used)
        self._changed()

    def _look_at(self, thing: dict[str, Any]) -> None:
        """Raise where a thing is not what it is said to be."""
        what = str(thing["as"])
        if not _ID.fullmatch(thing["id"]) or not isinstance(thing["name"], str):
            raise ValueError("what is put has a name, and a number after t")
        if what == "boundary":
            _boundary(thing)
        elif what == "cut":
            _plane(thing)
        elif what == "mirrored":
            for i in thing["of"]:
                self.plane_of(i)
        elif what == "level" or what in ELEMENTS:
            self.read("plane" if what == "level" else what, thing["touches"])
        else:
            raise ValueError(f"'{what}' is nothing that is put")

    def _drop(self, thing_id: str) -> None:
        """Take a thing out, and a mirror that stood in it."""
        gone = [i for i, t in self.things.items() if i == thing_id or thing_id in t.get("of", ())]
        for i in gone:
            del self.things[i]
        if gone:
            self._changed()

    def _changed(self) -> None:
        self.generation += 1
        region = self.region()
        self._masks = [region.keeps(p) for p in self._places]
        self._counts = [int(m.sum()) for m in self._masks]

    def _add(self, places: np.ndarray, sight: np.ndarray) -> None:
        self.taken += len(places)
        self._places.append(places)
        self._sight.append(sight)
        self._masks.append(self.region().keeps(places))
        self._counts.append(int(self._masks[-1].sum()))

    # What was drawn and touched.

    def of(self, what: str) -> list[dict[str, Any]]:
        """The things of a kind, in the order they were put."""
        return [t for t in self.things.values() if t["as"] == what]

    def touches_of(self, thing: dict[str, Any]) -> Touches:
        some = [self.touches[k] for k in thing["touches"]]
        return Touches.of([t.ball for t in some], [t.along for t in some], some[0].radius if some else 0.0)

    @property
    def waiting(self) -> list[int]:
        """Touches that are not part of anything yet."""
        return list(range(self.used, len(self.touches)))

    def read(self, kind: str, touches: list[int]) -> Probed | ProbedCurve:
        """Touches as an element or a curve. Raises `BadInput` where they do not tell it."""
        t = self.touches_of({"touches": touches})
        up = self.up()
        if kind == "curve":
            return probed_curve(t, _curve_normal(t, up), closed=False, noise=self.tremble)
        return probed(kind, t, normal=up if kind == "circle" and self.stands_upright(touches) else None)

    def stands_upright(self, touches: list[int]) -> bool:
        """Whether touches were led along the level, so that what is round among them stands on it."""
        up = self.up()
        led = np.array([self.touches[k].along for k in touches]).reshape(-1, 3)
        return up is not None and len(led) > 0 and bool((np.abs(led @ up) < _UPRIGHT).all())

    def up(self) -> np.ndarray | None:
        level = self.level()
        return None if level is None else level.matrix[2, :3]

    def level(self) -> RigidMotion | None:
        """From the device's coordinates to those that stand on the level plane, and run along the first line that was
        touched; None before a level was.
        """
        found = self.of("level")
        if not found:
            return None
        plane = probed("plane", self.touches_of(found[-1])).element
        n = plane.normal  # type: ignore[union-attr]
        x = np.array([0, 1.0, 0]) if abs(n[0]) > 0.9 else np.array([1.0, 0, 0])
        if lines := self.of("line"):
            d = probed("line", self.touches_of(lines[0])).element.direction  # type: ignore[union-attr]
            if np.linalg.norm(np.cross(d, n)) > _UPRIGHT:
                x = d * (np.sign(d @ x) or 1.0)
        x = unit(x - (x @ n) * n)
        turn = np.array([x, np.cross(n, x), n])
        return RigidMotion.of(turn, -turn @ plane.point)  # type: ignore[union-attr]

    def region(self) -> Region:
        return Region(tuple(_boundary(t) for t in self.of("boundary")), tuple(_plane(t) for t in self.of("cut")))

    def mirror(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Point and normal of the plane that half a part is mirrored in; None where there is none."""
        found = self.of("mirrored")
        if not found:
            return None
        planes = [self.plane_of(i) for i in found[-1]["of"]]
        if len(planes) == 1:
            return planes[0]
        (p, n), (q, m) = planes
        n = unit(n - m) if n @ m < 0 else unit(n + m)
        return 0.5 * (p + q), n

    def plane_of(self, thing_id: str) -> tuple[np.ndarray, np.ndarray]:
        """Point and normal of a cutting plane or of a plane that was touched. Raises `BadInput` for another."""
        t = self.things.get(thing_id)
        if t is not None and t["as"] == "cut":
            return np.array(t["point"], float), unit(np.array(t["normal"], float))
        if t is not None and t["as"] in ("plane", "level"):
            e = probed("plane", self.touches_of(t)).element
            return e.point, e.normal  # type: ignore[union-attr]
        raise BadInput("Mirror in a plane: one that was touched, or a cutting plane.", field="of")

    # What was streamed.

    def kept(self, after: int = 0) -> tuple[np.ndarray, np.ndarray]:
        """Points (n, 3) that are kept, in the order they came, and directions to the sensor; those after some."""
        reached = np.cumsum([0, *self._counts])
        first = int(np.searchsorted(reached, after, side="right")) - 1  # the piece the first of them lies in
        if after >= reached[-1]:
            return np.zeros((0, 3)), np.zeros((0, 3))
        pieces = range(first, len(self._places))
        skip = after - int(reached[first])
        return (
            np.concatenate([self._places[k][self._masks[k]] for k in pieces])[skip:],
            np.concatenate([self._sight[k][self._masks[k]] for k in pieces])[skip:],
        )

    @property
    def count(self) -> int:
        return sum(self._counts)

    def coverage(self) -> dict[str, Coverage]:
        """Of each boundary by its id; grows as points come."""
        generation, done, found = self._covered
        if generation != self.generation:
            planes = self.region().planes
            done, found = 0, {t["id"]: Coverage.over(_boundary(t), planes) for t in self.of("boundary")}
        for places, mask in zip(self._places[done:], self._masks[done:]):
            for c in found.values():
                c.add(places[mask])
        self._covered = (self.generation, len(self._places), found)
        return found

    def sections(self) -> dict[str, list[tuple[np.ndarray, bool]]]:
        """The lines each cutting plane gives, by its id; reckoned anew where what is kept has grown by a tenth."""
        state = (self.generation, self.count)
        places: np.ndarray | None = None
        out = {}
        for t in self.of("cut"):
            (generation, count), lines = self._cut.get(t["id"], ((-1, 0), []))
            if generation != self.generation or self.count > 1.1 * count + 200:
                places = self.kept()[0] if places is None else places
                lines = section_lines(places, _plane(t))
                self._cut[t["id"]] = (state, lines)
            out[t["id"]] = lines
        return out

    def cloud(self) -> tuple[np.ndarray, np.ndarray]:
        """What is handed on: points and directions, with their mirror image where the part is mirrored."""
        places, sight = self.kept()
        plane = self.mirror()
        if plane is None:
            return places, sight
        p, n = plane
        return (
            np.vstack([places, places - 2 * ((places - p) @ n)[:, None] * n]),
            np.vstack([sight, sight - 2 * (sight @ n)[:, None] * n]),
        )


def _three(given: Any) -> np.ndarray:
    out = np.array(given, float)
    if out.shape != (3,) or not np.isfinite(out).all():
        raise ValueError("a place or a direction is three numbers")
    return out


def _boundary(thing: dict[str, Any]) -> Boundary:
    rings = [np.array([_three(p) for p in ring]) for ring in (thing["corners"], *thing.get("without", ()))]
    if any(len(ring) < 3 for ring in rings):
        raise ValueError("a boundary has three corners at least")
    return Boundary(rings[0], unit(_three(thing["toward"])), tuple(rings[1:]))


def _plane(thing: dict[str, Any]) -> CuttingPlane:
    return CuttingPlane(_three(thing["point"]), unit(_three(thing["normal"])), float(thing["reach"]))


def _curve_normal(t: Touches, up: np.ndarray | None) -> np.ndarray:
    """The normal of the plane that the ball is taken off in: across the way and the leading."""
    if len(t.balls) < 2:
        raise BadInput("A curve takes two touches or more; take another.", field="touches")
    way = t.balls[-1] - t.balls[0]
    if len(t.balls) > 2 and np.linalg.norm(way) < 1e-9:
        way = t.balls[1] - t.balls[0]
    n = np.cross(way, t.along.mean(axis=0))
    if np.linalg.norm(n) < 1e-9 * max(float(np.linalg.norm(way)), 1e-300):
        return up if up is not None else perpendicular_pair(unit(way))[0]
    return unit(n)
