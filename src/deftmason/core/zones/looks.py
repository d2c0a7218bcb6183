"""The facets about a place that a first look takes, and the places that stand for facets in a fit."""

from __future__ import annotations

import numpy as np
from numba import njit

from .ground import Ground

__all__ = ["LOOK", "free_patch", "look_around", "places_of", "some_of"]

_SAMPLE = 900  # facets a running fit needs
LOOK = 240  # facets of a first look
_BOW_SEEN = 0.5  # of the noise: a bow of facets that would pull a fit to their middles


@njit(cache=True)
def _patch(seed, neighbours, normals, taken, least, step_least, most):  # pragma: no cover - compiled
    """Free facets about a seed, breadth first, that turn little from it and from one to the next."""
    seen = np.zeros(neighbours.shape[0], np.bool_)
    queue = np.empty(most + 3, np.int32)
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail and tail < most:
        f = queue[head]
        head += 1
        for k in range(3):
            g = neighbours[f, k]
            if g < 0 or seen[g] or taken[g]:
                continue
            from_seed = 0.0
            step = 0.0
            for c in range(3):
                from_seed += normals[seed, c] * normals[g, c]
                step += normals[f, c] * normals[g, c]
            if from_seed >= least and step >= step_least:
                seen[g] = True
                queue[tail] = g
                tail += 1
    return queue[:tail]


def look_around(ground: Ground, seed: int, degrees: float = 60.0, most: int = LOOK) -> np.ndarray:
    """Facets about one, breadth first, that turn no more than ``degrees`` from it and little from one to the next."""
    step = 30.0 if ground.index.exact else 40.0
    return free_patch(ground.index.neighbours, ground.normals, ground.taken, seed, degrees, most, step)


def free_patch(neighbours, normals, taken, seed: int, degrees: float, most: int, step_deg: float = 40.0) -> np.ndarray:
    """Facets about one, breadth first, none of them ``taken`` (m,), that turn no more than ``degrees`` from it and
    ``step_deg`` from one to the next.
    """
    least, step = float(np.cos(np.radians(degrees))), float(np.cos(np.radians(step_deg)))
    return _patch(seed, neighbours, normals, taken, least, step, most)


def places_of(ground: Ground, facets: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What stands for facets (k,) in a fit: their middles where these lie on what their corners lie on, else corners;
    with normals.
    """
    m = ground.index.mesh
    if not ground.index.exact and len(facets) > 150 and _bow(ground, facets) < _BOW_SEEN * ground.noise:
        return m.centroids[facets], ground.normals[facets]  # they scatter less than corners
    ids, inverse = np.unique(m.faces[facets], return_inverse=True)
    n = np.zeros((len(ids), 3))
    np.add.at(n, inverse.ravel(), np.repeat(ground.normals[facets] * m.areas[facets, None], 3, axis=0))
    return m.vertices[ids], n / np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]


@njit(cache=True, nogil=True)
def _turns(normals, neighbours, facets):  # pragma: no cover - compiled
    """How far (as a chord) each of some facets turns to that of its neighbours that turns most (k,)."""
    out = np.zeros(len(facets))
    for i in range(len(facets)):
        f = facets[i]
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0:
                square = 0.0
                for c in range(3):
                    square += (normals[f, c] - normals[g, c]) ** 2
                out[i] = max(out[i], square)
    return np.sqrt(out)


def _bow(ground: Ground, facets: np.ndarray) -> float:
    """How far facets' middles lie under a round surface that their corners lie on, mm: a chord's bow by its turn."""
    index = ground.index
    some = facets[:: max(1, len(facets) // 200)]
    return float(np.median(_turns(ground.normals, index.neighbours, some))) * index.mesh.median_edge / 8


def some_of(facets: np.ndarray) -> np.ndarray:
    """As many facets as a running fit needs."""
    if len(facets) <= _SAMPLE:
        return facets
    return np.random.default_rng(11).choice(facets, _SAMPLE, replace=False)
