"""Which points of a stream are kept: those that lie within every boundary, each seen in its own direction, and, where
there are cutting planes, within a reach of one of them.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..elements import perpendicular_pair, unit

__all__ = ["Boundary", "CuttingPlane", "Region"]


@dataclass(frozen=True)
class Boundary:
    """A closed outline seen along a direction: ``corners`` (k, 3) mm, ``toward`` (3,) from the part to who sees it,
    and outlines (m, 3) in it that are left out. What lies before and behind it counts.
    """

    corners: np.ndarray
    toward: np.ndarray
    without: tuple[np.ndarray, ...] = ()

    def flat(self, points: np.ndarray) -> np.ndarray:
        """Points (n, 3) as they are seen (n, 2), mm."""
        u, v = perpendicular_pair(self.toward)
        return np.column_stack([points @ u, points @ v])

    def inside(self, points: np.ndarray) -> np.ndarray:
        """Mask (n,) of points that are seen within the outline (even-odd rule: Shimrat 1962)."""
        p = self.flat(points)
        out = np.zeros(len(p), bool)
        for corners in (self.corners, *self.without):
            ring = self.flat(corners)
            for (ax, ay), (bx, by) in zip(ring, np.roll(ring, -1, axis=0)):
                crosses = (ay > p[:, 1]) != (by > p[:, 1])
                if ay != by:
                    out ^= crosses & (p[:, 0] < ax + (p[:, 1] - ay) * (bx - ax) / (by - ay))
        return out


@dataclass(frozen=True)
class CuttingPlane:
    """A plane whose section is wanted: points within ``reach`` mm of it are."""

    point: np.ndarray
    normal: np.ndarray
    reach: float

    def away(self, points: np.ndarray) -> np.ndarray:
        return (points - self.point) @ unit(self.normal)


@dataclass(frozen=True)
class Region:
    """Boundaries and planes of a capture; without any, everything is kept."""

    boundaries: tuple[Boundary, ...] = ()
    planes: tuple[CuttingPlane, ...] = field(default_factory=tuple)

    def keeps(self, points: np.ndarray) -> np.ndarray:
        """Mask (n,) of the points (n, 3) that are kept."""
        out = np.ones(len(points), bool)
        for b in self.boundaries:
            out[out] = b.inside(points[out])
        if self.planes and out.any():
            near = np.zeros(int(out.sum()), bool)
            for plane in self.planes:
                near |= np.abs(plane.away(points[out])) <= plane.reach
            out[out] = near
        return out
