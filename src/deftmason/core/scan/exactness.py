"""Whether the facets of a mesh carry no noise, as those of a CAD program."""

from __future__ import annotations

import numpy as np
from numba import njit

from .mesh import TriMesh
from .patches import patches_scatter

__all__ = ["is_exact"]

_FLAT_TURN = 1e-4  # rad between neighbours in one plane
_FLAT_SHARE = 0.1  # of pairs in one plane on a mesh that is exact
_TOGETHER, _FLATS = 6, 0.02  # facets in one plane that chance never makes, and the share of the surface they hold
_COARSE = 0.035  # rad between neighbours: on finer facets a scan's own way tells bends as well, and faster
_SAMPLE = 40_000
_SIZES, _PATCHES = (60, 24, 12), 120  # facets of patches, and how many of each
_LESS = (0.5, 0.65)  # what smaller patches scatter of what larger do, where it is the surface's own bends


def is_exact(mesh: TriMesh, neighbours: np.ndarray) -> bool:
    """Whether the facets carry no noise: a good share of neighbours lies in one plane exactly; or some do, as on the
    caps of a free-form body, and what patches scatter falls with their size as bends do and noise does not.

    Parameters
    ----------
    neighbours : (m, 3) of facets, −1 where there is none.
    """
    if len(mesh.faces) == 0:
        return False
    if _flat_share(mesh.normals, neighbours) > _FLAT_SHARE:
        return True
    if _together(mesh.normals, mesh.areas, neighbours, _FLAT_TURN, _TOGETHER) < _FLATS * float(mesh.areas.sum()):
        return False
    if _median_turn(mesh.normals, neighbours) < _COARSE:
        return False
    large, middle, small = (patches_scatter(mesh, neighbours, k, _PATCHES) for k in _SIZES)
    return middle < _LESS[0] * large and small < _LESS[1] * middle


def _flat_share(normals: np.ndarray, neighbours: np.ndarray) -> float:
    step = max(1, len(normals) // _SAMPLE)
    n, g = normals[::step], neighbours[::step]
    hit = total = 0
    for k in range(3):
        ok = g[:, k] >= 0
        turn = np.linalg.norm(np.cross(n[ok], normals[g[ok, k]]), axis=1)
        hit, total = hit + int((turn < _FLAT_TURN).sum()), total + int(ok.sum())
    return hit / total if total else 0.0


def _median_turn(normals: np.ndarray, neighbours: np.ndarray) -> float:
    """What neighbours turn, rad."""
    step = max(1, len(normals) // _SAMPLE)
    ok = neighbours[::step, 0] >= 0
    turn = np.cross(normals[::step][ok], normals[neighbours[::step, 0][ok]])
    return float(np.median(np.linalg.norm(turn, axis=1))) if ok.any() else 0.0


@njit(cache=True)
def _together(normals, areas, neighbours, turn, fewest):  # pragma: no cover - compiled
    """Area of facets that lie in one plane with no fewer than so many beside each other."""
    m = len(areas)
    seen = np.zeros(m, np.bool_)
    stack = np.empty(m, np.int32)
    out = 0.0
    for s in range(m):
        if seen[s]:
            continue
        seen[s] = True
        stack[0] = s
        top, count, area = 1, 0, 0.0
        while top:
            top -= 1
            f = stack[top]
            count += 1
            area += areas[f]
            for k in range(3):
                g = neighbours[f, k]
                if g < 0 or seen[g]:
                    continue
                apart = 0.0
                for c in range(3):
                    apart += (normals[f, c] - normals[g, c]) ** 2
                if apart < turn * turn:
                    seen[g] = True
                    stack[top] = g
                    top += 1
        if count >= fewest:
            out += area
    return out
