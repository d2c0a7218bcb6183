"""How far a scan lies off what a drawing would sweep: its outline pushed square to the paper, or turned about its axis.

Only walls are asked: places that look along the paper and lie near the outline. What looks another way, or lies far
off, belongs to something else and says nothing of the drawing.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..scan.section import SectionPlane
from .curve import Curve, curve_of

__all__ = ["off_swept"]

_LEANS = 0.35  # of a unit normal along the sweep's way: what leans more is no wall
_ACROSS = 0.5  # of a unit normal along the outline: what looks along it more is another wall's
_STEP = 0.25  # of the reach that an outline is sampled by
_MOST = 20_000  # samples of one entity


def off_swept(
    points: np.ndarray,
    normals: np.ndarray,
    paper: SectionPlane,
    geometry: list[dict[str, Any]],
    reach: float,
    *,
    turned: bool = False,
) -> np.ndarray:
    """Signed distances (n,) of ``points`` (n, 3) with unit ``normals`` (n, 3) from what ``geometry`` (entities in
    contract keys, mm on the paper) sweeps, mm: outside above 0. NaN where it sweeps nothing within ``reach`` mm.

    ``turned``: about the paper's upright through its origin, instead of square to it.
    """
    from scipy.spatial import cKDTree

    out = np.full(len(points), np.nan)
    curves = [curve_of(e) for e in geometry if e["kind"] != "point" and not e.get("construction")]
    if not curves or not len(points):
        return out
    p, n, leans = _on_paper(points, normals, paper, turned)
    some = np.flatnonzero(leans < _LEANS)
    p, n = p[some], n[some]
    sampled = [c.sampled(_STEP * reach, _MOST) for c in curves]
    owner = np.repeat(np.arange(len(curves)), [len(q) for q in sampled])
    away, at = cKDTree(np.vstack(sampled)).query(p, distance_upper_bound=(1 + _STEP) * reach)
    near = np.flatnonzero(np.isfinite(away))
    for k in np.unique(owner[at[near]]):
        of = near[owner[at[near]] == k]
        foot, along = _feet(curves[k], sampled[k], p[of])
        d = p[of] - foot
        off = np.linalg.norm(d, axis=1)
        ok = (off <= reach) & (np.abs(np.einsum("ij,ij->i", n[of], along)) < _ACROSS)
        out[some[of[ok]]] = np.where(np.einsum("ij,ij->i", d, n[of]) >= 0, off, -off)[ok]
    return out


def _on_paper(points, normals, paper: SectionPlane, turned: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places (n, 2) and normals (n, 2) on the paper, and how much each normal leans out of it."""
    if not turned:
        flat = np.column_stack([normals @ paper.u, normals @ paper.v])
        p, leans = paper.to_paper(points), np.abs(normals @ paper.normal)
    else:
        v = points - paper.origin
        z = v @ paper.v
        out = v - z[:, None] * paper.v
        r = np.linalg.norm(out, axis=1)
        out /= np.maximum(r, 1e-300)[:, None]
        flat = np.column_stack([np.einsum("ij,ij->i", normals, out), normals @ paper.v])
        p, leans = np.column_stack([r, z]), np.abs(np.einsum("ij,ij->i", normals, np.cross(paper.v, out)))
    return p, flat / np.maximum(np.linalg.norm(flat, axis=1), 1e-300)[:, None], leans


def _feet(curve: Curve, sampled: np.ndarray, p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The nearest places (n, 2) of a curve to places near its samples, and unit vectors along it there."""
    from scipy.spatial import cKDTree

    e = curve.entity
    if e["kind"] == "line":
        a, b = np.asarray(e["start"], float), np.asarray(e["end"], float)
        t = (b - a) / max(float(np.linalg.norm(b - a)), 1e-300)
        s = np.clip((p - a) @ t, 0, np.linalg.norm(b - a))
        return a + s[:, None] * t, np.broadcast_to(t, p.shape)
    k = np.clip(cKDTree(sampled).query(p)[1], 1, len(sampled) - 2)
    t = sampled[k + 1] - sampled[k - 1]
    t /= np.maximum(np.linalg.norm(t, axis=1), 1e-300)[:, None]
    if e["kind"] in ("arc", "circle"):
        middle = np.asarray(e["center"], float)
        v = p - middle
        foot = middle + float(e["radius"]) * v / np.maximum(np.linalg.norm(v, axis=1), 1e-300)[:, None]
        return foot, t
    return sampled[k] + np.einsum("ij,ij->i", p - sampled[k], t)[:, None] * t, t
