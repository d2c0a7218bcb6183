"""An outline drawn of some walls alone, where ribs and bosses interrupt them: each wall's own stretch of the section is
brushed, and neighbours are made to meet, running on over what stands between them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from ..elements import Cylinder, Plane
from ..errors import BadInput
from ..recipe.laying import Laying
from ..scan.mesh import TriMesh
from ..scan.section import SectionPlane
from ..sketch.piececurve import fit_circle_2d
from ..zones import Zone

__all__ = ["crossing", "drawn_alone", "on_one_cylinder", "stretch_of", "with_corners"]

_FEWEST = 5  # places of a section that tell a stretch
_GAP = 4.0  # median steps between neighbours that part one stretch from another
_INNER, _ASIDE = 0.06, 2.0  # of a stretch, and facets, left out at both its ends: it runs into something there
_SAME = 0.02  # of a radius, by which what is one cylinder may differ
_ROUND, _BINS = 0.55, 36  # of a turn that tells a circle; into how many parts it is looked at
_BRUSHED = 14  # places a stretch is brushed by


def with_corners(picked: list[int], walls: list[int], zones: list[Zone]) -> list[int]:
    """Picked walls, and those of the ``walls`` of a part that round the corner between two of them; a wall may go on
    past what interrupts it."""
    own = set(picked) | {o for k in picked for o in zones[k].same_surface}
    between = [
        k for k in walls
        if k not in own and not isinstance(zones[k].element, Plane) and len(own & set(zones[k].neighbours)) >= 2
    ]  # fmt: skip
    return [*picked, *between]


def crossing(mesh: TriMesh, facets: np.ndarray, plane: SectionPlane) -> np.ndarray:
    """Places (n, 2) on a paper where the edges of some facets pass through it. The mesh in the paper's coordinates."""
    rel = mesh.vertices - plane.origin
    high = rel @ plane.normal
    f = mesh.faces[facets]
    edges = np.unique(np.sort(np.vstack([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1), axis=0)
    a, b = high[edges[:, 0]], high[edges[:, 1]]
    through = (a < 0) != (b < 0)
    t = (a[through] / (a[through] - b[through]))[:, None]
    p = (1 - t) * rel[edges[through, 0]] + t * rel[edges[through, 1]]
    return np.column_stack([p @ plane.u, p @ np.cross(plane.normal, plane.u)])


def stretch_of(q: np.ndarray, straight: bool, facet: float) -> tuple[np.ndarray, np.ndarray] | None:
    """The longest uninterrupted run of a wall's section: places along it to brush, and its two ends."""
    if len(q) < _FEWEST:
        return None
    if straight:
        mean = q.mean(axis=0)
        along = (q - mean) @ np.linalg.svd(q - mean, full_matrices=False)[2][0]
    else:
        centre, radius = fit_circle_2d(q)[:2]
        turn = np.sort(np.arctan2(*(q - centre).T[::-1]))
        gaps = np.diff(turn, append=turn[0] + 2 * np.pi)
        begin = turn[(int(np.argmax(gaps)) + 1) % len(turn)]
        along = radius * np.mod(np.arctan2(*(q - centre).T[::-1]) - begin + 1e-9, 2 * np.pi)
    order = np.argsort(along)
    s = along[order]
    steps = np.diff(s)
    cuts = np.flatnonzero(steps > _GAP * max(float(np.median(steps)), 0.02 * float(s[-1] - s[0]))) + 1
    runs = np.split(order, cuts)
    run = max(runs, key=lambda r: float(np.ptp(along[r])))
    if len(run) < _FEWEST:
        return None
    s = along[run]
    long = float(s[-1] - s[0])
    inner = min(max(_INNER * long, _ASIDE * facet), 0.3 * long)
    even = np.linspace(s[0] + inner, s[-1] - inner, _BRUSHED)
    return np.column_stack([np.interp(even, s, q[run, i]) for i in (0, 1)]), q[run[[0, -1]]]


def on_one_cylinder(first: Any, other: Any) -> bool:
    """Whether two walls lie on one cylinder."""
    if not (isinstance(first, Cylinder) and isinstance(other, Cylinder)):
        return False
    if abs(other.radius - first.radius) > _SAME * first.radius:
        return False
    aside = np.linalg.norm(np.cross(other.point - first.point, first.direction))
    return bool(abs(other.direction @ first.direction) > 0.999 and aside < _SAME * first.radius)


def _round_it(q: np.ndarray) -> np.ndarray | None:
    """Places to brush round a section that is most of a circle."""
    if len(q) < 3 * _FEWEST:
        return None
    centre, radius = fit_circle_2d(q)[:2]
    turn = np.arctan2(*(q - centre).T[::-1])
    there = np.zeros(_BINS, bool)
    there[np.floor((turn + np.pi) / (2 * np.pi) * _BINS).astype(int) % _BINS] = True
    if there.mean() < _ROUND:
        return None
    # What is beside a place where the wall is interrupted runs into what interrupts it.
    calm = there & np.all([np.roll(there, k) for k in (-2, -1, 1, 2)], axis=0)
    bins = np.flatnonzero(calm if calm.sum() > _BINS // 4 else there)
    gaps = np.diff(bins, append=bins[0] + _BINS)
    bins = np.roll(bins, -int(np.argmax(gaps)) - 1)  # from where it is interrupted, round
    at = (bins + 0.5) / _BINS * 2 * np.pi - np.pi
    return centre + radius * np.column_stack([np.cos(at), np.sin(at)])


def _circle(j: Laying, record: dict[str, Any], places: np.ndarray, near: float) -> dict[str, Any]:
    """A circle as an arc tells it that guides, fitted clear of what interrupts the wall."""
    record = j.changed(record, do="brush", kind="arc", places=places.tolist(), reach=near)
    arc = record["strokes"][-1]
    centre, radius = fit_circle_2d(places)[:2]
    circle = {"id": f"{arc['id']}_whole", "kind": "circle", "places": [], "at": [centre.tolist()], "radius": radius}
    held = [{"kind": k, "of": [arc["id"], circle["id"]]} for k in ("concentric", "equal")]
    strokes = [*record["strokes"][:-1], {**arc, "construction": True}, circle]
    return j.sized({**record, "sizes": [], "strokes": strokes, "relations": [*record["relations"], *held]})


def drawn_alone(
    j: Laying,
    record: dict[str, Any],
    plane: SectionPlane,
    mesh: TriMesh,
    walls: list[Zone],
    loop: shapely.Polygon,
    near: float,
) -> dict[str, Any]:
    """A sketch's record with a closed outline of walls alone.

    ``record`` : of the sketch, undrawn; ``plane`` its paper and ``mesh`` the scan in one frame's coordinates; ``loop``
    an outline on the paper that runs along the walls, whose order they take; ``near`` how near the trace a brush is
    led, mm. Raises `BadInput` where they do not close.
    """
    first = walls[0].element
    if all(on_one_cylinder(first, z.element) for z in walls):
        q = np.vstack([crossing(mesh, z.facets, plane) for z in walls])
        places = _round_it(q)
        if places is None:
            raise BadInput("Too little of this wall stands round its axis; pick more of it.", field="picked")
        return _circle(j, record, places, near)
    line, found = max(shapely.get_parts(loop), key=lambda part: part.area).exterior, []
    for z in walls:
        straight = isinstance(z.element, Plane)
        stretch = stretch_of(crossing(mesh, z.facets, plane), straight, near)
        if stretch is None:
            continue
        places, ends = stretch
        at = [float(shapely.line_locate_point(line, shapely.Point(p), normalized=True)) for p in (*ends, places[7])]
        found.append((at[2], "line" if straight else "arc", places))
    if len(found) < 3:
        raise BadInput("The walls close no outline by themselves; pick all that stand round it.", field="picked")
    names = []
    for _, kind, places in sorted(found, key=lambda f: f[0]):
        before = {s["id"] for s in record.get("strokes", ())}
        record = j.changed(record, do="brush", kind=kind, places=places.tolist(), reach=near)
        names += [s["id"] for s in record["strokes"] if s["id"] not in before]
        record["sizes"] = []  # a brushed stretch's own length says nothing
    pairs = list(zip(names, [*names[1:], names[0]]))
    for a, b in pairs:
        if not _met(record, a, b):
            record = j.changed(record, do="join", of=[a, b])
    record = {**record, "sizes": [], "relations": [*record["relations"], *_smooth(record, pairs)]}
    return j.sized(record)


def _smooth(record: dict[str, Any], pairs: list[tuple[str, str]]) -> list[dict[str, Any]]:
    """That neighbours of which one is an arc run on without a kink, where it is not said yet."""
    kinds = {s["id"]: s["kind"] for s in record["strokes"]}
    said = [set(r["of"]) for r in record["relations"] if r["kind"] == "tangent"]
    round_ = [p for p in pairs if "arc" in (kinds[p[0]], kinds[p[1]]) and set(p) not in said]
    return [{"kind": "tangent", "of": list(p)} for p in round_]


def _met(record: dict[str, Any], a: str, b: str) -> bool:
    if any((s["id"], s.get("joins")) in ((a, b), (b, a)) for s in record["strokes"]):
        return True
    pairs = [{n.partition(".")[0] for n in r["of"]} for r in record["relations"] if r["kind"] == "coincident"]
    return {a, b} in pairs
