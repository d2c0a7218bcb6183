"""The rounding along an edge of a body, told by the ball that rolls between the edge's two faces as the scan has them.

The faces are fitted to the scan's places beside the edge, each as the kind of surface it is in the model; how far the
scan stays away from the sharp edge says about how large the ball is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..elements import Element, Side, fit, rolling_ball
from ..errors import BadInput
from ..zones.roundings import as_well

__all__ = ["Face", "held_rounding"]

#: A face's surface, and 1 where its own normals look out of the body, else -1.
Face = tuple[Element, float]

_FIRST = 24.0  # facets from the edge that are looked at first
_BESIDE = 12.0  # facets beyond where the ball touches, within which a side is fitted
_FEWEST, _MOST = 25, 6000  # places of a side; of a rounding
_FACING_COS = float(np.cos(np.radians(15.0)))
_OFF = 0.35, 3.0  # of where the ball touches, and facets: how far the scan may lie off the model's face
_CALM = 6.0  # facets at either end of an open edge, where other faces begin
_SMALLEST = 0.7  # facets: a smaller radius is a sharp edge as a scan shows it
_ROUNDS, _SETTLED = 6, 0.05
_STRAY = 0.3  # in cosines: how much farther than from face to face a place of the rounding may turn
_RISE = 0.05  # of the radius that the edge stands proud of the ball: faces that turn less tell none


@dataclass
class _Beside:
    """Places (k, 3) of the scan beside an edge: how far ``away`` from it and at which station, what each face's own
    normals are there (2, k, 3), how the scan faces them (2, k), how far ``off`` them it lies (2, k), mm, and which are
    ``seen`` to lie on the turn from the one to the other.
    """

    p: np.ndarray
    n: np.ndarray
    away: np.ndarray
    at: np.ndarray
    own: np.ndarray
    facing: np.ndarray
    off: np.ndarray
    seen: np.ndarray


class _Edge:
    """An edge as stations half a facet apart, and what lies beside it."""

    def __init__(self, line: np.ndarray, faces: tuple[Face, Face], facet: float):
        s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        at = np.linspace(0, s[-1], int(np.clip(s[-1] / (0.5 * facet), 8, 20_000)))
        self.stations = np.stack([np.interp(at, s, line[:, k]) for k in range(3)], axis=1)
        self.faces, self.facet, self.length = faces, facet, float(s[-1])
        self.closed = bool(np.linalg.norm(line[0] - line[-1]) < 1e-6 * self.length)
        looks = [e.normals(self.stations) * out for e, out in faces]
        #: The cosine of half the turn from face to face.
        self.half = float(np.sqrt(max((1 + np.median(np.einsum("ij,ij->i", *looks))) / 2, 0)))

    def beside(self, p: np.ndarray, n: np.ndarray, reach: float) -> _Beside:
        """The scan's places within ``reach`` mm of the edge, away from its ends."""
        low, high = self.stations.min(axis=0) - reach, self.stations.max(axis=0) + reach
        near = np.nonzero(((p > low) & (p < high)).all(axis=1))[0]
        away, at = cKDTree(self.stations).query(p[near], distance_upper_bound=reach)
        inset = 0 if self.closed else int(np.ceil(_CALM * self.facet / self.length * len(self.stations)))
        keep = np.isfinite(away) & (at >= inset) & (at < len(self.stations) - inset)
        near, away, at = near[keep], away[keep], at[keep]
        p, n = p[near], n[near]
        own = np.array([e.normals(p) * out for e, out in self.faces])
        off = np.array([e.distance(p) * out for e, out in self.faces])
        facing = np.einsum("ij,kij->ki", n, own)
        # Between the faces the scan turns from the one to the other: what lies behind, a thin wall's other side, does
        # not.
        turn = np.einsum("ij,ij->i", *own)
        seen = (facing > turn - _STRAY).all(axis=0) & (facing.sum(axis=0) > 0)
        return _Beside(p, n, away, at, own, facing, off, seen)

    def first_radius(self, b: _Beside) -> float:
        """About how large a ball keeps the scan as far from the edge as it stays, mm."""
        gap = np.full(len(self.stations), np.inf)
        np.minimum.at(gap, b.at[b.seen], b.away[b.seen])
        gap = gap[np.isfinite(gap)]
        return float(np.median(gap)) / (1 / self.half - 1) if len(gap) else 0.0

    def touch(self, radius: float) -> float:
        """How far from the edge a ball of that radius touches the faces, mm."""
        return radius * float(np.sqrt(1 - self.half**2)) / self.half


def held_rounding(
    p: np.ndarray, n: np.ndarray, line: np.ndarray, faces: tuple[Face, Face], facet: float, most: float
) -> tuple[float, float, int, float] | None:
    """Radius, its standard deviation, how many places spoke and their scatter (mm) of the rounding along an edge.

    Parameters
    ----------
    p, n : (k, 3) the scan's places and normals, as the edge's ``line`` (m, 3) in the frame.
    faces : the surfaces that meet at the edge.  facet : mm.  most : mm from the edge that is looked at.

    Returns None where a side is too little seen, or what lies between is not tangent to both.
    """
    edge = _Edge(line, faces, facet)
    if edge.half < 0.05 or 1 / edge.half - 1 < _RISE or (not edge.closed and edge.length < 3 * _CALM * facet):
        return None
    reach = min(_FIRST * facet, most)
    while True:
        b = edge.beside(p, n, reach)
        radius = edge.first_radius(b) if len(b.p) >= 3 * _FEWEST else 0.0
        if edge.touch(radius) / edge.half + _BESIDE * facet <= reach or reach >= most:
            break
        reach = min(2 * reach, most)
    for _ in range(_ROUNDS):
        if not _SMALLEST * facet < radius < most:
            return None
        one = _one_ball(edge, b, radius)
        if one is None:
            return None
        told, lies = one
        if abs(told[0] - radius) < _SETTLED * radius:
            return told if lies else None
        radius = told[0]
    return None


def _one_ball(edge: _Edge, b: _Beside, radius: float) -> tuple[tuple[float, float, int, float], bool] | None:
    """The ball between sides taken as one of about that radius leaves them; and whether the scan lies on it."""
    facet, touch = edge.facet, edge.touch(radius)
    beside = (b.away > touch + facet) & (b.away < touch + _BESIDE * facet)
    sides = []
    for k, (e, _) in enumerate(edge.faces):
        on = beside & (b.facing[k] > _FACING_COS) & (np.abs(b.off[k]) < _OFF[0] * touch + _OFF[1] * facet)
        side = _side(b.p[on], b.n[on], e) if on.sum() >= _FEWEST else None
        if side is None:
            return None
        sides.append(side)
    mine = np.nonzero(b.seen & (b.away < touch / edge.half + 2 * facet))[0]
    mine = mine[:: int(np.ceil(len(mine) / _MOST))]
    if len(mine) < _FEWEST:
        return None
    # Which side of the scan the ball is on: with an edge that stands out, inside.
    first = mine[np.argmax(b.facing.sum(axis=0)[mine])]
    inwards = np.sign(np.median(b.off.sum(axis=0)[mine]))
    start = b.p[first] + inwards * radius * b.own[:, first].sum(axis=0) / (2 * edge.half)
    ball = rolling_ball(b.p[mine], sides[0], sides[1], (start, radius))
    surface = None if ball is None else ball.surface()
    if ball is None or surface is None:
        return None
    told = (ball.radius, ball.uncertainty, int(ball.inside.sum()), float(np.sqrt(np.mean(ball.residuals**2))))
    return told, as_well(ball, surface, b.p[mine], surface.kind, surface, None, facet)


def _side(p: np.ndarray, n: np.ndarray, e: Element) -> Side | None:
    """Places beside an edge fitted with a surface of the kind of its face."""
    try:
        f = fit(e.kind, p, normals=n, correlated=False, near=e)
        keep = np.abs(f.residuals) <= 3.5 * 1.4826 * float(np.median(np.abs(f.residuals))) + 1e-12
        return Side.of(fit(e.kind, p[keep], normals=n[keep], near=f.element))
    except BadInput:
        return None
