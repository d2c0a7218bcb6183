"""Where a push ends: at a face that was picked or lies there, at a narrow rim, within the body or past all of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import shapely

from ..elements import Plane
from .proposal_room import ProposalRoom
from .walls_alone import on_one_cylinder

__all__ = ["CAP", "Push", "along_line", "end_of", "height_of", "on_paper", "reaching"]

CAP = 0.985  # likewise of what ends it
_OPEN = 0.05  # of an opening that has surface across it farther out: it is covered
_FOOT = 0.06  # of the part's size: how far beyond a rounding's end its wall may stand
_WITHIN = 0.6  # of an outline that lies within the body, where a push begins there
_FEW = 12  # facets of a rim that tell where it lies
_REACHED = 0.3  # of an outline that what ends its walls comes up to


@dataclass
class Push:
    """Zones sorted for a push along ``way`` (3,), an axis of the frame or that of the zone ``about``: walls along it,
    caps across it, heights along it."""

    way: np.ndarray
    walls: list[int]
    caps: list[int]
    spans: dict[int, tuple[float, float]]
    about: int | None = None
    plane: Any = None  # of the paper, once it is laid
    says: list[str] = field(default_factory=list)  # where it was led past what the walls reach


def height_of(room: ProposalRoom, k: int, way: np.ndarray) -> float:
    f = room.zone(k).facets
    return float(np.average(room.centroids[f] @ way, weights=room.index.mesh.areas[f]))


def along_line(line: Any) -> np.ndarray:
    count = 200
    return shapely.get_coordinates(shapely.line_interpolate_point(line, np.arange(count) / count, normalized=True))


def reaching(room: ProposalRoom, p: Push) -> list[tuple[float, float]]:
    """How far walls reach along a push; those that are one surface, parted by what stands between, as one."""
    out: dict[int, tuple[float, float]] = {}
    for k in p.walls:
        z = room.zone(k)
        of = next((o for o in out if o in z.same_surface or on_one_cylinder(room.zone(o).element, z.element)), k)
        low, high = out.get(of, p.spans[k])
        out[of] = min(low, p.spans[k][0]), max(high, p.spans[k][1])
    return list(out.values())


def end_of(room: ProposalRoom, p: Push, outline: Any, side: int, how: str, wall_end: float) -> dict[str, Any]:
    """Where a push ends on one side: a cap that was picked or lies there, past the body where it is open, a height."""
    # A push ends where the surface looks out along it; a cut where it looks back into it.
    facing = side if how == "join" else -side
    size = room.d.size
    near = max(0.03 * size, 4 * room.d.facet)
    caps = []
    for k, z in enumerate(room.zones.zones):
        f = z.facets
        if room.looks(k, p.way) * facing < CAP or not (k in p.caps or isinstance(z.element, Plane)):
            continue
        h = height_of(room, k, p.way)
        if side * (h - wall_end) < -near and p.walls:
            continue
        inside = shapely.contains(outline.buffer(room.d.facet), shapely.points(on_paper(room, f, p)))
        over = float(room.index.mesh.areas[f][inside].sum())
        if over > 0.3 * z.area or over > 0.3 * outline.area:
            if k in p.caps or _reaches(on_paper(room, f, p), outline, near):
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


def _rim(room: ProposalRoom, p: Push, outline: Any, side: int, wall_end: float) -> dict[str, Any] | None:
    """A pick of the flat rim that walls end in, too narrow to be read as a surface of its own."""
    if not p.walls:
        return None
    c, n = room.centroids @ p.way, room.normals @ p.way * side
    near = np.flatnonzero((n > CAP) & (np.abs(c - wall_end) < 2 * room.d.facet))
    if not len(near):
        return None
    rim = near[shapely.contains(outline.buffer(room.d.facet), shapely.points(on_paper(room, near, p)))]
    if len(rim) < _FEW or not _reaches(on_paper(room, rim, p), outline, 2 * room.d.facet):
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


def _into(room: ProposalRoom, p: Push, outline: Any, side: int) -> float | None:
    """A height within the body that there is, where walls rise out of it: at the lowest place and a little more."""
    if not p.walls or room.body is None:
        return None
    f = np.concatenate([room.zone(k).facets for k in p.walls])
    height = side * (float((side * room.centroids[f] @ p.way).max()) + 2 * room.d.facet)
    inside = _grid(outline.buffer(-room.d.facet))
    if not len(inside):
        return None
    at = p.plane.origin + inside[:, :1] * p.plane.u + inside[:, 1:] * np.cross(p.plane.normal, p.plane.u)
    at += (height - at @ p.way)[:, None] * p.way
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


def _past(room: ProposalRoom, p: Push, outline: Any, side: int, near: float) -> float | None:
    """A height past all there is over the walls, where these end at different ones: a surface that is no plane ends
    them, and is cut there later."""
    ends = [s[side > 0] for s in reaching(room, p)]
    if not ends or max(ends) - min(ends) < near:
        return None
    inside = shapely.contains(outline, shapely.points(on_paper(room, np.arange(len(room.centroids)), p)))
    high = side * room.centroids[inside] @ p.way
    if not len(high):
        return None
    p.says.append("nothing flat ends the walls: it runs past them, to be cut by what does")
    return side * (float(high.max()) + 2 * room.d.facet)


def _stands_on(room: ProposalRoom, p: Push, outline: Any, side: int, wall_end: float) -> int | None:
    """The face that walls rise from, all round their foot, some way beyond where a rounding ends them."""
    reach = max(_FOOT * room.d.size, 6 * room.d.facet)
    round_it = outline.buffer(reach).difference(outline)
    best = None
    for k, z in enumerate(room.zones.zones):
        beyond = side * (height_of(room, k, p.way) - wall_end)
        if not isinstance(z.element, Plane) or -side * room.looks(k, p.way) < CAP or not -room.d.facet < beyond < reach:
            continue
        on = shapely.contains(round_it, shapely.points(on_paper(room, z.facets, p)))
        over = float(room.index.mesh.areas[z.facets][on].sum())
        if over > 0.2 * round_it.area and (best is None or beyond < best[0]):
            best = (beyond, k)
    return None if best is None else best[1]


def on_paper(room: ProposalRoom, facets: np.ndarray, p: Push) -> np.ndarray:
    """Middles of facets on the paper."""
    c = room.centroids[facets] - p.plane.origin
    return np.column_stack([c @ p.plane.u, c @ np.cross(p.plane.normal, p.plane.u)])


def _covered(room: ProposalRoom, p: Push, outline: Any, side: int, wall_end: float) -> bool:
    """Whether some surface lies across an opening farther out."""
    n = np.abs(room.normals @ p.way)
    beyond = (n > 0.7) & (side * (room.centroids @ p.way - wall_end) > 2 * room.d.facet)
    facets = np.flatnonzero(beyond)
    if not len(facets):
        return False
    inside = shapely.contains(outline.buffer(-room.d.facet), shapely.points(on_paper(room, facets, p)))
    return float(room.index.mesh.areas[facets][inside].sum()) > _OPEN * outline.area
