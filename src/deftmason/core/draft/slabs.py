"""A part pushed along one direction as slabs: between two neighbouring levels every section is the same.

Levels are where facets that face along the direction lie together. Slabs whose sections differ by no more than their
outlines' noise are one. An opening that is the same through several slabs is one opening.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from ..sketch.trace import TraceLoop

_CUTS = (
    0.5,
    0.12,
    0.88,
    0.31,
    0.69,
    0.21,
    0.79,
)  # of a slab's height: where it is cut, the likeliest first
_SEVERAL = 3  # of these: alike, they are a good part of the slab
_ROUNDED = 5.0  # times as much may outlines differ where a rounding is in one of them
_LEAN = 0.105  # tangent of the angle by which walls may lean
_CLOSED = 0.5  # of an opening's area
_ABOUT, _MOST = 4.0, 0.6  # of what lies within so many times a level's width, the share that the level holds

__all__ = [
    "Level",
    "Opening",
    "Slab",
    "filled",
    "levels_of",
    "openings_of",
    "outer_runs",
    "same_region",
    "slabs_of",
    "stops_short",
]


@dataclass(frozen=True)
class Level:
    """A height (mm) along the direction, and the facets that lie there; none where only an end of the part is."""

    height: float
    facets: np.ndarray


@dataclass
class Slab:
    """From level ``low`` to level ``high`` (numbers); ``region`` its section, cut at ``cut`` mm; ``even`` where its
    sections are alike all along. ``ends``: its sections near its lower and its upper level.
    """

    low: int
    high: int
    cut: float
    region: shapely.Geometry
    even: bool = True
    ends: tuple[shapely.Geometry, shapely.Geometry] | None = None


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
        slab = _slab(low, high, bottom, top, cut_at, within, out[-1].region if out else None)
        low = high
        if slab.region.is_empty:
            continue
        last = out[-1] if out else slab
        if last.high == slab.low and same_region(last.region, slab.region, _slack(last, slab, within)):
            if top - bottom > levels[last.high].height - levels[last.low].height:
                last.cut, last.region, last.even = slab.cut, slab.region, slab.even
            last.high = slab.high
            last.ends = last.ends and slab.ends and (last.ends[0], slab.ends[1])
        else:
            out.append(slab)
    return out


def _slack(a: Slab, b: Slab, within: float) -> float:
    """What outlines of slabs may differ by: a rounding leaves more of itself in one that it takes an end of."""
    return within if a.even and b.even else _ROUNDED * within


def _slab(
    low: int, high: int, bottom: float, top: float, cut_at, within: float, under: shapely.Geometry | None = None
) -> Slab:
    """A slab cut at its middle where its sections are alike all along. Where only most are, a hole or a boss across it
    has some of its height, or a rounding an end of it: it is cut where there is least of those. Where most differ,
    where a good part has the outline of the slab ``under`` it (the rest has a window in its wall, to be cut
    afterwards); else (a rib's slope) where there is least of all: what only some of its height has is left rather
    than pushed through.
    """
    tall, cuts = top - bottom, range(len(_CUTS))
    regions = [region_of(cut_at(bottom + share * tall)) for share in _CUTS]
    like = [[o for o in cuts if _alike(regions, k, o, 2 * within, tall)] for k in cuts]
    most = max(like, key=len)
    even = len(most) == len(_CUTS)
    if even:
        k = 0
    else:
        some = most if len(most) > len(_CUTS) // 2 else [n for n in cuts if not regions[n].is_empty]
        if some is not most and under is not None:
            outline = filled(under)
            goes_on = [n for n in some if len(like[n]) >= _SEVERAL and same_region(filled(regions[n]), outline, within)]
            some = goes_on or some
        k = min(some, key=lambda n: regions[n].area, default=0)
    ends = tuple(regions[_CUTS.index(pick(_CUTS))] for pick in (min, max))
    return Slab(low, high, bottom + _CUTS[k] * tall, regions[k], even, (ends[0], ends[1]))


def _alike(regions: list[shapely.Geometry], k: int, o: int, within: float, tall: float) -> bool:
    """Whether two sections of a slab differ by no more than noise and leaning walls make them."""
    a, b = regions[k].boundary, regions[o].boundary
    if a.is_empty or b.is_empty:
        return False
    return k == o or a.hausdorff_distance(b) <= within + _LEAN * abs(_CUTS[k] - _CUTS[o]) * tall


def filled(region: shapely.Geometry) -> shapely.Geometry:
    """A section without its holes."""
    parts = [region] if region.geom_type == "Polygon" else list(getattr(region, "geoms", []))
    return shapely.union_all([shapely.Polygon(p.exterior) for p in parts if p.geom_type == "Polygon"])


def outer_runs(slabs: list[Slab], within: float) -> list[list[int]]:
    """Slabs (numbers) with the same outer outline, lowest first: those that follow one another, and those with wider
    ones between them that hold it (the profile on both sides of a rib).
    """
    out: list[list[int]] = []
    outlines = [filled(s.region) for s in slabs]
    for k in range(len(slabs)):
        for run in reversed(out):
            between = range(run[-1] + 1, k)
            if not same_region(outlines[run[-1]], outlines[k], _slack(slabs[run[-1]], slabs[k], within)):
                continue
            held = all(_holds(outlines[b], outlines[k], within) for b in between)
            unbroken = all(slabs[b].high == slabs[b + 1].low for b in range(run[-1], k))
            if held and unbroken:
                run.append(k)
                break
        else:
            out.append([k])
    return sorted(out)


def _holds(outer: shapely.Geometry, inner: shapely.Geometry, within: float) -> bool:
    return inner.difference(outer.buffer(2 * within)).is_empty


def stops_short(o: Opening, slabs: list[Slab]) -> bool:
    """Whether an opening is closed near the lower or the upper end of the slabs it goes through: it ends between
    levels."""
    first, last = slabs[o.slabs[0]].ends, slabs[o.slabs[-1]].ends
    near = [] if first is None or last is None else [first[0], last[1]]
    return any(r.intersection(o.outline).area > _CLOSED * o.outline.area for r in near)


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
