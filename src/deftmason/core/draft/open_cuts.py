"""Cuts that are open to a side: flats on what is round, steps, slots that run out at an edge.

Their walls close no outline by themselves: each is drawn along the scan, the two at the ends run on past the body, and
typed lines close the outline where there is nothing of it.
"""

from __future__ import annotations

from itertools import permutations, product
from typing import Any, cast

import numpy as np
import shapely

from ..elements import Plane
from ..errors import BadInput
from ..recipe.papers import PaperRecord, traces_on
from ..recipe.parse import parse_step
from ..scan.section import SectionPlane
from .proposal_room import Proposal, ProposalRoom, told_of
from .push_ends import Push, end_of
from .pushing import AXES, common_span, sorted_for, way_in_words
from .walls_alone import crossing, stretch_of

__all__ = ["open_cuts"]

_MOST_WALLS = 4
_MET = 6.0  # facets within which neighbouring walls' ends lie, beside a share of the walls
_STEPS = 160  # places along a way that are asked whether they are in the body
_PAST = 0.02, 2.0  # of the part's size, and facets: how far past the body an outline runs


def open_cuts(room: ProposalRoom, picked: list[int]):
    """A cut along each axis to which all picked walls are flat, in which what is open to a side is closed outside."""
    if room.body is None:
        return
    for way in AXES:
        p = sorted_for(room, picked, way)
        flat = all(isinstance(room.zone(k).element, Plane) for k in p.walls)
        if 0 < len(p.walls) <= _MOST_WALLS and flat:
            yield lambda p=p: _cut(room, p, picked)


def _cut(room: ProposalRoom, p: Push, picked: list[int]) -> Proposal:
    before = len(room.j.steps)
    low, high = common_span(room, p)
    record = {
        **room.d.paper(room.new_id(), room.fresh("Outline"), way_in_words(p)),
        "height": round(0.5 * (low + high), 3),
    }
    paper = cast(PaperRecord, parse_step(record))
    p.plane = traces_on(paper, room.j.replay()).plane
    row = _row(room, p)
    outward = _outward(room, p, row)
    closing = _closing(room, p, row, outward)
    outline = shapely.Polygon([*[q for _, a, b in row for q in (a, b)][1:-1], *closing])
    if not outline.is_valid:
        raise BadInput("What these walls leave open closes no outline; draw it by hand.", field="picked")
    room.j.lay(_drawn(room, {"kind": "sketch", **record}, row, closing))
    loops = [i for i, _, inside in room.d.outlines(record["id"]) if inside is None]
    if len(loops) != 1:
        raise BadInput("The walls close no outline by themselves; pick all that stand round it.", field="picked")
    ends = [end_of(room, p, outline, side, "cut", (low, high)[side > 0]) for side in (-1, 1)]
    step: dict[str, Any] = {"id": room.new_id(), "kind": "extrude", "name": room.fresh("Side cut"), **room.d.on}
    step |= {"sketch": record["id"], "how": "cut", "loops": loops, "start": ends[0], "end": ends[1]}
    room.j.lay({**step, "body": room.body, "keep_inner": False})
    walls = "a wall" if len(row) == 1 else f"{len(row)} walls"
    return told_of(room, f"Cut from the side, {walls} along {way_in_words(p)}", [], picked, before)


Wall = tuple[np.ndarray, np.ndarray, np.ndarray]  # places to brush (n, 2), and its two ends


def _row(room: ProposalRoom, p: Push) -> list[Wall]:
    """The walls one after the other, each from the end where it meets the one before."""
    walls: list[Wall] = []
    for k in p.walls:
        found = stretch_of(crossing(room.mesh, room.zone(k).facets, p.plane), True, room.d.facet)
        if found is None:
            raise BadInput("Too little of a wall crosses the paper to draw it.", field="picked")
        walls.append((found[0], *found[1]))
    tried = []
    for order in permutations(walls):
        for turns in product((False, True), repeat=len(walls)):
            row = [(q[::-1], b, a) if turn else (q, a, b) for (q, a, b), turn in zip(order, turns)]
            tried.append((max([float(np.linalg.norm(n[1] - m[2])) for m, n in zip(row, row[1:])], default=0.0), row))
    gap, row = min(tried, key=lambda t: t[0])
    if gap > max(_MET * room.d.facet, 0.1 * sum(float(np.linalg.norm(b - a)) for _, a, b in row)):
        raise BadInput("These walls do not stand side by side.", field="picked")
    return row


def _outward(room: ProposalRoom, p: Push, row: list[Wall]) -> np.ndarray:
    """Into what is cut away, on the paper: where the walls look by and large."""
    n = np.zeros(2)
    for k in p.walls:
        f = room.zone(k).facets
        way = (room.normals[f] * room.index.mesh.areas[f][:, None]).sum(axis=0)
        n += way @ p.plane.u, way @ np.cross(p.plane.normal, p.plane.u)
    long = float(np.linalg.norm(n))
    if long < 1e-9 * room.d.size**2:
        raise BadInput("These walls face one another; nothing tells to which side they are open.", field="picked")
    return n / long


def _closing(room: ProposalRoom, p: Push, row: list[Wall], outward: np.ndarray) -> np.ndarray:
    """Places (4, 2) from the last wall's end round the outside to the first wall's begin, all past the body."""
    first, last = _way(row[0][2], row[0][1]), _way(row[-1][1], row[-1][2])
    begin = row[0][1] + _past(room, p.plane, row[0][1], first) * first
    end = row[-1][2] + _past(room, p.plane, row[-1][2], last) * last
    some = np.vstack([begin, end, *[q for q, _, _ in row]])
    reach = max(_past(room, p.plane, q, outward) for q in some)
    # Past all that the walls' own places need, measured along the way out.
    high = max(float(q @ outward) + _past(room, p.plane, q, outward) for q in some)
    back = [q + max(high - float(q @ outward), 0.1 * reach) * outward for q in (end, begin)]
    return np.vstack([end, *back, begin])


def _way(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return (b - a) / max(float(np.linalg.norm(b - a)), 1e-300)


def _past(room: ProposalRoom, plane: SectionPlane, q: np.ndarray, way: np.ndarray) -> float:
    """How far a way leads from a place on the paper until it is out of the body, and a little more, mm."""
    far = np.linspace(0, room.d.size, _STEPS)
    places = q + far[:, None] * way
    v = np.cross(plane.normal, plane.u)
    at = plane.origin + places[:, :1] * plane.u + places[:, 1:] * v
    assert room.body is not None
    inside = room.j.replay().surface(room.body).distances(at).distance < 0
    out = far[1 + int(np.argmin(inside[1:]))] if inside[1:].any() and not inside[1:].all() else far[-1]
    out = far[1] if not inside[1:3].any() else out
    return float(out) + max(_PAST[0] * room.d.size, _PAST[1] * room.d.facet)


def _drawn(room: ProposalRoom, record: dict[str, Any], row: list[Wall], closing: np.ndarray) -> dict[str, Any]:
    """The sketch: walls brushed and joined, their ends put outside, and the lines that close it there."""
    j, near, names = room.j, room.d.facet, []
    for places, _, _ in row:
        before = {s["id"] for s in record.get("strokes", ())}
        record = j.changed(record, do="brush", kind="line", places=places.tolist(), reach=near)
        names.append(next(s["id"] for s in record["strokes"] if s["id"] not in before))
        record["sizes"] = []
    for a, b in zip(names, names[1:]):
        record = j.changed(record, do="join", of=[a, b])
    for name, to in ((names[-1], closing[0]), (names[0], closing[-1])):
        record = j.changed(record, do="put", of=[_end(record, name, to)], places=[to.tolist()], reach=0.1 * near)
    ends = [_at(record, _end(record, n, q)) for n, q in ((names[-1], closing[0]), (names[0], closing[-1]))]
    corners = [ends[0], closing[1], closing[2], ends[1]]
    for a, b in zip(corners, corners[1:]):
        record = j.changed(record, do="draw", kind="line", places=[a.tolist(), b.tolist()], reach=near)
    return {**record, "sizes": []}


def _end(record: dict[str, Any], name: str, near: np.ndarray) -> str:
    at = next(s["at"] for s in record["strokes"] if s["id"] == name)
    first = np.linalg.norm(np.subtract(at[0], near)) < np.linalg.norm(np.subtract(at[1], near))
    return f"{name}.{'start' if first else 'end'}"


def _at(record: dict[str, Any], handle: str) -> np.ndarray:
    name, _, which = handle.partition(".")
    at = next(s["at"] for s in record["strokes"] if s["id"] == name)
    return np.asarray(at[0 if which == "start" else 1], float)
