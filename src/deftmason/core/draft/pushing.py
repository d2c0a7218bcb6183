"""Pushes and cuts proposed of walls and what ends them; of walls alone where something interrupts them."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from ..elements import Cylinder, Plane
from ..errors import BadInput
from .proposal_room import Proposal, ProposalRoom, told_of
from .push_ends import CAP, Push, along_line, end_of, height_of, on_paper, reaching
from .walls_alone import crossing, drawn_alone, with_corners

__all__ = ["AXES", "common_span", "way_in_words", "paper_of", "pushes", "sorted_for"]

#: The frame's axes as directions, the likeliest first.
AXES = tuple(np.eye(3)[k] for k in (2, 0, 1))
_ALONG = 0.9998  # cosine to an axis of the frame of a direction that is this axis

_WALL = 0.17  # cosine to a push's direction that a wall may have: it leans
_ON = 0.5  # of a wall's facets that lie on a loop which it carries
_STRANGE = 0.12  # of an outline that runs along no picked wall, where it is drawn of these alone


def sorted_for(room: ProposalRoom, picked: list[int], way: np.ndarray, about: int | None = None) -> Push:
    """Some zones as walls along a direction (3,) of the frame and caps across it; those that are neither, left out."""
    walls, caps, spans = [], [], {}
    for k in picked:
        across, most = _across(room, k, way)
        if room.names[k].startswith("Fillet") and across > _WALL:
            continue
        if across < _WALL and most < 2 * _WALL:
            walls.append(k)
            spans[k] = _span(room, k, way)
        elif across > CAP:
            caps.append(k)
    return Push(way, walls, caps, spans, about)


def _across(room: ProposalRoom, k: int, way: np.ndarray) -> tuple[float, float]:
    """How far a zone looks along a direction, as a cosine: by and large, and where it does most. Flat faces and
    cylinders are told by their elements: on narrow ones the facets at their edges look elsewhere.
    """
    z = room.zone(k)
    if isinstance(z.element, Plane):
        n = abs(float(room.motion.vectors(z.element.normal) @ way))
        return n, n
    n = np.abs(room.normals[z.facets] @ way)
    if isinstance(z.element, Cylinder):
        n = np.abs(room.motion.vectors(z.element.normals(room.index.mesh.centroids[z.facets])) @ way)
    mean = float(np.average(n, weights=room.index.mesh.areas[z.facets]))
    return (float(np.median(n)) if np.median(n) > CAP else mean), float(np.quantile(n, 0.9))


def _span(room: ProposalRoom, k: int, way: np.ndarray) -> tuple[float, float]:
    h = room.motion.points(room.index.mesh.vertices[np.unique(room.index.mesh.faces[room.zone(k).facets])]) @ way
    return float(np.quantile(h, 0.01)), float(np.quantile(h, 0.99))


def _oblique(room: ProposalRoom, picked: list[int]) -> list[Push]:
    """A push along the axis of the largest round wall among some zones, where it is none of the frame's."""
    for k in sorted(picked, key=lambda k: -room.area([k])):
        e = room.zone(k).element
        if isinstance(e, Cylinder) and not room.names[k].startswith("Fillet"):
            way = room.motion.vectors(e.direction)
            way = way * np.sign(way[int(np.argmax(np.abs(way)))])  # as a paper square to it looks
            return [] if np.abs(way).max() > _ALONG else [sorted_for(room, picked, way, k)]
    return []


def way_in_words(p: Push) -> str:
    """The direction of a push in words."""
    return "its own axis" if p.about is not None else "xyz"[int(np.argmax(p.way))]


def paper_of(room: ProposalRoom, p: Push, height: float) -> dict[str, Any]:
    """What of a sketch's record lays its paper square to a push at a height; lays the axis as a datum where it is a
    zone's own, from whose place the paper's height counts."""
    if p.about is None:
        return {"axis": way_in_words(p), "height": round(height, 3)}
    datum = room.d.datum(room.new_id(), room.fresh("Axis"), p.about)
    place = room.j.replay().output(datum, "datum")["element"].point
    return {"on": datum, "height": round(height - float(room.motion.points(place) @ p.way), 3)}


def pushes(room: ProposalRoom, picked: list[int]):
    """A push of the outer loops that the picked walls carry, and a cut of the inner ones."""
    tried = [sorted_for(room, picked, way) for way in AXES] + _oblique(room, picked)
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


def _push(room: ProposalRoom, p: Push, picked: list[int], how: str) -> Proposal:
    before = len(room.j.steps)
    along = way_in_words(p)
    low, high = common_span(room, p)
    where = paper_of(room, p, 0.5 * (low + high))
    sketch, words = room.new_id(), "Outline"
    record = {**room.d.paper(sketch, room.fresh(words)), **where}
    room.j.lay(room.j.drawn(record))
    loops = _carried(room, p, sketch, how, 0.5 * (low + high))
    round_ = all(isinstance(room.zone(k).element, Cylinder) for k in p.walls)
    if how == "join" and p.walls and (round_ or len(p.walls) > 2) and _strangers(room, p, loops) > _STRANGE:
        loops = _alone(room, p, record, loops, len(room.j.steps) - 1)
    if not loops:
        raise BadInput("No loop of the section runs along the picked walls.")
    outline = shapely.union_all([polygon for _, polygon in loops])
    whole = reaching(room, p)
    low, high = whole[0] if len(whole) == 1 else (low, high)
    ends = [end_of(room, p, outline, side, how, (low, high)[side > 0]) for side in (-1, 1)]
    named = {"join": "Base" if room.body is None else "Boss", "cut": "Pocket"}[how]
    if how == "cut" and all(e["to"] == "through" for e in ends):
        named = "Opening"
    step: dict[str, Any] = {"id": room.new_id(), "kind": "extrude", "name": room.fresh(named), **room.d.on}
    step |= {"sketch": sketch}
    step |= {"how": how, "loops": [entity for entity, _ in loops], "start": ends[0], "end": ends[1]}
    step |= {"body": room.body, "keep_inner": how == "join" and _hollow_there(room, p, sketch)}
    ran = room.j.lay(step)
    lean = ran.summary["readings"].get("draft")
    says = []
    if lean is not None and abs(lean["value"]) > max(0.3, 4 * lean["uncertainty"]):
        room.j.steps.pop()
        ran = room.j.lay({**step, "draft": {"value": None, "source": "rounded"}})
        says.append(f"the walls lean {lean['value']:.2f}° ± {2 * lean['uncertainty']:.2f}°")
    elif lean is not None:
        says.append(f"the walls are upright, {lean['value']:.2f}° ± {2 * lean['uncertainty']:.2f}°")
    for key, word in (("start", "from"), ("end", "to")):
        r = ran.summary["readings"].get(key)
        says += [f"{word} {round(r['value'], 3) + 0.0:.3f} ± {2 * r['uncertainty']:.3f} mm"] if r else []
    title = f"{'Push' if how == 'join' else 'Cut'} along {along}"
    says += p.says
    long = abs(ran.summary["end"] - ran.summary["start"])
    if not any(e["to"] == "through" for e in ends):
        title += f", {long:.4g} mm"
    elif all(e["to"] == "through" for e in ends):
        title += ", right through"
    else:
        title += f", floor at {ran.summary['start' if ends[1]['to'] == 'through' else 'end']:.4g}"
    return told_of(room, title, says, picked, before)


def common_span(room: ProposalRoom, p: Push) -> tuple[float, float]:
    """Heights between which the picked walls stand; of caps alone, between these or from one to the part's end."""
    if p.walls:
        low = max(s[0] for s in p.spans.values())
        high = min(s[1] for s in p.spans.values())
        if high - low > 2 * room.d.facet:
            return low, high
        return p.spans[max(p.walls, key=lambda k: room.zone(k).area)]
    heights = sorted(height_of(room, k, p.way) for k in p.caps)
    if heights[-1] - heights[0] > 2 * room.d.facet:
        return heights[0], heights[-1]
    across = room.centroids @ p.way
    low, high = float(across.min()), float(across.max())
    return (low, heights[0]) if heights[0] - low > high - heights[0] else (heights[0], high)


def _carried(room: ProposalRoom, p: Push, sketch: str, how: str, height: float) -> list[tuple[str, shapely.Polygon]]:
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
            lean = 0.1 * np.abs(c @ p.way - height)
            off = shapely.distance(poly.boundary, shapely.points(on_paper(room, f, p)))
            on = max(on, float(np.average(off < near + lean, weights=room.index.mesh.areas[f])))
        if on > _ON:
            out.append((i, poly))
    return out


def _strangers(room: ProposalRoom, p: Push, loops: list[tuple[str, shapely.Polygon]]) -> float:
    """The share of some loops that runs along none of the picked walls, nor a corner between them."""
    from scipy.spatial import cKDTree

    if not loops:
        return 1.0
    mine = with_corners(p.walls, _all_walls(room, p.way), room.zones.zones)
    tree = cKDTree(
        np.vstack([crossing(room.mesh, room.zone(k).facets, p.plane) for k in mine] or [np.full((1, 2), np.inf)])
    )
    near = max(2.0 * room.d.facet, 4 * room.zones.noise)
    lines = [poly.exterior for _, poly in loops]
    far = sum(ln.length * float((tree.query(along_line(ln))[0] > near).mean()) for ln in lines)
    return far / sum(ln.length for ln in lines)


def _hollow_there(room: ProposalRoom, p: Push, sketch: str) -> bool:
    """Whether an opening of a section is one that the body there is has already: a push must not fill it."""
    if room.body is None:
        return False
    inner = [poly for _, poly, inside in room.d.outlines(sketch) if inside is not None and poly.area > 0]
    if not inner:
        return False
    surface, near = room.j.replay().surface(room.body), max(2.0 * room.d.facet, 4 * room.zones.noise)
    for poly in inner:
        found = surface.distances(p.plane.to_space(along_line(_rim_of(poly))), reach=4 * near)
        wall = (np.abs(found.distance) < near) & (np.abs(found.normal @ p.way) < CAP)  # and no floor that it lies on
        if wall.mean() > _ON:
            return True
    return False


def _rim_of(poly: Any) -> Any:
    """The outer line of an outline, or of its largest part."""
    return max(shapely.get_parts(poly), key=lambda part: part.area).exterior


def _all_walls(room: ProposalRoom, way: np.ndarray) -> list[int]:
    return sorted_for(room, list(range(len(room.zones.zones))), way).walls


def _alone(room: ProposalRoom, p: Push, record: dict, loops: list, before: int) -> list[tuple[str, shapely.Polygon]]:
    """The outline drawn of the picked walls alone, laid instead of the section's whole one, which stays where that
    fails."""
    mine = with_corners(p.walls, _all_walls(room, p.way), room.zones.zones)
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
