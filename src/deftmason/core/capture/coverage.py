"""What of an outline the stream has shown, and what is still unseen: cells of a grid over it, seen along its own
direction, that hold points or none.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import perpendicular_pair, unit
from .keeping import Boundary, CuttingPlane

__all__ = ["Coverage"]

_ACROSS = 40  # cells along the longer side of an outline
_EDGE_ON = 0.05  # cosine
_ENOUGH = 3  # points that a seen cell holds


@dataclass
class Coverage:
    """Counts of points in the cells within an outline; grows as points come."""

    boundary: Boundary
    cell: float
    low: np.ndarray
    counts: np.ndarray
    within: np.ndarray

    @staticmethod
    def over(boundary: Boundary, planes: tuple[CuttingPlane, ...] = (), across: int = _ACROSS) -> Coverage:
        """Of an outline, or of what of it lies within the reach of planes that are seen edge on."""
        ring = boundary.flat(boundary.corners)
        low, size = ring.min(axis=0), np.ptp(ring, axis=0)
        cell = float(size.max()) / across
        shape = np.maximum(np.ceil(size / cell).astype(int), 1)
        i, j = np.meshgrid(np.arange(shape[0]), np.arange(shape[1]), indexing="ij")
        middles = low + (np.stack([i, j], -1).reshape(-1, 2) + 0.5) * cell
        u, v = perpendicular_pair(boundary.toward)
        there = middles[:, :1] * u + middles[:, 1:] * v
        within = boundary.inside(there)
        n = np.cross(u, v)
        if planes and all(abs(unit(p.normal) @ n) < _EDGE_ON for p in planes):
            near = [np.abs(p.away(there + ((p.point - there) @ n)[:, None] * n)) <= p.reach for p in planes]
            within &= np.any(near, axis=0)
        within = within.reshape(shape)
        return Coverage(boundary, cell, low, np.zeros(shape, np.int64), within)

    def add(self, points: np.ndarray) -> None:
        at = np.floor((self.boundary.flat(points) - self.low) / self.cell).astype(int)
        there = ((at >= 0) & (at < self.counts.shape)).all(axis=1)
        np.add.at(self.counts, (at[there, 0], at[there, 1]), 1)

    @property
    def share(self) -> float:
        """Share of the outline's cells that were seen."""
        wanted = self.within.sum()
        return float((self.within & (self.counts >= _ENOUGH)).sum() / wanted) if wanted else 0.0

    def unseen(self) -> np.ndarray:
        """Middles (k, 3) of the cells not seen yet, at the height of the outline's own middle."""
        ij = np.argwhere(self.within & (self.counts < _ENOUGH))
        u, v = perpendicular_pair(self.boundary.toward)
        n = np.cross(u, v)
        flat = self.low + (ij + 0.5) * self.cell
        return flat[:, :1] * u + flat[:, 1:] * v + (self.boundary.corners @ n).mean() * n
