"""Small zones that a long wave of the noise parted from a large one: they lie about its element and face as it does."""

from __future__ import annotations

import numpy as np

from ..elements import Element
from .ground import Ground
from .merging import borders_of

__all__ = ["without_fragments"]

_SMALL = 0.1  # of the large zone's area
_NEAR = 4.0  # of the noise: how far off the large zone's element a fragment of it lies
_FACING_DEG = 3.0  # how far its facets turn from that element
_RUNS_ON_DEG = 8.0  # where they meet
_SIDE = 0.2  # of a fragment's border that is the large zone's
_TOLD = 200  # facets that tell how a zone lies


def without_fragments(ground: Ground, labels: np.ndarray, elements: list[Element]) -> tuple[np.ndarray, list[Element]]:
    """Labels (m,) with fragments given to the zones they are of, and the elements that are left."""
    count = len(elements)
    if ground.index.exact or count < 2:
        return labels, elements
    area = np.bincount(labels[labels >= 0], ground.index.mesh.areas[labels >= 0], count)
    order = np.argsort(labels, kind="stable")
    cut = np.searchsorted(labels[order], np.arange(count + 1))
    found = borders_of(ground, labels)
    whole = np.zeros(count)
    for side in (0, 1):
        np.add.at(whole, found.pairs[:, side], found.edges)
    to, longest = np.arange(count), np.zeros(count)
    for (a, b), edges, turn in zip(found.pairs.tolist(), found.edges.tolist(), found.turn_deg.tolist()):
        small, large = (a, b) if area[a] < area[b] else (b, a)
        if turn > _RUNS_ON_DEG or area[small] > _SMALL * area[large] or edges < _SIDE * whole[small]:
            continue
        if edges > longest[small] and _lies(ground, elements[large], order[cut[small] : cut[small + 1]]):
            to[small], longest[small] = large, edges
    for small in np.argsort(-area):  # what a large zone went to is known by now
        to[small] = to[to[small]]
    kept = np.unique(to)
    new = np.full(count + 1, -1, np.int32)
    new[:-1] = np.searchsorted(kept, to)
    return new[labels], [elements[k] for k in kept]


def _lies(ground: Ground, element: Element, facets: np.ndarray) -> bool:
    some = facets[:: max(1, len(facets) // _TOLD)]
    c = ground.index.mesh.centroids[some]
    if float(np.median(np.abs(element.distance(c)))) > _NEAR * ground.noise:
        return False
    along = np.abs(np.einsum("ij,ij->i", element.normals(c), ground.normals[some]))
    return float(np.median(along)) > np.cos(np.radians(_FACING_DEG))
