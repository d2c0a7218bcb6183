"""Votes chained to runs: stretches of one tube that the scan shows without a gap, each as a line along its axis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from .spinevotes import Votes

__all__ = ["Run", "runs_of", "guided"]

_NEAR = 0.7  # radii between feet that belong together
_ALIKE = 0.75  # cosine between their directions
_LEAST = 14  # votes of a run
_BIN = 0.5  # radii between the places a run is told by


@dataclass(frozen=True)
class Run:
    """``line`` (k, 3) along the axis in order, the tube's ``radius`` mm, and how many votes stand behind it."""

    line: np.ndarray
    radius: float
    votes: int

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.diff(self.line, axis=0), axis=1).sum())


def runs_of(votes: Votes, radius: float) -> list[Run]:
    """Runs of votes that all stand for about this radius, the longest first."""
    feet = votes.places - radius * votes.normals
    pairs = cKDTree(feet).query_pairs(_NEAR * radius, output_type="ndarray")
    if not len(pairs):
        return []
    alike = np.abs(np.einsum("ij,ij->i", votes.along[pairs[:, 0]], votes.along[pairs[:, 1]])) > _ALIKE
    # Votes of one axis also lie along it from each other, or at the same place.
    gap = feet[pairs[:, 1]] - feet[pairs[:, 0]]
    pairs, gap = pairs[alike], gap[alike]
    far = np.linalg.norm(gap, axis=1)
    n = len(feet)
    graph = coo_matrix((np.maximum(far, 1e-9 * radius), (pairs[:, 0], pairs[:, 1])), shape=(n, n)).tocsr()
    count, label = connected_components(graph, directed=False)
    out = []
    for c in range(count):
        mine = np.nonzero(label == c)[0]
        if len(mine) < _LEAST:
            continue
        sub = graph[mine][:, mine]
        line = _ordered(feet[mine], sub, radius)
        if len(line) >= 2:
            out.append(Run(line, radius, len(mine)))
    return sorted(out, key=lambda r: -r.length)


def _ordered(feet: np.ndarray, graph, radius: float) -> np.ndarray:
    """Means of feet by how far they are, through the graph, from one end."""
    far = dijkstra(graph, directed=False, indices=0)
    end = int(np.argmax(np.where(np.isfinite(far), far, -1)))
    t = dijkstra(graph, directed=False, indices=end)
    cell = np.floor(t / (_BIN * radius)).astype(int)
    n = np.bincount(cell)
    line = np.column_stack([np.bincount(cell, feet[:, k]) for k in range(3)])
    return line[n > 0] / n[n > 0][:, None]


def guided(votes: Votes, radius: float, guide: np.ndarray) -> Run | None:
    """The run from the first place of ``guide`` (k, 3) by the others to the last, along feet where there are some and
    straight on where there are none."""
    reach = 3 * radius
    feet = votes.places - radius * votes.normals
    length = np.linalg.norm(np.diff(guide, axis=0), axis=1).sum()
    # Only what lies about the guided way, a good deal wider than its chords.
    steps = max(2, int(length / radius) * 2)
    t = np.linspace(0, len(guide) - 1, steps)
    way = np.column_stack([np.interp(t, np.arange(len(guide)), guide[:, k]) for k in range(3)])
    far, _ = cKDTree(way).query(feet)
    wide = max(reach, 0.5 * float(np.linalg.norm(np.diff(guide, axis=0), axis=1).max()))
    feet = feet[far < wide]
    if len(feet) > 3000:
        feet = feet[np.linspace(0, len(feet) - 1, 3000).astype(int)]
    places = np.vstack([guide, feet])
    k = min(40, len(places))
    d, j = cKDTree(places).query(places, k=k)
    i = np.repeat(np.arange(len(places)), k)
    # Hops cost by their square: many short ones along the tube are cheaper than one across.
    cost = np.maximum((d.ravel() / radius) ** 2, 1e-9)
    rows, cols, values = [i], [j.ravel()], [cost]
    # Over gaps one may go at any length, dearly.
    some = np.unique(np.linspace(0, len(places) - 1, min(len(places), 400)).astype(int))
    some = np.unique(np.concatenate([np.arange(len(guide)), some]))
    gap = np.linalg.norm(places[some][:, None] - places[some][None], axis=2)
    a, b = np.nonzero(gap > 0)
    rows.append(some[a])
    cols.append(some[b])
    values.append((gap[a, b] / radius) ** 2)
    graph = coo_matrix(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(cols))), shape=(len(places),) * 2
    ).tocsr()
    path: list[int] = []
    for m in range(len(guide) - 1):
        _, before = dijkstra(graph, directed=False, indices=m, return_predecessors=True)
        at, leg = m + 1, [m + 1]
        while at != m:
            at = int(before[at])
            if at < 0:
                return None
            leg.append(at)
        path += leg[::-1] if not path else leg[::-1][1:]
    # Feet scatter: the line is the means of those along the way, not the way from one to the other.
    way = places[[i for i in path if i >= len(guide)] or path]
    if len(way) < 2:
        return None
    t = np.append(0, np.cumsum(np.linalg.norm(np.diff(way, axis=0), axis=1)))
    even = np.linspace(0, t[-1], max(3, int(t[-1] / (0.25 * radius))))
    even = np.column_stack([np.interp(even, t, way[:, k]) for k in range(3)])
    even = gaussian_filter1d(even, 2.0, axis=0, mode="nearest")
    far, at = cKDTree(even).query(feet, distance_upper_bound=1.2 * radius)
    there = np.isfinite(far)
    cell = at[there] // 2
    n = np.bincount(cell, minlength=len(even) // 2 + 1)
    line = np.column_stack([np.bincount(cell, feet[there, k], minlength=len(n)) for k in range(3)])
    line = np.where(
        n[:, None] > 0, line / np.maximum(n, 1)[:, None], even[np.minimum(2 * np.arange(len(n)), len(even) - 1)]
    )
    return Run(line, radius, len(feet)) if len(line) >= 2 else None
