"""A path of straights and bends as a pipe bender makes it: lengths, rotations, angles, radii, from a start onward.

All that follows a bend hangs on it, so the whole path is one smooth curve whatever the numbers are.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

__all__ = ["BentPath", "Piece", "cross"]


def cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Cross products along the last axis; many times as fast on single vectors as the general one."""
    out = np.empty(np.broadcast_shapes(a.shape, b.shape))
    out[..., 0] = a[..., 1] * b[..., 2] - a[..., 2] * b[..., 1]
    out[..., 1] = a[..., 2] * b[..., 0] - a[..., 0] * b[..., 2]
    out[..., 2] = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return out


@dataclass(frozen=True)
class Piece:
    """A straight (``radius`` inf) or a bend, from ``start`` along ``direction``; ``inward`` points to the bend's
    centre; ``length`` along the centreline, mm; ``begin`` where it begins along the path.
    """

    start: np.ndarray
    direction: np.ndarray
    inward: np.ndarray
    length: float
    radius: float
    begin: float

    @property
    def straight(self) -> bool:
        return not np.isfinite(self.radius)

    @property
    def angle(self) -> float:
        """How far it turns, rad."""
        return 0.0 if self.straight else self.length / self.radius

    @property
    def center(self) -> np.ndarray:
        return self.start + self.radius * self.inward

    @cached_property
    def normal(self) -> np.ndarray:
        """The bend's axis; the path turns right-handed about it."""
        return cross(self.direction, self.inward)

    def at(self, s: np.ndarray) -> np.ndarray:
        """Places (n, 3) at lengths ``s`` (n,) along it."""
        s = np.asarray(s, float)[:, None]
        if self.straight:
            return self.start + s * self.direction
        a = s / self.radius
        return self.start + self.radius * (np.sin(a) * self.direction + (1 - np.cos(a)) * self.inward)

    def eased(self, along: np.ndarray, over: float) -> np.ndarray:
        """1 inside a bend, falling to 0 at its ends over so much length (mm): how far a bend's own shape is there."""
        return np.clip(np.minimum(along, self.length - along) / over, 0.0, 1.0)

    def from_axis(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Of places (n, 3): length along the piece, distance from its axis, and the cosine of twice the angle about the
        axis from the bend's plane (0 on straights)."""
        q = points - self.start
        if self.straight:
            along = q @ self.direction
            return along, np.linalg.norm(q - along[:, None] * self.direction, axis=1), np.zeros(len(q))
        out = q @ self.normal
        x, y = q @ self.direction, self.radius - q @ self.inward
        far = np.hypot(x, y)
        turned = np.arctan2(x, y)
        # Behind the start a place belongs a little before it, not a whole turn ahead.
        turned = np.where(turned < 0.5 * (self.angle - 2 * np.pi), turned + 2 * np.pi, turned)
        side = far - self.radius
        rho = np.hypot(side, out)
        return turned * self.radius, rho, (side**2 - out**2) / np.maximum(rho**2, 1e-300)


@dataclass(frozen=True)
class BentPath:
    """``start`` (3,) and a frame there: ``direction`` of travel and ``inward`` of the first bend, unit and square to
    each other. ``straights`` (k + 1,) lengths mm; ``bends`` (k, 3): rotation against the bend before about the
    direction of travel (rad, the first 0), angle (rad), radius (mm).
    """

    start: np.ndarray
    direction: np.ndarray
    inward: np.ndarray
    straights: np.ndarray
    bends: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)))

    @cached_property
    def pieces(self) -> list[Piece]:
        out: list[Piece] = []
        p, t, n, s = self.start, self.direction, self.inward, 0.0
        for k, length in enumerate(self.straights):
            out.append(Piece(p, t, n, float(length), np.inf, s))
            p, s = p + length * t, s + float(length)
            if k < len(self.bends):
                rotation, angle, radius = map(float, self.bends[k])
                n = np.cos(rotation) * n + np.sin(rotation) * cross(t, n)
                out.append(Piece(p, t, n, angle * radius, radius, s))
                c, si = np.cos(angle), np.sin(angle)
                p, s = p + radius * (si * t + (1 - c) * n), s + angle * radius
                t, n = c * t + si * n, c * n - si * t
        return out

    @property
    def length(self) -> float:
        return float(self.straights.sum() + (self.bends[:, 1] * self.bends[:, 2]).sum())

    def at(self, s: np.ndarray) -> np.ndarray:
        """Places (n, 3) at lengths ``s`` (n,) from the start; beyond the ends along the last direction."""
        s = np.asarray(s, float)
        pieces = self.pieces
        which = np.clip(np.searchsorted([q.begin for q in pieces], s, side="right") - 1, 0, len(pieces) - 1)
        out = np.empty((len(s), 3))
        for k, q in enumerate(pieces):
            mine = which == k
            if mine.any():
                out[mine] = q.at(s[mine] - q.begin)
        return out

    def sampled(self, step: float) -> np.ndarray:
        """Places (n, 3) no more than ``step`` mm apart from end to end."""
        n = max(2, int(np.ceil(self.length / step)) + 1)
        return self.at(np.linspace(0, self.length, n))

    def lengthened(self, before: float, after: float) -> BentPath:
        """With its first and last straight longer by so much, mm."""
        straights = self.straights.copy()
        straights[0] += before
        straights[-1] += after
        return replace(self, start=self.start - before * self.direction, straights=straights)

    @property
    def numbers(self) -> np.ndarray:
        """What can be fitted, but for the last length: start (3), turn of the frame (3), straights (k), then of each
        bend rotation, angle, radius (the first bend's rotation is the frame's)."""
        return np.concatenate([self.start, np.zeros(3), self.straights[:-1], self.bends.ravel()])

    def with_numbers(self, x: np.ndarray) -> BentPath:
        """The path of other `numbers`; the frame is turned by the rotation vector in them."""
        k = len(self.bends)
        turn = x[3:6]
        angle = float(np.linalg.norm(turn))
        t, n = self.direction, self.inward
        if angle > 0:
            axis = turn / angle
            c, s = np.cos(angle), np.sin(angle)

            def turned(v):
                return c * v + s * cross(axis, v) + (1 - c) * (axis @ v) * axis

            t, n = turned(t), turned(n)
        straights = np.append(x[6 : 6 + k], self.straights[-1])
        return BentPath(x[:3].copy(), t, n, straights, x[6 + k : 6 + 4 * k].reshape(k, 3).copy())
