"""Walls that stand along an outline: what runs on from a place and faces square to a plane's normal, given or found."""

from __future__ import annotations

import numpy as np

from ..elements import perpendicular_pair, unit
from ..elements.paper_shapes import OUTLINES, fitted, long_way, seen
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import flood

__all__ = ["LEANS", "OPEN", "TRUE_SHAPE", "found_wall", "lean_of", "openness", "places_on", "too_few", "wall_about"]

OPEN = 0.12  # of a wall's area: what its facets sum to where the outline is not closed
LEANS = np.radians(0.4)
TRUE_SHAPE = 0.02  # of the width: what scatters more is none of these shapes

_LEAN = np.sin(np.radians(15.0))  # how far a wall may lean and be one
_REACHES = (0.04, 0.1, 0.25, 0.6)  # of the scan's size: where flats that may carry the outline are looked for
_WAYS, _BINS = 3, 90
_FEWEST, _MOST = 24, 8000
_ROUGHLY = 400  # places that tell whether a wall is nearly one of the shapes
_CUTS = 1200  # places on the lines in which few exact facets are cut
_THIN = 0.02
_WHOLE = 0.85  # of a wall: what a shape must explain of it


def wall_about(index: ScanIndex, seed: int, up: np.ndarray) -> np.ndarray:
    n = index.mesh.normals if index.exact else index.calm_normals
    allowed = np.abs(n @ up) < _LEAN
    allowed[seed] = True
    return flood(index, seed, allowed)


def openness(index: ScanIndex, facets: np.ndarray, up: np.ndarray) -> float:
    """0 for a wall that goes all round, 1 for one that faces one way."""
    v = index.mesh.normals[facets] * index.mesh.areas[facets, None]
    v = v - np.outer(v @ up, up)
    return float(np.linalg.norm(v.sum(axis=0)) / max(np.linalg.norm(v, axis=1).sum(), 1e-300))


def _square_to_all(index: ScanIndex, facets: np.ndarray, near: np.ndarray) -> np.ndarray:
    """The direction that a wall's facets are most square to."""
    n, a = index.mesh.normals[facets], index.mesh.areas[facets]
    d = np.linalg.eigh((n * a[:, None]).T @ n)[1][:, 0]
    return d if d @ near >= 0 else -d


def _ways_up(index: ScanIndex, seed: int, place: np.ndarray) -> list[np.ndarray]:
    """Directions square to the place's facet that flats about it face, those with the most area first."""
    calm = index.mesh.normals if index.exact else index.calm_normals
    facing = calm[seed]
    e, f = perpendicular_pair(unit(facing))
    away = np.linalg.norm(index.mesh.centroids - place, axis=1)
    out: list[np.ndarray] = []
    for reach in _REACHES:
        near = np.nonzero((away < reach * index.size) & (np.abs(calm @ facing) < _LEAN))[0]
        if len(near) < (1 if index.exact else _FEWEST):
            continue
        x, y, a = calm[near] @ e, calm[near] @ f, index.mesh.areas[near]
        turn = np.mod(np.arctan2(y, x), np.pi)
        whole = np.bincount((turn * _BINS / np.pi).astype(int) % _BINS, a, _BINS)
        whole = whole + 0.5 * (np.roll(whole, 1) + np.roll(whole, -1))
        for k in np.argsort(-whole)[: 2 * _WAYS]:
            t = (k + 0.5) * np.pi / _BINS
            d = np.cos(t) * e + np.sin(t) * f
            if all(abs(d @ o) < 0.99 for o in out):
                out.append(d)
    return out[: 4 * _WAYS]


def found_wall(index: ScanIndex, seed: int, place: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The closed wall about a place that is most nearly one of the shapes, and the way it runs; of several that are,
    the smallest.
    """
    best: tuple[float, float, np.ndarray, np.ndarray] | None = None
    for up in _ways_up(index, seed, place):
        facets = wall_about(index, seed, up)
        if too_few(index, facets) or openness(index, facets, up) > 2 * OPEN:
            continue
        up = _square_to_all(index, facets, up)
        facets = wall_about(index, seed, up)
        if openness(index, facets, up) > OPEN:
            continue
        off = max(_roughly_off(index, facets, up, place), TRUE_SHAPE)
        if not np.isfinite(off):
            continue
        area = float(index.mesh.areas[facets].sum())
        if best is None or (off, area) < best[:2]:
            best = off, area, facets, up
    if best is None:
        raise BadInput(
            "No closed outline stands about this place; click the wall of a hole, a pocket or a boss, or give the "
            "plane it lies on.",
            field="pick",
        )
    return best[2], best[3]


def lean_of(index: ScanIndex, facets: np.ndarray, up: np.ndarray) -> float:
    """How far a wall leans in all, radians."""
    n, a = index.mesh.normals[facets], index.mesh.areas[facets]
    return float(np.arcsin(np.clip(np.sum(a * (n @ up)) / a.sum(), -1, 1)))


def _band(index: ScanIndex, facets: np.ndarray, up: np.ndarray, place: np.ndarray, some: np.ndarray) -> np.ndarray:
    """Of some of a wall's facets, where it leans, those at a place's height: elsewhere its outline is another."""
    if abs(lean_of(index, facets, up)) <= LEANS:
        return some
    c = index.mesh.centroids
    tall = float(np.ptp((c[facets] - place) @ up))
    return some[np.abs((c[some] - place) @ up) < max(0.1 * tall, 2 * index.mesh.median_edge)]


def too_few(index: ScanIndex, facets: np.ndarray) -> bool:
    return len(facets) < (4 if index.exact else _FEWEST)


def places_on(index: ScanIndex, facets: np.ndarray, up: np.ndarray, at: np.ndarray) -> np.ndarray:
    """What tells a wall's outline (n, 3): its corners away from its rims, at the place's height where it leans; of few
    exact facets where the plane at that height cuts them.

    Raises `BadInput` where that is next to nothing.
    """
    ids = index.corners(_band(index, facets, up, at, _inner(index, facets)))
    if len(ids) < _FEWEST and index.exact:  # their corners lie on the wall itself, cuts through facets do not
        return _cut(index, facets, up, at)
    if len(ids) < _FEWEST:
        raise BadInput("Too few facets stand about this place to tell an outline; scan it finer.", field="pick")
    return index.mesh.vertices[ids[:: max(1, len(ids) // _MOST)]]


def _cut(index: ScanIndex, facets: np.ndarray, up: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Places (n, 3), even by length, on the lines in which the plane at a height cuts facets."""
    m = index.mesh
    c = m.vertices[m.faces[facets]]
    h = (c - at) @ up
    h = np.where(np.abs(h) < 1e-9 * index.size, 1e-9 * index.size, h)
    ends = []
    for i, k in ((0, 1), (1, 2), (2, 0)):
        crossed = (h[:, i] > 0) != (h[:, k] > 0)
        t = np.where(crossed, h[:, i] / np.where(crossed, h[:, i] - h[:, k], 1.0), np.nan)
        ends.append(c[:, i] + t[:, None] * (c[:, k] - c[:, i]))
    crossings = np.stack(ends, axis=1)
    cut = np.isfinite(crossings[:, :, 0]).sum(axis=1) == 2
    if not cut.any():
        raise BadInput("The wall has no facet at this height; click it elsewhere.", field="pick")
    two = crossings[cut]
    two = two[np.isfinite(two[:, :, 0])].reshape(-1, 2, 3)
    long = np.linalg.norm(two[:, 1] - two[:, 0], axis=1)
    counts = np.maximum(1, np.round(_CUTS * long / long.sum()).astype(int))
    which = np.repeat(np.arange(len(two)), counts)
    share = (np.concatenate([np.arange(n) for n in counts]) + 0.5) / counts[which]
    return two[which, 0] + share[:, None] * (two[which, 1] - two[which, 0])


def _roughly_off(index: ScanIndex, facets: np.ndarray, up: np.ndarray, place: np.ndarray) -> float:
    """How far a wall is from the nearest of the shapes, of its size."""
    try:
        p = places_on(index, facets, up, place)
    except BadInput:
        return np.inf
    p = p[np.random.default_rng(6).permutation(len(p))[:_ROUGHLY]]
    n, a = index.mesh.normals[facets], index.mesh.areas[facets]
    q, e, f = seen(p, p.mean(axis=0), up)
    q = q / float(np.sqrt(np.mean(q**2) * 2))
    across = np.linalg.svd(q, compute_uv=False)
    if across[1] < _THIN * across[0]:  # a line is no outline
        return np.inf
    turn = long_way(q, np.column_stack([n @ e, n @ f]), a)
    return min(f[0] if f[2].mean() > _WHOLE else np.inf for f in (fitted(k, q, turn, False) for k in OUTLINES))


def _inner(index: ScanIndex, facets: np.ndarray) -> np.ndarray:
    """A wall's facets without those at its rims, which a scan rounds off; all where nothing would be left."""
    inside = np.zeros(len(index.mesh.faces) + 1, bool)
    inside[facets] = True
    if index.exact:
        return facets
    inner = facets
    for _ in range(2):
        kept = inner[inside[index.neighbours[inner]].all(axis=1)]
        if len(kept) < max(_FEWEST, 0.3 * len(facets)):
            break
        inner = kept
        inside[:] = False
        inside[inner] = True
    return inner
