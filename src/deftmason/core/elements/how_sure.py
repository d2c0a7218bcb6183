"""How sure a fit's parameters are: standard deviations from the fit's own frame carried to the place and size of the
data.
"""

from __future__ import annotations

import numpy as np

from .models import Model
from .motion import perpendicular_pair
from .searching import evaluated
from .shapes import Circle, Cone, Cylinder, Element, Line, Plane, Sphere, Torus
from .uncertainty import correlated_covariance, noise_model

__all__ = ["covariance", "curved_uncertainty", "flat_uncertainty", "in_place", "split_sigmas"]

_MANY = 10_000  # points tell the noise of any number


def in_place(kind: str, e: Element, centroid, scale) -> Element:
    """Undo centring and scaling and apply the contract's choice of point."""
    s = scale
    if isinstance(e, Plane):
        return Plane(e.point * s + centroid, e.normal)
    if isinstance(e, Line):
        return Line(e.point * s + centroid, e.direction)
    if isinstance(e, Circle):
        return Circle(e.center * s + centroid, e.normal, e.radius * s)
    if isinstance(e, Cylinder):
        foot = e.point - (e.point @ e.direction) * e.direction
        return Cylinder(foot * s + centroid, e.direction, e.radius * s)
    if isinstance(e, Cone):
        return Cone(e.apex * s + centroid, e.direction, e.half_angle_deg)
    if isinstance(e, Sphere):
        return Sphere(e.center * s + centroid, e.radius * s)
    assert isinstance(e, Torus)
    return Torus(e.center * s + centroid, e.direction, e.major_radius * s, e.minor_radius * s)


def _flat(e: Element) -> np.ndarray:
    return np.concatenate([np.atleast_1d(np.asarray(v, float)) for v in e.parameters().values()])


def covariance(p, w, r, j, each: float = 1.0) -> tuple[np.ndarray, float]:
    """Covariance of the free parameters whose Jacobian is ``j``, with residuals alike from place to place as they are
    found to be; and by how much that made it grow. ``r`` and ``j`` may hold several residuals a point, one after the
    other. ``p`` are the points' feet on the element: off it, the residuals would be a smooth wave over the places.
    ``each`` stands for so many points.
    """
    parts = len(r) // len(p)
    used = w > 0
    s = np.sqrt(w[used] / w[used].mean())
    # Residuals across each other are not alike: the others are kept as if they lay far away.
    away = 1e3 * float(np.linalg.norm(np.ptp(p, axis=0)) + 1e-300)
    places = np.concatenate([p[used] + k * away for k in range(parts)])
    several = np.tile(used, parts)
    weighed = j[several] * np.tile(s, parts)[:, None]
    noise = noise_model(p[used], r[: len(p)][used], j[: len(p)][used])
    if parts > 1:  # all of them scatter alike
        own = float(np.mean(r[: len(p)][used] ** 2))
        whole = float(np.sum(r[several] ** 2)) / max(int(several.sum()) - j.shape[1], 1)
        more = whole / max(own, 1e-300) if noise.common is not None else whole / max(noise.sigma2, 1e-300)
        noise = noise.times(more)
    return correlated_covariance(places, weighed, noise, each=each)


def curved_uncertainty(kind, model: Model, p, w, centroid, scale) -> tuple[dict, float]:
    basis = model.free()
    here = _flat(in_place(kind, model.element(), centroid, scale))
    if basis.shape[1] == 0:
        return split_sigmas(in_place(kind, model.element(), centroid, scale), np.zeros(len(here))), 1.0
    n = len(p)
    if n > _MANY:
        some = np.sort(np.random.default_rng(13).choice(n, _MANY, replace=False))
        p, w = p[some], w[some]
    r, j = evaluated(model, p)
    cov, inflation = covariance(model.element().feet(p), w, r, j @ basis, n / len(p))
    step = 1e-6
    moved = [_flat(in_place(kind, model.moved_by(step * b).element(), centroid, scale)) for b in basis.T]
    grad = (np.column_stack(moved) - here[:, None]) / step
    var = np.einsum("ij,jk,ik->i", grad, cov, grad)
    return split_sigmas(in_place(kind, model.element(), centroid, scale), np.sqrt(np.maximum(var, 0))), inflation


def split_sigmas(e: Element, sigmas) -> dict:
    out, i = {}, 0
    for key, value in e.parameters().items():
        if isinstance(value, list):
            out[key] = sigmas[i : i + len(value)].tolist()
            i += len(value)
        else:
            out[key] = float(sigmas[i])
            i += 1
    return out


def flat_uncertainty(e: Element, p, w, hold) -> tuple[dict, float]:
    """Of a plane or a line: how far it may be shifted across itself, and turned."""
    d = e.normal if isinstance(e, Plane) else e.direction
    q = p - np.average(p, axis=0, weights=w)
    places = e.feet(p)
    u, v = perpendicular_pair(d)
    if isinstance(e, Plane):
        r, turns = q @ d, [u, v]
        if hold is not None:
            turns = [] if hold.parallel else [np.cross(d, hold.vector)]
        j = np.column_stack([np.ones(len(q)), *(q @ t for t in turns)])
        cov, inflation = covariance(places, w, r, j)
        t = np.array(turns).reshape(-1, 3)
        tilt = np.einsum("ki,kl,li->i", t, cov[1:, 1:], t)
        place = d**2 * cov[0, 0]
    else:
        r = np.concatenate([q @ u, q @ v])
        j = np.column_stack([np.ones(len(q)), q @ d]) if hold is None or not hold.parallel else np.ones((len(q), 1))
        none = np.zeros_like(j)
        cov, inflation = covariance(places, w, r, np.block([[j, none], [none, j]]))
        k = j.shape[1]
        place = u**2 * cov[0, 0] + v**2 * cov[k, k]
        tilt = u**2 * cov[1, 1] + v**2 * cov[k + 1, k + 1] if k == 2 else np.zeros(3)
    return split_sigmas(e, np.sqrt(np.maximum(np.concatenate([place, tilt]), 0))), inflation
