"""How far is a returned drawing from its trace? Measured on what is returned, along the whole trace and back; and what
it leaves out.

Distances are taken from samples of every stretch of the trace, between crossings too, to the nearest entity as it ends,
and from the entities to
the trace. What no entity explains is handed back as it was traced.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .curve import curve_of
from .trace import TraceLoop, trace_size

__all__ = ["FACET_CHORD", "Told", "told_error", "entity_distance", "left_out", "as_spline", "limit_for"]

FACET_CHORD = 1.4  # facets that what a scan's facet cuts off a corner is long at most
_CORNER_SIDES = 6  # facets that the sides of such a corner are long, at least
_BETWEEN = 4  # samples of the trace between two crossings, at least
_MOST = 40_000


@dataclass(frozen=True)
class Told:
    """``rms`` over the trace's length and ``max_distance`` both ways, mm."""

    rms: float
    max_distance: float


def entity_distance(e: dict, p: np.ndarray) -> np.ndarray:
    """Distance (n,) of places (n, 2) to one entity in contract keys, ends included."""
    if e["kind"] == "spline" and e["degree"] == 1:
        return _to_segments(p, np.array(e["poles"], float))
    return curve_of(e).distance(p)


def _to_segments(p: np.ndarray, line: np.ndarray) -> np.ndarray:
    out = np.full(len(p), np.inf)
    for a, b in zip(line[:-1], line[1:]):
        d = b - a
        t = np.clip((p - a) @ d / max(float(d @ d), 1e-300), 0, 1)
        out = np.minimum(out, np.linalg.norm(p - a - t[:, None] * d, axis=1))
    return out


def _along(loop: TraceLoop, step: float) -> tuple[np.ndarray, np.ndarray]:
    """Places along a loop: its crossings and, evenly, what lies between; and each one's bow, L² t (1 − t) / 2 of its
    chord (mm²).
    """
    p = loop.points[loop.vertex]
    p = np.vstack([p, p[:1]]) if loop.closed else p
    gap = np.linalg.norm(np.diff(p, axis=0), axis=1)
    count = 2 * np.maximum(np.ceil(gap / (2 * step)).astype(int), 1)  # the middle of every chord, where it bows most
    row = np.repeat(np.arange(len(gap)), count)
    t = (np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)) / count[row]
    at = p[row] + t[:, None] * (p[row + 1] - p[row])
    bow = 0.5 * gap[row] ** 2 * t * (1 - t)
    if not loop.closed:
        at, bow = np.vstack([at, p[-1:]]), np.append(bow, 0.0)
    return at, bow


def _step(loops: list[TraceLoop]) -> float:
    length = sum(l.length for l in loops)
    facet = min((l.facet for l in loops if l.facet > 0), default=length)
    return max(min(facet / _BETWEEN, length / 400), length / _MOST)


def _nearest(geometry: list[dict], p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distance to the nearest entity, and one over that entity's radius."""
    out, bent = np.full(len(p), np.inf), np.zeros(len(p))
    for e in geometry:
        d = entity_distance(e, p)
        nearer = d < out
        out[nearer] = d[nearer]
        bent[nearer] = 1 / e["radius"] if e["kind"] in ("arc", "circle") else 0.0
    return out, bent


def _points_of(e: dict, step: float) -> np.ndarray:
    if e["kind"] == "spline" and e["degree"] == 1:
        p = np.array(e["poles"], float)
        gap = np.linalg.norm(np.diff(p, axis=0), axis=1)
        return np.vstack(
            [
                a + np.linspace(0, 1, int(np.clip(np.ceil(g / step), 1, 2000)) + 1)[:, None] * (b - a)
                for a, b, g in zip(p[:-1], p[1:], gap)
            ]
        )
    return curve_of(e).sampled(step)


def told_error(loops: list[TraceLoop], geometry: list[dict]) -> Told:
    """The distances between a trace and what was drawn of it."""
    geometry = [e for e in geometry if e["kind"] != "point"]
    if not loops or not geometry:
        return Told(0.0, 0.0)
    from shapely import STRtree, linestrings, points

    step = _step(loops)
    out = np.concatenate([_nearest(geometry, _along(l, step)[0])[0] for l in loops])
    ends = [np.vstack([l.points, l.points[:1]]) if l.closed else l.points for l in loops]
    lines = np.concatenate([np.stack([p[:-1], p[1:]], axis=1) for p in ends])
    back = np.vstack([_points_of(e, step) for e in geometry])
    far = STRtree(linestrings(lines)).query_nearest(points(back), return_distance=True, all_matches=False)[1]
    return Told(float(np.sqrt(np.mean(out**2))), float(max(out.max(), far.max())))


def left_out(loops: list[TraceLoop], geometry: list[dict], limit: float) -> list[np.ndarray]:
    """Stretches (k, 2) of the trace farther than ``limit`` mm from every entity, each with a sample before and
    after.
    """
    out = []
    step = _step(loops)
    for loop in loops:
        p, bow = _along(loop, step)
        off, bent = _nearest(geometry, p)
        bad = off - bow * bent > limit  # a chord bows away from a round entity by right
        if not bad.any():
            continue
        if bad.all():
            out.append(np.vstack([p, p[:1]]) if loop.closed else p)
            continue
        if loop.closed:  # begin where all is well
            k = int(np.argmin(bad))
            p, bad = np.roll(p, -k, axis=0), np.roll(bad, -k)
            p, bad = np.vstack([p, p[:1]]), np.append(bad, False)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], bad.astype(np.int8), [0]])))
        runs = [p[max(a - 1, 0) : b + 1] for a, b in zip(edges[::2], edges[1::2])]
        out += [r for r in runs if loop.exact or not _cuts_a_corner(r, geometry, loop.facet, limit)]
    return out


def _cuts_a_corner(run: np.ndarray, geometry: list[dict], facet: float, limit: float) -> bool:
    """Whether a stretch is as straight and short as what one facet of a scan cuts off a corner, and lies at one that
    two entities make which are many facets long.
    """
    chord = run[-1] - run[0]
    long = float(np.hypot(*chord))
    if not 0 < long < FACET_CHORD * facet:
        return False
    d = run - run[0]
    if np.abs(d[:, 0] * chord[1] - d[:, 1] * chord[0]).max() > 0.5 * limit * long:
        return False
    sides = [e for e in geometry if "start" in e and curve_of(e).length > _CORNER_SIDES * facet]
    ends = np.array([e[k] for e in sides for k in ("start", "end")]).reshape(-1, 2)
    near = np.max([np.linalg.norm(ends - q, axis=1) for q in run[[0, -1]]], axis=0) < FACET_CHORD * facet
    return len(set(np.nonzero(near)[0] // 2)) > 1


def as_spline(p: np.ndarray, name: str) -> dict:
    """A stretch as it was traced: a spline of degree one."""
    gap = np.linalg.norm(np.diff(p, axis=0), axis=1)
    p = p[np.concatenate([[True], gap > 0])]
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    return {
        "id": name,
        "kind": "spline",
        "degree": 1,
        "knots": [float(s[0]), *s.tolist(), float(s[-1])],
        "poles": p.tolist(),
    }


def limit_for(loops: list[TraceLoop], noise: float) -> float:
    """Distance beyond which a trace is not what was drawn, mm: many scatters, or what a facet across a corner
    explains.
    """
    size = trace_size(loops)
    gaps = [np.linalg.norm(np.diff(l.points[l.vertex], axis=0), axis=1) for l in loops if l.vertex.sum() > 2]
    gap = float(np.median(np.concatenate(gaps))) if gaps else 0.0
    facet = max((l.facet for l in loops), default=0.0)
    return max(8 * noise, min(0.5 * facet, 1.2 * gap), 1e-3 * size)
