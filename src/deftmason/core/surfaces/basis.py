"""B-spline bases on even clamped knots, and the energies of thin plates written in them.

Piegl, Tiller 1997, *The NURBS Book*, chapter 2; Grimson 1981, *From Images to Surfaces*, for the thin plate.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy.interpolate import BSpline

__all__ = ["basis", "even_knots", "grams", "greville", "span_grams", "window"]


@lru_cache(maxsize=64)
def even_knots(spans: int, degree: int) -> np.ndarray:
    """Clamped knots on 0…1 with ``spans`` even spans."""
    inner = np.linspace(0, 1, spans + 1)
    return np.concatenate([np.zeros(degree), inner, np.ones(degree)])


def greville(knots: np.ndarray, degree: int) -> np.ndarray:
    """Where each pole's own influence lies."""
    n = len(knots) - degree - 1
    return np.array([knots[i + 1 : i + degree + 1].mean() for i in range(n)])


def basis(knots: np.ndarray, degree: int, t: np.ndarray, order: int = 0) -> np.ndarray:
    """Values (or derivatives) of all basis functions at t (m,): (m, n)."""
    n = len(knots) - degree - 1
    return BSpline(knots, np.eye(n), degree)(np.asarray(t, float), nu=order)


def window(knots: np.ndarray, degree: int, t: np.ndarray) -> np.ndarray:
    """The first basis function that is not 0 at t (m,)."""
    n = len(knots) - degree - 1
    return np.clip(np.searchsorted(knots, t, side="right") - 1, degree, n - 1) - degree


@lru_cache(maxsize=64)
def _grams(spans: int, degree: int) -> tuple[np.ndarray, ...]:
    knots = even_knots(spans, degree)
    x, w = np.polynomial.legendre.leggauss(degree + 1)
    ends = np.linspace(0, 1, spans + 1)
    t = (ends[:-1, None] + (x + 1) / 2 / spans).ravel()
    w = np.tile(w / 2 / spans, spans)
    tables = [basis(knots, degree, t, k) for k in range(3)]
    return tuple(b.T @ (w[:, None] * b) for b in tables)


@lru_cache(maxsize=64)
def span_grams(spans: int, degree: int) -> tuple[np.ndarray, ...]:
    """The same as `grams` by span: (spans, degree + 1, degree + 1) each, of the functions that are not 0 there."""
    knots = even_knots(spans, degree)
    x, w = np.polynomial.legendre.leggauss(degree + 1)
    ends = np.linspace(0, 1, spans + 1)
    t = ends[:-1, None] + (x + 1) / 2 / spans
    out = []
    for k in range(3):
        table = basis(knots, degree, t.ravel(), k).reshape(spans, len(x), -1)
        own = np.stack([table[e][:, e : e + degree + 1] for e in range(spans)])
        out.append(np.einsum("q,eqi,eqj->eij", w / 2 / spans, own, own))
    return tuple(out)


def grams(spans: int, degree: int) -> tuple[np.ndarray, ...]:
    """∫ of the products of basis functions, of their first and of their second derivatives: (n, n) each."""
    return _grams(spans, degree)
