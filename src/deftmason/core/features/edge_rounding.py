"""The rounding along an edge of a body, told by the ball that rolls between the edge's two faces as the scan has them.

The faces are fitted to the scan's places beside the edge, each as the kind of surface it is in the model; how far the
scan stays away from the sharp edge says about how large the ball is.
"""

from __future__ import annotations

import numpy as np

from ..elements import Side, rolling_ball
from ..zones.roundings import as_well
from .edge_beside import FEWEST, MOST, SMALLEST, Beside, Edge, Face, face_beside

__all__ = ["held_rounding"]

_ROUNDS, _SETTLED = 6, 0.05
_RISE = 0.05  # of the radius that the edge stands proud of the ball: faces that turn less tell none


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
    edge = Edge(line, faces, facet)
    if edge.half < 0.05 or not edge.told(1 / (1 + _RISE)):
        return None
    b, gap = edge.looked_at(p, n, most, lambda gap: _touch(edge, _radius_of(edge, gap)) / edge.half)
    radius = _radius_of(edge, gap)
    for _ in range(_ROUNDS):
        if not SMALLEST * facet < radius < most:
            return None
        one = _one_ball(edge, b, radius)
        if one is None:
            return None
        told, lies = one
        if abs(told[0] - radius) < _SETTLED * radius:
            return told if lies else None
        radius = told[0]
    return None


def _radius_of(edge: Edge, gap: float) -> float:
    """About how large a ball keeps the scan so far from the edge, mm."""
    return gap / (1 / edge.half - 1)


def _touch(edge: Edge, radius: float) -> float:
    """How far from the edge a ball of that radius touches the faces, mm."""
    return radius * float(np.sqrt(1 - edge.half**2)) / edge.half


def _one_ball(edge: Edge, b: Beside, radius: float) -> tuple[tuple[float, float, int, float], bool] | None:
    """The ball between sides taken as one of about that radius leaves them; and whether the scan lies on it."""
    facet, touch = edge.facet, _touch(edge, radius)
    sides = []
    for k, (e, _) in enumerate(edge.faces):
        face = face_beside(b, k, touch, e, facet)
        if face is None:
            return None
        sides.append(Side.of(face))
    mine = np.nonzero(b.seen & (b.away < touch / edge.half + 2 * facet))[0]
    mine = mine[:: int(np.ceil(len(mine) / MOST))]
    if len(mine) < FEWEST:
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
