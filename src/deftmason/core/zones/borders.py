"""Where one zone ends and the next begins, settled facet by facet; and pieces too thin or too small to be zones."""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..elements import Element
from ..elements.feet import foot
from .ground import Ground, pack_all, pieces_of

__all__ = ["settled", "thin_pieces"]

_ROUNDS = 30
_TURN_DEG = 8.0  # a facet's calm normal is as sure as this
_TURN_MOST_DEG = 40.0
_COST_MOST = 49.0  # of the noise, squared: farther off, a facet is of no element
_LAST_COST, _LAST_TURN_DEG = 220.0, 65.0
_FREE_COST = 9.0  # what a facet on a free surface costs
_BORDER = 1.5  # what an edge between two zones costs
_WIDTH = 2.0  # facets: a narrower strip is an edge as the scan rounds it
_INNER_SHARE = 0.12  # of a zone's facets that must have all their neighbours in it


@njit(cache=True)
def _cost(f, label, codes, numbers, v, faces, c, normals, noise, turn, turn_least, sides):  # pragma: no cover
    """How badly a facet lies on a zone's element: squares of distance over noise and of turn over its own scatter."""
    code = codes[label]
    if code < 0:
        return _FREE_COST
    far = 0.0
    for j in range(3):
        a = faces[f, j]
        d, _, _, _ = foot(code, numbers[label], v[a, 0], v[a, 1], v[a, 2])
        far = max(far, abs(d))
    _, x, y, z = foot(code, numbers[label], c[f, 0], c[f, 1], c[f, 2])
    along = (x * normals[f, 0] + y * normals[f, 1] + z * normals[f, 2]) * sides[label]
    if along < turn_least:
        return 1e9
    angle = np.arccos(min(along, 1.0))
    return (far / noise) ** 2 / 2 + (angle / turn) ** 2


@njit(cache=True)
def _sides(labels, codes, numbers, c, normals):  # pragma: no cover - compiled
    """Which way round each zone was seen: +1 where its facets look along the element's own normals."""
    sums = np.zeros(len(codes))
    for f in range(len(labels)):
        k = labels[f]
        if k >= 0 and codes[k] >= 0:
            _, x, y, z = foot(codes[k], numbers[k], c[f, 0], c[f, 1], c[f, 2])
            sums[k] += 1.0 if x * normals[f, 0] + y * normals[f, 1] + z * normals[f, 2] >= 0 else -1.0
    return np.where(sums >= 0, 1.0, -1.0)


@njit(cache=True, parallel=True)
def _round(
    labels, odd, neighbours, codes, numbers, v, faces, c, normals, noise, turn, turn_least, sides, most, border, out
):  # pragma: no cover - compiled
    """One round: each facet at a border takes the label beside it that costs least (Besag 1986, iterated conditional
    modes); half of them at a time, so that two do not swap."""
    for f in prange(len(labels)):
        out[f] = labels[f]
        if f % 2 != odd:
            continue
        mine = labels[f]
        differs = False
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0 and labels[g] >= 0 and labels[g] != mine:
                differs = True
        if not differs:
            continue
        best, least = mine, most
        for k in range(-1, 3):
            label = mine if k < 0 else (labels[neighbours[f, k]] if neighbours[f, k] >= 0 else -1)
            if label < 0:
                continue
            cost = _cost(f, label, codes, numbers, v, faces, c, normals, noise, turn, turn_least, sides)
            for j in range(3):
                g = neighbours[f, j]
                if g >= 0 and labels[g] != label:
                    cost += border
            if cost < least:
                best, least = label, cost
        out[f] = best


def settled(ground: Ground, labels: np.ndarray, elements: list[Element | None], *, last: bool = False) -> np.ndarray:
    """Labels (m,) after the borders came to rest; facets of none join a zone they lie on. ``last``: or one they lie
    near, as those across an edge that the scan rounds do.
    """
    most = _LAST_COST if last else _COST_MOST
    m = ground.index.mesh
    codes, numbers = pack_all(elements)
    args = (codes, numbers, m.vertices, m.faces, m.centroids, ground.normals)
    noise = max(ground.noise, 1e-6 * ground.size)
    turn, turn_least = (
        float(np.radians(_TURN_DEG)),
        float(np.cos(np.radians(_LAST_TURN_DEG if last else _TURN_MOST_DEG))),
    )
    sides = _sides(labels, codes, numbers, m.centroids, ground.normals)
    labels = labels.copy()
    for i in range(_ROUNDS):
        moved = 0
        for odd in (0, 1):
            out = np.empty_like(labels)
            _round(labels, odd, ground.index.neighbours, *args, noise, turn, turn_least, sides, most, _BORDER, out)
            moved += int((out != labels).sum())
            labels = out
        if moved <= len(labels) // 20_000 or i == _ROUNDS - 1:
            break
    return labels


def _widths(ground: Ground, pieces: np.ndarray, area: np.ndarray) -> np.ndarray:
    """How many facets wide each piece is, as a strip of its area and outline would be."""
    m = ground.index.mesh
    rim = np.zeros(len(area))
    for k in range(3):
        g = ground.index.neighbours[:, k]
        at = (g >= 0) & (pieces[g] != pieces)
        edge = np.linalg.norm(m.vertices[m.faces[at, k]] - m.vertices[m.faces[at, (k + 1) % 3]], axis=1)
        rim += np.bincount(pieces[at], edge, len(area))
    facet = float(np.sqrt(4 / np.sqrt(3) * np.median(m.areas)))
    return 2 * area / np.maximum(rim, 1e-300) / facet


def thin_pieces(ground: Ground, labels: np.ndarray, least: float) -> np.ndarray:
    """Facets (m,) of labelled pieces below the ``least`` area, mm², or so thin that they are what lies across an
    edge.
    """
    pieces = pieces_of(ground.index.neighbours, labels)
    count = int(pieces.max()) + 1
    area = np.bincount(pieces, ground.index.mesh.areas, count)
    inner = np.ones(len(labels), bool)
    for k in range(3):
        g = ground.index.neighbours[:, k]
        inner &= (g < 0) | (pieces[g] == pieces)
    share = np.bincount(pieces, inner, count) / np.maximum(np.bincount(pieces, minlength=count), 1)
    bad = area < least
    if not ground.index.exact:
        bad |= (share < _INNER_SHARE) | (_widths(ground, pieces, area) < _WIDTH)
    return bad[pieces] & (labels >= 0)
