"""Whether the facets of a mesh carry no noise, as those of a CAD program."""

from __future__ import annotations

import numpy as np
from numba import njit

from .mesh import TriMesh
from .patches import patches_scatter

__all__ = ["is_exact"]

_FLAT_TURN = 1e-4  # rad between neighbours in one plane
_FLAT_SHARE = 0.1  # of pairs in one plane on a mesh that is exact
_MORE_AT_TWICE = 1.5  # times as many pairs within twice the turn: smooth waves, which pass through flat, give twice
_TOGETHER, _FLATS = 6, 0.02  # facets in one plane that chance never makes, and the share of the surface they hold
_COARSE = 0.035  # rad between neighbours: on finer facets a scan's own way tells bends as well, and faster
_LARGE = 40  # pieces that are asked whether they lie flat
_FLAT, _ROUNDED = 3e-6, 2.4e-7  # of the size, and of coordinates kept in single precision: how far flats lie off
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
    share, twice = (_flat_share(mesh.normals, neighbours, turn) for turn in (_FLAT_TURN, 2 * _FLAT_TURN))
    many = share > _FLAT_SHARE
    pieces = _pieces(mesh.normals, neighbours, _FLAT_TURN)
    if many:
        return twice < _MORE_AT_TWICE * share and _lie_flat(mesh, pieces)
    count = np.bincount(pieces)
    if mesh.areas[count[pieces] >= _TOGETHER].sum() < _FLATS * float(mesh.areas.sum()):
        return False
    if _median_turn(mesh.normals, neighbours) < _COARSE:
        return False
    large, middle, small = (patches_scatter(mesh, neighbours, k, _PATCHES) for k in _SIZES)
    return middle < _LESS[0] * large and small < _LESS[1] * middle


def _flat_share(normals: np.ndarray, neighbours: np.ndarray, limit: float) -> float:
    """The share of pairs of neighbours that turn less than a limit, rad."""
    step = max(1, len(normals) // _SAMPLE)
    n, g = normals[::step], neighbours[::step]
    hit = total = 0
    for k in range(3):
        ok = g[:, k] >= 0
        turn = np.linalg.norm(np.cross(n[ok], normals[g[ok, k]]), axis=1)
        hit, total = hit + int((turn < limit).sum()), total + int(ok.sum())
    return hit / total if total else 0.0


def _median_turn(normals: np.ndarray, neighbours: np.ndarray) -> float:
    """What neighbours turn, rad."""
    step = max(1, len(normals) // _SAMPLE)
    ok = neighbours[::step, 0] >= 0
    turn = np.cross(normals[::step][ok], normals[neighbours[::step, 0][ok]])
    return float(np.median(np.linalg.norm(turn, axis=1))) if ok.any() else 0.0


def _lie_flat(mesh: TriMesh, pieces: np.ndarray) -> bool:
    """Whether what hardly turns from facet to facet is flat as a whole: smooth waves of a scan are not."""
    count = np.bincount(pieces)
    large = [int(k) for k in np.argsort(-count, kind="stable")[:_LARGE] if count[k] >= 2 * _TOGETHER]
    if not large:
        return True
    limit = _FLAT * float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))) + _ROUNDED * float(np.abs(mesh.bounds).max())
    order = np.argsort(pieces, kind="stable")
    first = np.searchsorted(pieces[order], np.arange(len(count) + 1))
    flat = 0.0
    area = np.bincount(pieces, mesh.areas)
    for k in large:
        facets = order[first[k] : first[k + 1]]
        n = (mesh.normals[facets] * mesh.areas[facets, None]).sum(axis=0)
        off = mesh.vertices[mesh.faces[facets].ravel()] @ (n / max(float(np.linalg.norm(n)), 1e-300))
        flat += float(area[k]) if np.ptp(off) <= 2 * limit else 0.0
    return flat > 0.5 * float(area[large].sum())


@njit(cache=True)
def _pieces(normals, neighbours, turn):  # pragma: no cover - compiled
    """Labels (m,) of facets that hang together by pairs in one plane."""
    m = neighbours.shape[0]
    out = np.full(m, -1, np.int32)
    stack = np.empty(m, np.int32)
    label = 0
    for s in range(m):
        if out[s] >= 0:
            continue
        out[s] = label
        stack[0] = s
        top = 1
        while top:
            top -= 1
            f = stack[top]
            for k in range(3):
                g = neighbours[f, k]
                if g < 0 or out[g] >= 0:
                    continue
                apart = 0.0
                for c in range(3):
                    apart += (normals[f, c] - normals[g, c]) ** 2
                if apart < turn * turn:
                    out[g] = label
                    stack[top] = g
                    top += 1
        label += 1
    return out
