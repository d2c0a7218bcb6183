"""A spline through a stretch of the trace: as few poles as its noise asks for, so that it bends where the trace does.

Least squares on a cubic B-spline with even knots, parameters from the way along the stretch and corrected to the
nearest places; poles are added while the description length falls (Rissanen 1978).

Piegl, Tiller 1997, *The NURBS Book*, §9.4.1.
"""

from __future__ import annotations

import numpy as np

from .curve import Curve
from .drawing import uniform_knots
from .trace import scatter_along

__all__ = ["fit_spline", "ordered", "spline_through"]

_MOST_POLES = 40
_PRICE = 3.0  # natural units that a pole costs, and half the logarithm of the samples for each of its coordinates
_SHARED = 3.0  # neighbouring crossings share a mesh's vertices: so many tell as much as one
_ROUNDS = 4  # corrections of the parameters


def ordered(p: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Samples in order along the polyline of places, those past its ends as it would run on."""
    if len(places) < 2:
        return p
    a, d = places[:-1], np.diff(places, axis=0)
    length = np.linalg.norm(d, axis=1)
    begin = np.concatenate([[0], np.cumsum(length)[:-1]])
    rel = p[:, None] - a[None]
    t = np.einsum("ijk,jk->ij", rel, d) / np.maximum(length**2, 1e-300)
    low, high = np.zeros(len(d)), np.ones(len(d))
    low[0], high[-1] = -np.inf, np.inf
    t = np.clip(t, low, high)
    off = np.linalg.norm(rel - t[..., None] * d[None], axis=2)
    k = np.argmin(off, axis=1)
    rows = np.arange(len(p))
    return p[np.argsort(begin[k] + t[rows, k] * length[k], kind="stable")]


def _least_squares(q: np.ndarray, t: np.ndarray, poles: int) -> tuple[np.ndarray, np.ndarray]:
    """Poles (n, 2) that fit samples at parameters t, ends where they begin and end; faintly smooth where none are."""
    from scipy.interpolate import BSpline

    knots = uniform_knots(poles)
    b = BSpline.design_matrix(np.clip(t, 0, 1), knots, 3).toarray()
    bend = np.diff(np.eye(poles), 2, axis=0)
    m = b.T @ b + 1e-6 * len(q) / poles * bend.T @ bend
    return np.linalg.solve(m + 1e-12 * np.eye(poles), b.T @ q), knots


def spline_through(q: np.ndarray, poles: int) -> tuple[np.ndarray, np.ndarray, float]:
    """A cubic of so many poles along samples in order: poles (n, 2), knots, and the sum of squared distances."""
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    t = s / max(float(s[-1]), 1e-300)
    p, knots = _least_squares(q, t, poles)
    for _ in range(_ROUNDS):
        t = np.sort(Curve({"id": "", "kind": "spline", "degree": 3, "knots": knots, "poles": p}).nearest(q))
        t[0], t[-1] = 0.0, 1.0
        p, knots = _least_squares(q, t, poles)
    off = Curve({"id": "", "kind": "spline", "degree": 3, "knots": knots, "poles": p}).distance(q)
    return p, knots, float(off @ off)


def fit_spline(p: np.ndarray, places: np.ndarray, noise: float | None = None, poles: int | None = None):
    """Poles (n, 2) and knots of the spline that explains samples (k, 2) along ``places`` shortest.

    ``noise`` : scatter of the samples, mm; none: read along them.  ``poles`` : as many as this.
    """
    q = ordered(p, places)
    if poles is not None:
        return spline_through(q, max(4, poles))[:2]
    if noise is None:
        noise = scatter_along(q)
    span = float(np.ptp(q, axis=0).max())
    floor = max(noise, 1e-5 * span)
    most = int(np.clip(len(q) // 3, 4, _MOST_POLES))
    best, choice = np.inf, None
    worse = 0
    count = 4
    while count <= most:
        found, knots, squares = spline_through(q, count)
        price = 0.5 * squares / floor**2 / _SHARED + count * (_PRICE + np.log(max(len(q) / _SHARED, 2)))
        if price < best:
            best, choice, worse = price, (found, knots), 0
        else:
            worse += 1
            if worse > 3:
                break
        count += 1 if count < 12 else 3
    assert choice is not None
    return choice
