"""Narrow roundings between two zones, told by the ball that is tangent to both: it has one number left, where a free
cylinder or ring on a strip of a few facets has five and more.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..elements import Element, Fit, RollingBall, Side, fit, middle_of_tube, rolling_ball
from ..elements.uncertainty import NoiseModel, correlated_covariance
from ..errors import BadInput
from ..scan.growing import with_rings
from ..scan.index import ScanIndex
from .ground import Ground
from .kinds import own_noise

__all__ = ["NARROW", "THERE", "Roundings", "as_well"]

THERE = 2.5  # facets: a side that is farther from where the ball touches it is not there
NARROW = 8.0  # facets across: of what is narrower no kind can be told without its sides

_KINDS = ("cylinder", "torus", "cone")
_RINGS = 3  # facets of its sides about a rounding that are asked whether they are of it
_FAR_RINGS, _FEWEST = 8, 24
_POINTS, _SIDE_POINTS = 4000, 3000
_AS_WELL = 2.0  # of the free element's scatter: what the ball may leave at most
_AS_ANOTHER = 1.12  # where that is of another kind, as a corner that widens is a cone
_HARDLY, _HARDLY_NARROW = 1.12, 1.4  # of its scatter: less tells nothing, as waves of noise are fitted too
_GAIN = 16.0  # twice the logarithm of the likelihood that three or four more parameters gain by chance, at most
_SHARE = 0.15  # of a rounding's border: what a side takes at least
_WIDE = 16.0  # facets across: a wider one tells itself


def as_well(
    ball: RollingBall, surface: Element, p: np.ndarray, kind: str, near: Element, noise: NoiseModel | None, facet: float
) -> bool:
    """Whether places (n, 3) lie on a ball's ``surface`` as well as on a free element of a ``kind``: it scatters no
    more than the freedom that the other has, and the noise (its own where None is given), account for.

    What the other's parameters gain is told by the likelihood's ratio, of as many places as are independent. ``facet``:
    the size of one, mm; of few of them another kind is no more than a guess.
    """
    q = p[ball.inside]
    narrow = ball.width <= NARROW * facet
    kind = surface.kind if narrow else kind
    try:
        own = fit(kind, q, correlated=False, near=near)
    except BadInput:
        return False
    ratio = float(np.sum(surface.distance(q) ** 2) / max(float(np.sum(own.residuals**2)), 1e-300))
    if ratio > (_AS_WELL if kind == surface.kind else _AS_ANOTHER) ** 2:
        return False
    if ratio < (_HARDLY_NARROW if narrow else _HARDLY) ** 2:
        return True
    feet = own.element.feet(q)
    waves = own_noise(feet, own.residuals) if noise is None else noise
    alike = correlated_covariance(feet, np.ones((len(q), 1)), waves)[1]
    return len(q) / alike * float(np.log(max(ratio, 1.0))) <= _GAIN


class Roundings:
    """The roundings among zones: what each of these labels, fits and borders tells together with its neighbours.

    ``labels`` (m,) of facets, ``fits`` of the zones, None for free ones; ``noise`` as `noise_of` tells it.
    """

    def __init__(self, ground: Ground, labels: np.ndarray, fits: list[Fit | None], noise: NoiseModel | None):
        self.ground, self.labels, self.fits, self.noise = ground, labels, fits, noise
        self._sides: dict[int, Side | None] = {}

    def told(self, zone: int, facets: np.ndarray, beside: dict[int, int]) -> tuple[Element, float] | None:
        """The element of a zone's facets as the ball tangent to two of its neighbours has it, and its scatter, mm; None
        where it is no rounding, or one wide enough to tell itself. ``beside``: edges shared with each neighbour.
        """
        free, index = self.fits[zone], self.ground.index
        if free is None or free.kind not in _KINDS or self.noise is None:
            return None
        sides = sorted((n, j) for j, n in beside.items() if self.fits[j] is not None)[::-1]
        if len(sides) < 2 or sides[1][0] < _SHARE * sum(n for n, _ in sides):
            return None
        if index.mesh.areas[facets].sum() > _WIDE * index.mesh.median_edge * _length(index, facets, free.element):
            return None
        pair = [j for _, j in sides[:2]]
        either = (self.labels == pair[0]) | (self.labels == pair[1])
        near = with_rings(index, facets, _FAR_RINGS, either)
        first, second = (self._side(j, near[self.labels[near] == j]) for j in pair)
        if first is None or second is None:
            return None
        ids = index.corners(with_rings(index, facets, _RINGS, either))
        p = index.mesh.vertices[ids[:: int(np.ceil(len(ids) / _POINTS))]]
        start = middle_of_tube(free.element, index.mesh.centroids[facets[len(facets) // 2]])
        ball = rolling_ball(p, first, second, start, sure=False)
        surface = None if ball is None else ball.surface()
        if ball is None or surface is None:
            return None
        if not as_well(ball, surface, p, free.kind, free.element, self.noise, index.mesh.median_edge):
            return None
        return surface, float(np.sqrt(np.mean(ball.residuals**2)))

    def _side(self, zone: int, near: np.ndarray) -> Side | None:
        """A zone as a side, with the places of its facets ``near`` a rounding."""
        index = self.ground.index
        if zone not in self._sides:
            free = self.fits[zone]
            assert free is not None
            mine = np.nonzero(self.labels == zone)[0]
            inner = mine[index.depth(mine, 2) >= 2]
            ids = index.corners(inner if len(inner) > _FEWEST else mine)
            ids = ids[:: int(np.ceil(len(ids) / _SIDE_POINTS))]
            try:
                self._sides[zone] = Side.of(fit(free.kind, index.mesh.vertices[ids], near=free.element))
            except BadInput:
                self._sides[zone] = None
        side = self._sides[zone]
        places = index.mesh.vertices[index.corners(near)]
        return None if side is None else replace(side, places=places, reach=THERE * index.mesh.median_edge)


def _length(index: ScanIndex, facets: np.ndarray, element: Element) -> float:
    """How long a strip of facets is along the axis of what it lies on, or round it, mm."""
    c = index.mesh.centroids[facets]
    if element.kind != "torus":
        return max(float(np.ptp(c @ element.direction)), index.mesh.median_edge)
    d = c - element.center
    return float(np.median(np.linalg.norm(np.cross(d, element.direction), axis=1))) * 2 * np.pi
