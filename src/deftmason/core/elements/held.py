"""Surfaces held in place: fitted through a point, about a given axis or at an angle to a direction.

What is left free is told by few numbers: turns of the direction that the hold allows, moves of the place that it
allows, and sizes. They are found by a trust-region least-squares search (Branch, Coleman, Li 1999, *A subspace,
interior, and conjugate gradient method for large-scale bound-constrained minimization problems*) on the elements' own
distances, in a centred, scaled frame.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .motion import perpendicular_pair, unit
from .shapes import Cone, Cylinder, Element, Plane, Sphere, Torus

__all__ = ["HELD_KINDS", "PlaceHold", "fit_held"]

#: What can be held in place.
HELD_KINDS = ("plane", "cylinder", "cone", "sphere", "torus")
_STEP = 1e-6  # in the scaled frame
_TIGHT = 1e-15


@dataclass(frozen=True)
class PlaceHold:
    """``through`` (3,) mm: a plane contains it, an axis passes it, a ball has its middle there. ``axis``: a place and a
    direction (3,) that the element's own axis lies on. ``angle``: a direction (3,) and the angle in degrees at which
    the element's normal or axis stands to it. ``parallel``, ``perpendicular`` (3,): the direction it is along or square
    to.
    """

    through: np.ndarray | None = None
    axis: tuple[np.ndarray, np.ndarray] | None = None
    angle: tuple[np.ndarray, float] | None = None
    parallel: np.ndarray | None = None
    perpendicular: np.ndarray | None = None

    def in_frame(self, middle: np.ndarray, scale: float) -> PlaceHold:
        """The same in coordinates about ``middle`` in units of ``scale``."""

        def at(p):
            return (np.asarray(p, float) - middle) / scale

        return PlaceHold(
            None if self.through is None else at(self.through),
            None if self.axis is None else (at(self.axis[0]), unit(self.axis[1])),
            None if self.angle is None else (unit(self.angle[0]), float(self.angle[1])),
            None if self.parallel is None else unit(self.parallel),
            None if self.perpendicular is None else unit(self.perpendicular),
        )


class _Direction:
    """The directions a hold allows about the one it starts from: 0, 1 or 2 turns."""

    def __init__(self, start: np.ndarray, hold: PlaceHold):
        along = hold.axis[1] if hold.axis is not None else hold.parallel
        given = sum(h is not None for h in (along, hold.perpendicular, hold.angle))
        if given > 1:
            raise BadInput(
                "One direction is enough: hold it along, square to or at an angle to one datum.", field="along"
            )
        self.about: np.ndarray | None = None
        self.turns = 2
        self.start = start
        if along is not None:
            self.turns, self.start = 0, along if along @ start >= 0 else -along
            return
        about, angle = (hold.perpendicular, 90.0) if hold.angle is None else hold.angle
        if about is not None:
            self.turns = 1
            self.about = about if about @ start >= 0 else -about
            across = start - (start @ self.about) * self.about
            off = float(np.linalg.norm(across))
            across = across / off if off > 1e-9 else perpendicular_pair(self.about)[0]
            a = np.radians(angle)
            self.start = np.cos(a) * self.about + np.sin(a) * across

    def at(self, x: np.ndarray) -> np.ndarray:
        if self.turns == 0:
            return self.start
        if self.about is not None:
            c, s, d, u = np.cos(x[0]), np.sin(x[0]), self.start, self.about
            return d * c + np.cross(u, d) * s + u * float(u @ d) * (1 - c)
        e, f = perpendicular_pair(self.start)
        d = self.start + x[0] * e + x[1] * f
        return d / np.linalg.norm(d)


class _Held:
    """An element as a function of the few numbers that its holds leave free."""

    def __init__(self, start: Element, hold: PlaceHold, radius: float | None):
        self.kind, self.hold, self.radius = start.kind, hold, radius
        way = start.normal if isinstance(start, Plane) else getattr(start, "direction", np.array([0.0, 0.0, 1.0]))
        self.way = _Direction(np.asarray(way, float), hold)
        if self.kind == "sphere":
            self.way.turns = 0
        self.turns = self.way.turns
        self.anchor = hold.through if hold.through is not None else (None if hold.axis is None else hold.axis[0])
        place = getattr(start, {"cone": "apex", "sphere": "center", "torus": "center"}.get(self.kind, "point"))
        self.place = np.asarray(place, float)
        self.sizes = {
            "plane": [],
            "cylinder": ["radius"],
            "cone": ["half_angle_deg"],
            "sphere": ["radius"],
            "torus": ["major_radius", "minor_radius"],
        }[self.kind]
        self.fixed = {"cylinder": "radius", "sphere": "radius", "torus": "minor_radius"}.get(self.kind)
        free = [s for s in self.sizes if radius is None or s != self.fixed]
        self.start = np.array([0.0] * (self.turns + self._moves()) + [getattr(start, s) for s in free])
        self.free = free
        if self.anchor is not None:  # along the axis from where it is held
            d = self.way.start
            along = float((self.place - self.anchor) @ d)
            if self._moves() == 1 and self.kind != "plane":
                self.start[self.turns] = along

    def _moves(self) -> int:
        """How many numbers tell where it is."""
        if self.anchor is None:
            return {"plane": 1, "cylinder": 2}.get(self.kind, 3)
        if self.kind == "sphere":
            return 1 if self.hold.axis is not None else 0
        return {"plane": 0, "cylinder": 0}.get(self.kind, 1)

    def at(self, x: np.ndarray) -> Element:
        d = self.way.at(x[: self.turns])
        m = x[self.turns : self.turns + self._moves()]
        sizes = dict(zip(self.free, x[self.turns + self._moves() :]))
        if self.radius is not None and self.fixed is not None:
            sizes[self.fixed] = self.radius
        place = self._place(d, m)
        if self.kind == "plane":
            return Plane(place, d)
        if self.kind == "cylinder":
            return Cylinder(place, d, sizes["radius"])
        if self.kind == "cone":
            return Cone(place, d, sizes["half_angle_deg"])
        if self.kind == "sphere":
            return Sphere(place, sizes["radius"])
        return Torus(place, d, sizes["major_radius"], sizes["minor_radius"])

    def _place(self, d: np.ndarray, m: np.ndarray) -> np.ndarray:
        if self.anchor is not None:
            return self.anchor + (m[0] * d if len(m) else 0.0)
        if len(m) == 1:
            return self.place + m[0] * self.way.start
        if len(m) == 2:
            e, f = perpendicular_pair(self.way.start)
            return self.place + m[0] * e + m[1] * f
        return self.place + m


def _back(e: Element, middle: np.ndarray, scale: float) -> Element:
    """Out of the centred, scaled frame; a plane's and a cylinder's place beside the data."""
    lengths = ("radius", "major_radius", "minor_radius")
    values = {k: v * scale if k in lengths else v for k, v in e.__dict__.items()}
    for key in ("point", "apex", "center"):
        if key in values:
            p = values[key]
            if isinstance(e, Plane):
                p = e.normal * float(p @ e.normal)
            elif isinstance(e, Cylinder):
                p = p - e.direction * float(p @ e.direction)
            values[key] = p * scale + middle
    return type(e)(**values)


def _slopes(of, x: np.ndarray) -> np.ndarray:
    """Central differences (m, k)."""
    steps = _STEP * np.maximum(1.0, np.abs(x))
    moved = [(of(x + h * e), of(x - h * e), h) for e, h in zip(np.eye(len(x)), steps)]
    return np.column_stack([(a - b) / (2 * h) for a, b, h in moved])


def fit_held(
    start: Element, points, hold: PlaceHold, *, radius: float | None = None, weights=None, covariance=None
) -> tuple[Element, np.ndarray, float]:
    """The element of the start's kind nearest to points (n, 3) in mm as it is held; its parameters' standard deviations
    (flat, in the order of `Element.parameters`) and by how much alike noise made their variances grow.

    ``radius`` mm is held (of a ring the tube's); ``weights`` (n,). ``covariance`` (places, weights, residuals, slopes)
    tells the covariance of what is free; without it there are no deviations.

    Raises
    ------
    BadInput : a kind that cannot be held in place, or more than one direction given.
    """
    from scipy.optimize import least_squares

    if start.kind not in HELD_KINDS:
        raise BadInput(f"A {start.kind} cannot be held in place; take a flat or round surface.", field="through")
    if hold.axis is not None and start.kind == "plane":
        raise BadInput(
            "A flat face has no axis of its own; hold it square to the axis, or through a point.", field="about"
        )
    p = np.asarray(points, float)
    w = np.ones(len(p)) if weights is None else np.asarray(weights, float)
    middle = p.mean(axis=0)
    scale = float(np.sqrt(np.mean((p - middle) ** 2) * 3)) or 1.0
    q, sw = (p - middle) / scale, np.sqrt(w / w.mean())
    inside = {k: v / scale if "radius" in k else v for k, v in start.__dict__.items()}
    for key in ("point", "apex", "center"):
        if key in inside:
            inside[key] = (inside[key] - middle) / scale
    held = _Held(type(start)(**inside), hold.in_frame(middle, scale), None if radius is None else radius / scale)

    def off(x):
        return held.at(x).distance(q)

    x = held.start
    if len(x):
        got = least_squares(
            lambda x: off(x) * sw, x, jac=lambda x: _slopes(off, x) * sw[:, None], x_scale="jac",
            xtol=_TIGHT, ftol=_TIGHT, gtol=_TIGHT, max_nfev=80,
        )  # fmt: skip
        x = got.x
    e = held.at(x)
    here = _flat(_back(e, middle, scale))
    if covariance is None or not len(x):
        return _back(e, middle, scale), np.zeros(len(here)), 1.0
    c, inflation = covariance(e.feet(q), w, off(x), _slopes(off, x))
    grad = _slopes(lambda x: _flat(_back(held.at(x), middle, scale)), x)
    var = np.einsum("ij,jk,ik->i", grad, c, grad)
    return _back(e, middle, scale), np.sqrt(np.maximum(var, 0)), inflation


def _flat(e: Element) -> np.ndarray:
    return np.concatenate([np.atleast_1d(np.asarray(v, float)) for v in e.parameters().values()])
