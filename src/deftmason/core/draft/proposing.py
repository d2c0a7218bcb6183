"""The steps of a first draft, laid one after the other; what cannot be laid is said and left."""

from __future__ import annotations

from functools import cached_property
from typing import Any, cast

import numpy as np
import shapely

from ..elements import Plane
from ..errors import BadInput
from ..progress import Progress, silent
from ..recipe.laying import Laying
from ..recipe.papers import PaperRecord, traces_on
from ..recipe.parse import parse_step
from ..scan.index import ScanIndex
from ..sketch.loops import loop_outline
from ..zones import Zones
from .across import Across, drawn_past
from .slabs import Level, Opening, Slab, filled, levels_of, openings_of, outer_runs, same_region, slabs_of, stops_short
from .standing import Standing, caps_along, way_of
from .tube_runs import runs_of

__all__ = ["Draft", "proposed", "turned"]

_INSIDE = 0.7  # of how far the innermost of some facets lies from their rim
_LEAST_CAP = 0.004  # of the surface: less is no level
_LEVEL_NEAR = 0.002  # of the part's size: heights this near are one level
_SCATTERS = 4.0  # likewise in scatters
_FACING = 0.97  # cosine to the direction of what faces along it
_SECTION = 4.0, 0.12, 5e-4  # in noises, facets, sizes: what sections may differ by along their outline
_THINNEST = 2.0  # facets
_DRAFT = 0.3  # degrees: walls that lean less are upright
_COVERED = 0.05  # of an opening that has material beyond it: it does not go through
_GAP = 2.0  # facets between ends of a turned profile that are one place
_CIRCLE = 0.95  # of a circle's area, of what is as long around, that a round opening has
_INWARD = 0.7  # of the farthest place of a row of strokes from the axis: ends nearer to it lead to it
_MAIN = 0.75  # of what is drawn of a turned profile that is one line: the rest are scraps
_WALL_LEAST = 0.01  # of the surface: a plane that stops the part turning


class Draft:
    """A recipe in the making: ``j`` the steps laid, ``left`` sentences about what could not be laid."""

    def __init__(self, j: Laying, scan: str, index: ScanIndex, zones: Zones, standing: Standing):
        self.j, self.index, self.zones, self.standing = j, index, zones, standing
        self.left: list[str] = []
        self.body: str | None = None
        self._named: dict[str, int] = {}
        mesh = index.mesh
        self.size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
        self.facet = mesh.median_edge
        self.within = max(_SECTION[0] * zones.noise, _SECTION[1] * self.facet, _SECTION[2] * self.size)
        self.scan = scan
        self.on = {"scan": self.scan, "frame": "frame"}

    # Names and picks.

    def name(self, words: str) -> str:
        self._named[words] = self._named.get(words, 0) + 1
        return words if self._named[words] == 1 else f"{words} {self._named[words]}"

    def pick(self, facets: np.ndarray, rule: str) -> dict:
        """A place in the midst of facets: of those that lie well inside, the one nearest to their middle. Beside an
        edge, as round the hole in the midst of a flange, a pick reads the edge too."""
        c, w = self.index.mesh.centroids[facets], self.index.mesh.areas[facets]
        middle = np.average(c, axis=0, weights=w)
        depth = self.index.depth(facets)
        deep = np.flatnonzero(depth >= _INSIDE * depth.max())
        k = facets[deep[int(np.argmin(np.linalg.norm(c[deep] - middle, axis=1)))]]
        return self.j.pick(self.index.mesh.centroids[k], self.index.calm_normals[k], rule)

    def lay(self, step: dict[str, Any]) -> bool:
        """Lay a step; whether it stands."""
        try:
            self.j.lay(step)
            return True
        except BadInput as e:
            self.left.append(str(e))
            return False

    def datum(self, step_id: str, words: str, zone: int) -> str:
        kind = self.zones.zones[zone].kind
        rule = "same facing" if kind == "plane" else "same bend"
        step = {"id": step_id, "kind": "datum", "name": words, "scan": self.scan, "element": kind}
        if not self.lay({**step, "pick": self.pick(self.zones.zones[zone].facets, rule)}):
            raise BadInput(f"The {words.lower()} could not be read again: {self.left[-1]}")
        return step_id

    # The frame.

    def frame(self) -> None:
        """The part stood on its frame. Raises `BadInput` where its datums cannot be read."""
        d, zones = self.standing.direction, self.zones.zones
        caps = caps_along(self.zones, d)
        heights = np.array([self._middle(k) @ d for k in caps])
        across = self.index.mesh.vertices @ d
        low, high = float(across.min()), float(across.max())
        near = max(0.02 * (high - low), 2 * self.facet)
        ends = [k for k, h in zip(caps, heights) if min(h - low, high - h) < near]
        foot = max(ends or caps, key=lambda k: zones[k].area, default=None)
        step: dict[str, Any] = {"id": "frame", "kind": "frame", "name": "Part frame"}
        if self.standing.turned:
            assert self.standing.axis is not None
            step |= {"first": self.datum("axis", "Axis", self.standing.axis)}
            if foot is not None:
                step |= {"origin": self.datum("foot", "Foot face", foot)}
        else:
            if foot is None:
                raise BadInput("No flat face to stand the part on was read; set a frame by hand.", field="frame")
            step |= {"first": self.datum("foot", "Foot face", foot)}
        side, across = self._side(d), self._across(d)
        if side is not None:
            step |= {"second": self.datum("side", "Long side", side)}
        elif across is not None:
            try:
                step |= {"second": self.datum("across", "Axis across", across)}
            except BadInput:  # the part stands without it too
                self.left.pop()
        bore = self._bore(d)
        if bore is not None and "origin" not in step:
            step |= {"origin": self.datum("bore", "Main bore", bore)}
        if not self.lay(step):
            raise BadInput(f"The part could not be stood on its own faces: {self.left[-1]}")
        self.motion = self.j.replay().output("frame", "frame")

    def _middle(self, zone: int) -> np.ndarray:
        f = self.zones.zones[zone].facets
        return np.average(self.index.mesh.centroids[f], axis=0, weights=self.index.mesh.areas[f])

    def _side(self, d: np.ndarray) -> int | None:
        """The largest plane along the direction."""
        total = sum(z.area for z in self.zones.zones)
        walls = [
            k
            for k, z in enumerate(self.zones.zones)
            if isinstance(z.element, Plane) and abs(z.element.normal @ d) < 0.02 and z.area > _WALL_LEAST * total
        ]
        return max(walls, key=lambda k: self.zones.zones[k].area, default=None)

    def _across(self, d: np.ndarray) -> int | None:
        """The largest cylinder square to the direction."""
        round_ = [
            k
            for k, z in enumerate(self.zones.zones)
            if z.kind == "cylinder" and (w := way_of(z.element)) is not None and abs(w @ d) < 0.02
        ]
        return max(round_, key=lambda k: self.zones.zones[k].area, default=None)

    def _bore(self, d: np.ndarray) -> int | None:
        """The largest cylinder along the direction."""
        round_ = [
            k
            for k, z in enumerate(self.zones.zones)
            if z.kind == "cylinder" and (w := way_of(z.element)) is not None and abs(w @ d) > 0.9998
        ]
        return max(round_, key=lambda k: self.zones.zones[k].area, default=None)

    @cached_property
    def across(self) -> Across:
        """What stands across the frame's direction."""
        return Across(self.zones, self.index, self.motion.inverse().vectors(np.array([0.0, 0, 1])))

    # Levels and slabs.

    def levels(self) -> list[Level]:
        mesh = self.index.mesh
        up = self.motion.inverse().vectors(np.array([0.0, 0, 1]))
        flat = np.flatnonzero((np.abs(self.index.calm_normals @ up) > _FACING) & ~self.across.facets)
        heights = self.motion.points(mesh.centroids[flat])[:, 2]
        near = max(_LEVEL_NEAR * self.size, _SCATTERS * self.zones.noise)
        found = levels_of(heights, mesh.areas[flat], flat, near, _LEAST_CAP * float(mesh.areas.sum()))
        z = self.motion.points(self.index.mesh.vertices)[:, 2]
        nothing = np.zeros(0, int)
        low, high = float(np.quantile(z, 1e-4)), float(np.quantile(z, 1 - 1e-4))
        if not found or found[0].height > low + 2 * near:
            found.insert(0, Level(low, nothing))
        if found[-1].height < high - 2 * near:
            found.append(Level(high, nothing))
        return found

    def slabs(self, levels: list[Level]) -> list[Slab]:
        def cut(height: float):
            record = cast(PaperRecord, parse_step({**self.paper("section", "Section"), "height": height}))
            laid = traces_on(record, self.j.replay())
            return self.across.without(laid.traces[0], laid.in_scan)

        return slabs_of(levels, cut, self.within, max(_THINNEST * self.facet, 4 * self.zones.noise))

    def paper(self, step_id: str, words: str, axis: str = "z") -> dict[str, Any]:
        return {"id": step_id, "kind": "sketch", "name": words, **self.on, "axis": axis}

    def end(self, levels: list[Level], at: int) -> dict[str, Any]:
        """Where a push ends: a face of the scan, or a height where none was read."""
        level = levels[at]
        if len(level.facets):
            pick = self.pick(level.facets, "same facing")
            return {"to": "face", "pick": pick, "height": {"value": None, "source": "rounded"}}
        return {"to": "height", "height": {"value": round(level.height, 3), "source": "typed"}}

    # Steps.

    def sketch(self, step_id: str, words: str, **where: Any) -> bool:
        try:
            record = self.j.drawn({**self.paper(step_id, words), **where})
        except BadInput as e:
            self.left.append(f"{words}: {e}")
            return False
        return self.lay(record)

    def outlines(self, sketch: str) -> list[tuple[str, shapely.Polygon, int | None]]:
        """An entity, the outline, and the loop it lies in, of each loop of a laid sketch."""
        told = self.j.ran[sketch].summary
        entities = {e["id"]: e for e in told["geometry"]}
        out = []
        for ids, inside in zip(told["loops"], told["inside"]):
            p = loop_outline([entities[i] for i in ids])
            out.append((ids[0], shapely.make_valid(shapely.Polygon(p)), inside))
        return out

    def push(self, words: str, sketch: str, how: str, loops: list[str], ends: tuple[dict, dict], **more: Any) -> bool:
        step: dict[str, Any] = {"id": f"b{len(self.j.steps)}", "kind": "extrude", "name": words, "sketch": sketch}
        step |= self.on
        step |= {"how": how, "loops": loops, "start": ends[0], "end": ends[1], "body": self.body, **more}
        if not self.lay(step):
            return False
        lean = self.j.ran[step["id"]].summary["readings"].get("draft")
        if lean and how == "join" and abs(lean["value"]) > max(_DRAFT, 4 * lean["uncertainty"]):
            self.j.steps.pop()
            leaning = {**step, "draft": {"value": None, "source": "scan"}}
            if not self.lay(leaning):
                self.lay(step)
        self.body = step["id"]
        return True


def proposed(d: Draft, progress: Progress = silent) -> None:
    """The steps of a draft after its frame: what is pushed, or what is turned, then its openings."""
    levels = d.levels()
    slabs = d.slabs(levels)
    progress(0.2, "Drawing its outlines")
    if d.standing.turned:
        turned(d)
    if not slabs:
        if not d.standing.turned and not runs_of(d.zones, d.index):
            raise BadInput("No closed section was found along the part's direction; draft it by hand.", field="draft")
        return
    drawn: dict[int, str] = {}

    def sketched(k: int) -> str | None:
        if k not in drawn:
            name = f"outline{k + 1}"
            if not d.sketch(name, d.name("Outline"), height=round(slabs[k].cut, 3)):
                return None
            drawn[k] = name
        return drawn[k]

    if not d.standing.turned:
        _pushed(d, levels, slabs, sketched, progress)
    _opened(d, levels, slabs, sketched)
    used = {s.get("sketch") for s in d.j.steps}
    d.j.steps[:] = [s for s in d.j.steps if s["kind"] != "sketch" or s["id"] in used]


def _pushed(d: Draft, levels: list[Level], slabs: list[Slab], sketched, progress: Progress) -> None:
    """Every outer outline joined once, from one that others only add to or else the largest on, upward and then
    downward."""
    runs = outer_runs(slabs, d.within)
    size = [filled(slabs[r[0]].region).area for r in runs]
    base = max(range(len(runs)), key=lambda n: (runs[n][-1] - runs[n][0] >= len(runs[n]), size[n]))
    order = [base, *range(base + 1, len(runs)), *range(base - 1, -1, -1)]
    for count, n in enumerate(order):
        progress(0.2 + 0.5 * count / len(order), "Pushing its outlines")
        run = runs[n]
        thick = max(run, key=lambda k: levels[slabs[k].high].height - levels[slabs[k].low].height)
        sketch = sketched(thick)
        if sketch is None:
            continue
        sketch = drawn_past(d, sketch, d.across) or sketch
        outer = [i for i, _, inside in d.outlines(sketch) if inside is None]
        words = "Base" if n == base else "Boss" if size[n] < 0.6 * size[base] else "Step"
        ends = (d.end(levels, slabs[run[0]].low), d.end(levels, slabs[run[-1]].high))
        if outer:
            d.push(d.name(words), sketch, "join", outer, ends)


def turned(d: Draft, sketch: str = "profile", step_id: str = "turned", names: tuple = ("Profile", "Turned")) -> None:
    """The profile turned into one half-plane, closed on its axis where it is open, and turned about it."""
    if not d.sketch(sketch, names[0], along=True, traces=[{"kind": "turned"}]):
        return
    record, loops = d.j.steps[-1], d.j.ran[sketch].summary["loops"]
    closed = _closed_on_axis(d, record) if not loops else _closed_within(d, record)
    if closed is not None:
        d.j.steps[-1] = closed
        d.j.ran[sketch] = d.j.replay().run()[-1]
    elif not loops:
        return
    outer = [i for i, _, inside in d.outlines(sketch) if inside is None]
    step = {
        "id": step_id,
        "kind": "revolve",
        "name": names[1],
        "sketch": sketch,
        "frame": d.on["frame"],
        "loops": outer,
    }
    if d.lay(step):
        d.body = step_id


def _closed_on_axis(d: Draft, record: dict[str, Any]) -> dict[str, Any] | None:
    """An open profile led to the axis at both ends. Small gaps are closed; scraps beside it, of holes across the axis,
    are removed.
    """
    runs = _runs_of(record)
    if len(runs) > 1:
        try:
            record = d.j.changed(record, do="close gaps", by=_GAP * d.facet)
            runs = _runs_of(record)
        except BadInput:  # there is none so small
            pass
    main, most = max(runs, key=lambda r: r[1], default=([], 0.0))
    scraps = [i for ids, _ in runs if ids is not main for i in ids]
    at = {s["id"]: s["at"] for s in record["strokes"]}
    ends_there = main and max(abs(at[main[0]][0][0]), abs(at[main[-1]][1][0])) < 3 * d.facet
    if not main or (scraps and not (ends_there and most > _MAIN * sum(length for _, length in runs))):
        d.left.append("The turned profile is open in several places; close it by hand.")
        return None
    try:
        if scraps:
            record = d.j.changed(record, do="remove", of=scraps)
        at = {s["id"]: s["at"] for s in record["strokes"]}
        ends = [(f"{main[0]}.start", at[main[0]][0]), (f"{main[-1]}.end", at[main[-1]][1])]
        for place, end in ends:
            reach = max(3 * d.facet, abs(end[0]))
            record = d.j.changed(record, do="put", of=[place], places=[[0.0, end[1]]], reach=reach)
        at = {s["id"]: s["at"] for s in record["strokes"]}
        places = [at[main[0]][0], at[main[-1]][1]]
        return d.j.changed(record, do="draw", kind="line", places=places, reach=d.facet)
    except BadInput as e:
        d.left.append(f"The turned profile could not be closed on its axis: {e}")
        return None


def _closed_within(d: Draft, record: dict[str, Any]) -> dict[str, Any] | None:
    """A profile of which some is closed already (a rim) with the rest closed on the axis, where that is one row of
    strokes with both ends toward it (a hub whose hole is not round); None where it is not."""
    if not _runs_of(record):
        return None
    try:
        record = d.j.changed(record, do="close gaps", by=_GAP * d.facet)
    except BadInput:  # there is none so small
        pass
    runs = _runs_of(record)
    if len(runs) != 1:
        return None
    at = {s["id"]: s["at"] for s in record["strokes"]}
    run = runs[0][0]
    # Scraps of what looks across, at the mouths of the hole, lead nowhere.
    short = [i for i in (run[0], run[-1]) if np.hypot(*np.subtract(at[i][0], at[i][1])) < _GAP * d.facet]
    if short and len(run) > len(short) + 1:
        try:
            record = d.j.changed(record, do="remove", of=short)
        except BadInput:  # they hold others
            return None
        run = [i for i in run if i not in short]
    wide = max(abs(p[0]) for i in run for p in at[i])
    ends = abs(at[run[0]][0][0]), abs(at[run[-1]][1][0])
    return _closed_on_axis(d, record) if max(ends) < _INWARD * wide else None


def _runs_of(record: dict[str, Any]) -> list[tuple[list[str], float]]:
    """Strokes (ids) that go on from one to the next, each row of them with about its length, mm."""
    by_id = {s["id"]: s for s in record["strokes"] if len(s["at"]) > 1}
    follows = {s["id"]: s["joins"] for s in by_id.values()}
    for r in record["relations"]:
        if r["kind"] == "coincident":
            for a, b in (r["of"], r["of"][::-1]):
                if a.endswith(".end") and b.endswith(".start"):
                    follows[a.partition(".")[0]] = b.partition(".")[0]
    out = []
    for first in by_id:
        if first in follows.values():
            continue
        ids: list[str] = []
        length, at = 0.0, first
        while at in by_id and at not in ids:
            ids.append(at)
            length += float(np.hypot(*np.subtract(by_id[at]["at"][1], by_id[at]["at"][0])))
            at = follows[at]
        out.append((ids, length))
    return out


def _opened(d: Draft, levels: list[Level], slabs: list[Slab], sketched) -> None:
    """Openings cut, all that reach from one level to the same other one together."""
    within = 2 * d.within
    groups: dict[tuple[int, int], list[Opening]] = {}
    cut_through: list[shapely.Geometry] = []
    for o in openings_of(slabs, within):
        if d.standing.turned and _about_axis(o.outline, within):
            continue
        if _is_round(o.outline) and stops_short(o, slabs):
            continue  # it is drilled afterwards, as deep as it is
        groups.setdefault((o.slabs[0], o.slabs[-1]), []).append(o)
    for (first, last), openings in groups.items():
        sketch = sketched(first)
        if sketch is None or d.body is None:
            continue
        inner = [(i, p) for i, p, inside in d.outlines(sketch) if inside is not None]
        loops = []
        for o in openings:
            near = [(p.symmetric_difference(o.outline).area, i) for i, p in inner if p.intersects(o.outline)]
            if near and min(near)[0] < 0.3 * o.outline.area:
                loops.append(min(near)[1])
        missed = len(openings) - len(loops)
        if missed:
            many = f"{missed} openings were" if missed > 1 else "An opening was"
            d.left.append(f"{many} seen but could not be drawn.")
        if not loops:
            continue
        whole = shapely.union_all([o.outline for o in openings])
        if any(same_region(whole, o, 2 * d.within) for o in cut_through):
            continue  # it goes on in a wall farther on
        low = _open_beyond(whole, slabs[:first])
        high = _open_beyond(whole, slabs[last + 1 :])
        through = {"to": "through"}
        ends = (
            through if low else d.end(levels, slabs[first].low),
            through if high else d.end(levels, slabs[last].high),
        )
        words = "Holes" if len(loops) > 1 else "Hole" if low and high else "Pocket"
        if d.push(d.name(words), sketch, "cut", loops, ends, keep_inner=True):
            _lowered(d, levels, slabs, sketch, loops, openings[0].slabs, ends[1])
            if low and high:
                cut_through.append(whole)


def _lowered(
    d: Draft, levels: list[Level], slabs: list[Slab], sketch: str, loops: list[str], row: list[int], end: dict
) -> None:
    """What stands in openings that were cut, and ends lower than they do, cut off where it ends: bosses in a pocket.

    ``loops`` : entities of the openings' outlines; ``row`` : slabs they go through; ``end`` : where they end.
    """
    every = d.outlines(sketch)
    pockets = {k for k, (i, _, _) in enumerate(every) if i in loops}
    shorter: dict[int, list[str]] = {}
    for entity, outline, inside in every:
        if inside in pockets and outline.area > 0:
            gone = next((k for k in row[1:] if _open_beyond(outline, slabs[k : row[-1] + 1])), None)
            if gone is not None:
                shorter.setdefault(gone, []).append(entity)
    for k, islands in shorter.items():
        d.push(d.name("Cut down"), sketch, "cut", islands, (d.end(levels, slabs[k].low), end))


def _is_round(outline: shapely.Polygon) -> bool:
    return 4 * np.pi * outline.area > _CIRCLE * outline.length**2


def _about_axis(outline: shapely.Polygon, within: float) -> bool:
    """Whether an opening is a circle about the frame's axis: the turned profile has it."""
    r = np.linalg.norm(np.asarray(outline.exterior.coords), axis=1)
    return float(np.ptp(r)) < 4 * within


def _open_beyond(outline: shapely.Geometry, slabs: list[Slab]) -> bool:
    """Whether nothing of some slabs lies over an opening."""
    return all(s.region.intersection(outline).area < _COVERED * outline.area for s in slabs)
