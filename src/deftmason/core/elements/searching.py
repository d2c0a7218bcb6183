"""The minimum of a curved element's distances: Levenberg–Marquardt from several starts, polished on a QR factorisation.

All is in the fit's own frame, centred and scaled.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from ..errors import BadInput
from .models import ConeModel, Model, RoundModel, SphereModel, TorusModel
from .shapes import Cone, Cylinder, Sphere, Torus
from .starts import cone_starts, local_normals, round_starts, sphere_starts, torus_starts

__all__ = ["evaluated", "levenberg", "robust_search", "search", "start_at", "starts_of", "steered", "weighed"]

_START_SAMPLE = 400
_FULL_STARTS = 3
_SAME_COST = 1e-9  # of a cost: minima that differ by less are one
_BLOCK = 4096  # points evaluated at a time
_NORMAL = 60_000  # places whose normal equations tell as much as factors of their Jacobian
_SHORTEST = 1e-12  # steps of a polish, in the fit's scaled frame
_LITTLE = 1e-7  # damping where a sample's minimum is where to start
_FAR_OFF = 1.3  # times the local scatter: an rms above it calls for a wider search


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


def evaluated(model: Model, p) -> tuple[np.ndarray, np.ndarray]:
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


def weighed(model: Model, p, sw) -> tuple[np.ndarray, np.ndarray]:
    """Residuals and Jacobian by square-root weights ``sw`` (n,)."""
    r, j = evaluated(model, p)
    if np.all(sw == 1):
        return r, j
    s = sw if len(r) == len(sw) else np.concatenate([sw, sw])
    return r * s, j * s[:, None]


def levenberg(model: Model, p, sw, steps: int, enough: float = 1e-13, damping: float = 1e-3) -> tuple[Model, float]:
    """Damped steps until the cost no longer falls. ``sw`` are square-root weights (n,)."""
    r, j = weighed(model, p, sw)
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
                    tr, tj = weighed(trial, p, sw)
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


def steered(model: Model, p, sw, steps: int, enough: float = 1e-13, damping: float = 1e-3) -> tuple[Model, float]:
    """As `levenberg`, compiled where nothing is held."""
    known = model.state()
    if known is None:
        return levenberg(model, p, sw, steps, enough, damping)
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
        r, j = weighed(model, p, sw)
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


def starts_of(kind, p, normals, hold, radius, among, quick) -> list[Model]:
    if kind in ("cylinder", "circle"):
        return round_starts(p, normals, hold, radius, circle=kind == "circle")
    if kind == "sphere":
        return sphere_starts(p, radius)
    if kind == "cone":
        return cone_starts(p, normals, hold)
    return torus_starts(p, normals, hold, radius, among, quick=quick)


def search(kind, p, normals, w, hold, radius, start, quick=False) -> Model:
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
        for s in starts_of(kind, ps, ns, hold, radius, p if len(p) < 20_000 else p[:: len(p) // 10_000], quick):
            m, c = steered(s, ps, ws, 12 if quick else 40, enough)
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
        m, c = steered(s, p, sw, 15 if quick else 200, enough, 1e-3 if start is not None else _LITTLE)
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
            m, _ = steered(s, p[pick], sw[pick], 60)
            m, c = steered(m, p, sw, 60)
            if c < best[0]:
                best = (c, m)
        if best[0] <= float(sw @ sw) * (_FAR_OFF * near[1]) ** 2:
            break
    return best


def start_at(near, kind, q, centroid, scale, hold, held) -> Model | None:
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


def robust_search(kind, fewest: int, q, normals, w, hold, held) -> Model:
    """Best of many small random samples by median distance: a start that outliers cannot pull."""
    rng = np.random.default_rng(5)
    size = min(len(q), max(3 * fewest, 12))
    best = None
    for trial in range(24):
        pick = np.arange(len(q)) if trial == 0 else rng.choice(len(q), size, replace=False)
        if trial == 0 and len(q) > 4000:
            pick = rng.choice(len(q), 4000, replace=False)
        try:
            n = None if normals is None else normals[pick]
            m = search(kind, q[pick], n, w[pick], hold, held, None, True)
        except BadInput:
            continue
        score = float(np.median(np.abs(m.element().distance(q))))
        if np.isfinite(score) and (best is None or score < best[0]):
            best = (score, m)
    if best is None:
        raise BadInput(f"No {kind} passes near these points; pick a larger or rounder patch.")
    return best[1]
