"""Loops that repeat one another: equal holes and slots set evenly round a centre or along a row."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .piececurve import fit_circle_2d
from .repeats import Course, turning
from .trace import TraceLoop, trace_size

__all__ = ["Pattern", "find_patterns"]

_FEWEST = 3
_SQUARE = 4  # of them a quarter turn apart: that is said by rows and columns
_MOST_TURNS = 240  # places round a ring
_ALIKE = 0.02  # of their length and area by which loops that are alike may differ
_WITHIN = 4.0, 0.1, 2e-5  # in scatters, facets, sizes of the trace: off its place, and off the first one's shape
_CORNERS = 85  # per cent of a loop's samples: the rest lie at corners, which facets cut anywhere


@dataclass(frozen=True)
class Pattern:
    """``members`` are loops by number, the first drawn; ``steps`` (members,) how many steps each lies from it.

    ``centre`` (2,) and ``turn`` (rad) of a ring's one step, or ``step`` (2,) mm of a row's.
    """

    members: tuple[int, ...]
    steps: tuple[int, ...]
    centre: np.ndarray | None = None
    turn: float = 0.0
    step: np.ndarray | None = None

    def moved(self, p: np.ndarray, k: int) -> np.ndarray:
        """Places (n, 2) of the first one where the member ``k`` steps on has them."""
        if self.step is not None:
            return p + k * self.step
        assert self.centre is not None
        return (p - self.centre) @ turning(k * self.turn).T + self.centre


def _alike(loops: list[TraceLoop], sizes: np.ndarray) -> list[list[int]]:
    """Closed loops of like length and area, together."""
    left = [k for k in np.argsort(-sizes[:, 0]) if loops[k].closed]
    out = []
    while left:
        first = sizes[left[0]]
        group = [k for k in left if (np.abs(sizes[k] - first) < _ALIKE * np.maximum(first, 1e-300)).all()]
        left = [k for k in left if k not in group]
        if len(group) >= _FEWEST:
            out.append(sorted(int(k) for k in group))
    return out


def find_patterns(loops: list[TraceLoop], noise: float) -> list[Pattern]:
    """Rings and rows of equal loops, each loop in one of them at most. ``noise`` : scatter of a sample, mm."""
    import shapely

    if len(loops) < _FEWEST:
        return []
    shapes = [shapely.Polygon(l.points) if len(l.points) > 3 else shapely.Polygon() for l in loops]
    sizes = np.array([(s.length, s.area) for s in shapes]).reshape(-1, 2)
    size = trace_size(loops)
    out = []
    for group in _alike(loops, sizes):
        middles = np.array([shapely.get_coordinates(shapes[k].centroid)[0] for k in group])
        facet = 0.0 if loops[group[0]].exact else loops[group[0]].facet
        limit = max(_WITHIN[0] * noise, _WITHIN[1] * facet, _WITHIN[2] * size)
        pattern = _row(group, middles, limit) or _ring(group, middles, limit)
        if pattern is not None and _same_shape(loops, pattern, limit):
            out.append(pattern)
    return out


def _row(group: list[int], middles: np.ndarray, limit: float) -> Pattern | None:
    mean = middles.mean(axis=0)
    along = np.linalg.svd(middles - mean, full_matrices=False)[2][0]
    order = np.argsort(middles @ along)
    s = (middles[order] - middles[order[0]]) @ along
    base = float(np.diff(s).min())
    if not base > 10 * limit:
        return None
    steps = np.round(s / base).astype(int)
    rows = np.column_stack([np.ones(len(steps)), steps])
    fit = np.linalg.lstsq(rows, middles[order], rcond=None)[0]
    if np.linalg.norm(rows @ fit - middles[order], axis=1).max() > limit:
        return None
    return Pattern(tuple(group[k] for k in order), tuple(int(k) for k in steps), step=fit[1])


def _ring(group: list[int], middles: np.ndarray, limit: float) -> Pattern | None:
    centre, radius, rms = fit_circle_2d(middles)
    if rms > limit or radius > 20 * float(np.ptp(middles, axis=0).max()):
        return None
    angles = np.arctan2(*(middles - centre).T[::-1])
    order = np.argsort(angles)
    gaps = np.diff(np.append(angles[order], angles[order[0]] + 2 * np.pi))
    count = round(2 * np.pi / float(gaps.min()))
    if not _FEWEST <= count <= _MOST_TURNS or (count == _SQUARE and len(group) == _SQUARE):
        return None
    turn = 2 * np.pi / count
    steps = np.round((angles[order] - angles[order[0]]) / turn).astype(int)
    # The centre and radius that even steps have, with the first one's angle.
    unit = np.column_stack([np.cos(steps * turn), np.sin(steps * turn)])
    n = len(steps)
    rows = np.zeros((2 * n, 4))
    rows[:n, 0], rows[n:, 1] = 1, 1
    rows[:n, 2], rows[:n, 3] = unit[:, 0], -unit[:, 1]
    rows[n:, 2], rows[n:, 3] = unit[:, 1], unit[:, 0]
    fit = np.linalg.lstsq(rows, middles[order].T.ravel(), rcond=None)[0]
    off = (rows @ fit - middles[order].T.ravel()).reshape(2, n)
    if np.hypot(*off).max() > limit or len(set(steps)) < n:
        return None
    return Pattern(tuple(group[k] for k in order), tuple(int(k) for k in steps), centre=fit[:2], turn=turn)


def _same_shape(loops: list[TraceLoop], pattern: Pattern, limit: float) -> bool:
    course = Course(loops[pattern.members[0]])
    for k, step in zip(pattern.members[1:], pattern.steps[1:]):
        back = pattern.moved(loops[k].points, -step)
        off = np.sort(np.linalg.norm(back - course.nearest(back)[0], axis=1))
        if np.sqrt(np.mean(off[: max(len(off) * _CORNERS // 100, 2)] ** 2)) > limit:
            return False
    return True
