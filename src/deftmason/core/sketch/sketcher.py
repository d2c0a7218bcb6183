"""From stretches of a trace to a drawing: entities fitted to what was brushed, or to everything at once.

A stretch is remembered as a few places along it, never as sample numbers: on a new trace the samples nearest to those
places are gathered again.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from ..errors import BadInput
from .drawing import Drawing, Entity, Relation, paper_entities
from .piececurve import fit_circle_2d
from .pieces import round_samples
from .splines import fit_spline, ordered
from .trace import TraceLoop, trace_size

__all__ = ["STROKE_KINDS", "Stroke", "thin", "stroke_from_brush", "join_ends", "draw", "reach_for"]

_PLACES, _PLACES_FREE = 25, 100  # along lines and what is round, along splines
_STRAY = 4.0  # times the distance of the nearer quarter from where it was brushed that a sample of a spline may lie off
_KEPT = 8  # drawings whose stretches are kept
_REACH = 0.02  # of the trace's size
_SHARP = 0.35  # rad that strokes turn at a corner, at least
_STRADDLES, _STRADDLED = 1.2, 0.12  # facets, and of an arc's length, about a corner that facets straddle
#: What a piece of a split trace is drawn as.
STROKE_KINDS = ("line", "arc", "circle", "spline")
_FEWEST = {"point": 1, "line": 2, "arc": 3, "circle": 3, "ellipse": 6, "spline": 5}  # samples a kind is fitted to


_NOWHERE = np.zeros((0, 2))


@dataclass(frozen=True)
class Stroke:
    """One entity to be: its id, kind, places (k, 2) along its stretch, and the id of what its end joins.

    Without places it was drawn freely and follows no trace. ``at`` (points, 2) is where its points were last, with
    ``radius`` and ``ccw`` where it is round; without, it starts at its own best fit. ``poles`` of a spline, where it
    has no ``at``; ``construction`` where it only guides.
    """

    id: str
    kind: str
    places: np.ndarray = field(default_factory=lambda: _NOWHERE)
    joins: str | None = None
    at: np.ndarray | None = None
    radius: float | None = None
    ccw: bool = True
    construction: bool = False
    knots: np.ndarray | None = None

    @property
    def traced(self) -> bool:
        return len(self.places) > 0


def thin(p: np.ndarray, kind: str = "line") -> np.ndarray:
    """At most so many places along a stretch as a record keeps."""
    most = _PLACES_FREE if kind == "spline" else _PLACES
    return p if len(p) <= most else p[np.linspace(0, len(p) - 1, most).round().astype(int)]


def stroke_from_brush(loops: list[TraceLoop], brush: np.ndarray, radius: float, kind: str, name: str) -> Stroke:
    """The longest run of samples of one loop that the brush (k, 2) came within ``radius`` mm of.

    Raises `BadInput` where it touched no trace.
    """
    import shapely

    best: np.ndarray | None = None
    path = shapely.Point(brush[0]) if len(brush) == 1 else shapely.LineString(brush)
    shapely.prepare(path)
    for loop in loops:
        near = shapely.dwithin(path, shapely.points(loop.points), radius)
        if not near.any():
            continue
        if loop.closed and near.all():
            run = loop.points
        else:
            shift = int(np.argmin(near)) if loop.closed else 0
            p, m = np.roll(loop.points, -shift, axis=0), np.roll(near, -shift)
            edges = np.flatnonzero(np.diff(np.concatenate([[0], m.astype(np.int8), [0]])))
            runs = [p[a:b] for a, b in zip(edges[::2], edges[1::2])]
            run = max(runs, key=len)
        if best is None or len(run) > len(best):
            best = run
    fewest = _FEWEST[kind]
    if best is None or len(best) < fewest:
        raise BadInput("The brush touched no trace; brush along the line you want to fit.", field="stroke")
    return Stroke(name, kind, thin(best, kind))


def join_ends(strokes: list[Stroke], gap: float) -> list[Stroke]:
    """Strokes with each free end joined to the nearest free beginning of another within ``gap`` mm."""
    out = {s.id: s for s in strokes}
    begun = {s.joins for s in strokes if s.joins}
    open_ = [s for s in strokes if s.kind in ("line", "arc") and s.traced]
    pairs = sorted(
        (float(np.linalg.norm(a.places[-1] - b.places[0])), a.id, b.id)
        for a in open_
        for b in open_
        if a.id != b.id and not a.joins and b.id not in begun
    )
    for d, a, b in pairs:
        if d <= gap and out[a].joins is None and b not in begun:
            out[a] = replace(out[a], joins=b)
            begun.add(b)
    return list(out.values())


def reach_for(loops: list[TraceLoop], step: float) -> float:
    """How far from where it was brushed a stretch is looked for on a trace, mm."""
    return max(4 * step, _REACH * trace_size(loops))


def _to_polyline(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Distances of points (k, 2) to a polyline of a few places (at most those of a `Stroke`)."""
    if len(line) == 1:
        return np.linalg.norm(points - line[0], axis=1)
    a, d = line[:-1], np.diff(line, axis=0)
    dd = np.maximum(np.einsum("ij,ij->i", d, d), 1e-300)
    rel = points[:, None] - a[None]
    t = np.clip(np.einsum("ijk,jk->ij", rel, d) / dd, 0, 1)
    return np.linalg.norm(rel - t[..., None] * d[None], axis=2).min(axis=1)


def _densely(s: Stroke, step: float) -> np.ndarray:
    p = np.vstack([s.places, s.places[:1]]) if s.kind in ("circle", "ellipse") else s.places
    if len(p) < 2:
        return p
    way = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    count = int(np.clip(np.ceil(way[-1] / step), 1, 60 * len(p)))
    at = np.unique(np.concatenate([np.linspace(0, way[-1], count + 1), way]))
    return np.column_stack([np.interp(at, way, p[:, k]) for k in range(2)])


def _beside(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """How far points (k, 2) lie beside a polyline that goes on straight past its ends: where a thin sheet was brushed
    on one side, its other side and its rim lie beside the line, and what the trace runs on past the end does not.
    """
    if len(line) < 2:
        return np.zeros(len(points))
    long = float(np.linalg.norm(np.ptp(line, axis=0)))
    ways = [line[0] - line[1], line[-1] - line[-2]]
    ends = [end + long * w / max(float(np.linalg.norm(w)), 1e-300) for end, w in zip(line[[0, -1]], ways)]
    return _to_polyline(points, np.vstack([ends[0], line, ends[1]]))


def _length_of(s: Stroke) -> float:
    return float(np.linalg.norm(np.diff(s.places, axis=0), axis=1).sum())


def _corners_of(strokes: list[Stroke], near: float) -> dict[int, list[np.ndarray]]:
    """Of arcs, by their number, the ends at which another stroke turns off sharply."""
    from scipy.spatial import cKDTree

    open_ = [k for k, s in enumerate(strokes) if s.kind in ("line", "arc") and len(s.places) > 2]
    if not any(strokes[k].kind == "arc" for k in open_):
        return {}
    owner = np.repeat(open_, 2)
    at = np.vstack([strokes[k].places[[0, -1]] for k in open_])
    inner = np.vstack([strokes[k].places[[1, -2]] for k in open_])
    out: dict[int, list[np.ndarray]] = {}
    for i, j in cKDTree(at).query_pairs(near):
        u, v = at[i] - inner[i], inner[j] - at[j]
        if owner[i] != owner[j] and abs(float(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v))) > _SHARP:
            for k in (i, j):
                if strokes[owner[k]].kind == "arc":
                    out.setdefault(int(owner[k]), []).append(at[k])
    return out


def _gather(
    loops: list[TraceLoop], strokes: list[Stroke], reach: float, lost: list[Stroke] | None
) -> dict[str, np.ndarray]:
    from scipy.spatial import cKDTree

    if not loops:
        raise BadInput("The plane cuts nothing of the scan here; move it to where the part is.", field="height")
    samples = np.vstack([l.points for l in loops])
    vertex = np.concatenate([l.vertex for l in loops])
    size, facet = trace_size(loops), max(l.facet for l in loops)
    # Which strokes are near each sample, by places along them; then the distances to those exactly.
    places = [_densely(s, max(0.25 * reach, 1e-3 * size)) for s in strokes]
    owner = np.repeat(np.arange(len(strokes)), [len(p) for p in places])
    k = min(8, len(owner))
    near = cKDTree(np.vstack(places)).query(samples, k=k, workers=-1)[1].reshape(len(samples), k)
    away = np.full((len(samples), k), np.inf)
    ids = owner[near]
    for s in range(len(strokes)):
        rows, column = np.nonzero(ids == s)
        if len(rows):
            line = (
                np.vstack([strokes[s].places, strokes[s].places[:1]])
                if strokes[s].kind in ("circle", "ellipse")
                else strokes[s].places
            )
            unique, back = np.unique(rows, return_inverse=True)
            away[rows, column] = _to_polyline(samples[unique], line)[back]
    least = away.min(axis=1)
    sharp = _corners_of(strokes, 1.5 * facet)
    out = {}
    for n, stroke in enumerate(strokes):
        # A corner's sample may lie on two stretches at once: then it is of both.
        mine_mask = (np.where(ids == n, away, np.inf).min(axis=1) <= least + 1e-7 * size) & (least <= reach)
        if stroke.kind == "spline" and mine_mask.any():
            near_by = max(_STRAY * float(np.percentile(least[mine_mask], 25)), 0.25 * facet, 0.1 * reach)
            mine_mask[mine_mask] = _beside(samples[mine_mask], stroke.places) <= near_by
        mine, on = samples[mine_mask], vertex[mine_mask]
        if stroke.kind not in ("line", "spline", "point"):
            mine = round_samples(mine, on)
            for end in sharp.get(n, ()) if len(mine) > 8 else ():
                # A scan's facets straddle the corner there.
                aside = min(_STRADDLES * facet, _STRADDLED * _length_of(stroke))
                inner = mine[np.linalg.norm(mine - end, axis=1) > aside]
                mine = inner if len(inner) > 8 else mine
        elif stroke.kind == "line" and len(mine) > 8:
            # What lies within a facet of a joint belongs to neither piece for sure.
            along = stroke.places[-1] - stroke.places[0]
            length = max(float(np.hypot(*along)), 1e-300)
            t = (mine - stroke.places[0]) @ along / length
            aside = max(0.01 * length, min(0.6 * facet, 0.15 * length))
            inner = mine[(t > aside) & (t < length - aside)]
            mine = inner if len(inner) > 4 else mine
        if len(mine) < _FEWEST[stroke.kind] or not (stroke.kind == "point" or np.ptp(mine, axis=0).max() > 1e-9 * size):
            if lost is not None:
                lost.append(stroke)
                continue
            raise _no_trace(stroke, reach)
        out[stroke.id] = ordered(mine, stroke.places) if stroke.kind == "spline" else mine
    return out


#: Stretches gathered last, by traces and places: a hand that draws asks for the same again and again.
_GATHERED: OrderedDict[tuple, tuple[list[TraceLoop], dict[str, np.ndarray]]] = OrderedDict()


def _gathered(loops, strokes, reach: float, lost: list[Stroke] | None) -> dict[str, np.ndarray]:
    key = (tuple(map(id, loops)), reach, tuple((s.id, s.kind, s.places.tobytes()) for s in strokes))
    if key in _GATHERED:
        _GATHERED.move_to_end(key)
        return dict(_GATHERED[key][1])
    missed: list[Stroke] = []
    out = _gather(loops, strokes, reach, None if lost is None else missed)
    if missed and lost is not None:
        lost += missed
        return out
    _GATHERED[key] = (list(loops), dict(out))  # with the loops, so that no other takes their place in memory
    while len(_GATHERED) > _KEPT:
        _GATHERED.popitem(last=False)
    return out


def draw(
    loops: list[TraceLoop],
    strokes: list[Stroke],
    reach: float,
    lost: list[Stroke] | None = None,
    *,
    relations: list[Relation] | None = None,
    references: dict[str, dict] | None = None,
) -> Drawing:
    """A drawing whose entities start where they were last, else at their own best fits, ends joined where strokes say
    so.

    Strokes that find no trace within ``reach`` mm raise `BadInput`, or are put into ``lost`` where that is given.
    ``relations`` of kind 'coincident' between ends make them one point.
    ``references`` are projected entities in contract keys.
    """
    traced = [s for s in strokes if s.traced]
    stretches = _gathered(loops, traced, reach, lost) if traced else {}
    away = {s.id for s in lost or []}
    strokes = [s for s in strokes if s.id not in away]
    points: list[np.ndarray] = []
    radii: list[float] = []
    entities: dict[str, Entity] = {}
    for s in strokes:
        p, r, ccw, knots = _begun(s, stretches.get(s.id))
        first = len(points)
        points += list(p)
        own = tuple(range(first, len(points)))
        entities[s.id] = Entity(s.id, s.kind, own, None if r is None else len(radii), ccw, s.construction, knots)
        if r is not None:
            radii.append(r)
    fresh = {s.id for s in strokes if s.at is None}
    shared = list(range(len(points)))

    def root(i: int) -> int:
        while shared[i] != i:
            i = shared[i]
        return i

    for s in strokes:
        if s.joins and s.joins in entities and s.id in entities and entities[s.joins].ends and entities[s.id].ends:
            a, b = entities[s.id].points[1 if s.kind != "spline" else -1], entities[s.joins].points[0]
            both = s.id in fresh and s.joins in fresh
            points[a] = points[b] = (
                _joint(entities[s.id], entities[s.joins], points, a, b) if both else points[b if s.id in fresh else a]
            )
            shared[root(b)] = root(a)
    holder = Drawing(np.zeros(0), 0, entities)
    for r in relations or []:
        if r.kind == "coincident" and all("." in n or holder.has(n) for n in r.of):
            try:
                a, b = (holder.place(n) for n in r.of)
            except (KeyError, BadInput):
                continue  # the paper's own, or what is not there: an equation, or refused elsewhere
            a, b = root(a), root(b)
            if a != b and not _within_one(entities, root, a, b):
                points[a] = points[b]
                shared[b] = a
    return _assembled(points, radii, entities, [root(i) for i in range(len(points))], stretches, loops, references)


def _within_one(entities: dict[str, Entity], root: Callable[[int], int], a: int, b: int) -> bool:
    """Whether two points are of one entity: to make them one would make it nothing."""
    return any({a, b} <= {root(p) for p in e.points} for e in entities.values() if e.kind != "spline")


def _no_trace(s: Stroke, reach: float) -> BadInput:
    return BadInput(
        f"'{s.id}' finds no trace within {reach:.3g} mm of where it was brushed; brush it again.", field="entities"
    )


def _assembled(points, radii, entities, shared, stretches, loops, references) -> Drawing:
    """The drawing over the points that are left once shared ones are one, with the paper's own and projected ones."""
    used = sorted({shared[p] for e in entities.values() for p in e.points})
    rank = {old: new for new, old in enumerate(used)}
    own = np.array([points[i] for i in used]).reshape(-1, 2)
    reach = [float(np.abs(own).max(initial=0.0)), *(r for r in radii)]
    paper, where = paper_entities(len(used), max(*reach, 1e-3) if reach else 1.0)
    extra = [where]
    count = len(used) + len(where)
    for name, e in (references or {}).items():
        p, r = _reference_points(e)
        paper[name] = Entity(name, e["kind"], tuple(range(count, count + len(p))), None, e.get("ccw", True), True)
        if e["kind"] == "spline":
            paper[name].knots = np.array(e["knots"], float)
        if r is not None:
            paper[name].radius = len(radii)
            radii = [*radii, r]
        extra.append(p)
        count += len(p)
    for e in entities.values():
        e.points = tuple(rank[shared[p]] for p in e.points)
    for e in (*entities.values(), *paper.values()):
        if e.radius is not None:
            e.radius = 2 * count + e.radius
    x = np.concatenate([np.vstack([own, *extra]).ravel(), np.array(radii, float)])
    still = np.zeros(len(x), bool)
    for e in paper.values():
        still[e.columns()] = True
    return Drawing(x, count, entities, stretches, _crowded(loops), paper, still)


def _reference_points(e: dict) -> tuple[np.ndarray, float | None]:
    if e["kind"] == "point":
        return np.array([e["at"]], float), None
    if e["kind"] == "line":
        return np.array([e["start"], e["end"]], float), None
    if e["kind"] == "arc":
        return np.array([e["start"], e["end"], e["center"]], float), float(e["radius"])
    if e["kind"] == "spline":
        return np.array(e["poles"], float), None
    return np.array([e["center"]], float), float(e["radius"])


#: How many points an entity has: ends, then the centre; a spline has as many as poles.
_POINTS = {"point": 1, "line": 2, "arc": 3, "circle": 1, "ellipse": 2}


def _begun(s: Stroke, p: np.ndarray | None):
    """Where an entity's points start, its radius, turn and knots: as it was last, else its own best fit."""
    if s.at is not None:
        wanted = _POINTS.get(s.kind)
        if len(s.at) != wanted if wanted else len(s.at) < 2:
            raise BadInput(f"'{s.id}' has {len(s.at)} places where a {s.kind} has others; draw it again.", field="at")
        return np.array(s.at, float).reshape(-1, 2), s.radius, s.ccw, s.knots
    if p is None:
        raise BadInput(f"'{s.id}' is neither drawn nor fitted; give its places.", field="strokes")
    if s.kind == "point":
        return p.mean(axis=0)[None], None, True, None
    if s.kind == "line":
        mean = p.mean(axis=0)
        t = np.linalg.svd(p - mean, full_matrices=False)[2][0]
        t = t if (s.places[-1] - s.places[0]) @ t >= 0 else -t
        a, b = (s.places[0] - mean) @ t, (s.places[-1] - mean) @ t
        return np.array([mean + a * t, mean + b * t]), None, True, None
    if s.kind == "spline":
        poles, knots = fit_spline(p, s.places)
        return poles, None, True, knots
    if s.kind == "ellipse":
        return _begun_ellipse(p)
    c, r, _ = fit_circle_2d(p)
    if s.kind == "circle":
        return c[None], r, True, None
    v = s.places - c  # how the places run round the centre: ends of an arc that is nearly whole say nothing of it
    turn = float(np.sum(v[:-1, 0] * v[1:, 1] - v[:-1, 1] * v[1:, 0]))
    ends = [c + (q - c) / max(float(np.linalg.norm(q - c)), 1e-12) * r for q in (s.places[0], s.places[-1])]
    return np.array([*ends, c]), r, turn > 0, None


def _begun_ellipse(p: np.ndarray):
    """Centre and major end from the second moments of a whole or partly seen ellipse, by an algebraic fit (Fitzgibbon,
    Pilu, Fisher 1999, *Direct least square fitting of ellipses*, in the stable form of Halíř, Flusser 1998).
    """
    mean = p.mean(axis=0)
    scale = float(np.abs(p - mean).max())
    u, v = ((p - mean) / scale).T
    d1, d2 = np.column_stack([u * u, u * v, v * v]), np.column_stack([u, v, np.ones(len(u))])
    s1, s2, s3 = d1.T @ d1, d1.T @ d2, d2.T @ d2
    t = -np.linalg.solve(s3, s2.T)
    m = np.linalg.solve(np.array([[0, 0, 2.0], [0, -1.0, 0], [2.0, 0, 0]]), s1 + s2 @ t)
    _, vectors = np.linalg.eig(m)
    vectors = vectors.real
    a1 = vectors[:, np.argmax(4 * vectors[0] * vectors[2] - vectors[1] ** 2)]
    a, b, c, dd, e, f = np.concatenate([a1, t @ a1])
    centre = np.linalg.solve(np.array([[2 * a, b], [b, 2 * c]]), [-dd, -e])
    q = np.array([[a, b / 2], [b / 2, c]])
    level = -(f + 0.5 * (dd * centre[0] + e * centre[1]))
    value, vector = np.linalg.eigh(q / level)
    if not (value > 0).all():
        raise BadInput("The stretch is no ellipse; fit an arc or a spline.", field="kind")
    axes = 1 / np.sqrt(value)
    k = int(np.argmax(axes))
    middle = mean + scale * centre
    return np.array([middle, middle + scale * axes[k] * vector[:, k]]), float(scale * axes[1 - k]), True, None


def _crowded(loops: list[TraceLoop]) -> float:
    """Crossings for each facet's length of a scan's trace; exact ones share no noise."""
    scans = [l for l in loops if not l.exact and l.facet > 0]
    length = sum(l.length for l in scans)
    return max(1.0, sum(l.facet * int(l.vertex.sum()) for l in scans) / length) if length > 0 else 1.0


def _joint(e1: Entity, e2: Entity, points, a: int, b: int) -> np.ndarray:
    middle = 0.5 * (points[a] + points[b])
    if e1.kind == e2.kind == "line":
        p, d1 = points[e1.points[0]], points[e1.points[1]] - points[e1.points[0]]
        q, d2 = points[e2.points[0]], points[e2.points[1]] - points[e2.points[0]]
        det = d1[0] * d2[1] - d1[1] * d2[0]
        if abs(det) > 0.05 * np.linalg.norm(d1) * np.linalg.norm(d2):
            t = ((q - p)[0] * d2[1] - (q - p)[1] * d2[0]) / det
            return p + t * d1
    return middle
