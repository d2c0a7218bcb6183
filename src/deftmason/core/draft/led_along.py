"""What leads from one flat end to another, proposed of zones: a profile swept along the middle line where its sections
are alike, a loft through some of them where they are not.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np
import shapely

from ..elements import Plane
from ..errors import BadInput
from ..recipe.kinds.curve import curve_record
from ..recipe.papers import Laid, traces_on
from ..recipe.parse import parse_step
from ..scan.index import ScanIndex
from ..scan.mesh import TriMesh
from ..scan.topology import compact
from .proposal_room import Proposal, ProposalRoom, told_of
from .spine import Spine, parallel_between, spine_between

__all__ = ["led_along"]

_ENDS = 6  # flat faces that are tried as ends, the largest
_SHARP, _ROUND = 45.0, 0.85  # degrees at an end's edges; of its rim that is so sharp
_PAIRS = 3  # pairs of them, the farthest apart
_ALIKE = 0.04  # of a section's area: sections that differ by less are one profile
_CLEAR = 1.0  # facets beside an end that its section is read at
_PLACES = 13  # of a curve along the middle
_SECTIONS = 5, 9  # that a loft goes through; where few do not do, more
_PARTS, _DRAWN = 4, 60  # that a section's ring is parted into, and places of each
_ENOUGH = 0.95  # of what was picked that a loft through few explains
_ON_LOOP = 2.0  # facets from the section about the middle within which what is drawn is of it


def led_along(room: ProposalRoom, picked: list[int]) -> Iterator[Callable[[], Proposal]]:
    """A sweep or a loft between two picked flat faces all whose neighbours were picked too."""
    own = set(picked)
    flat = [k for k in picked if isinstance(room.zone(k).element, Plane) and own >= set(room.zone(k).neighbours)]
    ends = sorted((k for k in flat if _cut_off(room, k)), key=lambda k: -room.zone(k).area)[:_ENDS]
    if len(ends) < 2 or all(isinstance(room.zone(k).element, Plane) for k in picked if k not in ends):
        return
    pairs = [(a, b) for i, a in enumerate(ends) for b in ends[i + 1 :]]
    apart = {p: float(np.linalg.norm(_end(room, p[0])[0] - _end(room, p[1])[0])) for p in pairs}
    for first, last in sorted(pairs, key=lambda p: -apart[p])[:_PAIRS]:
        yield partial(_led, room, picked, first, last)


def _cut_off(room: ProposalRoom, k: int) -> bool:
    """Whether a flat face meets what is about it at sharp edges nearly all round."""
    about = [m for m in room.meetings if k in (m.a, m.b)]
    sharp = sum(m.length for m in about if m.angle_deg > _SHARP)
    return sharp > _ROUND * sum(m.length for m in about)


def _end(room: ProposalRoom, k: int) -> tuple[np.ndarray, np.ndarray]:
    """A place on a flat end and its direction into the piece, in the frame."""
    z = room.zone(k)
    areas = room.index.mesh.areas[z.facets]
    n = room.motion.vectors(z.element.normal)  # type: ignore[union-attr]
    side = np.sign(np.average(room.normals[z.facets] @ n, weights=areas))
    return np.average(room.centroids[z.facets], axis=0, weights=areas), -side * n


def _led(room: ProposalRoom, picked: list[int], first: int, last: int) -> Proposal:
    labels = room.zones.labels
    facets = np.isin(labels, picked) | (labels < 0)  # what is of no zone closes the gaps between
    index = ScanIndex(TriMesh(*compact(room.mesh.vertices, room.mesh.faces[facets])[:2]))
    ends = _end(room, first), _end(room, last)
    noise = room.zones.noise
    spine = spine_between(index, *ends, noise)
    if spine is not None and spine.unlike < _ALIKE:
        if spine.straight:
            raise BadInput("What was picked is one profile pushed straight; push it.", field="picked")
        return _swept(room, picked, spine)
    level = parallel_between(index, *ends)
    if level is not None:
        return _best_loft(room, picked, partial(_level_papers, room, first, ends, level))
    if spine is not None:
        return _best_loft(room, picked, partial(_square_papers, room, spine))
    raise BadInput("No sections lead from the one flat end to the other.", field="picked")


def _along(room: ProposalRoom, spine: Spine, name: str) -> str:
    """A curve along the middle, laid; its id."""
    line = room.motion.inverse().points(spine.places)
    record = curve_record(room.new_id(), room.fresh(name), room.scan, room.frame, line, False, _PLACES)
    return str(room.j.lay(record).step.id)


def _swept(room: ProposalRoom, picked: list[int], spine: Spine) -> Proposal:
    before = len(room.j.steps)
    path = _along(room, spine, "Path")
    paper = {"on": path, "share": 0.0, "traces": [{"kind": "cut", "offset": _clear(room)}]}
    sketch = _drawn(room, paper, room.fresh("Profile"))
    step = {"id": room.new_id(), "kind": "sweep", "name": room.fresh("Swept"), "frame": room.frame}
    room.j.lay({**step, "sketch": sketch, "path": path, "body": room.body})
    says = [f"one profile along {spine.length:.4g} mm", f"its sections differ by {spine.unlike:.1%} of their area"]
    return told_of(room, "Sweep", says, picked, before)


def _clear(room: ProposalRoom) -> float:
    return round(_CLEAR * float(room.index.mesh.median_edge), 6)


def _best_loft(room: ProposalRoom, picked: list[int], papers: Callable[[int], list[dict[str, Any]]]) -> Proposal:
    """Through as few sections as explain what was picked: rings parted alike all along, which are matched piece by
    piece, else outlines as they are drawn by themselves, corners and all.
    """
    begin, taken = len(room.j.steps), set(room.taken)
    best: Proposal | None = None
    refused = BadInput("No loft explains what was picked.", field="picked")
    for draw, many in (*((_ring, n) for n in _SECTIONS), (_drawn, _SECTIONS[-1])):
        del room.j.steps[begin:]
        room.taken = set(taken)
        try:
            sketches = [draw(room, p, room.fresh(f"Section {k + 1}")) for k, p in enumerate(papers(many))]
            step = {"id": room.new_id(), "kind": "loft", "name": room.fresh("Lofted"), "frame": room.frame}
            room.j.lay({**step, "sections": sketches, "body": room.body})
        except BadInput as e:
            refused = e
            continue
        found = told_of(room, "Loft", [f"through {many} sections"], picked, begin)
        if best is None or found.explains > best.explains:
            best = found
        if best.explains > _ENOUGH:
            break
    if best is None:
        raise refused
    return best


def _ring(room: ProposalRoom, paper: dict[str, Any], name: str) -> str:
    """A sketch of the outline about the middle as splines, parted where it passes fixed directions; laid, its id."""
    record, laid, ring = _about_middle(room, paper, name)
    middle = ring.mean(axis=0)
    turn = np.arctan2(*(ring - middle).T[::-1])
    ways = np.pi * (2 * np.arange(_PARTS) + 1) / _PARTS
    away = np.linalg.norm(ring - middle, axis=1)
    size = float(away.max())
    # Of the places near a direction the outermost: an outline may fold back.
    aside = np.abs(np.angle(np.exp(1j * (turn[None] - ways[:, None]))))
    cuts = np.unique(np.argmin(aside * size - 1e-3 * away[None], axis=1))
    if len(cuts) < _PARTS:
        raise BadInput("The outline there is too small to be drawn.", field="picked")
    strokes = []
    for k, (i, j) in enumerate(zip(cuts, np.roll(cuts, -1))):
        part = np.vstack([ring[i:], ring[: j + 1]]) if j <= i else ring[i : j + 1]
        some = part[np.unique(np.linspace(0, len(part) - 1, min(len(part), _DRAWN)).round().astype(int))]
        follows = f"e{(k + 1) % _PARTS + 1}"
        places = laid.in_scan.to_space(some).tolist()
        strokes.append({"id": f"e{k + 1}", "kind": "spline", "places": places, "joins": follows})
    held = [{"kind": "tangent", "of": [s["id"], s["joins"]]} for s in strokes]
    return str(room.j.lay({"kind": "sketch", **record, "strokes": strokes, "relations": held}).step.id)


def _square_papers(room: ProposalRoom, spine: Spine, many: int) -> list[dict[str, Any]]:
    path = _along(room, spine, "Spine")
    shares = np.linspace(0, 1, many)
    return [_paper(room, {"on": path, "share": float(s)}, k, many) for k, s in enumerate(shares)]


def _level_papers(room: ProposalRoom, first: int, ends, middles: list[np.ndarray], many: int) -> list[dict[str, Any]]:
    """Papers parallel to both ends: on the frame's planes, or on the first end as a datum."""
    (at, into), (other, _) = ends
    axis = int(np.argmax(np.abs(into)))
    if abs(into[axis]) > 1 - 1e-6:
        on: dict[str, Any] = {"axis": "xyz"[axis]}
        n = np.eye(3)[axis]
    else:
        on = {"on": room.d.datum(room.new_id(), room.fresh("End"), first)}
        n = into if into[axis] > 0 else -into
    levels = np.linspace(at @ n, other @ n, many)
    sign = 1.0 if levels[-1] > levels[0] else -1.0
    places = np.array(middles) @ n
    order = np.argsort(places)
    out = []
    for k, h in enumerate(levels):
        middle = [np.interp(h, places[order], np.array(middles)[order, i]) for i in range(3)]
        out.append(_paper(room, {**on, "height": round(float(h), 6)}, k, many, sign) | {"middle": middle})
    return out


def _paper(room: ProposalRoom, on: dict[str, Any], k: int, many: int, sign: float = 1.0) -> dict[str, Any]:
    """At the ends it is cut a little inside: facets straddle an end's edges."""
    inside = sign * _clear(room) * ((k == 0) - (k == many - 1))
    return {**on, "traces": [{"kind": "cut", "offset": round(inside, 6)}]}


def _drawn(room: ProposalRoom, paper: dict[str, Any], name: str) -> str:
    """A sketch of the outline about the middle as it is drawn by itself, laid; its id."""
    record, laid, ring = _about_middle(room, paper, name)
    record = room.j.drawn(record)
    line = shapely.LinearRing(ring)
    near = _ON_LOOP * float(room.index.mesh.median_edge)
    kept = set()
    for s in record["strokes"]:
        if s.get("places"):
            q = laid.plane.to_paper(room.motion.points(np.array(s["places"], float)))
            if np.median(shapely.distance(line, shapely.points(q))) < near:
                kept.add(s["id"])
    strokes = [s for s in record["strokes"] if s["id"] in kept]
    relations = [r for r in record["relations"] if all(n.partition(".")[0] in kept for n in r["of"])]
    record = room.j.sized({**record, "strokes": strokes, "relations": relations, "sizes": []})
    return str(room.j.lay(record).step.id)


def _about_middle(room: ProposalRoom, paper: dict[str, Any], name: str) -> tuple[dict[str, Any], Laid, np.ndarray]:
    """A sketch's record, undrawn, what is traced on its paper, and of that the ring (n, 2) about the middle: a place of
    the frame where ``paper`` names one, else its own origin. Raises `BadInput` where there is none.
    """
    paper = dict(paper)
    middle = paper.pop("middle", None)
    record = {"id": room.new_id(), "name": name, "scan": room.scan, "frame": room.frame, **paper}
    laid = traces_on(parse_step({"kind": "sketch", **record}), room.j.replay())  # type: ignore[arg-type]
    here = np.zeros(2) if middle is None else laid.plane.to_paper(np.array(middle, float))
    rings = [l.points for l in laid.loops if len(l.points) > 7]
    about = [p for p in rings if shapely.Polygon(p).buffer(0).contains(shapely.Point(here))]
    if not about:
        raise BadInput("No outline lies about the middle there.", field="picked")
    return record, laid, max(about, key=lambda p: shapely.Polygon(p).buffer(0).area)
