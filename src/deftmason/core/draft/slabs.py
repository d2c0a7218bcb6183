"""A part pushed along one direction as slabs: between two neighbouring levels every section is the same.

Levels are where facets that face along the direction lie together. Slabs whose sections differ by no more than their
outlines' noise are one. An opening that is the same through several slabs is one opening.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from ..sketch.trace import TraceLoop

_ENDS = 0.12, 0.88  # of a slab's height: where its sections are compared with its middle's
_LEAN = 0.08  # of its height by which leaning walls may shift its outline between these
_ABOUT, _MOST = 4.0, 0.6  # of what lies within so many times a level's width, the share that the level holds

__all__ = ["Level", "Opening", "Slab", "filled", "levels_of", "openings_of", "outer_runs", "same_region", "slabs_of"]


@dataclass(frozen=True)
class Level:
    """A height (mm) along the direction, and the facets that lie there; none where only an end of the part is."""

    height: float
    facets: np.ndarray


@dataclass
class Slab:
    """From level ``low`` to level ``high`` (numbers); ``region`` its section, cut at ``cut`` mm."""

    low: int
    high: int
    cut: float
    region: shapely.Geometry


@dataclass
class Opening:
    """A hole of a section: its outline, and through which slabs (numbers) it goes."""

    outline: shapely.Polygon
    slabs: list[int]


def levels_of(heights: np.ndarray, areas: np.ndarray, facets: np.ndarray, near: float, least: float) -> list[Level]:
    """Heights (mm) at which facets that face along the direction lie together, lowest first.

    ``near`` mm: what lies so near is one level;  ``least`` mm² that a level has.  A slope is none: a level holds most
    of what lies about it.
    """
    left = np.ones(len(heights), bool)
    order = np.argsort(heights)
    out = []
    while left.any():
        mine = order[left[order]]
        h, a = heights[mine], np.concatenate([[0], np.cumsum(areas[mine])])
        ends = np.searchsorted(h, h + 2 * near, side="right")
        held = a[ends] - a[np.arange(len(h))]
        k = int(np.argmax(held))
        if held[k] < least:
            break
        middle = float(np.average(h[k : ends[k]], weights=areas[mine[k : ends[k]]]))
        about = np.abs(heights - middle) <= _ABOUT * near
        level = np.abs(heights - middle) <= 1.5 * near
        if areas[level & left].sum() > _MOST * areas[about & left].sum():
            out.append(Level(middle, facets[level & left]))
        left &= ~about
    return sorted(out, key=lambda l: l.height)


def region_of(loops: list[TraceLoop]) -> shapely.Geometry:
    """What lies inside closed loops, those inside others taken out again."""
    polygons = sorted(
        (p for l in loops if l.closed and len(l.points) > 3 for p in [shapely.make_valid(shapely.Polygon(l.points))]),
        key=lambda p: -p.area,
    )
    out: shapely.Geometry = shapely.Polygon()
    for p in polygons:
        out = out.symmetric_difference(p)
    return out


def same_region(a: shapely.Geometry, b: shapely.Geometry, within: float) -> bool:
    """Whether two sections are one but for ``within`` mm along their outlines."""
    apart = a.symmetric_difference(b)
    if apart.is_empty:
        return True
    return apart.area < within * max(a.length, b.length) and apart.buffer(-2 * within).is_empty


def slabs_of(levels: list[Level], cut_at, within: float, thinnest: float) -> list[Slab]:
    """The slabs between levels. ``cut_at(height)`` gives a trace's loops; ``within`` mm as `same_region` has it;
    ``thinnest`` mm: a slab that is less goes with its neighbour.
    """
    out: list[Slab] = []
    low = 0
    for high in range(1, len(levels)):
        bottom, top = levels[low].height, levels[high].height
        if top - bottom < thinnest:
            continue
        slab = _slab(low, high, bottom, top, cut_at, within)
        low = high
        if slab.region.is_empty:
            continue
        if out and out[-1].high == slab.low and same_region(out[-1].region, slab.region, within):
            last = out[-1]
            if top - bottom > levels[last.high].height - levels[last.low].height:
                last.cut, last.region = slab.cut, slab.region
            last.high = slab.high
        else:
            out.append(slab)
    return out


def _slab(low: int, high: int, bottom: float, top: float, cut_at, within: float) -> Slab:
    """A slab cut at its middle where its sections differ by no more than leaning walls make them; else where there is
    least of it: what only some of its height has (a rib's slope) is left rather than pushed through.
    """
    tall = top - bottom
    cuts = [bottom + share * tall for share in (0.5, *_ENDS)]
    regions = [region_of(cut_at(c)) for c in cuts]
    k = 0
    strip = 2 * within + _LEAN * tall
    ends = [r.boundary for r in regions[1:]]
    if any(e.is_empty for e in ends) or ends[0].hausdorff_distance(ends[1]) > strip:
        k = min((n for n in (1, 2) if not regions[n].is_empty), key=lambda n: regions[n].area, default=0)
    return Slab(low, high, cuts[k], regions[k])


def filled(region: shapely.Geometry) -> shapely.Geometry:
    """A section without its holes."""
    parts = [region] if region.geom_type == "Polygon" else list(getattr(region, "geoms", []))
    return shapely.union_all([shapely.Polygon(p.exterior) for p in parts if p.geom_type == "Polygon"])


def outer_runs(slabs: list[Slab], within: float) -> list[list[int]]:
    """Slabs (numbers) that follow one another with the same outer outline, lowest first."""
    out: list[list[int]] = []
    for k, slab in enumerate(slabs):
        last = slabs[out[-1][-1]] if out else None
        if last and last.high == slab.low and same_region(filled(last.region), filled(slab.region), within):
            out[-1].append(k)
        else:
            out.append([k])
    return out


def _holes(region: shapely.Geometry) -> list[shapely.Polygon]:
    parts = [region] if region.geom_type == "Polygon" else list(getattr(region, "geoms", []))
    return [shapely.Polygon(ring) for p in parts if p.geom_type == "Polygon" for ring in p.interiors]


def openings_of(slabs: list[Slab], within: float) -> list[Opening]:
    """Every opening once, with the slabs it goes through in a row."""
    out: list[Opening] = []
    for k, slab in enumerate(slabs):
        for hole in _holes(slab.region):
            same = next(
                (
                    o
                    for o in out
                    if o.slabs[-1] == k - 1 and slabs[k - 1].high == slab.low and same_region(o.outline, hole, within)
                ),
                None,
            )
            if same is not None:
                same.slabs.append(k)
            else:
                out.append(Opening(hole, [k]))
    return out
