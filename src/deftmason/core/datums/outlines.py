"""Circles, slots and rectangles read from the wall that stands along them: one click on it, on a plane given or found.

The wall is what runs on from the place and faces square to the plane's normal. Where no plane is given, the ways that
flats about the place face are tried: round a closed outline the wall's facets, as vectors, sum to nothing (the
divergence theorem), which tells the right way. The shapes are fitted to the wall's corners, seen along the normal.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Circle, Element, Plane, Rectangle, Slot
from ..elements.paper_shapes import (
    OUTLINES,
    STEP,
    best_kind,
    evaluated,
    fitted,
    long_way,
    off_shape,
    seen,
    shape_of,
    slopes,
    upright,
)
from ..errors import BadInput
from ..scan.index import ScanIndex
from .walls import LEANS, OPEN, TRUE_SHAPE, found_wall, lean_of, openness, places_on, too_few, wall_about

__all__ = ["OUTLINES", "Outline", "outlines"]

_FEW = 1500  # places that tell how a wall runs


@dataclass(frozen=True)
class Outline:
    """``element`` on the plane, its parameters' standard deviations; ``scatter`` mm; the wall's ``facets``; how far
    it leans (degrees); ``aside``: places left out; ``found``: whether the plane was.
    """

    element: Element
    uncertainty: dict
    scatter: float
    facets: np.ndarray
    lean_deg: float
    aside: int
    residuals: np.ndarray
    found: bool


def outlines(
    index: ScanIndex, place, *, normal=None, plane: Plane | None = None, along=None, kind: str | None = None
) -> list[Outline]:
    """What the outline of the wall at a place (3,) mm could be, the likeliest first; of one ``kind`` where asked.

    ``plane`` : the plane it lies on; without one it lies at the place, and the wall tells the way. ``along`` (3,) : the
    way its long axis runs.

    Raises
    ------
    BadInput : where no closed wall stands about the place, or it is none of the shapes.
    """
    at = np.asarray(place, float)
    seed, _ = index.nearest_facet(at, None if normal is None else np.asarray(normal, float))
    if plane is None:
        facets, up = found_wall(index, seed, at)
        on = at
    else:
        up, on = plane.normal, plane.point
        facets = wall_about(index, seed, up)
        if too_few(index, facets) or openness(index, facets, up) > OPEN:
            raise BadInput(
                "The wall at this place does not go all the way round, seen along the plane's normal; click another "
                "wall, or give another plane.",
                field="pick",
            )
    return _told(index, facets, at, up, on, along, kind, plane is None)


def _told(index, facets, at, up, on, along, kind, found) -> list[Outline]:
    m = index.mesh
    n, a = m.normals[facets], m.areas[facets]
    lean = lean_of(index, facets, up)
    p = places_on(index, facets, up, at)
    middle = p.mean(axis=0)
    p = p - middle
    scale = float(np.sqrt(np.mean(p**2) * 3))
    held = along is not None

    def turn_of(q, e, f):
        if along is not None:
            return float(np.arctan2(np.asarray(along) @ f, np.asarray(along) @ e))
        return long_way(q, np.column_stack([n @ e, n @ f]), a)

    if found and abs(lean) <= LEANS:
        few = np.random.default_rng(4).permutation(len(p))[:_FEW]
        up = upright(p[few] / scale, up, turn_of, held)
    q, e, f = seen(p / scale, np.zeros(3), up)
    turn = turn_of(q, e, f)
    few = np.random.default_rng(4).permutation(len(q))[:_FEW]
    fits = {}
    for k in OUTLINES if kind is None else (kind,):
        begun = fitted(k, q[few], turn, held)
        fits[k] = begun if len(few) == len(q) else fitted(k, q, turn, held, [begun[1]])
    first = best_kind(fits)
    order = [first, *sorted((k for k in fits if k != first), key=lambda k: fits[k][0])]
    out = []
    for k in order:
        _, x, keep, scatter = fits[k]
        fixed = turn if held else None
        space = _Space(k, fixed, scale, middle, up, e, f, on)
        element, sigmas = space.placed(x, p[keep] / scale)
        r = off_shape(k, q, x, fixed) * scale
        aside = int((~keep).sum())
        out.append(Outline(element, sigmas, scatter * scale, facets, float(np.degrees(lean)), aside, r, found))
    wide = getattr(out[0].element, "width", 2 * getattr(out[0].element, "radius", 0.0))
    if out[0].scatter > TRUE_SHAPE * wide and kind is None:
        raise BadInput(
            f"The outline is no circle, slot or rectangle: the nearest, a {out[0].element.kind}, scatters by "
            f"{out[0].scatter:.3g} mm. Cut it in a sketch instead.",
            field="pick",
        )
    return out


@dataclass(frozen=True)
class _Space:
    """Where the paper that a shape was fitted on lies: ``scale`` mm about ``middle``, seen along ``up``; ``on``: a
    place on the outline's plane; ``turn``: of the long axis, where it is held.
    """

    kind: str
    turn: float | None
    scale: float
    middle: np.ndarray
    up: np.ndarray
    e: np.ndarray
    f: np.ndarray
    on: np.ndarray

    def element(self, x: np.ndarray) -> Element:
        s = shape_of(self.kind, x, self.turn)
        c = self.middle + self.scale * (s.center[0] * self.e + s.center[1] * self.f)
        c = c - self.up * float((c - self.on) @ self.up)
        if isinstance(s, Circle):
            return Circle(c, self.up, s.radius * self.scale)
        d = s.direction[0] * self.e + s.direction[1] * self.f
        length, width = s.length * self.scale, s.width * self.scale  # type: ignore[attr-defined]
        if isinstance(s, Rectangle):
            return Rectangle(c, self.up, d, length, width, s.corner * self.scale)
        return Slot(c, self.up, d, length, width)

    def placed(self, x: np.ndarray, p: np.ndarray) -> tuple[Element, dict]:
        """The shape in space, and its parameters' standard deviations from the places it kept (scaled, n × 3)."""
        from ..elements.uncertainty import correlated_covariance, noise_model

        q = np.column_stack([p @ self.e, p @ self.f])

        def off(x):
            return off_shape(self.kind, q, x, self.turn)

        def flat(x):
            values = self.element(x).parameters().values()
            return np.concatenate([np.atleast_1d(np.asarray(v, float)) for v in values])

        j = evaluated(self.kind, q, x, self.turn)[1]
        moving = np.linalg.norm(j, axis=0) > 1e-9  # a corner as sharp as can be moves nothing
        j, grad = j[:, moving], slopes(flat, x, STEP)[:, moving]
        covariance = correlated_covariance(p, j, noise_model(p, off(x), j))[0]
        left = list(np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", grad, covariance, grad), 0)))
        element, told = self.element(x), {}
        for key, value in element.parameters().items():
            told[key] = [left.pop(0) for _ in value] if isinstance(value, list) else left.pop(0)
        return element, told
