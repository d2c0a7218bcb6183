"""Ready features of zones that were picked: pushes and cuts of walls, turned profiles, sets of holes, roundings.

Each proposal is ordinary steps, laid and measured: how much of what was picked it explains, and what it leaves.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np
import shapely

from ..elements import Cylinder, Plane, RigidMotion, Torus
from ..errors import BadInput
from ..progress import Progress, part, silent
from ..recipe.kinds.zones import ZonesStep
from ..recipe.laying import Laying
from ..recipe.parse import parse_step
from ..recipe.store import ResultStore
from ..scan.mesh import TriMesh
from ..sketch.sizes import round_value
from ..zones import Zone, Zones
from ..zones.relations import meetings, names_of
from .proposing import Draft, turned
from .standing import Standing, turns_about
from .walls_alone import crossing, drawn_alone, on_one_cylinder, with_corners

__all__ = ["Proposal", "propose"]

_TURNED, _ABOUT = 0.7, 0.01  # of what was picked that lies round an axis; of the part's size: so near is on it
_WALL = 0.17  # cosine to a push's direction that a wall may have: it leans
_CAP = 0.985  # likewise of what ends it
_ON = 0.5  # of a wall's facets that lie on a loop which it carries
_ALIKE = 0.02, 4.0  # of a radius, and standard deviations, by which what is one set may differ
_NEAR_EDGE = 0.75  # radii between a rounding and the edge it rounds, at most
_OPEN = 0.05  # of an opening that has surface across it farther out: it is covered
_FOOT = 0.06  # of the part's size: how far beyond a rounding's end its wall may stand
_STRANGE = 0.12  # of an outline that runs along no picked wall, where it is drawn of these alone
_WITHIN = 0.6  # of an outline that lies within the body, where a push begins there
_FEW = 12  # facets of a rim that tell where it lies
_REACHED = 0.3  # of an outline that what ends its walls comes up to
_NEAR = 1e-3, 2e-4  # of the part's size: a place so near is met, and on a scan without noise
_MET = 0.7  # of a zone that a body meets: it is modelled already
_MOST = 8
_WELL = 0.9  # of a rounding explained by the radius that its edges are read with
_WORTH = 0.3  # of what was picked that a proposal explains at least


@dataclass(frozen=True)
class Proposal:
    """A ready feature: ``steps`` that would be laid; ``explains`` the share of what was picked that its model meets,
    ``left`` mm² of it that it does not; ``says`` its evidence in words, ``body`` the id of the step that gives it.
    """

    title: str
    says: list[str]
    steps: list[dict[str, Any]]
    explains: float
    left: float
    body: str


class _Room:
    """A job's recipe to propose on: its scan, frame, zones and the body there is."""

    def __init__(self, j: Laying, scan: str, frame: str, zones: Zones, body: str | None):
        replay = j.replay()
        self.j, self.scan, self.frame, self.body, self.zones = j, scan, frame, body, zones
        self.index = replay.index(scan)
        self.motion: RigidMotion = replay.output(frame, "frame")
        standing = Standing(self.motion.inverse().vectors(np.array([0.0, 0, 1])), np.zeros(3), False, 0.0)
        self.d = Draft(j, scan, self.index, zones, standing)
        self.d.on = {"scan": scan, "frame": frame}
        self.d.motion, self.d.body = self.motion, body
        self.names = names_of(self.index, zones, meetings(self.index, zones))
        self.taken = {str(s["name"]) for s in j.steps}
        self.new: set[int] = set()  # what no body meets yet, and what was picked
        mesh = self.index.mesh
        self.mesh = TriMesh(self.motion.points(mesh.vertices), mesh.faces)
        self.centroids = self.motion.points(mesh.centroids)
        self.normals = self.motion.vectors(self.index.calm_normals)

    def fresh(self, words: str) -> str:
        k, name = 1, words
        while name in self.taken:
            k += 1
            name = f"{words} {k}"
        self.taken.add(name)
        return name

    def zone(self, k: int) -> Zone:
        return self.zones.zones[k]

    def area(self, picked: list[int]) -> float:
        return float(sum(self.zone(k).area for k in picked))

    def explained(self, picked: list[int], body: str) -> np.ndarray:
        """The area of each of some zones that a body meets, mm²."""
        facets = np.concatenate([self.zone(k).facets for k in picked])
        mesh = self.index.mesh
        ids, corner = np.unique(mesh.faces[facets], return_inverse=True)
        size = self.d.size
        near = _NEAR[1] * size if self.index.exact else max(_NEAR[0] * size, 3 * self.zones.noise)
        found = (
            self.j.replay()
            .surface(body)
            .distances(
                self.motion.points(mesh.vertices[ids]),
                self.motion.vectors(mesh.angle_normals[ids]),
                reach=20 * near,
                angle_deg=60.0,
            )
        )
        good = (np.isfinite(found.distance) & (np.abs(found.distance) <= near))[corner.reshape(-1, 3)]
        met = mesh.areas[facets] * (good.sum(axis=1) >= 2)
        ends = np.cumsum([len(self.zone(k).facets) for k in picked])[:-1]
        return np.array([part.sum() for part in np.split(met, ends)])

    def unexplained(self) -> set[int]:
        """Zones that the body there is does not meet yet."""
        every = list(range(len(self.zones.zones)))
        if self.body is None or not every:
            return set(every)
        met = self.explained(every, self.body)
        return {k for k in every if met[k] < _MET * self.zone(k).area}


def propose(
    steps: list[dict[str, Any]],
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    *,
    scan: str,
    frame: str,
    zones: str | None,
    picked: list[int],
    body: str | None = None,
    progress: Progress = silent,
) -> list[Proposal]:
    """Features that zones could be of, best first.

    ``scan``, ``frame``, ``zones``, ``body`` : the steps that give them; no ``zones``: as they are read by themselves.
    ``picked`` : numbers of zones; none: sets of holes and roundings of the whole part.

    Raises `BadInput` where a zone is not there.
    """
    j = Laying(deepcopy(steps), RigidMotion(np.eye(4)), store, scan_file)
    replay = j.replay()
    j.ran = {r.step.id: r for r in replay.run(part(progress, 0.0, 0.1))}
    asked = parse_step({"id": "zones", "kind": "zones", "name": "Zones", "scan": scan}) if zones is None else None
    step = asked or next((s for s in replay.steps if s.id == zones), None)
    if not isinstance(step, ZonesStep):
        raise BadInput("These are no zones of the job; read the zones, or name those that were read.", field="zones")
    found = step.read(replay, part(progress, 0.1, 0.4)) if asked else replay.output(step.id, "zones")
    if any(not 0 <= k < len(found.zones) for k in picked):
        raise BadInput("A zone that was picked is gone; pick the zones again.", field="picked")
    room = _Room(j, scan, frame, found, body)
    out: list[Proposal] = []
    refused: list[str] = []
    room.new = room.unexplained() | set(picked)
    some = picked or sorted(room.new)
    if body is None and any(room.names[k].startswith(("Bore", "Fillet")) for k in picked):
        refused.append("Holes and roundings need a body; pick the walls of one first.")
    makers = [_holes, _roundings, *([_pushes, _turns] if picked else [])]
    for n, make in enumerate(makers):
        progress(0.4 + 0.6 * n / len(makers), "Working out what it could be")
        for said in make(room, some):
            try:
                out.append(said())
            except BadInput as e:
                refused.append(e.message)
            finally:  # each stands on what was there before
                del j.steps[len(steps) :]
                room.d.body = body
                room.taken = {str(s["name"]) for s in steps}
    out.sort(key=lambda p: (-round(p.explains, 2), len(p.steps)))
    out = [p for p in out if p.explains > _WORTH and p.explains > 0.5 * out[0].explains][:_MOST]
    if not out and refused:
        raise BadInput(refused[0], field="picked")
    return out


def _told(room: _Room, title: str, says: list[str], picked: list[int], before: int) -> Proposal:
    steps = deepcopy(room.j.steps[before:])
    body = str(steps[-1]["id"])
    ran = room.j.ran[body]
    area = room.area(picked)
    explained = float(room.explained(picked, body).sum())
    says = [s for s in (*says, ran.says) if s]
    return Proposal(title, says, steps, explained / max(area, 1e-300), area - explained, body)


# Holes.


def _bores(room: _Room) -> list[int]:
    """Zones that are walls of holes; of walls about one axis the narrowest: the wider are its heads."""
    found = [k for k, n in enumerate(room.names) if n.startswith("Bore") and isinstance(room.zone(k).element, Cylinder)]
    found.sort(key=lambda k: cast(Cylinder, room.zone(k).element).radius)
    out: list[int] = []
    for k in found:
        e = cast(Cylinder, room.zone(k).element)
        beside = (cast(Cylinder, room.zone(o).element) for o in out)
        if all(np.linalg.norm(np.cross(o.point - e.point, e.direction)) > 0.25 * e.radius for o in beside):
            out.append(k)
    return out


def _holes(room: _Room, picked: list[int]):
    if room.body is None:
        return
    bores = [k for k in _bores(room) if k in room.new]
    for group in _alike(room, bores):
        mine = [k for k in group if k in picked]
        if not mine:
            continue
        yield lambda group=group: _hole_set(room, group, picked)
        if len(mine) < len(group):
            yield lambda mine=mine: _hole_set(room, mine, picked)


def _alike(room: _Room, zones: list[int]) -> list[list[int]]:
    """Cylinders of one radius and one direction together."""
    groups: list[list[int]] = []
    for k in zones:
        e = cast(Cylinder, room.zone(k).element)
        for g in groups:
            o = cast(Cylinder, room.zone(g[0]).element)
            near = max(_ALIKE[0] * o.radius, _ALIKE[1] * room.zone(k).sigma / np.sqrt(len(room.zone(k).facets)))
            if abs(e.radius - o.radius) < near and abs(e.direction @ o.direction) > 0.9994:
                g.append(k)
                break
        else:
            groups.append([k])
    return groups


def _hole_set(room: _Room, group: list[int], picked: list[int]) -> Proposal:
    before = len(room.j.steps)
    step = {"id": _id(), "kind": "drill", "name": room.fresh("Hole" if len(group) == 1 else "Holes"), **room.d.on}
    places = [{"pick": _wall_pick(room, k)} for k in group]
    ran = room.j.lay({**step, "body": room.body, "places": places})
    told = ran.summary
    size = {v.name: v.chosen for v in ran.values}
    deep = "through" if told["through"] else f"{size['depth']:g} deep"
    head = "" if told["head"] == "plain" else f", {told['head']} ⌀ {size['head_diameter']:g}"
    many = f"{len(group)} holes" if len(group) > 1 else "Hole"
    r = told["readings"]["diameter"]
    says = [f"read as ⌀ {r['value']:.3f} ± {r['uncertainty']:.3f} mm", *told["notes"]]
    heads = [k for k in picked if k not in group and _about(room, k, group)]
    return _told(room, f"{many} ⌀ {size['diameter']:g} {deep}{head}", says, [*group, *heads], before)


def _about(room: _Room, k: int, group: list[int]) -> bool:
    """Whether a zone lies about the axis of one of some holes: its head or its floor."""
    place = room.index.mesh.centroids[room.zone(k).facets].mean(axis=0)
    for g in group:
        e = cast(Cylinder, room.zone(g).element)
        if np.linalg.norm(np.cross(place - e.point, e.direction)) < 0.5 * e.radius and not isinstance(
            room.zone(k).element, Plane
        ):
            return True
    return False


def _wall_pick(room: _Room, k: int) -> dict[str, Any]:
    return room.d.pick(room.zone(k).facets, "same bend")


# Roundings.


def _roundings(room: _Room, picked: list[int]):
    if room.body is None:
        return
    fillets = [k for k in sorted(room.new) if room.names[k].startswith("Fillet")]
    groups: list[list[int]] = []
    for k in sorted(fillets, key=lambda k: -room.zone(k).area):
        r = _bend(room, k)
        for g in groups:
            if abs(r - _bend(room, g[0])) < 0.08 * _bend(room, g[0]):
                g.append(k)
                break
        else:
            groups.append([k])
    for g in groups:
        mine = [k for k in g if k in picked]
        if not mine:
            continue
        yield lambda g=g: _rounding(room, g)
        if len(mine) < len(g):
            yield lambda mine=mine: _rounding(room, mine)


def _bend(room: _Room, k: int) -> float:
    e = room.zone(k).element
    return float(e.minor_radius if isinstance(e, Torus) else e.radius)  # type: ignore[union-attr]


def _rounding(room: _Room, group: list[int]) -> Proposal:
    from scipy.spatial import cKDTree

    from ..kernel.tessellate import FINE, diagonal_of, edge_polylines

    before = len(room.j.steps)
    assert room.body is not None
    body = room.j.replay().output(room.body, "body")
    edges: list[list[Any]] = []
    facet = room.index.mesh.median_edge
    zones = [(cKDTree(room.centroids[room.zone(k).facets]), _bend(room, k)) for k in group]
    for name, line in edge_polylines(body, FINE * diagonal_of(body)):
        steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
        at = np.concatenate([[0], np.cumsum(steps)])
        even = np.linspace(0.12 * at[-1], 0.88 * at[-1], 15)
        places = np.column_stack([np.interp(even, at, line[:, i]) for i in range(3)])
        near = np.zeros(len(places), bool)
        for tree, r in zones:
            near |= tree.query(places)[0] < _NEAR_EDGE * r + (0 if room.index.exact else facet)
        if near.mean() > 0.7:
            edges.append(list(name))
    if not edges:
        raise BadInput("The body has no edge along this rounding; lay the faces beside it first.")
    step: dict[str, Any] = {"id": _id(), "kind": "fillet", "name": room.fresh("Rounding"), **room.d.on}
    step |= {"body": room.body, "edges": edges}
    ran = room.j.lay({**step, "radius": {"value": None, "source": "rounded"}})
    r = ran.summary["readings"]["radius"]
    many = f"{len(edges)} edges" if len(edges) > 1 else "an edge"
    said = [f"read as R {r['value']:.2f} ± {r['uncertainty']:.2f} mm"]
    told = _told(room, f"Round {many}, R {ran.summary['radius']:g}", said, group, before)
    if told.explains > _WELL:
        return told
    # Faces that were led on to their edge may lie off it there; the roundings' own surfaces tell their radius too.
    bends = np.array([_bend(room, k) for k in group])
    own = float(np.average(bends, weights=[room.zone(k).area for k in group]))
    spread = max(float(np.std(bends)) / np.sqrt(len(bends)), room.zones.noise)
    value, _ = round_value(own, 2 * spread)
    if abs(own - r["value"]) > 3 * (r["uncertainty"] + spread) or value == ran.summary["radius"]:
        return told
    room.j.steps.pop()
    try:
        room.j.lay({**step, "radius": {"value": value, "source": "typed"}})
    except BadInput:
        return told
    said = [*said, f"the roundings themselves: R {own:.2f} ± {2 * spread:.2f} mm"]
    other = _told(room, f"Round {many}, R {value:g}", said, group, before)
    return other if other.explains > told.explains else told


# Turns.


def _turns(room: _Room, picked: list[int]):
    """All of it turned about the frame's own axis, where the picked zones mostly lie round it."""
    if room.body is not None:
        return
    back = room.motion.inverse()
    axis, point = back.vectors(np.array([0.0, 0, 1])), back.points(np.zeros(3))
    mine = [k for k in picked if turns_about(room.zone(k), point, axis, _ABOUT * room.d.size)]
    round_ = [k for k in mine if not isinstance(room.zone(k).element, Plane)]
    if round_ and room.area(mine) > _TURNED * room.area(picked):
        yield lambda: _turn(room, picked)


def _turn(room: _Room, picked: list[int]) -> Proposal:
    before, step = len(room.j.steps), _id()
    room.d.left.clear()
    turned(room.d, _id(), step, (room.fresh("Profile"), room.fresh("Turned")))
    if room.d.body != step:
        raise BadInput(room.d.left[-1] if room.d.left else "Nothing could be turned about the frame's axis.")
    pieces = len(room.j.steps[before]["strokes"])
    return _told(room, "Turn about z", [f"a profile of {pieces} pieces"], picked, before)


# Pushes.


@dataclass
class _Push:
    """Zones sorted for a push along an axis of the frame: walls along it and caps across it, heights along it."""

    axis: int
    walls: list[int]
    caps: list[int]
    spans: dict[int, tuple[float, float]]
    plane: Any = None  # of the paper, once it is laid
    says: list[str] = field(default_factory=list)  # where it was led past what the walls reach


def _sorted(room: _Room, picked: list[int], axis: int) -> _Push:
    walls, caps, spans = [], [], {}
    for k in picked:
        across, most = _across(room, k, axis)
        if room.names[k].startswith("Fillet") and across > _WALL:
            continue
        if across < _WALL and most < 2 * _WALL:
            walls.append(k)
            spans[k] = _span(room, k, axis)
        elif across > _CAP:
            caps.append(k)
    return _Push(axis, walls, caps, spans)


def _across(room: _Room, k: int, axis: int) -> tuple[float, float]:
    """How far a zone looks along an axis, as a cosine: by and large, and where it does most. A flat face is told by its
    plane: on a narrow one the facets at its edges look elsewhere.
    """
    z = room.zone(k)
    if isinstance(z.element, Plane):
        n = abs(float(room.motion.vectors(z.element.normal)[axis]))
        return n, n
    n = np.abs(room.normals[z.facets][:, axis])
    mean = float(np.average(n, weights=room.index.mesh.areas[z.facets]))
    return (float(np.median(n)) if np.median(n) > _CAP else mean), float(np.quantile(n, 0.9))


def _span(room: _Room, k: int, axis: int) -> tuple[float, float]:
    h = room.motion.points(room.index.mesh.vertices[np.unique(room.index.mesh.faces[room.zone(k).facets])])[:, axis]
    return float(np.quantile(h, 0.01)), float(np.quantile(h, 0.99))


def _height(room: _Room, k: int, axis: int) -> float:
    f = room.zone(k).facets
    return float(np.average(room.centroids[f][:, axis], weights=room.index.mesh.areas[f]))


def _pushes(room: _Room, picked: list[int]):
    """A push of the outer loops that the picked walls carry, and a cut of the inner ones."""
    tried = [_sorted(room, picked, axis) for axis in (2, 0, 1)]
    good = [(room.area(p.walls), room.area(p.caps), p) for p in tried if p.walls]
    if not good:
        flat = [p for p in tried if len(p.caps) > 0]
        good = [(0.0, room.area(p.caps), p) for p in flat]
    if not good:
        return
    best = max(w + c for w, c, _ in good)
    for w, c, p in good:
        if w + c < 0.6 * best:
            continue
        yield lambda p=p: _push(room, p, picked, "join")
        if room.body is not None:
            yield lambda p=p: _push(room, p, picked, "cut")


def _push(room: _Room, p: _Push, picked: list[int], how: str) -> Proposal:
    before = len(room.j.steps)
    axis = "xyz"[p.axis]
    low, high = _common(room, p)
    sketch, words = _id(), "Outline"
    record = {**room.d.paper(sketch, room.fresh(words), axis), "height": round(0.5 * (low + high), 3)}
    room.j.lay(room.j.drawn(record))
    loops = _carried(room, p, sketch, how, 0.5 * (low + high))
    round_ = all(isinstance(room.zone(k).element, Cylinder) for k in p.walls)
    if how == "join" and p.walls and (round_ or len(p.walls) > 2) and _strangers(room, p, loops) > _STRANGE:
        loops = _alone(room, p, record, loops, before)
    if not loops:
        raise BadInput("No loop of the section runs along the picked walls.")
    outline = shapely.union_all([polygon for _, polygon in loops])
    whole = _reaching(room, p)
    low, high = whole[0] if len(whole) == 1 else (low, high)
    ends = [_end(room, p, outline, side, how, (low, high)[side > 0]) for side in (-1, 1)]
    named = {"join": "Base" if room.body is None else "Boss", "cut": "Pocket"}[how]
    if how == "cut" and all(e["to"] == "through" for e in ends):
        named = "Opening"
    step: dict[str, Any] = {"id": _id(), "kind": "extrude", "name": room.fresh(named), "sketch": sketch, **room.d.on}
    step |= {"how": how, "loops": [entity for entity, _ in loops], "start": ends[0], "end": ends[1]}
    step |= {"body": room.body, "keep_inner": False}
    ran = room.j.lay(step)
    lean = ran.summary["readings"].get("draft")
    says = []
    if lean is not None and abs(lean["value"]) > max(0.3, 4 * lean["uncertainty"]):
        room.j.steps.pop()
        ran = room.j.lay({**step, "draft": {"value": None, "source": "rounded"}})
        says.append(f"the walls lean {lean['value']:.2f}° ± {lean['uncertainty']:.2f}°")
    elif lean is not None:
        says.append(f"the walls are upright, {lean['value']:.2f}° ± {lean['uncertainty']:.2f}°")
    for key, word in (("start", "from"), ("end", "to")):
        r = ran.summary["readings"].get(key)
        says += [f"{word} {r['value']:.3f} ± {r['uncertainty']:.3f} mm"] if r else []
    title = f"{'Push' if how == 'join' else 'Cut'} along {axis}"
    says += p.says
    long = abs(ran.summary["end"] - ran.summary["start"])
    if not any(e["to"] == "through" for e in ends):
        title += f", {long:.4g} mm"
    elif all(e["to"] == "through" for e in ends):
        title += ", right through"
    else:
        title += f", floor at {ran.summary['start' if ends[1]['to'] == 'through' else 'end']:.4g}"
    return _told(room, title, says, picked, before)


def _reaching(room: _Room, p: _Push) -> list[tuple[float, float]]:
    """How far walls reach along a push; those that are one surface, parted by what stands between, as one."""
    out: dict[int, tuple[float, float]] = {}
    for k in p.walls:
        z = room.zone(k)
        of = next((o for o in out if o in z.same_surface or on_one_cylinder(room.zone(o).element, z.element)), k)
        low, high = out.get(of, p.spans[k])
        out[of] = min(low, p.spans[k][0]), max(high, p.spans[k][1])
    return list(out.values())


def _common(room: _Room, p: _Push) -> tuple[float, float]:
    """Heights between which the picked walls stand; of caps alone, between these or from one to the part's end."""
    if p.walls:
        low = max(s[0] for s in p.spans.values())
        high = min(s[1] for s in p.spans.values())
        if high - low > 2 * room.d.facet:
            return low, high
        return p.spans[max(p.walls, key=lambda k: room.zone(k).area)]
    heights = sorted(_height(room, k, p.axis) for k in p.caps)
    if heights[-1] - heights[0] > 2 * room.d.facet:
        return heights[0], heights[-1]
    across = room.centroids[:, p.axis]
    low, high = float(across.min()), float(across.max())
    return (low, heights[0]) if heights[0] - low > high - heights[0] else (heights[0], high)


def _carried(room: _Room, p: _Push, sketch: str, how: str, height: float) -> list[tuple[str, shapely.Polygon]]:
    """Loops that picked walls run along (all outer ones where only caps were picked), each by an entity."""
    p.plane = room.j.replay().output(sketch, "sketch")["plane"]
    outlines = room.d.outlines(sketch)
    deep: list[int] = []
    for _, _, inside in outlines:
        deep.append(0 if inside is None else deep[inside] + 1 if inside < len(deep) else 1)
    sides = {"join": 0, "cut": 1}[how]
    some = [(i, poly) for (i, poly, _), depth in zip(outlines, deep) if depth % 2 == sides and poly.area > 0]
    if not p.walls:
        return some if how == "join" else []
    near = max(2.0 * room.d.facet, 4 * room.zones.noise, 1e-3 * room.d.size)
    out = []
    for i, poly in some:
        on = 0.0
        for k in p.walls:
            f = room.zone(k).facets
            c = room.centroids[f]
            lean = 0.1 * np.abs(c[:, p.axis] - height)
            off = shapely.distance(poly.boundary, shapely.points(_on_paper(room, f, p)))
            on = max(on, float(np.average(off < near + lean, weights=room.index.mesh.areas[f])))
        if on > _ON:
            out.append((i, poly))
    return out


def _strangers(room: _Room, p: _Push, loops: list[tuple[str, shapely.Polygon]]) -> float:
    """The share of some loops that runs along none of the picked walls, nor a corner between them."""
    from scipy.spatial import cKDTree

    if not loops:
        return 1.0
    mine = with_corners(p.walls, _all_walls(room, p.axis), room.zones.zones)
    tree = cKDTree(
        np.vstack([crossing(room.mesh, room.zone(k).facets, p.plane) for k in mine] or [np.full((1, 2), np.inf)])
    )
    near = max(2.0 * room.d.facet, 4 * room.zones.noise)
    lines = [poly.exterior for _, poly in loops]
    far = sum(ln.length * float((tree.query(_along(ln))[0] > near).mean()) for ln in lines)
    return far / sum(ln.length for ln in lines)


def _rim_of(poly: Any) -> Any:
    """The outer line of an outline, or of its largest part."""
    return max(shapely.get_parts(poly), key=lambda part: part.area).exterior


def _along(line: Any) -> np.ndarray:
    count = 200
    return shapely.get_coordinates(shapely.line_interpolate_point(line, np.arange(count) / count, normalized=True))


def _all_walls(room: _Room, axis: int) -> list[int]:
    return _sorted(room, list(range(len(room.zones.zones))), axis).walls


def _alone(room: _Room, p: _Push, record: dict, loops: list, before: int) -> list[tuple[str, shapely.Polygon]]:
    """The outline drawn of the picked walls alone, laid instead of the section's whole one, which stays where that
    fails."""
    mine = with_corners(p.walls, _all_walls(room, p.axis), room.zones.zones)
    walls, loop = (
        [room.zone(k) for k in mine],
        max((poly for _, poly in loops), key=lambda poly: poly.area, default=None),
    )
    if loop is None:
        return loops
    whole = room.j.steps.pop()
    try:
        alone = drawn_alone(room.j, {"kind": "sketch", **record}, p.plane, room.mesh, walls, loop, room.d.facet)
        room.j.lay(alone)
        found = [(i, poly) for i, poly, inside in room.d.outlines(record["id"]) if inside is None]
        if len(found) == 1:
            return found
    except BadInput:
        pass
    del room.j.steps[before:]
    room.j.lay(whole)
    return loops


def _end(room: _Room, p: _Push, outline: Any, side: int, how: str, wall_end: float) -> dict[str, Any]:
    """Where a push ends on one side: a cap that was picked or lies there, past the body where it is open, a height."""
    # A push ends where the surface looks out along it; a cut where it looks back into it.
    facing = side if how == "join" else -side
    size = room.d.size
    near = max(0.03 * size, 4 * room.d.facet)
    caps = []
    for k, z in enumerate(room.zones.zones):
        f = z.facets
        n = room.normals[f][:, p.axis] * facing
        if float(np.median(n)) < _CAP or not (k in p.caps or isinstance(z.element, Plane)):
            continue
        h = _height(room, k, p.axis)
        if side * (h - wall_end) < -near and p.walls:
            continue
        inside = shapely.contains(outline.buffer(room.d.facet), shapely.points(_on_paper(room, f, p)))
        over = float(room.index.mesh.areas[f][inside].sum())
        if over > 0.3 * z.area or over > 0.3 * outline.area:
            if k in p.caps or _reaches(_on_paper(room, f, p), outline, near):
                caps.append((k not in p.caps, abs(h - wall_end), k))
    if caps:
        _, away, k = min(caps)
        if k in p.caps or away < near:
            pick = room.d.pick(room.zone(k).facets, "same facing")
            return {"to": "face", "pick": pick, "height": {"value": None, "source": "rounded"}}
    stands = _stands_on(room, p, outline, side, wall_end) if how == "join" else None
    if stands is not None:
        pick = room.d.pick(room.zone(stands).facets, "same facing")
        return {"to": "face", "pick": pick, "height": {"value": None, "source": "rounded"}}
    if how == "cut" and not _covered(room, p, outline, side, wall_end):
        return {"to": "through"}
    rim = _rim(room, p, outline, side, wall_end) if how == "join" else None
    if rim is not None:
        return {"to": "face", "pick": rim, "height": {"value": None, "source": "rounded"}}
    beyond = None
    if how == "join":
        beyond = _into(room, p, outline, side)
        beyond = _past(room, p, outline, side, near) if beyond is None else beyond
    return {"to": "height", "height": {"value": round(wall_end if beyond is None else beyond, 2), "source": "typed"}}


def _rim(room: _Room, p: _Push, outline: Any, side: int, wall_end: float) -> dict[str, Any] | None:
    """A pick of the flat rim that walls end in, too narrow to be read as a surface of its own."""
    if not p.walls:
        return None
    c, n = room.centroids[:, p.axis], room.normals[:, p.axis] * side
    near = np.flatnonzero((n > _CAP) & (np.abs(c - wall_end) < 2 * room.d.facet))
    if not len(near):
        return None
    rim = near[shapely.contains(outline.buffer(room.d.facet), shapely.points(_on_paper(room, near, p)))]
    if len(rim) < _FEW or not _reaches(_on_paper(room, rim, p), outline, 2 * room.d.facet):
        return None
    level = float(np.median(c[rim]))
    level_facets = rim[np.abs(c[rim] - level) < 0.5 * room.d.facet]
    return room.d.pick(level_facets, "same facing") if len(level_facets) >= _FEW else None


def _reaches(cap: np.ndarray, outline: Any, near: float) -> bool:
    """Whether a cap, by its facets on the paper, comes up to the walls, and is no floor of something in between."""
    from scipy.spatial import cKDTree

    line = outline.boundary
    round_it = shapely.get_coordinates(
        shapely.line_interpolate_point(line, np.linspace(0, 1, 97)[:-1], normalized=True)
    )
    return float((cKDTree(cap).query(round_it)[0] < near).mean()) > _REACHED


def _into(room: _Room, p: _Push, outline: Any, side: int) -> float | None:
    """A height within the body that there is, where walls rise out of it: at the lowest place and a little more."""
    if not p.walls or room.body is None:
        return None
    f = np.concatenate([room.zone(k).facets for k in p.walls])
    height = side * (float((side * room.centroids[f, p.axis]).max()) + 2 * room.d.facet)
    inside = _grid(outline.buffer(-room.d.facet))
    if not len(inside):
        return None
    at = p.plane.origin + inside[:, :1] * p.plane.u + inside[:, 1:] * np.cross(p.plane.normal, p.plane.u)
    at[:, p.axis] = height
    if float((room.j.replay().surface(room.body).distances(at).distance < 0).mean()) < _WITHIN:
        return None
    p.says.append("it begins within the body")
    return height


def _grid(shape: Any) -> np.ndarray:
    """Some hundred places (n, 2) inside an outline."""
    if shape.is_empty:
        return np.zeros((0, 2))
    x0, y0, x1, y1 = shape.bounds
    g = np.stack(np.meshgrid(np.linspace(x0, x1, 17), np.linspace(y0, y1, 17)), axis=-1).reshape(-1, 2)
    return g[shapely.contains(shape, shapely.points(g))]


def _past(room: _Room, p: _Push, outline: Any, side: int, near: float) -> float | None:
    """A height past all there is over the walls, where these end at different ones: a surface that is no plane ends
    them, and is cut there later."""
    ends = [s[side > 0] for s in _reaching(room, p)]
    if not ends or max(ends) - min(ends) < near:
        return None
    inside = shapely.contains(outline, shapely.points(_on_paper(room, np.arange(len(room.centroids)), p)))
    high = side * room.centroids[inside, p.axis]
    if not len(high):
        return None
    p.says.append("nothing flat ends the walls: it runs past them, to be cut by what does")
    return side * (float(high.max()) + 2 * room.d.facet)


def _stands_on(room: _Room, p: _Push, outline: Any, side: int, wall_end: float) -> int | None:
    """The face that walls rise from, all round their foot, some way beyond where a rounding ends them."""
    reach = max(_FOOT * room.d.size, 6 * room.d.facet)
    round_it = outline.buffer(reach).difference(outline)
    best = None
    for k, z in enumerate(room.zones.zones):
        n = room.normals[z.facets][:, p.axis] * -side
        beyond = side * (_height(room, k, p.axis) - wall_end)
        if not isinstance(z.element, Plane) or float(np.median(n)) < _CAP or not -room.d.facet < beyond < reach:
            continue
        on = shapely.contains(round_it, shapely.points(_on_paper(room, z.facets, p)))
        over = float(room.index.mesh.areas[z.facets][on].sum())
        if over > 0.2 * round_it.area and (best is None or beyond < best[0]):
            best = (beyond, k)
    return None if best is None else best[1]


def _on_paper(room: _Room, facets: np.ndarray, p: _Push) -> np.ndarray:
    """Middles of facets on the paper."""
    c = room.centroids[facets] - p.plane.origin
    return np.column_stack([c @ p.plane.u, c @ np.cross(p.plane.normal, p.plane.u)])


def _covered(room: _Room, p: _Push, outline: Any, side: int, wall_end: float) -> bool:
    """Whether some surface lies across an opening farther out."""
    n = np.abs(room.normals[:, p.axis])
    beyond = (n > 0.7) & (side * (room.centroids[:, p.axis] - wall_end) > 2 * room.d.facet)
    facets = np.flatnonzero(beyond)
    if not len(facets):
        return False
    inside = shapely.contains(outline.buffer(-room.d.facet), shapely.points(_on_paper(room, facets, p)))
    return float(room.index.mesh.areas[facets][inside].sum()) > _OPEN * outline.area


def _id() -> str:
    return f"p{secrets.token_hex(5)}"
