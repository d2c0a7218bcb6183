"""The ball that rolls between two known surfaces: a rounding's radius, held tangent to what it rounds.

A narrow rounding alone tells its radius badly: it is a short arc, whose ends run on into its sides. Its sides are large
and well known, and the ball that touches both has one number left (Várady, Martin, Cox 1997, *Reverse engineering of
geometric models*, §6; Kós, Martin, Várady 2000, *Methods to recover constant radius rolling ball blends in reverse
engineering*). Each place is asked of the ball that stands in the plane of both sides' normals there.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from ..errors import BadInput
from .fits import Fit, fit
from .shapes import Cone, Cylinder, Element, Plane, Torus
from .uncertainty import NoiseModel, correlated_covariance, noise_model, shared_normal

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

__all__ = ["RollingBall", "Side", "middle_of_tube", "rolling_ball"]

_LEAST_TURN_DEG = 12.0  # between the sides: less hardly tells a radius
_ROUNDS = 30
_FEWEST = 12
_OUTLIER = 4.0  # scatters
_SAME_WAVES = 0.2  # of the variance: a fit that changes it by less leaves the waves of the noise as they were found
_COLLAPSED = 0.02  # of the radius it began with
_SETTLED, _STEERED = 1e-5, 1e-2  # of the scatter: steps below that change nothing, or nothing that steers
_ASTRAY = 0.02  # of the radius: how far the balls' middles may lie off the line or circle they follow


@dataclass(frozen=True)
class Side:
    """A surface that a rounding runs into, and one standard deviation of its place, mm, and of its lean, radians.

    ``places`` (k, 3) that are known to lie on it: where none is within ``reach`` mm, the side is not there, and the
    rounding between is another's.
    """

    element: Element
    offset: float = 0.0
    lean: float = 0.0
    places: np.ndarray | None = field(default=None, repr=False)
    reach: float = 0.0

    @cached_property
    def near(self) -> cKDTree:
        """The ``places``, to be asked which are near."""
        from scipy.spatial import cKDTree

        assert self.places is not None
        return cKDTree(self.places, balanced_tree=False)

    @staticmethod
    def of(f: Fit, places: np.ndarray | None = None, reach: float = 0.0) -> Side:
        """The side that was fitted."""
        u = f.uncertainty
        place = u.get("point", u.get("center", u.get("apex", 0.0)))
        across = float(np.linalg.norm(place)) if f.kind == "plane" else float(u.get("radius", np.linalg.norm(place)))
        lean = float(np.linalg.norm(u.get("normal", u.get("direction", 0.0))))
        return Side(f.element, across, lean, places, reach)

    def loose_at(self, place: np.ndarray) -> float:
        """One standard deviation of where the side lies beside a place (3,), mm: its lean carried there from its
        middle.
        """
        if not isinstance(self.element, Plane):
            return self.offset
        return float(np.hypot(self.offset, self.lean * np.linalg.norm(place - self.element.point)))


@dataclass(frozen=True)
class RollingBall:
    """``radius`` mm with one standard deviation; ``inside`` (n,) which places lie on the ball between its two ``sides``
    and spoke, ``residuals`` (k,) theirs, mm; ``centres`` (k, 3) the ball's middle beside each; ``width`` of the arc
    between where it touches, mm.
    """

    radius: float
    uncertainty: float
    inside: np.ndarray = field(repr=False)
    residuals: np.ndarray = field(repr=False)
    centres: np.ndarray = field(repr=False)
    sides: tuple[Side, Side]
    signs: tuple[float, float]
    width: float
    shifts: tuple[float, float] = (0.0, 0.0)
    inflation: float = 1.0

    def surface(self) -> Element | None:
        """The cylinder or ring that the ball sweeps; None where its middle follows neither a line nor a circle."""
        line = fit("line", self.centres, correlated=False)
        limit = _ASTRAY * self.radius
        if np.quantile(np.abs(line.residuals), 0.95) <= limit:
            return Cylinder(line.element.point, line.element.direction, self.radius)
        try:
            ring = fit("circle", self.centres, correlated=False)
        except BadInput:
            return None
        if np.quantile(np.abs(ring.residuals), 0.95) > limit or ring.element.radius <= self.radius:
            return None
        return Torus(ring.element.center, ring.element.normal, ring.element.radius, self.radius)

    def holds(self, points) -> np.ndarray:
        """Which places (n, 3) lie between the lines along which the ball touches its sides, where these are (n,)."""
        from .touching import balls_beside  # compiled: not for what only tells of elements

        p = np.asarray(points, float)
        b = balls_beside(p, (self.sides[0].element, self.sides[1].element), self.signs, self.radius, self.shifts)
        return b.between & _touched(b.centres, self.radius, self.sides, self.signs)

    def as_fit(self, surface: Element) -> Fit:
        """The ball as a fit of the surface it sweeps, told with its standard deviations."""
        offset = float(np.hypot(self.sides[0].offset, self.sides[1].offset))
        lean = float(np.hypot(self.sides[0].lean, self.sides[1].lean))
        place = float(np.hypot(offset, self.uncertainty)) / np.sqrt(3)
        told: dict = {}
        for key, value in surface.parameters().items():
            if isinstance(value, list):
                told[key] = [(lean if key == "direction" else place * np.sqrt(3)) / np.sqrt(3)] * 3
            else:
                told[key] = place * float(np.sqrt(3)) if key == "major_radius" else self.uncertainty
        r = self.residuals
        sigma, most = float(np.sqrt(np.mean(r**2))), float(np.max(np.abs(r)))
        extent = None
        if isinstance(surface, Cylinder):
            along = (self.centres - surface.point) @ surface.direction
            extent = (float(along.min()), float(along.max()))
        return Fit(surface, r, sigma, most, told, self.inflation, extent)


def middle_of_tube(element: Element, place: np.ndarray) -> tuple[np.ndarray, float]:
    """The middle (3,) of the ball inside a cylinder, cone or ring that touches it beside a place, and its radius,
    mm.
    """
    p = np.asarray(place, float)[None]
    foot, n = element.feet(p)[0], element.normals(p)[0]
    if isinstance(element, Cone):
        d = foot - element.apex
        radial = d - (d @ element.direction) * element.direction
        rho = float(np.linalg.norm(radial))
        radius = rho * rho / max(abs(float(n @ radial)), 1e-9 * rho)
    else:
        radius = float(element.minor_radius if isinstance(element, Torus) else element.radius)
    return foot - radius * n, radius


def _touched(c, radius: float, sides, signs) -> np.ndarray:
    """Whether both sides are there where the ball with its middle at each of some places (n, 3) touches them (n,)."""
    out = np.ones(len(c), bool)
    for side, sign in zip(sides, signs):
        if side.places is not None:
            foot = c - sign * radius * side.element.normals(c)
            out &= np.isfinite(side.near.query(foot, distance_upper_bound=side.reach)[0])
    return out


def rolling_ball(
    points, first: Side, second: Side, near: tuple[np.ndarray, float], *, sure: bool = True
) -> RollingBall | None:
    """The ball tangent to two surfaces that fits places on and beside a rounding best. The sides are shifted as far as
    the places ask for and their standard deviations allow.

    Parameters
    ----------
    points : (n, 3) mm, those of the rounding and some of its sides: which lie on the ball is found.
    near : about where the ball's middle is, (3,) mm, and its radius, mm, as `middle_of_tube` tells them.
    sure : weigh noise and sides a second time, for an honest uncertainty; without, to steer by.

    Returns None where no ball touches both, or the sides turn too little between them to tell.
    """
    p = np.asarray(points, float)
    sides = (first, second)
    middle = np.asarray(near[0], float)[None]
    signs = (_side_of(first, middle), _side_of(second, middle))
    found = _Search(p, sides, signs, float(near[1]))
    held = np.zeros((3, 3))
    if not found.settle(held, _STEERED) or (found.keep_touched() and not found.settle(held, _STEERED)):
        return None
    loose = np.array([s.loose_at(found.touches(k)) for k, s in enumerate(sides)])
    # Sides that lie off look like noise that is alike until they are shifted: first as if it were not.
    noise, inflation = NoiseModel(float(np.mean(found.residuals[found.inside] ** 2))), 1.0
    prior = _prior(noise.sigma2, loose, noise)
    if not found.settle(prior, _STEERED):
        return None
    if sure:
        # Then what the places say counts as their noise lets it, against how well each side is known.
        noise, inflation = found.noise()
        prior = _prior(noise.sigma2 * inflation, loose, noise)
        before = float(np.mean(found.residuals[found.inside] ** 2))
        if not found.settle(prior):
            return None
        grown = float(np.mean(found.residuals[found.inside] ** 2)) / max(before, 1e-300)
        noise = noise.times(grown) if abs(grown - 1) < _SAME_WAVES else found.noise()[0]
    covariance = found.covariance(prior, noise, noise.sigma2 * inflation)
    inside = found.inside
    told = float(np.sqrt(max(float(covariance[0, 0]), 0.0)))
    shifts = (float(found.x[1]), float(found.x[2]))
    c, r = found.centres[inside], found.residuals[inside]
    width = 2 * float(found.x[0]) * found.half_turn
    return RollingBall(float(found.x[0]), told, inside, r, c, sides, signs, width, shifts, inflation)


def _prior(unit: float, loose: np.ndarray, noise: NoiseModel) -> np.ndarray:
    """What is known of the radius (nothing) and of both sides' shifts before, in units of the places' variance (3, 3);
    a side that is said to lie where it lies is all but held.
    """
    if noise.sigma2 < 1e-200:
        return np.diag([0.0, 1e6, 1e6])
    return np.diag([0.0, *(unit / np.maximum(loose, 1e-3 * float(np.sqrt(noise.sigma2))) ** 2)])


def _side_of(side: Side, place: np.ndarray) -> float:
    return 1.0 if float(side.element.distance(place)[0]) >= 0 else -1.0


class _Search:
    """Gauss–Newton on the radius and the sides' shifts, over the places that lie between where the ball touches."""

    def __init__(self, p: np.ndarray, sides: tuple[Side, Side], signs: tuple[float, float], radius: float):
        self.p, self.sides, self.signs = p, sides, signs
        self.x = np.array([radius, 0.0, 0.0])
        self.least = _COLLAPSED * radius
        self.largest = 2 * float(np.linalg.norm(np.ptp(p, axis=0)))
        self.touched = self.trimmed = np.ones(len(p), bool)

    def keep_touched(self) -> bool:
        """Leave out the places beside which a side is not there; whether there are any."""
        touched = _touched(self.centres, self.x[0], self.sides, self.signs)
        self.touched = touched
        return not touched.all()

    def _look(self) -> bool:
        from .touching import balls_beside  # compiled: not for what only tells of elements

        elements = self.sides[0].element, self.sides[1].element
        b = balls_beside(self.p, elements, self.signs, self.x[0], self.x[1:])
        middling = float(np.median(b.half))
        if not np.isfinite(b.far).all() or middling < 0.05 or middling > np.cos(np.radians(_LEAST_TURN_DEG / 2)):
            return False
        between = b.between & self.touched
        self.half_turn = float(np.arccos(np.clip(middling, 0, 1)))
        self.between, self.inside = between, between & self.trimmed
        self.centres, self.residuals, self.slopes = b.centres, b.far - self.x[0], b.slopes
        return int(self.inside.sum()) >= _FEWEST

    def settle(self, prior: np.ndarray, least: float = _SETTLED) -> bool:
        """Steps until they are ``least`` of the scatter; ``prior`` (3, 3) what is known before, all of it zero where
        the sides stay. Returns whether a ball was found.
        """
        free = np.array([True, prior.any(), prior.any()])
        for turn in range(_ROUNDS):
            if not self._look():
                return False
            j, r = self.slopes[self.inside], self.residuals[self.inside]
            m = j.T @ j + prior
            step = np.zeros(3)
            try:
                step[free] = np.linalg.solve(m[np.ix_(free, free)], -(j.T @ r + prior @ self.x)[free])
            except np.linalg.LinAlgError:
                return False
            step *= min(1.0, 0.5 * self.x[0] / max(float(np.abs(step).max()), 1e-300))
            if turn >= 2:
                left = np.abs(self.residuals + self.slopes @ step)
                self.trimmed = left <= _OUTLIER * 1.4826 * float(np.median(left[self.between])) + 1e-12
            self.x = self.x + step
            if not self.least < self.x[0] < self.largest:
                return False
            if turn > 3 and float(np.abs(step).max()) < max(1e-9 * self.x[0], least * float(np.sqrt(np.mean(r**2)))):
                break
        return self._look()

    def _feet(self) -> np.ndarray:
        u = self.p[self.inside] - self.centres[self.inside]
        r = self.residuals[self.inside]
        return self.p[self.inside] - u * (r / np.maximum(np.linalg.norm(u, axis=1), 1e-300))[:, None]

    def touches(self, side: int) -> np.ndarray:
        """Where the ball touches a side, in the middle of all places (3,)."""
        c = self.centres[self.inside].mean(axis=0)[None]
        return (c - self.sides[side].element.distance(c)[:, None] * self.sides[side].element.normals(c))[0]

    def noise(self) -> tuple[NoiseModel, float]:
        """The noise that the ball leaves, and by how much a parameter's variance grew as neighbours are alike."""
        r, j, feet = self.residuals[self.inside], self.slopes[self.inside], self._feet()
        model = noise_model(feet, r, j)
        return model, correlated_covariance(feet, j, model)[1]

    def covariance(self, prior: np.ndarray, noise: NoiseModel, unit: float) -> np.ndarray:
        """Of the radius and both shifts (3, 3), as they were weighed with ``prior`` in units of ``unit`` mm²."""
        j = self.slopes[self.inside]
        inverse = np.linalg.inv(j.T @ j + prior)
        alike = shared_normal(self._feet(), j, noise) if noise.common is not None else noise.sigma2 * (j.T @ j)
        return inverse @ (alike + prior * unit) @ inverse
