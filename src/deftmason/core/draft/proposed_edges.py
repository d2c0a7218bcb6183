"""Sets of holes, roundings and chamfers proposed of their zones, on the body there is."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from ..elements import Cone, Cylinder, Plane, Torus
from ..errors import BadInput
from ..recipe.kinds.edges import as_asked
from ..sketch.sizes import round_value
from .proposal_room import Proposal, ProposalRoom, told_of
from .tube_runs import runs_of

if TYPE_CHECKING:
    from ..features.evidence import Reading
    from ..kernel.body import EdgeName

__all__ = ["chamfers", "hole_sets", "roundings"]

_ALIKE = 0.02, 4.0  # of a radius, and standard deviations, by which what is one set may differ
_NEAR_EDGE = 0.75  # radii between a rounding and the edge it rounds, at most
_STRIP = 1.2  # of a strip's breadth between it and the edge it was cut off of, at most
_WELL = 0.9  # of a rounding explained by the radius that its edges are read with


def _bores(room: ProposalRoom) -> list[int]:
    """Zones that are walls of holes not met yet; of walls about one axis the narrowest: the wider are its heads, and
    one as wide, in a wall farther on, waits until the first is drilled. A tube's bore is no hole."""
    along = {k for run in runs_of(room.zones, room.index) for k in run.bore}
    found = [k for k in sorted(room.new - along) if room.names[k].startswith("Bore")]
    found = [k for k in found if isinstance(room.zone(k).element, Cylinder)]
    found.sort(key=lambda k: cast(Cylinder, room.zone(k).element).radius)
    out: list[int] = []
    for k in found:
        e = cast(Cylinder, room.zone(k).element)
        beside = (cast(Cylinder, room.zone(o).element) for o in out)
        if all(np.linalg.norm(np.cross(o.point - e.point, e.direction)) > 0.25 * e.radius for o in beside):
            out.append(k)
    return out


def hole_sets(room: ProposalRoom, picked: list[int]):
    if room.body is None:
        return
    for group in _alike(room, _bores(room)):
        mine = [k for k in group if k in picked]
        if not mine:
            continue
        yield lambda group=group: _hole_set(room, group, picked)
        if len(mine) < len(group):
            yield lambda mine=mine: _hole_set(room, mine, picked)


def _alike(room: ProposalRoom, zones: list[int]) -> list[list[int]]:
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


def _hole_set(room: ProposalRoom, group: list[int], picked: list[int]) -> Proposal:
    before = len(room.j.steps)
    words = room.fresh("Hole" if len(group) == 1 else "Holes")
    step = {"id": room.new_id(), "kind": "drill", "name": words, **room.d.on}
    places = [{"pick": _wall_pick(room, k)} for k in group]
    ran = room.j.lay({**step, "body": room.body, "places": places})
    told = ran.summary
    size = {v.name: v.chosen for v in ran.values}
    deep = "through" if told["through"] else f"{size['depth']:g} deep"
    head = "" if told["head"] == "plain" else f", {told['head']} ⌀ {size['head_diameter']:g}"
    many = f"{len(group)} holes" if len(group) > 1 else "Hole"
    r = told["readings"]["diameter"]
    says = [f"read as ⌀ {r['value']:.3f} ± {2 * r['uncertainty']:.3f} mm", *told["notes"]]
    heads = [k for k in picked if k not in group and _about(room, k, group)]
    return told_of(room, f"{many} ⌀ {size['diameter']:g} {deep}{head}", says, [*group, *heads], before)


def _about(room: ProposalRoom, k: int, group: list[int]) -> bool:
    """Whether a zone lies about the axis of one of some holes: its head or its floor."""
    place = room.index.mesh.centroids[room.zone(k).facets].mean(axis=0)
    for g in group:
        e = cast(Cylinder, room.zone(g).element)
        if np.linalg.norm(np.cross(place - e.point, e.direction)) < 0.5 * e.radius and not isinstance(
            room.zone(k).element, Plane
        ):
            return True
    return False


def _wall_pick(room: ProposalRoom, k: int) -> dict[str, Any]:
    return room.d.pick(room.zone(k).facets, "same bend")


def roundings(room: ProposalRoom, picked: list[int]):
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


def _bend(room: ProposalRoom, k: int) -> float:
    e = room.zone(k).element
    return float(e.minor_radius if isinstance(e, Torus) else e.radius)  # type: ignore[union-attr]


def _rounding(room: ProposalRoom, group: list[int]) -> Proposal:
    from scipy.spatial import cKDTree

    before = len(room.j.steps)
    edges: list[list[Any]] = []
    facet = room.index.mesh.median_edge
    zones = [(cKDTree(room.centroids[room.zone(k).facets]), _bend(room, k)) for k in group]
    for name, _, places in _edges(room):
        near = np.zeros(len(places), bool)
        for tree, r in zones:
            near |= tree.query(places)[0] < _NEAR_EDGE * r + (0 if room.index.exact else facet)
        if near.mean() > 0.7:
            edges.append(list(name))
    if not edges:
        raise BadInput("The body has no edge along this rounding; lay the faces beside it first.")
    step: dict[str, Any] = {"id": room.new_id(), "kind": "fillet", "name": room.fresh("Rounding"), **room.d.on}
    step |= {"body": room.body, "edges": edges}
    ran = room.j.lay({**step, "radius": {"value": None, "source": "rounded"}})
    r = ran.summary["readings"]["radius"]
    many = f"{len(edges)} edges" if len(edges) > 1 else "an edge"
    said = [f"read as R {r['value']:.2f} ± {2 * r['uncertainty']:.2f} mm"]
    told = told_of(room, f"Round {many}, R {ran.summary['radius']:g}", said, group, before)
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
    other = told_of(room, f"Round {many}, R {value:g}", said, group, before)
    return other if other.explains > told.explains else told


def _edges(room: ProposalRoom) -> Iterator[tuple[EdgeName, np.ndarray, np.ndarray]]:
    """The edges of the body there is: names, lines (n, 3), and places (15, 3) away from their ends."""
    from ..kernel.tessellate import FINE, diagonal_of, edge_polylines

    assert room.body is not None
    body = room.j.replay().output(room.body, "body")
    for name, line in edge_polylines(body, FINE * diagonal_of(body)):
        at = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        even = np.linspace(0.12 * at[-1], 0.88 * at[-1], 15)
        yield name, line, np.column_stack([np.interp(even, at, line[:, i]) for i in range(3)])


def chamfers(room: ProposalRoom, picked: list[int]):
    """Edges of the body cut off along narrow flats and cones that it does not meet, all of one leg together."""
    if room.body is None:
        return
    flat = [k for k in sorted(room.new) if isinstance(room.zone(k).element, (Plane, Cone))]
    beside = _cut_off(room, flat)
    for some in _one_leg(room, beside):
        mine = [e for e in some if e[1] in picked]
        if not mine:
            continue
        yield lambda some=some: _chamfer(room, some)
        if len(mine) < len(some):
            yield lambda mine=mine: _chamfer(room, mine)


def _cut_off(room: ProposalRoom, flat: list[int]) -> list[tuple[EdgeName, int]]:
    """Edges of the body between faces of known kinds that strips of a scan run along, near all of the edge and of the
    strip, each with its strip."""
    from scipy.spatial import cKDTree

    from ..kernel.surfaces import face_surfaces

    body = room.j.replay().output(cast(str, room.body), "body")
    known = {s.name for s in face_surfaces(body) if s.element is not None}
    sides = body.edge_faces()
    facet = room.index.mesh.median_edge
    strips = [(k, cKDTree(room.centroids[room.zone(k).facets])) for k in flat]
    out = []
    for name, line, places in _edges(room):
        if not known.issuperset(sides[name]):
            continue
        s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        even = np.linspace(0, s[-1], int(np.clip(s[-1] / facet, 8, 5000)))
        along = cKDTree(np.column_stack([np.interp(even, s, line[:, i]) for i in range(3)]))
        for k, tree in strips:
            reach = _STRIP * room.area([k]) / max(float(s[-1]), facet) + facet
            near = tree.query(places)[0] < reach
            if near.mean() > 0.7 and np.quantile(along.query(tree.data)[0], 0.9) < reach:
                out.append((name, k))
    return out


def _one_leg(room: ProposalRoom, beside: list[tuple[EdgeName, int]]) -> list[list[tuple[EdgeName, int]]]:
    """Of edges and strips those that the scan shows a chamfer along, of one leg together, the widest first."""
    from ..features.evidence import edge_legs
    from ..kernel.tessellate import FINE, diagonal_of, edge_polylines

    if not beside:
        return []
    body = room.j.replay().output(cast(str, room.body), "body")
    lines = edge_polylines(body, FINE * diagonal_of(body))
    asked, _ = as_asked(body, [name for name, _ in beside], lines, room.index.mesh.median_edge)
    read = [next(iter(edge_legs(room.index, room.motion, [e])), None) for e in asked]
    some = sorted(((r, e) for r, e in zip(read, beside) if r is not None), key=lambda t: -t[0].value)
    groups: list[list[tuple[EdgeName, int]]] = []
    first: list[Reading] = []
    for r, e in some:
        if first and abs(first[-1].value - r.value) < max(0.08 * r.value, 3 * (r.uncertainty + first[-1].uncertainty)):
            groups[-1].append(e)
        else:
            groups.append([e])
            first.append(r)
    return groups


def _chamfer(room: ProposalRoom, some: list[tuple[EdgeName, int]]) -> Proposal:
    before = len(room.j.steps)
    edges = [list(name) for name, _ in some]
    step: dict[str, Any] = {"id": room.new_id(), "kind": "chamfer", "name": room.fresh("Chamfer"), **room.d.on}
    ran = room.j.lay({**step, "body": room.body, "edges": edges, "leg": {"value": None, "source": "rounded"}})
    many = f"{len(edges)} edges" if len(edges) > 1 else "an edge"
    said = [f"read as {r['value']:.3f} ± {2 * r['uncertainty']:.3f} mm" for r in ran.summary["readings"].values()]
    legs = " and ".join(f"{ran.summary[k]:g}" for k in ("leg", "other") if k in ran.summary)
    return told_of(room, f"Cut {many} off by {legs}", said, sorted({k for _, k in some}), before)
