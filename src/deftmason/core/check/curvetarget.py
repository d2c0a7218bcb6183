"""A curve in space as what a scan is measured to: how far the scan's surface runs off it, all along it."""

from __future__ import annotations

import numpy as np

from ..curves.spatial import SpaceCurve
from ..progress import Progress, silent
from .answers import Distances, Spread, within_limits

__all__ = ["CurveTarget"]

_STEPS = 2000  # places of the curve that a foot is sought from, at least
_TURNS, _TURN_DEG, _MOST = 2, 10.0, 200_000  # and this often each so many degrees that it turns
_ROUNDS = 20
_SQUARE = 0.02  # of the distance: how far a foot's line may lean from square before it counts as beyond an end


class CurveTarget:
    """A curve, one part a piece.

    Places answer beside which the curve runs: those that it meets along their own normal, within ``breadth`` (mm)
    aside. Told is how far the surface stands proud of the curve along that normal; of places without normals the
    plain distance.

    Parameters
    ----------
    curve : in the coordinates of the points, mm.
    breadth : mm that a place may lie aside; about the spacing of the scan, so that some lie beside any place of it.
    size : the scan's, mm.
    """

    def __init__(self, curve: SpaceCurve, breadth: float, size: float):
        self._curve, self._breadth, self.size = curve, breadth, size
        self.names = [f"{p.kind} {k}" for k, p in enumerate(curve.pieces, 1)]
        self.kinds = [p.kind for p in curve.pieces]
        self.spread: Spread | None = None

    def warnings(self) -> list[str]:
        return []

    def _feet(self, points: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
        """Which points (k,) lie within ``reach`` of the curve and not beyond its ends, and the lengths along it of
        their feet."""
        from scipy.spatial import cKDTree

        c = self._curve
        s = np.linspace(0, c.length, max(_STEPS, _TURNS * len(c.drawn(_TURN_DEG, _MOST))))
        step = float(s[1])
        away, at = cKDTree(c.at(s)).query(points, distance_upper_bound=reach + step, workers=-1)
        near = np.flatnonzero(np.isfinite(away))
        foot = s[at[near]]
        low, high = foot - step, foot + step
        for _ in range(_ROUNDS):  # halved: a place before its foot sees the curve go on toward it
            foot = 0.5 * (low + high)
            before = np.einsum("ij,ij->i", points[near] - c.at(self._on(foot)), c.direction(self._on(foot))) > 0
            low, high = np.where(before, foot, low), np.where(before, high, foot)
        foot = self._on(0.5 * (low + high))
        off = points[near] - c.at(foot)
        lean = np.abs(np.einsum("ij,ij->i", off, c.direction(foot)))
        ok = lean <= _SQUARE * np.linalg.norm(off, axis=1) + 1e-6 * c.length
        return near[ok], foot[ok]

    def _on(self, s: np.ndarray) -> np.ndarray:
        return s % self._curve.length if self._curve.closed else np.clip(s, 0, self._curve.length)

    def distances(self, points, normals=None, *, reach=None, angle_deg=None, progress: Progress = silent) -> Distances:
        """As `ModelSurface.distances`; a curve has no side to face, so the angle decides nothing."""
        points = np.asarray(points, float)
        n, c = len(points), self._curve
        out = Distances(
            np.full(n, np.nan), np.full(n, -1, np.int32), np.zeros((n, 3)), np.zeros((n, 3)), np.ones(n, bool)
        )
        near, foot = self._feet(points, self.size if reach is None else reach)
        off = points[near] - c.at(foot)
        away = np.linalg.norm(off, axis=1)
        if normals is None:
            value, normal = away, off / np.maximum(away, 1e-300)[:, None]
        else:
            normal = np.asarray(normals, float)[near]
            value = np.einsum("ij,ij->i", off, normal)
            aside = np.linalg.norm(off - value[:, None] * normal, axis=1)
            near, foot, value, normal = (x[aside <= self._breadth] for x in (near, foot, value, normal))
        piece = np.clip(np.searchsorted(c.lengths, foot, side="right") - 1, 0, len(c.pieces) - 1)
        out.distance[near], out.face[near], out.normal[near] = value, piece, normal
        out.other_normal[near] = normal
        return within_limits(out, None, reach, None)
