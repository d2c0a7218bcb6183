"""What a scan has beside an edge of a body: places along it, the faces at both sides as the scan has them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..elements import Element, Fit, fit
from ..errors import BadInput

__all__ = ["BESIDE", "FACING_COS", "FEWEST", "MOST", "OFF", "SMALLEST", "Beside", "Edge", "Face", "face_beside"]

#: A face's surface, and 1 where its own normals look out of the body, else -1.
Face = tuple[Element, float]

_FIRST = 24.0  # facets from the edge that are looked at first
BESIDE = 12.0  # facets beyond where a rounding or a chamfer ends, within which a side is fitted
FEWEST, MOST = 25, 6000  # places of a side; of a rounding
FACING_COS = float(np.cos(np.radians(15.0)))
OFF = 0.35, 3.0  # of where it ends, and facets: how far the scan may lie off the model's face
SMALLEST = 0.7  # facets: a smaller radius is a sharp edge as a scan shows it
CALM = 6.0  # facets at either end of an open edge, where other faces begin
_STRAY = 0.3  # in cosines: how much farther than from face to face a place between them may turn


@dataclass
class Beside:
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


class Edge:
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

    def beside(self, p: np.ndarray, n: np.ndarray, reach: float) -> Beside:
        """The scan's places within ``reach`` mm of the edge, away from its ends."""
        low, high = self.stations.min(axis=0) - reach, self.stations.max(axis=0) + reach
        near = np.nonzero(((p > low) & (p < high)).all(axis=1))[0]
        away, at = cKDTree(self.stations).query(p[near], distance_upper_bound=reach)
        inset = 0 if self.closed else int(np.ceil(CALM * self.facet / self.length * len(self.stations)))
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
        return Beside(p, n, away, at, own, facing, off, seen)

    def gap(self, b: Beside) -> float:
        """How far the scan stays away from the edge by and large, mm; 0 where none of it is seen."""
        gap = np.full(len(self.stations), np.inf)
        np.minimum.at(gap, b.at[b.seen], b.away[b.seen])
        gap = gap[np.isfinite(gap)]
        return float(np.median(gap)) if len(gap) else 0.0

    def looked_at(
        self, p: np.ndarray, n: np.ndarray, most: float, ends: Callable[[float], float]
    ) -> tuple[Beside, float]:
        """What lies beside it as far as both faces are seen, and its `gap`; ``ends`` says how far from the edge what
        lies between the faces ends, by that gap. Nothing farther than ``most`` mm is looked at.
        """
        reach = min(_FIRST * self.facet, most)
        while True:
            b = self.beside(p, n, reach)
            gap = self.gap(b) if len(b.p) >= 3 * FEWEST else 0.0
            if ends(gap) + BESIDE * self.facet <= reach or reach >= most:
                return b, gap
            reach = min(2 * reach, most)

    def told(self, most_open: float) -> bool:
        """Whether anything between its faces could be told: they turn enough, and it is long enough."""
        return self.half < most_open and (self.closed or self.length >= 3 * CALM * self.facet)


def face_beside(b: Beside, k: int, ends: float, e: Element, facet: float) -> Fit | None:
    """The scan's places beside an edge on its ``k``-th face, fitted with a surface of the kind of that face ``e``.

    ``ends`` : mm from the edge where what lies between the faces ends.  Returns None where too little is seen.
    """
    on = (b.away > ends + facet) & (b.away < ends + BESIDE * facet)
    on &= (b.facing[k] > FACING_COS) & (np.abs(b.off[k]) < OFF[0] * ends + OFF[1] * facet)
    p, n = b.p[on], b.n[on]
    if len(p) < FEWEST:
        return None
    try:
        f = fit(e.kind, p, normals=n, correlated=False, near=e)
        keep = np.abs(f.residuals) <= 3.5 * 1.4826 * float(np.median(np.abs(f.residuals))) + 1e-12
        return fit(e.kind, p[keep], normals=n[keep], near=f.element)
    except BadInput:
        return None
