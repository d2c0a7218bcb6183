"""Zones that lie on one element, found and told: neighbours that are really one, and pieces of one surface apart."""

from __future__ import annotations

import heapq

import numpy as np

from ..elements import Element, fit
from ..errors import BadInput
from .ground import Ground

__all__ = ["Borders", "borders_of", "joined", "same_surfaces"]

_SMOOTH_DEG = 8.0  # zones that meet at less than this run on into each other
_ROUNDER = ("cylinder", "sphere")  # what a gently bent surface may be that was taken for several flat ones
_FACING = 0.975  # how well facets must face as their element does: corners alone may lie on many
_POINTS = 700  # of each zone, to ask whether two are one
_FAR = 20.0  # times the limit: farther off one's element than this, another is not on it
_LIMIT, _EXACT_LIMIT = 1.6, 3e-6  # of the noise, of the size: scatter about a common element


class Borders:
    """``pairs`` (k, 2) of labels that meet, ``edges`` (k,) along how many edges, ``turn_deg`` (k,) at which angle."""

    def __init__(self, pairs: np.ndarray, edges: np.ndarray, turn_deg: np.ndarray):
        self.pairs, self.edges, self.turn_deg = pairs, edges, turn_deg


def borders_of(ground: Ground, labels: np.ndarray) -> Borders:
    """Where zones meet, each pair once."""
    firsts, seconds, turns = [], [], []
    for k in range(3):
        g = ground.index.neighbours[:, k]
        at = np.nonzero((g >= 0) & (labels >= 0))[0]
        a, b = labels[at], labels[g[at]]
        meet = (b >= 0) & (a != b)
        at, a, b = at[meet], a[meet], b[meet]
        firsts.append(np.minimum(a, b))
        seconds.append(np.maximum(a, b))
        turns.append(np.einsum("ij,ij->i", ground.normals[at], ground.normals[g[at]]))
    a, b, c = np.concatenate(firsts).astype(np.int64), np.concatenate(seconds), np.concatenate(turns)
    if not len(a):
        return Borders(np.zeros((0, 2), np.int64), np.zeros(0, np.int64), np.zeros(0))
    key = a * (int(b.max()) + 1) + b
    order = np.argsort(key, kind="stable")
    found, start, count = np.unique(key[order], return_index=True, return_counts=True)
    middle = [float(np.median(c[order[s : s + n]])) for s, n in zip(start, count)]
    turn = np.degrees(np.arccos(np.clip(middle, -1, 1)))
    pairs = np.column_stack([a[order[start]], b[order[start]]])
    return Borders(pairs, count // 2, turn)


class _Sample:
    """Places of one zone, evenly taken, with the zone's area as their weight."""

    def __init__(self, ground: Ground, facets: np.ndarray):
        ids = np.unique(ground.index.mesh.faces[facets])
        ids = ids[:: max(1, len(ids) // _POINTS)]
        self.points, self.normals = ground.index.mesh.vertices[ids], ground.index.mesh.vertex_normals[ids]
        some = facets[:: max(1, len(facets) // _POINTS)]
        self.middles, self.facings = ground.index.mesh.centroids[some], ground.normals[some]

    def with_(self, other: _Sample) -> _Sample:
        out = object.__new__(_Sample)
        step = 2 if len(self.points) + len(other.points) > 2 * _POINTS else 1
        for name in ("points", "normals", "middles", "facings"):
            setattr(out, name, np.concatenate([getattr(self, name)[::step], getattr(other, name)[::step]]))
        return out


def _lies(element: Element, sample: _Sample, limit: float) -> bool:
    d = np.abs(element.distance(sample.points))
    if 1.4826 * float(np.median(d)) > limit or float(np.quantile(d, 0.95)) > 3 * limit:
        return False
    along = np.einsum("ij,ij->i", element.normals(sample.middles), sample.facings)
    return abs(float(np.median(along))) > _FACING


def _one(a: _Sample, b: _Sample, kinds: dict[str, Element | None], limit: float) -> Element | None:
    p, n = np.concatenate([a.points, b.points]), np.concatenate([a.normals, b.normals])
    for kind, near in kinds.items():
        if near is not None and max(float(np.median(np.abs(near.distance(s.points)))) for s in (a, b)) > _FAR * limit:
            continue
        try:
            f = fit(kind, p, normals=n, correlated=False, near=near)
        except BadInput:
            continue
        if _lies(f.element, a, limit) and _lies(f.element, b, limit):
            return f.element
    return None


def _could_be_rounder(a: Element, b: Element, of_a: _Sample, of_b: _Sample, limit: float) -> bool:
    """Whether two zones may be parts of one gently bent surface that were taken for flatter ones."""
    if "plane" not in (a.kind, b.kind):
        return False
    far = min(float(np.median(np.abs(a.distance(of_b.points)))), float(np.median(np.abs(b.distance(of_a.points)))))
    return far < _FAR * limit


def joined(ground: Ground, labels: np.ndarray, elements: list[Element]) -> tuple[np.ndarray, list[Element]]:
    """Neighbours that lie on one element made one zone, the longest borders first: on an element of the kind of one of
    them, or, where they run on smoothly, on a rounder one that explains both. Returns labels and elements anew.
    """
    limit = max(_LIMIT * ground.noise, _EXACT_LIMIT * ground.size)
    order = np.argsort(labels, kind="stable")
    cut = np.searchsorted(labels[order], np.arange(len(elements) + 1))
    samples = [_Sample(ground, order[cut[i] : cut[i + 1]]) for i in range(len(elements))]
    found = borders_of(ground, labels)
    met: list[dict[int, tuple[int, bool]]] = [{} for _ in elements]
    heap: list[tuple[int, int, int]] = []
    for (a, b), n, turn in zip(found.pairs.tolist(), found.edges.tolist(), found.turn_deg.tolist()):
        met[a][b] = met[b][a] = (n, turn < _SMOOTH_DEG)
        heapq.heappush(heap, (-n, a, b))
    now = list(range(len(elements)))
    elements = list(elements)
    alive = [True] * len(elements)
    asked: set[tuple[int, int]] = set()
    while heap:
        _, a, b = heapq.heappop(heap)
        if not (alive[a] and alive[b]) or (a, b) in asked or b not in met[a]:
            continue
        asked.add((a, b))
        kinds: dict[str, Element | None] = {elements[a].kind: elements[a], elements[b].kind: elements[b]}
        smooth = met[a][b][1] and not ground.index.exact
        if smooth and _could_be_rounder(elements[a], elements[b], samples[a], samples[b], limit):
            kinds = {**kinds, **{k: None for k in _ROUNDER if k not in kinds}}
        one = _one(samples[a], samples[b], kinds, limit)
        if one is None:
            continue
        elements[a], samples[a], alive[b] = one, samples[a].with_(samples[b]), False
        now = [a if x == b else x for x in now]
        for c, (n, smooth) in met[b].items():
            if c == a:
                continue
            other = met[a].get(c)
            met[a][c] = met[c][a] = (n + (other[0] if other else 0), smooth or bool(other and other[1]))
            met[c].pop(b, None)
        met[a].pop(b, None)
        for c, (n, _) in met[a].items():
            asked.discard((min(a, c), max(a, c)))
            heapq.heappush(heap, (-n, min(a, c), max(a, c)))
    kept = [i for i in range(len(elements)) if alive[i]]
    new = np.full(len(elements) + 1, -1, np.int32)
    for i, k in enumerate(now):
        new[i] = kept.index(k)
    return new[labels], [elements[i] for i in kept]


def same_surfaces(ground: Ground, facets: list[np.ndarray], elements: list[Element | None]) -> list[list[int]]:
    """For each zone the others that lie on the same element, though they do not touch it."""
    limit = max(_LIMIT * ground.noise, _EXACT_LIMIT * ground.size)
    samples = [None if e is None else _Sample(ground, f) for f, e in zip(facets, elements)]
    group = list(range(len(elements)))
    for i, a in enumerate(elements):
        for j in range(i):
            b = elements[j]
            mine, other = samples[i], samples[j]
            if a is None or b is None or mine is None or other is None or a.kind != b.kind or group[i] == group[j]:
                continue
            far = max(float(np.median(np.abs(b.distance(mine.points)))), 0.0)
            if far > 60 * limit + 0.02 * ground.size or _one(other, mine, {a.kind: b}, limit) is None:
                continue
            old = group[i]
            group = [group[j] if g == old else g for g in group]
    return [[j for j in range(len(group)) if j != i and group[j] == group[i]] for i in range(len(group))]
