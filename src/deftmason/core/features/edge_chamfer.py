"""The chamfer along an edge of a body: the flat or cone between the edge's two faces as the scan has them.

How far a place lies inside either face, taken together as two coordinates across the edge, puts a chamfer on one
straight line whatever the faces are: between flat faces a plane, between a flat and a round one a cone about the same
axis. Where that line meets the faces are its two legs.
"""

from __future__ import annotations

import numpy as np

from .edge_beside import FEWEST, MOST, SMALLEST, Beside, Edge, Face, face_beside

__all__ = ["held_chamfer"]

_ROUNDS, _SETTLED = 8, 0.02
_MIDST = 0.7  # of the chamfer's breadth, from its middle, that speaks
_TURN = 0.05  # half the turn from face to face, as 1 less its cosine, that an edge has at least
_BENT = 0.035  # of its depth that it may bulge from the line: half of what a rounding does
_UNSURE = 2.2  # how much noise says of a bulge, by what it says of a height
_BLOCKS, _ALIKE = 10, 12.0  # stretches of an edge that say how sure a leg is; places that share their noise
_SHARED = 1.6  # by how much more the noise that stretches share, and the facets' corners, move a leg


def held_chamfer(
    p: np.ndarray, n: np.ndarray, line: np.ndarray, faces: tuple[Face, Face], facet: float, most: float
) -> tuple[np.ndarray, np.ndarray, int, float] | None:
    """Both legs (2,) of the chamfer along an edge, on its first and its second face, their standard deviations, how
    many places spoke and their scatter, mm.

    Parameters
    ----------
    p, n : (k, 3) the scan's places and normals, as the edge's ``line`` (m, 3) in the frame.
    faces : the surfaces that meet at the edge.  facet : mm.  most : mm from the edge that is looked at.

    Returns None where a side is too little seen, or what lies between the faces is no chamfer.
    """
    edge = Edge(line, faces, facet)
    if edge.half < 0.05 or not edge.told(1 - _TURN):
        return None
    sine = float(np.sqrt(1 - edge.half**2))
    b, gap = edge.looked_at(p, n, most, lambda gap: gap / sine)
    legs = np.full(2, gap / sine)
    for _ in range(_ROUNDS):
        if not (legs > 2 * SMALLEST * facet).all() or legs.max() > most:
            return None
        told = _one_line(edge, b, legs)
        if told is None:
            return None
        settled = np.abs(told[0] - legs).max() < _SETTLED * legs.max()
        legs = told[0]
        if settled:
            return told
    return None


def _one_line(edge: Edge, b: Beside, legs: np.ndarray) -> tuple[np.ndarray, np.ndarray, int, float] | None:
    """The chamfer of about these legs, its sides taken where it leaves them."""
    facet, turn = edge.facet, 2 * float(np.sqrt(1 - edge.half**2)) * edge.half  # the sine of the turn
    sides = [face_beside(b, k, legs[k], e, facet) for k, (e, _) in enumerate(edge.faces)]
    if sides[0] is None or sides[1] is None:
        return None
    near = np.nonzero(b.seen & (b.away < legs.max() + 2 * facet))[0]
    near = near[:: int(np.ceil(max(len(near), 1) / MOST))]
    # Its own normals may look the other way than those of the model's face.
    out = [np.sign(np.einsum("ij,ij->", s.element.normals(b.p), b.own[k])) for k, s in enumerate(sides) if s]
    off = np.array([s.element.distance(b.p[near]) * o for s, o in zip(sides, out) if s])
    inwards = 1.0 if np.median(off.sum(axis=0)) < 0 else -1.0
    deep = -inwards * off / turn  # as legs: (leg, 0) where it meets the second face, (0, leg) at the first
    share = deep / legs[::-1, None]
    along = share[1] - share[0]
    mine = (np.abs(along) < _MIDST) & (np.abs(share.sum(axis=0) - 1) < 0.5)
    for _ in range(4):
        if mine.sum() < FEWEST:
            return None
        x, y = along[mine], share.sum(axis=0)[mine]
        c = np.polynomial.polynomial.polyfit(x, y, 2)
        left = share.sum(axis=0) - np.polynomial.polynomial.polyval(along, c)
        spread = 1.4826 * float(np.median(np.abs(left[mine])))
        mine = (np.abs(along) < _MIDST) & (np.abs(left) <= 3.5 * spread + 1e-9)
    scatter = spread * float(legs.mean())
    unsure = _UNSURE * spread * np.sqrt(_ALIKE / mine.sum())
    if abs(c[2]) * _MIDST**2 > _BENT or 2 * unsure > _BENT:
        return None
    at = b.at[near][mine]
    x, y = along[mine], share.sum(axis=0)[mine]
    found = _legs(x, y, legs)
    parts = np.array_split(np.argsort(at, kind="stable"), _BLOCKS)
    each = np.array([_legs(x[k], y[k], legs) for k in parts if len(k) >= 8])
    own = _SHARED * each.std(axis=0, ddof=1) / np.sqrt(len(each)) if len(each) > 2 else np.full(2, scatter)
    lie = [s.sigma * np.sqrt(_ALIKE / max(len(s.residuals), 1)) / turn for s in sides if s]
    return found, np.hypot(own, max(lie)), int(mine.sum()), scatter


def _legs(along: np.ndarray, together: np.ndarray, legs: np.ndarray) -> np.ndarray:
    """Where the line through places on a chamfer meets both faces: ``together`` is a + b ``along``, as legs guessed."""
    b, a = np.polyfit(along, together, 1)
    # A place (s, t) in shares of the legs as guessed: t + s = a + b (t - s); at t = 0 and at s = 0.
    return np.array([a / (1 - b) * legs[0], a / (1 + b) * legs[1]])
