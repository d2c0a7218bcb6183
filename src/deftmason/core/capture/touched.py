"""Elements from touches of a ball probe. A touch tells where the ball's middle came to rest; the surface lies a radius
farther, along the element's own normal, not along the way the probe was led: so the element is fitted to the middles
and moved by the radius to the side that was led to.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..elements import Circle, Cylinder, Fit, Line, Plane, fit, unit
from ..errors import BadInput

__all__ = ["Probed", "Touches", "one_side", "probed"]

_LEAST = {"plane": 4, "line": 3, "circle": 4, "rounding": 4}  # one more than needed: it tells how well they agree
_BOTH = 0.975
_LEAST_ROWS = 7  # touches of a rounding in several rows: two more than its cylinder needs
_ROWS_AGREE = 0.3  # times the scatter about a circle: touches that lie on a cylinder so much better are in rows
_OFF_FLAT = 0.3  # and they lie off one plane by more than they scatter about the cylinder
_ROUND = 0.35  # share of the middles' own extent that a rounding's arc bows by at least, else it tells no radius


@dataclass(frozen=True)
class Touches:
    """``balls`` (k, 3) middles, ``along`` (k, 3) unit directions the probe was led in, ``radius`` of the ball, mm."""

    balls: np.ndarray
    along: np.ndarray
    radius: float

    @staticmethod
    def of(balls, along, radius: float) -> Touches:
        b, a = np.asarray(balls, float).reshape(-1, 3), np.asarray(along, float).reshape(-1, 3)
        if len(b) != len(a):
            raise BadInput("Each touch has a middle and a direction.", field="touches")
        return Touches(b, a / np.linalg.norm(a, axis=1, keepdims=True), float(radius))


@dataclass(frozen=True)
class Probed:
    """An element on the surface that was touched: ``fit`` of the balls' middles, ``element`` moved onto the surface;
    ``outside``: of something round, whether it was touched from outside.
    """

    element: Plane | Line | Circle
    fit: Fit
    outside: bool | None = None


def probed(kind: str, touches: Touches, normal: np.ndarray | None = None) -> Probed:
    """A 'plane', 'line', 'circle' (of a bore or a boss) or 'rounding' (an arc across a fillet, in one row or in
    several along it) from touches.

    ``normal`` (3,): what a circle stands square to, where that is known; its touches may then lie at several heights.
    Raises `BadInput` where there are too few, or where they do not tell it.
    """
    if kind not in _LEAST:
        raise BadInput(f"'{kind}' is nothing that touches are read as.", field="kind")
    if len(touches.balls) < _LEAST[kind]:
        raise BadInput(f"A {kind} takes {_LEAST[kind]} touches or more; take another.", field="touches")
    if kind == "plane":
        found = _plane(touches)
    elif kind == "line":
        found = _line(touches)
    else:
        found = _circle(touches, kind, normal)
    n = len(touches.balls)
    free = {"plane": n - 3, "line": 2 * n - 4}.get(kind, n - 3 if normal is not None else 2 * n - 6)
    if found.fit.element.kind == "cylinder":
        free = n - 5
    return replace(found, fit=_honest(found.fit, free))


def _honest(f: Fit, free: int) -> Fit:
    """Few touches tell their scatter badly: uncertainties as wide as Student's t asks for with ``free`` residuals left
    (Gosset 1908), so that twice of them holds 95 % however few there are.
    """
    from scipy.stats import norm as normal_law
    from scipy.stats import t as student

    wider = float(student.ppf(_BOTH, free) / normal_law.ppf(_BOTH))
    return replace(f, uncertainty={k: (np.asarray(u) * wider).tolist() for k, u in f.uncertainty.items()})


def _plane(t: Touches) -> Probed:
    f = fit("plane", t.balls)
    n = f.element.normal
    side = one_side(t.along @ n, "plane")
    # Outward: against the way the probe was led.
    return Probed(Plane(f.element.point + side * t.radius * n, -side * n), f)


def _line(t: Touches) -> Probed:
    """The line on the touched face that runs along the touches."""
    f = fit("line", t.balls)
    d = f.element.direction
    across = t.along.mean(axis=0)
    across = across - (across @ d) * d
    if np.linalg.norm(across) < 0.2:
        raise BadInput("The probe was led along the line; lead it across to the face.", field="touches")
    return Probed(Line(f.element.point + t.radius * unit(across), d), f)


def _circle(t: Touches, kind: str, normal: np.ndarray | None) -> Probed:
    balls = t.balls
    if normal is not None:
        n = unit(normal)
        balls = balls - ((balls - balls.mean(axis=0)) @ n)[:, None] * n
    f = fit("circle", balls, parallel=normal)
    c = f.element
    if kind == "rounding" and normal is None and (rows := _in_rows(balls, f.sigma)) is not None:
        f, c = rows
    from_middle = balls - c.center
    from_middle = from_middle - (from_middle @ c.normal)[:, None] * c.normal
    inward = -np.einsum("ij,ij->i", t.along, from_middle) / np.maximum(np.linalg.norm(from_middle, axis=1), 1e-300)
    outside = one_side(inward, kind) > 0
    radius = c.radius - t.radius if outside else c.radius + t.radius
    if radius <= 0:
        raise BadInput("What was touched is smaller than the probe's own ball; take a smaller ball.", field="touches")
    if kind == "rounding":
        _bows(from_middle, c.radius)
    return Probed(Circle(c.center, c.normal, radius), f, outside)


def _in_rows(balls: np.ndarray, scatter: float) -> tuple[Fit, Circle] | None:
    """Touches across a rounding in several rows along it: the cylinder they lie on and its circle amid them; None where
    one row, a circle with that ``scatter``, says as much.
    """
    if len(balls) < _LEAST_ROWS:
        return None
    try:
        f = fit("cylinder", balls)
    except BadInput:
        return None
    flat = float(np.linalg.svd(balls - balls.mean(axis=0), compute_uv=False)[2]) / np.sqrt(len(balls))
    if f.sigma > _ROWS_AGREE * min(scatter, _OFF_FLAT * flat):
        return None
    e: Cylinder = f.element  # type: ignore[assignment]
    middle = e.point + ((balls.mean(axis=0) - e.point) @ e.direction) * e.direction
    return f, Circle(middle, e.direction, e.radius)


def _bows(from_middle: np.ndarray, radius: float) -> None:
    """Refuse an arc so short that touches tell no radius of it."""
    u = unit(from_middle[0])
    turn = np.arccos(np.clip(np.einsum("ij,j->i", from_middle, u) / radius, -1, 1))
    span = float(np.ptp(turn))
    if span < _ROUND:
        says = f"The touches span {np.degrees(span):.0f}° of the rounding; spread them over more of it."
        raise BadInput(says, field="touches")


def one_side(led: np.ndarray, kind: str) -> float:
    """Which side touches were led to: +1 or −1. Raises where they were led to both."""
    side = np.sign(led[np.abs(led) > 0.1])
    if len(side) == 0 or abs(side.sum()) < len(side):
        raise BadInput(f"The {kind} was touched from both sides; take it from one.", field="touches")
    return float(side[0])
