"""Curves drawn in space: splines through places with tension and handles, and polylines with rounded corners.

Splines pass their places at centripetal parameters (Lee 1989, "Choosing nodes in parametric curve interpolation",
Computer-Aided Design 21).
"""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .spatial import CurvePiece, SpaceCurve, arc_through, line, spline_piece

__all__ = ["rounded", "through", "through_points"]


def _distinct(places, closed: bool) -> np.ndarray:
    p = np.asarray(places, float).reshape(-1, 3)
    least = 3 if closed else 2
    if len(p) < least:
        raise BadInput(
            f"A{' closed' if closed else 'n open'} curve goes through {least} places or more.", field="places"
        )
    size = float(np.linalg.norm(np.ptp(p, axis=0)))
    steps = np.linalg.norm(np.diff(np.vstack([p, p[:1]]) if closed else p, axis=0), axis=1)
    if size <= 0 or steps.min() < 1e-7 * size:
        raise BadInput("Two places of the curve are the same; move one.", field="places")
    return p


def through(
    places,
    *,
    closed: bool = False,
    tension: float = 0.0,
    handles: dict[int, np.ndarray] | None = None,
) -> SpaceCurve:
    """A cubic through ``places`` (n, 3). ``tension`` 0 is the smoothest, 1 runs straight from one to the next;
    ``handles`` by place: the direction (3,) the curve has there, its length how far it goes before it turns, mm.
    """
    from scipy.interpolate import BSpline, make_interp_spline

    p = _distinct(places, closed)
    handles = handles or {}
    ring = np.vstack([p, p[:1]]) if closed else p
    t = np.concatenate([[0], np.cumsum(np.sqrt(np.linalg.norm(np.diff(ring, axis=0), axis=1)))])
    if len(ring) == 2 and not handles:
        return SpaceCurve((line(*ring),))
    if len(ring) == 3 and not closed:
        # Three places fix a parabola; it is a cubic of its own.
        smooth = make_interp_spline(t, ring, k=2)
    elif len(ring) == 2:
        smooth = make_interp_spline(t, ring, k=1)
    else:
        smooth = make_interp_spline(t, ring, k=3, bc_type="periodic" if closed else "natural")
    tangents = np.atleast_2d(smooth(t, nu=1)) * (1 - tension)
    if tension == 0 and not handles and len(ring) > 3:
        return SpaceCurve((_clamped(smooth),), closed)
    steps = np.diff(t)
    arms = np.stack([tangents[:-1] * steps[:, None] / 3, tangents[1:] * steps[:, None] / 3], axis=1)
    for k, h in handles.items():
        for place in {k, len(ring) - 1} if closed and k == 0 else {k}:
            if place < len(ring) - 1:
                arms[place, 0] = h
            if place > 0:
                arms[place - 1, 1] = h
    poles = [ring[0]]
    for k in range(len(steps)):
        poles += [ring[k] + arms[k, 0], ring[k + 1] - arms[k, 1], ring[k + 1]]
    # Bézier pieces as one spline that is smooth where its places are.
    knots = np.concatenate([[t[0]] * 4, np.repeat(t[1:-1], 3), [t[-1]] * 4])
    return SpaceCurve((spline_piece(BSpline(knots, np.array(poles), 3)),), closed)


def _clamped(spline) -> CurvePiece:
    """A spline with knots that end where it does."""
    from scipy.interpolate import make_interp_spline

    d = spline.k
    low, high = spline.t[d], spline.t[-d - 1]
    if np.allclose(spline.t[: d + 1], low) and np.allclose(spline.t[-d - 1 :], high):
        return spline_piece(spline)
    # A periodic spline has knots beyond its ends; the same polynomials on its own ones.
    inner = np.unique(spline.t[(spline.t > low) & (spline.t < high)])
    knots = np.concatenate([[low] * (d + 1), inner, [high] * (d + 1)])
    greville = np.array([knots[i + 1 : i + d + 1].mean() for i in range(len(knots) - d - 1)]).clip(low, high)
    return spline_piece(make_interp_spline(greville, spline(greville), k=d, t=knots))


def through_points(points, tolerance: float, closed: bool = False, degree: int = 3) -> SpaceCurve:
    """A calm spline along dense ``points`` (n, 3) in order, as near as ``tolerance`` mm rms."""
    from scipy.interpolate import BSpline, splprep

    p = _distinct(points, False)
    if len(p) <= 3:
        return through(p, closed=closed)
    if tolerance <= 0:
        return through(p, closed=closed)
    if closed:
        return _ring_through(p, tolerance)
    (knots, coefficients, k), _ = splprep(p.T, s=len(p) * tolerance**2, k=degree)
    return SpaceCurve((spline_piece(BSpline(knots, np.stack(coefficients, axis=1), k)),), closed)


def _ring_through(p: np.ndarray, tolerance: float) -> SpaceCurve:
    """A calm cubic spline that runs on smoothly where it closes."""
    from scipy.interpolate import BSpline, make_interp_spline, splprep

    if np.linalg.norm(p[0] - p[-1]) > 0:
        p = np.vstack([p, p[:1]])
    (knots, coefficients, k), _ = splprep(p.T, s=len(p) * tolerance**2, k=3, per=True)
    ring = BSpline(knots, np.stack(coefficients, axis=1), k)
    # The same pieces as a clamped spline: places at its knots and both end slopes tell them all.
    at = np.unique(np.clip(knots, 0.0, 1.0))
    slope = ring(0.0, nu=1)
    places = ring(at)
    places[-1] = places[0]
    return SpaceCurve((spline_piece(make_interp_spline(at, places, 3, bc_type=([(1, slope)], [(1, slope)]))),), True)


def rounded(places, radius: float | list[float], *, closed: bool = False) -> SpaceCurve:
    """A polyline whose corners are arcs, each of its own radius, mm (0: sharp).

    Raises `BadInput` where two roundings overlap.
    """
    p = _distinct(places, closed)
    n = len(p)
    radii = np.broadcast_to(np.asarray(radius, float), (n,)).copy()
    corner: list[tuple[np.ndarray, np.ndarray, np.ndarray] | None] = [None] * n
    taken = np.zeros(n)
    for k in range(n) if closed else range(1, n - 1):
        a, b, c = p[k - 1], p[k], p[(k + 1) % n]
        u, v = (a - b) / np.linalg.norm(a - b), (c - b) / np.linalg.norm(c - b)
        half = 0.5 * np.arccos(np.clip(u @ v, -1, 1))
        if radii[k] <= 0 or half > 0.5 * np.pi - 1e-7:
            continue
        if half < 1e-6:
            raise BadInput(f"The curve turns straight back at place {k + 1}; no arc fits there.", field="places")
        leg = radii[k] / np.tan(half)
        bisector = (u + v) / np.linalg.norm(u + v)
        middle = b + bisector * (radii[k] / np.sin(half))
        corner[k] = (b + u * leg, middle - bisector * radii[k], b + v * leg)
        taken[k] = leg
    for k in range(n if closed else n - 1):
        m = (k + 1) % n
        room = float(np.linalg.norm(p[m] - p[k]))
        if taken[k] + taken[m] > room * (1 + 1e-9):
            raise BadInput(
                f"The roundings at places {k + 1} and {m + 1} need {taken[k] + taken[m]:.4g} mm of the {room:.4g} mm "
                "between them; take smaller ones.",
                field="radius",
            )
    pieces: list[CurvePiece] = []
    for k in range(n):
        here = corner[k]
        if here is not None:
            pieces.append(arc_through(*here))
        if k == n - 1 and not closed:
            break
        m = (k + 1) % n
        last, next_ = corner[k], corner[m]
        a = p[k] if last is None else last[2]
        b = p[m] if next_ is None else next_[0]
        if np.linalg.norm(b - a) > 1e-9 * np.linalg.norm(p[m] - p[k]):
            pieces.append(line(a, b))
    return SpaceCurve(tuple(pieces), closed)
