"""Circles, slots and rectangles on paper: fitted to places (n, 2) by signed distance, what stands off left out.

Distances of slots and rounded rectangles are in closed form, with their slopes by the shape's numbers and the places;
orthogonal least squares by Levenberg and Marquardt (Moré 1978).
"""

from __future__ import annotations

import numpy as np

from .motion import perpendicular_pair, unit
from .shapes import Circle, Element, Rectangle, Slot

__all__ = [
    "OUTLINES",
    "STEP",
    "best_kind",
    "evaluated",
    "fitted",
    "long_way",
    "off_shape",
    "seen",
    "shape_of",
    "slopes",
    "upright",
]

#: The shapes an outline may have, simplest first.
OUTLINES = ("circle", "slot", "rectangle")
STEP = 1e-6  # of a difference, in the scaled paper

_FEWEST = 24
_ALIKE = 1.08  # times the least scatter: a simpler shape within that is the one
_OFF = 3.5
_FLAT = 0.01
_FINE = 1e-4  # of the outline's size: what is off by less is not off
_TIGHT = {"xtol": 1e-12, "ftol": 1e-12, "gtol": 1e-12}


def seen(p: np.ndarray, middle: np.ndarray, up: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    e, f = perpendicular_pair(up)
    return np.column_stack([(p - middle) @ e, (p - middle) @ f]), e, f


def long_way(q: np.ndarray, n: np.ndarray, a: np.ndarray) -> float:
    """The turn (radians) of the long axis, from the ways that the wall's flats face."""
    four = float(np.angle(np.sum(a * np.exp(4j * np.arctan2(n[:, 1], n[:, 0]))))) / 4
    spans = []
    for t in (four, four + np.pi / 2):
        spans.append(float(np.ptp(q @ [np.cos(t), np.sin(t)])))
    return four if spans[0] >= spans[1] else four + np.pi / 2


def shape_of(kind: str, x: np.ndarray, turn: float | None) -> Element:
    """A shape on the paper from its few numbers; ``turn`` where the long axis is held."""
    up = np.array([0.0, 0.0, 1.0])
    centre = np.array([x[0], x[1], 0.0])
    if kind == "circle":
        return Circle(centre, up, abs(x[2]))
    sizes = x[2:] if turn is not None else x[3:]
    t = x[2] if turn is None else turn
    along = np.array([np.cos(t), np.sin(t), 0.0])
    if kind == "slot":
        length, width = abs(sizes[0]), abs(sizes[1])
        return Slot(centre, up, along, max(length, width), width)
    length, width = abs(sizes[0]), abs(sizes[1])
    return Rectangle(centre, up, along, length, width, float(np.clip(sizes[2], 0.0, 0.5 * min(length, width))))


def off_shape(kind: str, q: np.ndarray, x: np.ndarray, turn: float | None) -> np.ndarray:
    """Signed distances (n,) of places (n, 2) from a shape, positive outside."""
    return evaluated(kind, q, x, turn)[0]


def evaluated(kind: str, q: np.ndarray, x: np.ndarray, turn: float | None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Distances (n,), their slopes by the shape's numbers (n, k) and by the places (n, 2)."""
    d = q - x[:2]
    if kind == "circle":
        far = np.maximum(np.hypot(d[:, 0], d[:, 1]), 1e-12)
        g = d / far[:, None]
        return far - x[2], np.column_stack([-g, -np.ones(len(q))]), g
    t = x[2] if turn is None else turn
    c, s = np.cos(t), np.sin(t)
    along, across = d[:, 0] * c + d[:, 1] * s, d[:, 1] * c - d[:, 0] * s
    length, width = x[2 if turn is not None else 3], x[3 if turn is not None else 4]
    sx, sy = np.sign(along), np.sign(across)
    if kind == "slot":
        u = np.maximum(np.abs(along) - 0.5 * (length - width), 0.0)
        far = np.maximum(np.hypot(u, across), 1e-12)
        r, gu, gv = far - 0.5 * width, u / far, np.abs(across) / far
        sizes = [-0.5 * gu, 0.5 * gu - 0.5]
    else:
        corner = x[-1]
        u, v = np.abs(along) - 0.5 * length + corner, np.abs(across) - 0.5 * width + corner
        pu, pv = np.maximum(u, 0), np.maximum(v, 0)
        far = np.hypot(pu, pv)
        inside = far == 0
        r = far + np.minimum(np.maximum(u, v), 0) - corner
        far = np.where(inside, 1.0, far)
        gu = np.where(inside, (u >= v).astype(float), pu / far)
        gv = np.where(inside, (u < v).astype(float), pv / far)
        sizes = [-0.5 * gu, -0.5 * gv, gu + gv - 1.0]
    gu, gv = gu * sx, gv * sy
    g = np.column_stack([gu * c - gv * s, gu * s + gv * c])
    turns = [] if turn is not None else [gu * across - gv * along]
    return r, np.column_stack([-g, *turns, *sizes]), g


def _starts(kind: str, q: np.ndarray, turn: float, held: bool) -> list[np.ndarray]:
    r = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    low, high = np.quantile(q @ r.T, [0.005, 0.995], axis=0)
    centre, (length, width) = r.T @ ((low + high) / 2), high - low
    at = [*centre] if held else [*centre, turn]
    if kind == "circle":
        return [np.array([*centre, 0.25 * (length + width)])]
    if kind == "slot":
        return [np.array([*at, length, width])]
    return [np.array([*at, length, width, c * min(length, width)]) for c in (0.05, 0.3)]


def slopes(of, x: np.ndarray, step: float) -> np.ndarray:
    return np.column_stack([(of(x + step * e) - of(x - step * e)) / (2 * step) for e in np.eye(len(x))])


def fitted(kind: str, q: np.ndarray, turn: float, held: bool, starts=None):
    """What one shape costs (scatter by the share kept), its numbers, what it kept, and its scatter (scaled places)."""
    from scipy.optimize import least_squares

    best = None
    fixed = turn if held else None
    for x in _starts(kind, q, turn, held) if starts is None else starts:
        keep = np.ones(len(q), bool)
        for _ in range(6):
            some = q[keep]
            x = least_squares(
                lambda x, q=some: evaluated(kind, q, x, fixed)[0],
                x,
                jac=lambda x, q=some: evaluated(kind, q, x, fixed)[1],
                method="lm",
                **_TIGHT,
            ).x
            x = _sane(kind, x, held)
            new = _kept(np.abs(off_shape(kind, q, x, fixed)))
            if (new == keep).all() or new.sum() < _FEWEST:
                break
            keep = new
        scatter = float(np.sqrt(np.mean(off_shape(kind, q[keep], x, fixed) ** 2)))
        cost = scatter * len(q) / keep.sum()
        if best is None or cost < best[0]:
            best = cost, x, keep, scatter
    return best


def _sane(kind: str, x: np.ndarray, held: bool) -> np.ndarray:
    """Sizes as an outline has them: above nothing, the length not below the width of a slot, corners that fit in."""
    x = x.copy()
    first = 2 if held or kind == "circle" else 3
    x[first:] = np.abs(x[first:])
    if kind == "slot":
        x[first] = max(x[first], x[first + 1])
    if kind == "rectangle":
        x[-1] = min(x[-1], 0.5 * min(x[first], x[first + 1]))
    return x


def _kept(r: np.ndarray) -> np.ndarray:
    return r <= max(_OFF * 1.4826 * float(np.median(r)), _FINE)


def best_kind(fits: dict) -> str:
    """The simplest shape that scatters as little as the best, or nearly."""
    least = min(f[0] for f in fits.values())
    return next(k for k in fits if fits[k][0] <= _ALIKE * least + _FINE)


def upright(p: np.ndarray, up: np.ndarray, turn_of, held: bool) -> np.ndarray:
    """The way a wall that stands upright runs (3,): the shape's numbers and two small turns of it, fitted together."""
    from scipy.optimize import least_squares

    if float(np.ptp(p @ up)) < _FLAT * float(np.sqrt(np.mean(p**2) * 3)):
        return up  # places at one height tell nothing of it
    kind = None
    for _ in range(4):
        q, e, f = seen(p, np.zeros(3), up)
        h, turn = p @ up, turn_of(q, e, f)
        if kind is None:
            fits = {k: fitted(k, q, turn, held) for k in OUTLINES}
            kind = best_kind(fits)
            fit = fits[kind]
        else:
            fit = fitted(kind, q, turn, held)
        x, keep, fixed = fit[1], fit[2], turn if held else None

        def tipped(y, kind=kind, q=q[keep], h=h[keep], fixed=fixed):
            r, j, g = evaluated(kind, q - np.outer(h, y[-2:]), y[:-2], fixed)
            return r, np.column_stack([j, -g * h[:, None]])

        y = np.concatenate([x, [0.0, 0.0]])
        t = least_squares(lambda y, of=tipped: of(y)[0], y, jac=lambda y, of=tipped: of(y)[1], method="lm", **_TIGHT).x[
            -2:
        ]
        up = unit(up + t[0] * e + t[1] * f)
        if np.linalg.norm(t) < 1e-6:
            break
    return up
