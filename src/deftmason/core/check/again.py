"""A scan measured again to a body that changed in part: only places near the change are asked anew.

A face whose facets are as they were is the face it was. A place keeps its answer where the face that gave it is
unchanged and no facet that is new or gone lies as near as that face does: then the nearest place, and whatever meets
there, are what they were.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from ..progress import Progress, silent
from ..scan.onfacet import on_triangle
from .answers import Distances
from .boxtree import DEEP, BoxTree, to_box
from .deviation import ModelSurface

__all__ = ["Answers", "measured_again"]

_MOST = 2_000_000  # places whose answers are kept
_SAME = 1e-9  # of the size: corners so near are one


@dataclass
class Answers:
    """What was measured last of one scan: to which surface, at which places, without limits."""

    surface: ModelSurface | None = None
    points: np.ndarray | None = None
    found: Distances | None = None


def measured_again(
    surface: ModelSurface, points: np.ndarray, before: Answers, progress: Progress = silent
) -> tuple[Distances, int]:
    """Distances without limits, and how many places had to be asked; ``before`` is brought up to date."""
    old, known = before.surface, before.found
    same = known is not None and before.points is not None and np.array_equal(before.points, points)
    if same and old is surface:
        found, asked = known, 0
    elif same and old is not None:
        assert known is not None
        found, asked = _changed(surface, points, old, known, progress)
    else:
        found, asked = surface.distances(points, progress=progress), len(points)
    assert found is not None
    if len(points) <= _MOST:
        before.surface, before.points, before.found = surface, points, found
    else:
        before.surface = before.points = before.found = None
    return _copied(found), asked


def _copied(d: Distances) -> Distances:
    return Distances(*(np.array(a) for a in (d.distance, d.face, d.normal, d.other_normal, d.exact)))


def _changed(
    surface: ModelSurface, points: np.ndarray, old: ModelSurface, known: Distances, progress: Progress
) -> tuple[Distances, int]:
    unit = _SAME * max(old.size, surface.size)
    was, now = _signatures(old, unit), _signatures(surface, unit)
    there = {s: k for k, s in enumerate(now)}
    onto = np.array([there.get(s, -1) for s in was] + [-1])  # the last for what no face answered
    ask = onto[known.face] < 0
    kept = set(onto[:-1].tolist())
    gone = np.array([k < 0 for k in onto[:-1]])
    fresh = np.array([k not in kept for k in range(len(now))])
    bound = np.abs(known.distance)
    for s, which in ((old, gone), (surface, fresh)):
        some = which[s.face_ids]
        if some.any():
            tree = BoxTree.of(s._tris[some], s._err[some])
            o = tree.order
            _as_near(
                points, bound, s._tris[some][o], s._err[some][o], tree.low, tree.high, tree.slack, tree.left,
                tree.begin, tree.count, 1e-6 * surface.size, ask,
            )  # fmt: skip
    out = _copied(known)
    out.face[:] = onto[known.face]
    if ask.any():
        anew = surface.distances(points[ask], progress=progress)
        out.distance[ask], out.face[ask], out.exact[ask] = anew.distance, anew.face, anew.exact
        out.normal[ask], out.other_normal[ask] = anew.normal, anew.other_normal
    return out, int(ask.sum())


def _signatures(s: ModelSurface, unit: float) -> list[tuple]:
    """What tells each face: its name and its facets, whatever their order."""
    flat = np.round(s._tris.reshape(len(s._tris), 9) / unit).astype(np.int64)
    order = np.lexsort((*flat.T[::-1], s.face_ids))
    start = np.searchsorted(s.face_ids[order], np.arange(len(s.names) + 1))
    return [
        (n, s.surfaces[k].kind, s.surfaces[k].outward, hash(flat[order[start[k] : start[k + 1]]].tobytes()))
        for k, n in enumerate(s.names)
    ]


@njit(cache=True, parallel=True)
def _as_near(points, bound, tris, err, low, high, slack, left, begin, count, eps, out):  # pragma: no cover - compiled
    """Mark points to which any of the triangles' patches may lie as near as ``bound``."""
    for b in prange((len(points) + 511) // 512):
        stack = np.empty(2 * DEEP, np.int64)
        for i in range(512 * b, min(512 * (b + 1), len(points))):
            if out[i]:
                continue
            px, py, pz, most = points[i, 0], points[i, 1], points[i, 2], bound[i] + eps
            top = 0
            stack[0] = 0
            while top >= 0:
                k = stack[top]
                top -= 1
                if to_box(px, py, pz, low, high, k) - slack[k] > most:
                    continue
                if left[k] >= 0:
                    stack[top + 1], stack[top + 2] = left[k], left[k] + 1
                    top += 2
                    continue
                for t in range(begin[k], begin[k] + count[k]):
                    _, _, d = on_triangle(px, py, pz, tris[t])
                    if d - err[t] <= most:
                        out[i] = True
                        top = -1
                        break
