"""How a surface is parted into four-sided patches: corners, the patches between them, and the edges they share."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

__all__ = ["Layout"]


@dataclass(frozen=True)
class Layout:
    """``corners`` (k, 3) mm; ``quads`` (m, 4) of them, anticlockwise seen from outside.

    A patch runs in u from its first corner to its second, in v from its first to its fourth. Its sides are v = 0,
    u = 1, v = 1 and u = 0, each taken the way round.
    """

    corners: np.ndarray
    quads: np.ndarray

    @cached_property
    def _shared(self):
        a = self.quads
        b = np.roll(self.quads, -1, axis=1)
        low, high = np.minimum(a, b).ravel(), np.maximum(a, b).ravel()
        edges, of = np.unique(np.column_stack([low, high]), axis=0, return_inverse=True)
        return edges, of.reshape(a.shape), (a > b)

    @property
    def edges(self) -> np.ndarray:
        """(e, 2) corners, the lower first."""
        return self._shared[0]

    @property
    def sides(self) -> np.ndarray:
        """(m, 4) the edge of each side."""
        return self._shared[1]

    @property
    def against(self) -> np.ndarray:
        """(m, 4) whether a side runs against its edge."""
        return self._shared[2]

    @cached_property
    def joints(self) -> list[tuple[int, tuple[int, int], tuple[int, int]]]:
        """Edges that two patches share: edge, (patch, side), (patch, side)."""
        order = np.argsort(self.sides.ravel(), kind="stable")
        edge = self.sides.ravel()[order]
        twice = np.flatnonzero(edge[1:] == edge[:-1])
        return [
            (int(edge[i]), (int(order[i] // 4), int(order[i] % 4)), (int(order[i + 1] // 4), int(order[i + 1] % 4)))
            for i in twice
        ]

    @cached_property
    def rim(self) -> np.ndarray:
        """Edges (r,) that only one patch has."""
        return np.flatnonzero(np.bincount(self.sides.ravel(), minlength=len(self.edges)) == 1)

    @property
    def euler(self) -> int:
        """Corners − edges + patches: 2 − 2 × genus of a closed layout."""
        return len(np.unique(self.quads)) - len(self.edges) + len(self.quads)

    @cached_property
    def valence(self) -> np.ndarray:
        """(k,) edges that meet at each corner."""
        return np.bincount(self.edges.ravel(), minlength=len(self.corners))

    def is_sound(self) -> bool:
        """Whether it is a surface: no edge has more than two patches, they look to one side, and about each corner the
        patches form one fan."""
        used = np.bincount(self.sides.ravel(), minlength=len(self.edges))
        if used.max() > 2:
            return False
        way = np.bincount(self.sides.ravel(), np.where(self.against, -1, 1).ravel(), len(self.edges))
        if (way[used == 2] != 0).any():
            return False
        # One fan about each corner: as many groups of patches, joined across edges at it, as corners.
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components

        m = len(self.quads)
        rows, cols = [], []
        for edge, (p, _), (q, _) in self.joints:
            for corner in self.edges[edge]:
                rows.append(4 * p + int(np.flatnonzero(self.quads[p] == corner)[0]))
                cols.append(4 * q + int(np.flatnonzero(self.quads[q] == corner)[0]))
        graph = coo_matrix((np.ones(len(rows)), (rows, cols)), (4 * m, 4 * m))
        fans, _ = connected_components(graph, directed=False)
        return int(fans) == len(np.unique(self.quads))
