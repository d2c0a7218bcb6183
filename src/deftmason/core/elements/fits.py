"""Orthogonal least-squares fits of elements, with uncertainty: which element do these points lie on, and how surely?

Planes and lines are eigenproblems; the curved elements run Levenberg–Marquardt from several starts in a centred,
scaled frame and finish with Gauss–Newton steps on a QR factorisation, so they end at the minimum to machine precision.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..errors import BadArgument, BadInput
from .held import PlaceHold, fit_held
from .how_sure import covariance, curved_uncertainty, flat_uncertainty, in_place, split_sigmas
from .models import DirectionHold
from .motion import unit
from .searching import robust_search, search, start_at
from .shapes import Cone, Element, Line, Plane, Sphere

__all__ = ["Fit", "FIT_KINDS", "fit"]

#: Fewest points each kind needs.
FIT_KINDS = {"plane": 3, "line": 2, "circle": 3, "cylinder": 5, "cone": 6, "sphere": 4, "torus": 7}

_LARGEST = 300.0  # sizes of the data: an element larger than this is none that they show


@dataclass(frozen=True)
class Fit:
    """An element with its evidence. Lengths in mm.

    ``residuals`` (n,) are signed orthogonal distances; ``uncertainty`` holds one standard deviation for each contract
    parameter (a list for vectors); ``inflation`` is the factor correlated noise put on the variances.
    """

    element: Element
    residuals: np.ndarray = field(repr=False)
    sigma: float
    max_distance: float
    uncertainty: dict
    inflation: float
    extent: tuple[float, float] | None

    @property
    def kind(self) -> str:
        return self.element.kind


def _closed_form(kind, p, w, hold) -> Element:
    c = np.average(p, axis=0, weights=w)
    q = (p - c) * np.sqrt(w)[:, None]
    if hold is not None and hold.parallel:
        d = hold.vector
    else:
        if hold is not None:
            q = q - np.outer(q @ hold.vector, hold.vector)
        _, s, vt = np.linalg.svd(np.linalg.qr(q, mode="r") if len(q) > 3 else q, full_matrices=True)
        order = list(vt)
        if kind == "line":
            d = order[0]
        elif hold is None:
            d = order[2]
        else:  # least scatter among directions square to the hold
            rows = [v - (v @ hold.vector) * hold.vector for v in order]
            rows = [v / np.linalg.norm(v) for v in rows if np.linalg.norm(v) > 0.5]
            d = rows[-1] if len(rows) < 3 else rows[1]
            d = np.cross(hold.vector, rows[0]) if rows else d
            d /= np.linalg.norm(d)
    return Plane(c, d) if kind == "plane" else Line(c, d)


def _canonical(e: Element, normals_hint=None) -> Element:
    """A repeatable choice between a direction and its opposite where the element does not care."""
    key = "normal" if hasattr(e, "normal") else "direction"
    if isinstance(e, (Cone, Sphere)):
        return e
    d = getattr(e, key)
    if normals_hint is not None and isinstance(e, Plane):
        flip = normals_hint @ d < 0
    else:
        flip = d[int(np.argmax(np.abs(np.round(d, 9))))] < 0
    return type(e)(**{**e.__dict__, key: -d}) if flip else e


def fit(
    kind: str,
    points,
    *,
    normals=None,
    weights=None,
    parallel=None,
    perpendicular=None,
    radius: float | None = None,
    through=None,
    axis=None,
    angle=None,
    robust: bool = False,
    correlated: bool = True,
    near: Element | None = None,
) -> Fit:
    """Fit one element to points by orthogonal least squares.

    Parameters
    ----------
    kind : one of `FIT_KINDS`.
    points : (n, 3) in mm.
    normals : (n, 3) unit surface normals, if known; they help the start and give a plane its outward side.
    weights : (n,) relative weights, default 1.
    parallel, perpendicular : (3,) hold the element's direction (a plane's or circle's normal) along or square to it.
    radius : held radius in mm (a torus's minor radius).
    through : (3,) a place that the surface (a plane) or its axis passes, or a ball's middle.
    axis : place and direction (3,) of the axis that the element's own lies on.
    angle : a direction (3,) and the degrees at which the element's normal or axis stands to it.
    correlated : estimate how far neighbouring residuals are alike, for an honest uncertainty; without it, a quick fit
        that
        only steers a search: good to a small part of the scatter, and without uncertainty.
    near : an element the fit will be close to: searched from there.
    robust : reweight by Tukey's biweight so that outliers do not count (Huber, Ronchetti 2009, §7.8).

    Raises
    ------
    BadArgument : unknown kind or contradictory holds.  BadInput : too few or degenerate points.
    """
    if kind not in FIT_KINDS:
        raise BadArgument(f"There is no element of kind '{kind}'; choose one of {', '.join(FIT_KINDS)}.", field="kind")
    if parallel is not None and perpendicular is not None:
        raise BadArgument("Give either parallel or perpendicular, not both.", field="parallel")
    if radius is not None and not (np.isfinite(radius) and radius > 0):
        raise BadArgument("The held radius must be a length above 0 mm.", field="radius")
    p = np.ascontiguousarray(points, float)
    if p.ndim != 2 or p.shape[1] != 3 or len(p) < FIT_KINDS[kind]:
        raise BadInput(f"A {kind} needs at least {FIT_KINDS[kind]} points; there are {len(p)}.")
    w = np.ones(len(p)) if weights is None else np.asarray(weights, float)
    if through is not None or axis is not None or angle is not None:
        place = PlaceHold(through, axis, angle, parallel, perpendicular)
        return _fit_in_place(kind, p, w, normals, place, radius, robust, correlated, near)
    hold = None
    if parallel is not None:
        hold = DirectionHold(unit(parallel, field="parallel"), True)
    elif perpendicular is not None:
        hold = DirectionHold(unit(perpendicular, field="perpendicular"), False)
    centroid = p.mean(axis=0)
    q = p - centroid
    scale = float(np.sqrt(np.mean(q**2) * 3))
    if scale < 1e-12:
        raise BadInput(f"All {len(p)} points are in one place; a {kind} needs points that are spread out.")
    q = q / scale
    span = np.linalg.svd(np.linalg.qr(q, mode="r") if len(q) > 3 else q, compute_uv=False)
    if kind != "line" and span[1] < 1e-9 * span[0]:
        raise BadInput(f"The points lie on one straight line; a {kind} cannot be told from them.")
    held = None if radius is None else radius / scale

    rounds = 12 if robust else 1
    weight, model, element = w, None, None
    start = start_at(near, kind, q, centroid, scale, hold, held)
    for turn in range(rounds):
        if kind in ("plane", "line"):
            element = _closed_form(kind, q, weight, hold)
        else:
            if turn == 0 and robust:
                model = robust_search(kind, FIT_KINDS[kind], q, normals, w, hold, held)
            else:
                model = search(kind, q, normals, weight, hold, held, start, not correlated)
            start, element = model, model.element()
        if robust:
            d = element.distance(q)
            spread = 1.4826 * np.median(np.abs(d))
            if spread < 1e-12:
                break
            u = d / (4.685 * spread)
            new = w * np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0)
            if turn > 0 and np.max(np.abs(new - weight)) < 1e-7:
                break
            weight = new
    assert element is not None
    local = in_place(kind, element, centroid, scale)
    if kind == "torus" and max(local.major_radius, local.minor_radius) > _LARGEST * scale:
        raise BadInput(
            "No ring passes near these points: the nearest is hundreds of times larger than they "
            "are; try another kind or a larger patch."
        )
    r = local.distance(p) if kind not in ("circle", "line") else element.distance(q) * scale
    used = weight > 0
    uncertainty: dict = {}
    inflation = 1.0
    if correlated and kind in ("plane", "line"):
        uncertainty, inflation = flat_uncertainty(local, p, weight, hold)
    elif correlated:
        assert model is not None
        uncertainty, inflation = curved_uncertainty(kind, model, q, weight, centroid, scale)
    hint = None if normals is None else np.asarray(normals, float).mean(axis=0)
    local = _canonical(local, hint)
    extent = None
    if hasattr(local, "direction"):
        base = getattr(local, "point", getattr(local, "apex", getattr(local, "center", None)))
        along = (p - base) @ local.direction
        extent = (float(along.min()), float(along.max()))
    sigma = float(np.sqrt(np.sum(weight * r**2) / weight.sum()))
    if isinstance(local, Plane):
        r = local.distance(p)
    return Fit(local, r, sigma, float(np.max(np.abs(r[used]))), uncertainty, inflation, extent)


def _fit_in_place(kind, p, w, normals, hold: PlaceHold, radius, robust, correlated, near) -> Fit:
    """A fit that is held in place, from the nearest free one."""
    if near is None or near.kind != kind:
        near = fit(kind, p, normals=normals, weights=w, radius=radius, robust=robust, correlated=False).element
    weight, e = w, near
    for _ in range(12 if robust else 1):
        e = fit_held(e, p, hold, radius=radius, weights=weight)[0]
        if not robust:
            break
        spread = 1.4826 * float(np.median(np.abs(e.distance(p))))
        u = e.distance(p) / max(4.685 * spread, 1e-12)
        new = w * np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0)
        same, weight = np.max(np.abs(new - weight)) < 1e-7, new
        if same:
            break
    sigmas, inflation = np.zeros(0), 1.0
    if correlated:
        e, sigmas, inflation = fit_held(e, p, hold, radius=radius, weights=weight, covariance=covariance)
    e = _canonical(e, None if normals is None else np.asarray(normals, float).mean(axis=0))
    r = e.distance(p)
    extent = None
    if hasattr(e, "direction"):
        along = (p - getattr(e, "point", getattr(e, "apex", getattr(e, "center", None)))) @ e.direction
        extent = (float(along.min()), float(along.max()))
    sigma = float(np.sqrt(np.sum(weight * r**2) / weight.sum()))
    told = split_sigmas(e, sigmas) if correlated else {}
    return Fit(e, r, sigma, float(np.max(np.abs(r[weight > 0]))), told, inflation, extent)
