"""The rounding along an edge of a body, told by the ball that rolls between the edge's two faces as the scan has them.

The faces are fitted to the scan's places beside the edge, each as the kind of surface it is in the model; how far the
scan stays away from the sharp edge says about how large the ball is.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ..elements import Element, Side, fit, rolling_ball
from ..errors import BadInput
from ..zones.roundings import as_well

__all__ = ["Face", "held_rounding"]

#: A face's surface, and 1 where its own normals look out of the body, else -1.
Face = tuple[Element, float]

_BESIDE = 12.0  # facets beyond where the ball touches, within which a side is fitted
_FEWEST, _MOST = 25, 6000  # places of a side; of a rounding
_FACING_COS = float(np.cos(np.radians(15.0)))
_OFF = 0.35, 3.0  # of where the ball touches, and facets: how far the scan may lie off the model's face
_CALM = 6.0  # facets at either end of an open edge, where other faces begin
_SMALLEST = 0.7  # facets: a smaller radius is a sharp edge as a scan shows it
_ROUNDS = 6
_STRAY = 0.3  # in cosines: how much farther than from face to face a place of the rounding may turn
_RISE = 0.05  # of the radius that the edge stands proud of the ball: faces that turn less tell none


def _stations(line: np.ndarray, facet: float) -> np.ndarray:
    s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.linspace(0, s[-1], int(np.clip(s[-1] / (0.5 * facet), 8, 20_000)))
    return np.stack([np.interp(at, s, line[:, k]) for k in range(3)], axis=1)


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
    stations = _stations(line, facet)
    closed = bool(np.linalg.norm(line[0] - line[-1]) < 1e-6 * max(float(np.ptp(line, axis=0).max()), 1e-300))
    length = float(np.linalg.norm(np.diff(stations, axis=0), axis=1).sum())
    if not closed and length < 3 * _CALM * facet:
        return None
    middle = stations
    looks = [e.normals(middle) * out for e, out in faces]
    half = float(np.sqrt(max((1 + np.median(np.einsum("ij,ij->i", *looks))) / 2, 0)))
    if not 0.05 < half or 1 / half - 1 < _RISE:
        return None
    tree = cKDTree(stations)
    away, at = tree.query(p, distance_upper_bound=most)
    near = np.nonzero(np.isfinite(away))[0]
    if not closed:
        inset = int(np.ceil(_CALM * facet / length * len(stations)))
        near = near[(at[near] >= inset) & (at[near] < len(stations) - inset)]
    if len(near) < 3 * _FEWEST:
        return None
    p, n, away, at = p[near], n[near], away[near], at[near]
    own = [e.normals(p) * out for e, out in faces]
    off = [e.distance(p) * out for e, out in faces]
    facing = [np.einsum("ij,ij->i", n, o) for o in own]
    # Between the faces the scan turns from the one to the other: what lies behind, a thin wall's other side, does not.
    turn = np.einsum("ij,ij->i", *own)
    seen = (facing[0] > turn - _STRAY) & (facing[1] > turn - _STRAY) & (facing[0] + facing[1] > 0)
    gap = np.full(len(stations), np.inf)
    np.minimum.at(gap, at[seen], away[seen])
    gap = gap[np.isfinite(gap)]
    radius = float(np.median(gap)) / (1 / half - 1) if len(gap) else 0.0
    told = None
    for _ in range(_ROUNDS):
        if not _SMALLEST * facet < radius < most:
            return None
        touch = radius * float(np.sqrt(1 - half**2)) / half
        sides = []
        for k, (e, _) in enumerate(faces):
            on = (facing[k] > _FACING_COS) & (np.abs(off[k]) < _OFF[0] * touch + _OFF[1] * facet)
            on &= (away > touch + facet) & (away < touch + _BESIDE * facet)
            side = _side(p[on], n[on], e) if on.sum() >= _FEWEST else None
            if side is None:
                return None
            sides.append(side)
        mine = np.nonzero(seen & (away < touch / half + 2 * facet))[0]
        mine = mine[:: int(np.ceil(len(mine) / _MOST))]
        if len(mine) < _FEWEST:
            return None
        # Which side of the scan the ball is on: with an edge that stands out, inside.
        first = mine[np.argmax((facing[0] + facing[1])[mine])]
        inwards = np.sign(np.median((off[0] + off[1])[mine]))
        start = p[first] + inwards * radius * (own[0] + own[1])[first] / max(2 * half, 1e-9)
        ball = rolling_ball(p[mine], sides[0], sides[1], (start, radius))
        surface = None if ball is None else ball.surface()
        if ball is None or surface is None:
            return None
        sigma = float(np.sqrt(np.mean(ball.residuals**2)))
        told = (ball.radius, ball.uncertainty, int(ball.inside.sum()), sigma)
        if abs(ball.radius - radius) < 0.05 * radius:
            return told if as_well(ball, surface, p[mine], surface.kind, surface, None, facet) else None
        radius = ball.radius
    return None


def _side(p: np.ndarray, n: np.ndarray, e: Element) -> Side | None:
    """Places beside an edge fitted with a surface of the kind of its face."""
    try:
        f = fit(e.kind, p, normals=n, correlated=False, near=e)
        keep = np.abs(f.residuals) <= 3.5 * 1.4826 * float(np.median(np.abs(f.residuals))) + 1e-12
        return Side.of(fit(e.kind, p[keep], normals=n[keep], near=f.element))
    except BadInput:
        return None
