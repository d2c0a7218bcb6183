"""Which of several surfaces that pass through the same places is the better name for them."""

from __future__ import annotations

import numpy as np
from scipy.spatial.distance import cdist

from ..elements import FIT_KINDS, Element, fit
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import Gathered
from ..zones.bends import mean_turn
from ..zones.ground import Ground
from ..zones.kinds import own_noise
from ..zones.noise import face_noise, is_wavy

__all__ = ["places_on", "simplest"]

_SAMPLE = 3000  # vertices that tell one kind from another
_AS_WELL = 1.08  # of the best scatter: a simpler kind that comes this near is the better name
_TURNS, _TURN_LEAST = 1.25, 1e-3  # of the least turn between facets and a surface, and rad, that others may turn
_TAKES, _TOLD = 3.0, 500  # of a wave that a parameter may take; places that tell how many there are
_SEEN = 1.5  # of the waves: a bend that moves a surface by less may be one of them
_RINGS, _ENOUGH = 4, 0.3  # of facets that a worn edge takes with it, where so many are left
_FEWEST = 12  # places that two surfaces must share to be compared there


def places_on(index: ScanIndex, facets: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Vertices (n, 3) mm of some facets, as many as tell a surface, and their normals."""
    ids = index.corners(facets)
    ids = ids[:: int(np.ceil(len(ids) / _SAMPLE))]
    return index.mesh.vertices[ids], index.mesh.vertex_normals[ids]


def simplest(index: ScanIndex, found: list[tuple[Gathered, float, float]]) -> tuple[Gathered, float, float]:
    """Of what spread about as far, the simplest that explains it as well as any. On scans whose noise is long waves:
    where they all lie, away from worn borders, it scatters no more than the best, but for what each parameter takes of
    waves that the face holds only few of.
    """
    if len(found) == 1:
        return found[0]
    spread, few, seen = [scatter for _, _, scatter in found], np.inf, 0.0
    if index.exact:  # corners on two circles lie on many surfaces, their facets do not
        bare = Ground.bare(index, 0.0)
        turns = np.array([mean_turn(bare, g.facets, g.element) for g, _, _ in found if g.element is not None])
        spread = list(np.where(turns <= _TURNS * turns.min() + _TURN_LEAST, spread, np.inf))
    elif is_wavy(index):
        shared = _well_inside(index, [g.facets for g, _, _ in found])
        if len(shared) >= _FEWEST:
            places, normals = places_on(index, shared)
            there = [_as_it_lies(g.element, places, normals) for g, _, _ in found if g.element is not None]
            spread = [1.4826 * float(np.median(np.abs(e.distance(places)))) for e in there]
            few = _waves_on(places, there[int(np.argmin(spread))])
            seen = _SEEN * face_noise(index)
    best = int(np.argmin(spread))
    tiny = 1e-9 * float(np.linalg.norm(np.ptp(index.mesh.bounds, axis=0)))

    def as_well(k: int) -> bool:
        more = max(FIT_KINDS[_kind(found, best)] - FIT_KINDS[_kind(found, k)], 0)
        allowed = max(_AS_WELL, np.sqrt(1 + _TAKES * more / few)) * spread[best] + tiny
        # A ball bends more than what has more parameters.
        unseen = np.hypot(spread[best], seen) if more and _kind(found, k) != "sphere" else 0.0
        return spread[k] <= max(allowed, unseen)

    return found[min(filter(as_well, range(len(found))), key=lambda k: (FIT_KINDS[_kind(found, k)], spread[k]))]


def _well_inside(index: ScanIndex, found: list[np.ndarray]) -> np.ndarray:
    """Facets that all of some patches share, away from their borders, which may be worn, where enough are."""
    shared = found[0]
    for facets in found[1:]:
        shared = np.intersect1d(shared, facets, assume_unique=True)
    inner = shared[index.depth(shared) >= _RINGS] if len(shared) else shared
    return inner if len(inner) >= max(_ENOUGH * len(shared), 2 * _FEWEST) else shared


def _as_it_lies(element: Element, places: np.ndarray, normals: np.ndarray) -> Element:
    """An element as it lies best on some places (n, 3) near it."""
    try:
        return fit(element.kind, places, normals=normals, correlated=False, near=element).element
    except BadInput:
        return element


def _waves_on(places: np.ndarray, element: Element) -> float:
    """How many independent places the distances (n,) from an element are worth, as far as they are alike."""
    some = places[:: int(np.ceil(len(places) / _TOLD))]
    noise = own_noise(element.feet(some), element.distance(some))
    if noise.sigma2 <= 0:
        return np.inf
    alike = noise.covariance(cdist(some, some)) / noise.sigma2
    np.fill_diagonal(alike, 1.0)
    return len(some) ** 2 / max(float(alike.sum()), 1.0)


def _kind(found: list[tuple[Gathered, float, float]], k: int) -> str:
    element = found[k][0].element
    assert element is not None
    return element.kind
