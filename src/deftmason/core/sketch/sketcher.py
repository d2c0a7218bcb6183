"""From stretches of a trace to a drawing: entities fitted to what was brushed, or to everything at once.

A stretch is remembered as a few places along it, never as sample numbers: on a new trace the samples nearest to those
places are gathered again.
"""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .drawing import Drawing, Entity
from .pieces import fit_circle_2d, round_samples, samples_of, split_loop
from .trace import TraceLoop, trace_size

__all__ = ["Stroke", "strokes_of_trace", "stroke_from_brush", "join_ends", "draw", "reach_for"]

_PLACES = 25
_REACH = 0.02  # of the trace's size
_KINDS = ("line", "arc", "circle")


@dataclass(frozen=True)
class Stroke:
    """One entity to be: its id, kind, places (k, 2) along its stretch, and the id of what its end joins."""

    id: str
    kind: str
    places: np.ndarray
    joins: str | None = None


def _thin(p: np.ndarray) -> np.ndarray:
    return p if len(p) <= _PLACES else p[np.linspace(0, len(p) - 1, _PLACES).round().astype(int)]


def strokes_of_trace(loops: list[TraceLoop], noise: float, taken: Set[str] = frozenset()) -> list[Stroke]:
    """A stroke for every piece of every loop, ends joined round each loop."""
    out: list[Stroke] = []
    number = 0

    def name() -> str:
        nonlocal number
        number += 1
        while f"e{number}" in taken:
            number += 1
        return f"e{number}"

    for loop in loops:
        pieces = split_loop(loop, noise)
        ids = [name() for _ in pieces]
        for k, piece in enumerate(pieces):
            last = k + 1 == len(pieces)
            joins = None if piece[0] == 2 or (last and not loop.closed) or len(pieces) == 1 else ids[(k + 1) % len(ids)]
            out.append(Stroke(ids[k], _KINDS[piece[0]], _thin(samples_of(loop, piece)), joins))
    return out


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
    fewest = {"line": 2, "arc": 3, "circle": 3}[kind]
    if best is None or len(best) < fewest:
        raise BadInput("The brush touched no trace; brush along the line you want to fit.", field="stroke")
    return Stroke(name, kind, _thin(best))


def join_ends(strokes: list[Stroke], gap: float) -> list[Stroke]:
    """Strokes with each free end joined to the nearest free beginning of another within ``gap`` mm."""
    out = {s.id: s for s in strokes}
    begun = {s.joins for s in strokes if s.joins}
    open_ = [s for s in strokes if s.kind != "circle"]
    pairs = sorted(
        (float(np.linalg.norm(a.places[-1] - b.places[0])), a.id, b.id)
        for a in open_
        for b in open_
        if a.id != b.id and not a.joins and b.id not in begun
    )
    for d, a, b in pairs:
        if d <= gap and out[a].joins is None and b not in begun:
            out[a] = Stroke(a, out[a].kind, out[a].places, b)
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
    p = np.vstack([s.places, s.places[:1]]) if s.kind == "circle" else s.places
    if len(p) < 2:
        return p
    gap = np.linalg.norm(np.diff(p, axis=0), axis=1)
    parts = [
        a + np.linspace(0, 1, int(np.clip(np.ceil(g / step), 1, 60)) + 1)[:, None] * (b - a)
        for a, b, g in zip(p[:-1], p[1:], gap)
    ]
    return np.vstack(parts)


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
                if strokes[s].kind == "circle"
                else strokes[s].places
            )
            unique, back = np.unique(rows, return_inverse=True)
            away[rows, column] = _to_polyline(samples[unique], line)[back]
    least = away.min(axis=1)
    out = {}
    for n, stroke in enumerate(strokes):
        # A corner's sample may lie on two stretches at once: then it is of both.
        mine_mask = (np.where(ids == n, away, np.inf).min(axis=1) <= least + 1e-7 * size) & (least <= reach)
        mine, on = samples[mine_mask], vertex[mine_mask]
        if stroke.kind != "line":
            mine = round_samples(mine, on)
        elif len(mine) > 8:
            # What lies within a facet of a joint belongs to neither piece for sure.
            along = stroke.places[-1] - stroke.places[0]
            length = max(float(np.hypot(*along)), 1e-300)
            t = (mine - stroke.places[0]) @ along / length
            aside = max(0.01 * length, min(0.6 * facet, 0.15 * length))
            inner = mine[(t > aside) & (t < length - aside)]
            mine = inner if len(inner) > 4 else mine
        if len(mine) < (2 if stroke.kind == "line" else 3) or not np.ptp(mine, axis=0).max() > 1e-9 * size:
            if lost is not None:
                lost.append(stroke)
                continue
            raise BadInput(
                f"'{stroke.id}' finds no trace within {reach:.3g} mm of where it was brushed; brush it again.",
                field="entities",
            )
        out[stroke.id] = mine
    return out


def draw(loops: list[TraceLoop], strokes: list[Stroke], reach: float, lost: list[Stroke] | None = None) -> Drawing:
    """A drawing whose entities start at their own best fits, ends joined where the strokes say so.

    Strokes that find no trace within ``reach`` mm raise `BadInput`, or are put into ``lost`` where that is given.
    """
    stretches = _gather(loops, strokes, reach, lost)
    strokes = [s for s in strokes if s.id in stretches]
    points: list[np.ndarray] = []
    radii: list[float] = []
    entities: dict[str, Entity] = {}
    ends: dict[str, tuple[int, int]] = {}
    for s in strokes:
        p = stretches[s.id]
        if s.kind == "line":
            mean = p.mean(axis=0)
            t = np.linalg.svd(p - mean, full_matrices=False)[2][0]
            t = t if (s.places[-1] - s.places[0]) @ t >= 0 else -t
            a, b = (s.places[0] - mean) @ t, (s.places[-1] - mean) @ t
            points += [mean + a * t, mean + b * t]
            ends[s.id] = (len(points) - 2, len(points) - 1)
            entities[s.id] = Entity(s.id, "line", ends[s.id])
            continue
        c, r, _ = fit_circle_2d(p)
        if s.kind == "circle":
            points.append(c)
            entities[s.id] = Entity(s.id, "circle", (len(points) - 1,), len(radii))
        else:
            first, middle, last = s.places[0], s.places[len(s.places) // 2], s.places[-1]
            turn = np.cross(np.append(middle - first, 0), np.append(last - middle, 0))[2]
            for q in (first, last):
                v = q - c
                points.append(c + v / max(np.linalg.norm(v), 1e-12) * r)
            points.append(c)
            ends[s.id] = (len(points) - 3, len(points) - 2)
            entities[s.id] = Entity(s.id, "arc", (*ends[s.id], len(points) - 1), len(radii), bool(turn > 0))
        radii.append(r)
    shared = list(range(len(points)))
    for s in strokes:
        if s.joins and s.joins in ends and s.id in ends:
            a, b = ends[s.id][1], ends[s.joins][0]
            points[a] = points[b] = _joint(entities[s.id], entities[s.joins], points, a, b)
            shared[b] = a
    used = sorted({i for e in entities.values() for i in (shared[p] for p in e.points)})
    rank = {old: new for new, old in enumerate(used)}
    x = np.concatenate([np.concatenate([points[i] for i in used]), np.array(radii)])
    for e in entities.values():
        e.points = tuple(rank[shared[p]] for p in e.points)
        if e.radius is not None:
            e.radius = 2 * len(used) + e.radius
    return Drawing(x, len(used), entities, stretches, _crowded(loops))


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
