"""The middle line of what leads from one flat end to another: its sections are walked from end to end, each square to
the way the last ones went, and what of them is alike.

A predictor and a corrector over middles of sections, as generalised cylinders are followed (Nevatia, Binford 1977,
"Description and recognition of curved objects"); where the middles lie is refined on sections square to the line they
make.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from ..curves.drawn import through_points
from ..curves.frames import moving_frames
from ..curves.spatial import SpaceCurve
from ..scan.index import ScanIndex
from ..scan.section import SectionPlane, cut_section

__all__ = ["Spine", "parallel_between", "spine_between"]

_STEP = 0.12  # of a section's width from one to the next
_MOST = 400  # sections
_JUMP = 0.5  # of a section's area that the next may differ by
_GAP = 0.15  # of a loop's length that a hole in the scan may leave open in it
_REFINED, _ROUNDS = 33, 2  # sections that the line is refined on, and how often
_CLEAR = 1.0  # facets from an end to the first section: nearer, facets straddle the end's edges
_KEPT, _ODD = 0.8, 0.25  # of these sections that are kept; of its area that one may differ from those beside it
_LEANS = 0.9  # cosine to an end face by which the line may lean against it and still be square to it
_LEVEL = 0.999  # cosine to which two ends are parallel
_STRAIGHT = 2e-3  # of its length that a straight line's middles may lie off


@dataclass(frozen=True)
class Spine:
    """``places`` (n, 3) along the middle, from end face to end face; ``sections`` the outlines there, as polygons in
    frames carried along; ``unlike`` the share of a section's area that is not the middle one's, but for a tenth of
    them; ``straight``.
    """

    places: np.ndarray
    sections: list[shapely.Polygon]
    unlike: float
    straight: bool

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.diff(self.places, axis=0), axis=1).sum())


def spine_between(
    index: ScanIndex, first: tuple[np.ndarray, np.ndarray], last: tuple[np.ndarray, np.ndarray], noise: float
) -> Spine | None:
    """The middle line of a piece of scan between two of its flat ends, each given by a place (3,) on it and its
    direction (3,) into the piece; None where no sections lead from the one to the other. ``noise`` mm.
    """
    clear = _CLEAR * index.mesh.median_edge
    middles = _walked(index, first, last, clear)
    if middles is None:
        return None
    for _ in range(_ROUNDS):
        curve = through_points(middles, noise)
        s = np.linspace(0, curve.length, _REFINED)
        places, directions = curve.at(s), _squared(curve.direction(s), first[1], last[1])
        found = [f for p, d in zip(places, directions) if (f := _section(index, p, d)) is not None]
        good = [f for k, f in enumerate(found) if _like_those_beside(found, k)]
        if len(good) < _KEPT * _REFINED:
            return None
        middles = np.array([f[0] for f in good])
    ends = [_onto(middles[:4], *first), _onto(middles[:-5:-1], *last)]
    chord = middles[-1] - middles[0]
    long = float(np.linalg.norm(chord))
    off = np.linalg.norm(np.cross(middles - middles[0], chord / max(long, 1e-300)), axis=1).max()
    straight = bool(off < max(_STRAIGHT * long, 3 * noise) and long > 0)
    sections = _in_carried_frames(index, through_points(middles, noise))
    if sections is None:
        return None
    return Spine(np.vstack([ends[0], middles, ends[1]]), sections, _unlike(sections), straight)


def parallel_between(
    index: ScanIndex, first: tuple[np.ndarray, np.ndarray], last: tuple[np.ndarray, np.ndarray]
) -> list[np.ndarray] | None:
    """Middles (3,) of sections parallel to two parallel ends, from the one to the other; None where the ends are not
    parallel or no sections lead between them.
    """
    into = np.asarray(first[1], float)
    deep = float((last[0] - first[0]) @ into)
    clear = _CLEAR * index.mesh.median_edge
    if into @ last[1] > -_LEVEL or deep < 4 * clear:
        return None
    at, area, out = np.asarray(first[0], float) + clear * into, 0.0, []
    for h in np.linspace(clear, deep - clear, _REFINED):
        at = at + (h - float((at - first[0]) @ into)) * into
        found = _section(index, at, into)
        if found is None or (area and abs(found[1].area - area) > _JUMP * area):
            return None
        at, area = found[0], found[1].area
        out.append(at)
    return out


def _squared(directions: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """Directions of sections along a line, those at its ends as the end faces look where that is nearly so."""
    out = directions.copy()
    for k, n in ((0, first), (-1, -np.asarray(last))):
        if out[k] @ n > _LEANS:
            out[k] = n
    return out


def _like_those_beside(found: list, k: int) -> bool:
    """Whether a section is about as large as those beside it: one that runs into an end is not."""
    beside = [found[i][1].area for i in range(max(k - 3, 0), min(k + 4, len(found))) if i != k]
    usual = float(np.median(beside))
    return abs(found[k][1].area - usual) < _ODD * usual


def _section(index: ScanIndex, at: np.ndarray, along: np.ndarray) -> tuple[np.ndarray, shapely.Polygon] | None:
    """The middle (3,) and outline of the section that lies about a place, else of the nearest."""
    plane = SectionPlane.at(at, along)
    here = shapely.Point(0, 0)
    best: tuple[tuple, shapely.Polygon] | None = None
    for p, closed in cut_section(index, plane).loops():
        if len(p) < 8:
            continue
        q = plane.to_paper(p)
        open_ = 0.0 if closed else float(np.linalg.norm(q[-1] - q[0]))
        if open_ > _GAP * float(np.linalg.norm(np.diff(q, axis=0), axis=1).sum()):
            continue
        area = _whole(q)
        if area.is_empty:
            continue
        inside = area.contains(here)
        rank = (not inside, -area.area if inside else area.distance(here))
        if best is None or rank < best[0]:
            best = rank, area
    if best is None:
        return None
    middle = best[1].centroid
    return plane.to_space(np.array([middle.x, middle.y])), best[1]


def _whole(ring: np.ndarray) -> shapely.Polygon:
    """What a ring encloses, but for slivers where it crosses itself."""
    area = shapely.Polygon(ring).buffer(0)
    return max(area.geoms, key=lambda p: p.area) if area.geom_type == "MultiPolygon" else area


def _walked(index: ScanIndex, first, last, clear: float) -> np.ndarray | None:
    """Middles (n, 3) of sections from one end to the other."""
    at, way = np.asarray(first[0], float), np.asarray(first[1], float)
    found = _section(index, at + clear * way, way)
    if found is None:
        return None
    middles, area = [found[0]], found[1].area
    step = max(_STEP * np.sqrt(area), 0.5 * clear)
    for _ in range(_MOST):
        left = float((middles[-1] - last[0]) @ last[1])
        if left < clear + step and len(middles) > 2 and way @ last[1] < 0:
            if left > 1.2 * clear:
                end = _section(index, middles[-1] + (left - clear) * way / max(-float(way @ last[1]), 0.2), way)
                if end is not None and abs(end[1].area - area) < _JUMP * area:
                    middles.append(end[0])
            return np.array(middles) if len(middles) > 3 else None
        ahead = middles[-1] + step * way
        for _ in range(2):
            found = _section(index, ahead, way)
            if found is None or abs(found[1].area - area) > _JUMP * area:
                return None
            ahead = found[0]
            back = middles[max(len(middles) - 4, 0)]
            gone = ahead - back
            if len(middles) > 1:
                way = gone / max(float(np.linalg.norm(gone)), 1e-300)
        if np.linalg.norm(ahead - middles[-1]) > 3 * step or (ahead - middles[-1]) @ way < 0.2 * step:
            return None
        middles.append(ahead)
        area = found[1].area
    return None


def _onto(middles: np.ndarray, at: np.ndarray, into: np.ndarray) -> np.ndarray:
    """Where the line of the first middles, run on, meets an end face."""
    way = middles[0] - middles[-1]
    along = float(way @ into)
    if along > -1e-9:
        return middles[0]
    return middles[0] + way * float((at - middles[0]) @ into) / along


def _in_carried_frames(index: ScanIndex, curve: SpaceCurve) -> list[shapely.Polygon] | None:
    s = np.linspace(0, curve.length, _REFINED)
    places, u, _ = moving_frames(curve, s)
    out = []
    for p, d, x in zip(places, curve.direction(s), u):
        plane = SectionPlane.at(p, d, x)
        found = _section(index, p, d)
        if found is None:
            continue
        own = SectionPlane.at(p, d)
        ring = plane.to_paper(own.to_space(np.asarray(found[1].exterior.coords)))
        middle = plane.to_paper(found[0])
        out.append(_whole(ring - middle))
    return out if len(out) > _KEPT * _REFINED else None


def _unlike(sections: list[shapely.Polygon]) -> float:
    middle = sections[len(sections) // 2]
    return float(np.percentile([middle.symmetric_difference(p).area / middle.area for p in sections], 90))
