"""Orthogonal least-squares fits of elements, with uncertainty: which element do these points lie on, and how surely?

Planes and lines are eigenproblems; the curved elements run Levenberg–Marquardt from several starts in a centred,
scaled frame and finish with Gauss–Newton steps on a QR factorisation, so they end at the minimum to machine precision.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from ..errors import BadArgument, BadInput
from .held import PlaceHold, fit_held
from .models import ConeModel, DirectionHold, Model, RoundModel, SphereModel, TorusModel
from .motion import perpendicular_pair, unit
from .shapes import Circle, Cone, Cylinder, Element, Line, Plane, Sphere, Torus
from .starts import cone_starts, local_normals, round_starts, sphere_starts, torus_starts
from .uncertainty import correlated_covariance, noise_model

__all__ = ["Fit", "FIT_KINDS", "fit"]

#: Fewest points each kind needs.
FIT_KINDS = {"plane": 3, "line": 2, "circle": 3, "cylinder": 5, "cone": 6, "sphere": 4, "torus": 7}

_START_SAMPLE = 400
_FULL_STARTS = 3
_SAME_COST = 1e-9  # of a cost: minima that differ by less are one
_MANY = 10_000  # points tell the noise of any number
_BLOCK = 4096  # points evaluated at a time
_NORMAL = 60_000  # places whose normal equations tell as much as factors of their Jacobian
_SHORTEST = 1e-12  # steps of a polish, in the fit's scaled frame
_LITTLE = 1e-7  # damping where a sample's minimum is where to start
_FAR_OFF = 1.3  # times the local scatter: an rms above it calls for a wider search
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


def _solve(a: np.ndarray, b: np.ndarray, damping: float = 0.0) -> np.ndarray:
    if damping > 0 or len(a) > _NORMAL:
        m = a.T @ a
        scale = np.sqrt(np.diag(m))
        scale[scale == 0] = 1.0
        m /= np.outer(scale, scale)
        m[np.diag_indices_from(m)] += damping + 1e-15
        try:
            return np.linalg.solve(m, (a.T @ b) / scale) / scale
        except np.linalg.LinAlgError:
            pass
    scale = np.linalg.norm(a, axis=0)
    scale[scale == 0] = 1.0
    return np.linalg.lstsq(a / scale, b, rcond=1e-13)[0] / scale


def _along(j: np.ndarray, basis: np.ndarray) -> np.ndarray:
    """A Jacobian by the columns of a basis; as it is where that is whole."""
    return j if len(basis) == basis.shape[1] and np.array_equal(basis, np.eye(len(basis))) else j @ basis


def _evaluated(model: Model, p) -> tuple[np.ndarray, np.ndarray]:
    """Residuals and Jacobian; of many points block by block, so that what is between stays in the processor's cache."""
    n = len(p)
    if n <= 2 * _BLOCK:
        return model.evaluate(p)
    r = j = np.empty(0)
    for a in range(0, n, _BLOCK):
        rb, jb = model.evaluate(p[a : a + _BLOCK])
        m = min(_BLOCK, n - a)
        parts = len(rb) // m
        if a == 0:
            r, j = np.empty((parts, n)), np.empty((jb.shape[1], parts, n))
        r[:, a : a + m] = rb.reshape(parts, m)
        j[:, :, a : a + m] = jb.T.reshape(-1, parts, m)
    return r.reshape(-1), j.reshape(len(j), -1).T


def _weighed(model: Model, p, sw) -> tuple[np.ndarray, np.ndarray]:
    """Residuals and Jacobian by square-root weights ``sw`` (n,)."""
    r, j = _evaluated(model, p)
    if np.all(sw == 1):
        return r, j
    s = sw if len(r) == len(sw) else np.concatenate([sw, sw])
    return r * s, j * s[:, None]


def _levenberg(model: Model, p, sw, steps: int, enough: float = 1e-13, damping: float = 1e-3) -> tuple[Model, float]:
    """Damped steps until the cost no longer falls. ``sw`` are square-root weights (n,)."""
    r, j = _weighed(model, p, sw)
    cost = float(r @ r)
    for _ in range(steps):
        basis = model.free()
        if basis.shape[1] == 0:
            break
        improved = False
        for _ in range(12):
            d = basis @ _solve(_along(j, basis), -r, damping)
            if np.all(np.isfinite(d)):
                ahead = r + j @ d
                if cost - float(ahead @ ahead) <= 0.1 * enough * cost:
                    break  # not even the linear model gains
                trial = model.moved_by(d)
                with np.errstate(over="ignore", invalid="ignore"):  # a step too far is not taken
                    tr, tj = _weighed(trial, p, sw)
                    tc = float(tr @ tr)
                if np.isfinite(tc) and tc < cost:
                    gain = cost - tc
                    model, r, j, cost = trial, tr, tj, tc
                    damping = max(damping * 0.2, 1e-12)
                    improved = gain > enough * cost
                    break
            damping *= 5
        if not improved:
            break
    return model, cost


def _steered(model: Model, p, sw, steps: int, enough: float = 1e-13, damping: float = 1e-3) -> tuple[Model, float]:
    """As `_levenberg`, compiled where nothing is held."""
    known = model.state()
    if known is None:
        return _levenberg(model, p, sw, steps, enough, damping)
    from .steering import followed  # compiled: who only handles elements does without

    code, state = known
    state, cost = followed(code, state, np.ascontiguousarray(p), sw * sw, steps, enough, damping)
    return model.at(state), float(cost)


def _polish(model: Model, p, sw) -> Model:
    """Undamped steps on a QR factorisation until they stop shrinking, or are a millionth of what scatter leaves."""
    known = model.state() if len(p) > _NORMAL else None
    if known is not None:
        from .steering import undamped

        return model.at(undamped(*known, np.ascontiguousarray(p), sw * sw, _SHORTEST))
    last = np.inf
    for _ in range(60):
        r, j = _weighed(model, p, sw)
        basis = model.free()
        if basis.shape[1] == 0:
            return model
        x = _solve(_along(j, basis), -r)
        step = float(np.max(np.abs(x)))
        if not np.isfinite(step) or step >= last or step > 0.1:
            return model
        model, last = model.moved_by(basis @ x), step
        if step < max(1e-15, min(_SHORTEST, 1e-6 * float(np.sqrt(r @ r)) / len(r))):
            return model
    return model


def _starts(kind, p, normals, hold, radius, among, quick) -> list[Model]:
    if kind in ("cylinder", "circle"):
        return round_starts(p, normals, hold, radius, circle=kind == "circle")
    if kind == "sphere":
        return sphere_starts(p, radius)
    if kind == "cone":
        return cone_starts(p, normals, hold)
    return torus_starts(p, normals, hold, radius, among, quick=quick)


def _search(kind, p, normals, w, hold, radius, start, quick=False) -> Model:
    sw = np.sqrt(w)
    enough = 1e-4 if quick else 1e-13
    if start is not None:
        starts = [start]
    else:
        if len(p) > _START_SAMPLE:
            pick = np.random.default_rng(11).choice(len(p), _START_SAMPLE, replace=False)
            ps, ns, ws = p[pick], None if normals is None else normals[pick], sw[pick]
        else:
            ps, ns, ws = p, normals, sw
        tried = []
        for s in _starts(kind, ps, ns, hold, radius, p if len(p) < 20_000 else p[:: len(p) // 10_000], quick):
            m, c = _steered(s, ps, ws, 12 if quick else 40, enough)
            tried.append((c, m))
        if not tried:
            raise BadInput(f"No {kind} passes near these points; pick a larger or rounder patch.")
        tried.sort(key=lambda x: x[0])
        starts = [tried[0][1]]
        if not quick:  # starts that ended at one cost ended at one place
            apart = [b for a, b in pairwise(tried) if b[0] > a[0] * (1 + _SAME_COST) + 1e-30]
            starts += [m for _, m in apart[: _FULL_STARTS - 1]]
    best = None
    for s in starts:
        m, c = _steered(s, p, sw, 15 if quick else 200, enough, 1e-3 if start is not None else _LITTLE)
        if best is None or c < best[0]:
            best = (c, m)
    if start is None and kind == "torus" and not quick:
        best = _wider(best, p, normals, sw, hold, radius)
    assert best is not None  # every kind has a start
    return best[1] if quick else _polish(best[1], p, sw)


def _wider(best, p, normals, sw, hold, radius):
    """A wider search where a ring lies much farther off than the points scatter locally: from more spines, of several
    draws of points.
    """
    some = p if len(p) < 20_000 else p[:: len(p) // 10_000]
    near = local_normals(some[:: max(1, len(some) // _START_SAMPLE)], some)
    if near is None or best[0] <= float(sw @ sw) * (_FAR_OFF * near[1]) ** 2 + 1e-24:
        return best
    rng = np.random.default_rng(12)
    for _ in range(3):
        pick = rng.choice(len(p), min(len(p), 2 * _START_SAMPLE), replace=False)
        for s in torus_starts(p[pick], None if normals is None else normals[pick], hold, radius, some, most=8):
            m, _ = _steered(s, p[pick], sw[pick], 60)
            m, c = _steered(m, p, sw, 60)
            if c < best[0]:
                best = (c, m)
        if best[0] <= float(sw @ sw) * (_FAR_OFF * near[1]) ** 2:
            break
    return best


def _start_at(near, kind, q, centroid, scale, hold, held) -> Model | None:
    """The model of a known element in the fit's own frame, where there is a direct way."""
    if near is None or near.kind != kind or hold is not None or held is not None:
        return None
    if isinstance(near, Cylinder):
        middle = (near.point - centroid) / scale
        return RoundModel.from_axis(q, near.direction, middle, near.radius / scale)
    if isinstance(near, Sphere):
        return SphereModel.from_centre(q, (near.center - centroid) / scale, near.radius / scale)
    if isinstance(near, Torus):
        middle = (near.center - centroid) / scale
        return TorusModel(middle, near.direction, near.major_radius / scale, near.minor_radius / scale)
    if isinstance(near, Cone):
        apex, alpha = (near.apex - centroid) / scale, float(np.radians(near.half_angle_deg))
        along = float(apex @ near.direction)
        return ConeModel(near.direction, apex - along * near.direction, alpha, -along * float(np.sin(alpha)))
    return None


def _to_contract(kind: str, e: Element, centroid, scale) -> Element:
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


def _covariance(p, w, r, j, each: float = 1.0) -> tuple[np.ndarray, float]:
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


def _curved_uncertainty(kind, model: Model, p, w, centroid, scale) -> tuple[dict, float]:
    basis = model.free()
    here = _flat(_to_contract(kind, model.element(), centroid, scale))
    if basis.shape[1] == 0:
        return _split_sigmas(_to_contract(kind, model.element(), centroid, scale), np.zeros(len(here))), 1.0
    n = len(p)
    if n > _MANY:
        some = np.sort(np.random.default_rng(13).choice(n, _MANY, replace=False))
        p, w = p[some], w[some]
    r, j = _evaluated(model, p)
    cov, inflation = _covariance(model.element().feet(p), w, r, j @ basis, n / len(p))
    step = 1e-6
    moved = [_flat(_to_contract(kind, model.moved_by(step * b).element(), centroid, scale)) for b in basis.T]
    grad = (np.column_stack(moved) - here[:, None]) / step
    var = np.einsum("ij,jk,ik->i", grad, cov, grad)
    return _split_sigmas(_to_contract(kind, model.element(), centroid, scale), np.sqrt(np.maximum(var, 0))), inflation


def _split_sigmas(e: Element, sigmas) -> dict:
    out, i = {}, 0
    for key, value in e.parameters().items():
        if isinstance(value, list):
            out[key] = sigmas[i : i + len(value)].tolist()
            i += len(value)
        else:
            out[key] = float(sigmas[i])
            i += 1
    return out


def _flat_uncertainty(e: Element, p, w, hold) -> tuple[dict, float]:
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
        cov, inflation = _covariance(places, w, r, j)
        t = np.array(turns).reshape(-1, 3)
        tilt = np.einsum("ki,kl,li->i", t, cov[1:, 1:], t)
        place = d**2 * cov[0, 0]
    else:
        r = np.concatenate([q @ u, q @ v])
        j = np.column_stack([np.ones(len(q)), q @ d]) if hold is None or not hold.parallel else np.ones((len(q), 1))
        none = np.zeros_like(j)
        cov, inflation = _covariance(places, w, r, np.block([[j, none], [none, j]]))
        k = j.shape[1]
        place = u**2 * cov[0, 0] + v**2 * cov[k, k]
        tilt = u**2 * cov[1, 1] + v**2 * cov[k + 1, k + 1] if k == 2 else np.zeros(3)
    return _split_sigmas(e, np.sqrt(np.maximum(np.concatenate([place, tilt]), 0))), inflation


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
    start = _start_at(near, kind, q, centroid, scale, hold, held)
    for turn in range(rounds):
        if kind in ("plane", "line"):
            element = _closed_form(kind, q, weight, hold)
        else:
            if turn == 0 and robust:
                model = _robust_search(kind, q, normals, w, hold, held)
            else:
                model = _search(kind, q, normals, weight, hold, held, start, not correlated)
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
    local = _to_contract(kind, element, centroid, scale)
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
        uncertainty, inflation = _flat_uncertainty(local, p, weight, hold)
    elif correlated:
        assert model is not None
        uncertainty, inflation = _curved_uncertainty(kind, model, q, weight, centroid, scale)
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
        e, sigmas, inflation = fit_held(e, p, hold, radius=radius, weights=weight, covariance=_covariance)
    e = _canonical(e, None if normals is None else np.asarray(normals, float).mean(axis=0))
    r = e.distance(p)
    extent = None
    if hasattr(e, "direction"):
        along = (p - getattr(e, "point", getattr(e, "apex", getattr(e, "center", None)))) @ e.direction
        extent = (float(along.min()), float(along.max()))
    sigma = float(np.sqrt(np.sum(weight * r**2) / weight.sum()))
    told = _split_sigmas(e, sigmas) if correlated else {}
    return Fit(e, r, sigma, float(np.max(np.abs(r[weight > 0]))), told, inflation, extent)


def _robust_search(kind, q, normals, w, hold, held) -> Model:
    """Best of many small random samples by median distance: a start that outliers cannot pull."""
    rng = np.random.default_rng(5)
    size = min(len(q), max(3 * FIT_KINDS[kind], 12))
    best = None
    for trial in range(24):
        pick = np.arange(len(q)) if trial == 0 else rng.choice(len(q), size, replace=False)
        if trial == 0 and len(q) > 4000:
            pick = rng.choice(len(q), 4000, replace=False)
        try:
            n = None if normals is None else normals[pick]
            m = _search(kind, q[pick], n, w[pick], hold, held, None, True)
        except BadInput:
            continue
        score = float(np.median(np.abs(m.element().distance(q))))
        if np.isfinite(score) and (best is None or score < best[0]):
            best = (score, m)
    if best is None:
        raise BadInput(f"No {kind} passes near these points; pick a larger or rounder patch.")
    return best[1]
