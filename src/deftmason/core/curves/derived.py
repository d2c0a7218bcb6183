"""Curves made of curves: two views combined, moved aside in a plane, laid onto a plane."""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .drawn import through_points
from .spatial import SpaceCurve

__all__ = ["combined_views", "moved_aside", "onto_plane", "plane_of"]

_SAMPLES = 1200
_FLAT = 1e-4  # of a curve's size that a plane curve leaves its plane by


def plane_of(curve: SpaceCurve) -> tuple[np.ndarray, np.ndarray]:
    """A place and the normal of the plane a curve lies in. Raises `BadInput` where it lies in none, or in many."""
    p = curve.at(np.linspace(0, curve.length, 400))
    middle = p.mean(axis=0)
    _, s, axes = np.linalg.svd(p - middle, full_matrices=False)
    if s[1] < _FLAT * s[0]:
        raise BadInput("The curve is straight and lies in many planes; give one that bends.", field="of")
    if s[2] > _FLAT * s[0] * 10:
        raise BadInput("The curve lies in no plane; lay it onto one first.", field="of")
    return middle, axes[2]


def onto_plane(curve: SpaceCurve, point, normal) -> SpaceCurve:
    """The curve laid onto a plane along its normal."""
    n = np.asarray(normal, float) / np.linalg.norm(normal)

    def down(q):
        return q - np.outer((q - point) @ n, n)

    out: list = []
    for p in curve.pieces:
        if p.kind == "arc":
            # An arc seen aslant is an ellipse: as a spline through many of its places.
            out += through_points(down(p.at(np.linspace(0, 1, 33))), 0.0).pieces
        else:
            out.append(p.mapped(down))
    flat = SpaceCurve(tuple(p for p in out if p.length > 1e-9 * max(curve.length, 1e-12)), curve.closed)
    if not flat.pieces:
        raise BadInput("The curve runs along the plane's normal and leaves nothing on it.", field="of")
    return flat


def moved_aside(curve: SpaceCurve, distance: float, normal=None) -> SpaceCurve:
    """The curve beside a plane curve at ``distance`` mm, to the left of its way seen against the plane's normal.

    Raises `BadInput` where it would fold onto itself.
    """
    n = plane_of(curve)[1] if normal is None else np.asarray(normal, float) / np.linalg.norm(normal)
    out: list = []
    for p in curve.pieces:
        t = np.linspace(0, 1, 2 if p.kind == "line" else 3 if p.kind == "arc" else 200)
        d = p.at(t, 1)
        side = np.cross(n, d)
        side /= np.maximum(np.linalg.norm(side, axis=1), 1e-300)[:, None]
        q = p.at(t) + distance * side
        turned = np.einsum("ij,ij->i", np.diff(q, axis=0), np.diff(p.at(t), axis=0))
        if p.kind != "line" and (turned <= 0).any():
            raise BadInput("The curve bends tighter than it is moved aside; take a smaller distance.", field="distance")
        if p.kind == "spline":
            out += through_points(q, 0.0).pieces
        else:
            out.append(type(p)(p.kind, q))
    for a, b in zip(out, out[1:]):
        gap = float(np.linalg.norm(a.at(np.array([1.0])) - b.at(np.array([0.0]))))
        if gap > 1e-6 * max(curve.length, abs(distance)):
            raise BadInput("The curve has sharp corners; round them before it is moved aside.", field="of")
    return SpaceCurve(tuple(out), curve.closed)


def _turns(h: np.ndarray) -> list[tuple[int, int]]:
    """Stretches (first, last) over which a height only rises or only falls."""
    step = np.diff(h)
    small = 1e-9 * max(float(np.ptp(h)), 1e-300)
    sign = np.where(np.abs(step) <= small, 0, np.sign(step))
    for k in range(1, len(sign)):  # what stands still goes on as before
        sign[k] = sign[k] or sign[k - 1]
    for k in range(len(sign) - 2, -1, -1):
        sign[k] = sign[k] or sign[k + 1]
    cuts = [0, *(np.flatnonzero(np.diff(sign)) + 1).tolist(), len(h) - 1]
    return list(zip(cuts[:-1], cuts[1:]))


def combined_views(a: SpaceCurve, normal_a, b: SpaceCurve, normal_b, tolerance: float = 0.0) -> SpaceCurve:
    """The curve that looks like ``a`` along ``normal_a`` and like ``b`` along ``normal_b``.

    Both views share the heights along the line their planes have in common; where a view turns back, the other does.
    Raises `BadInput` where the views do not belong together.
    """
    n, m = (np.asarray(v, float) / np.linalg.norm(v) for v in (normal_a, normal_b))
    shared = np.cross(n, m)
    if np.linalg.norm(shared) < 0.05:
        raise BadInput("Both views look the same way; take two that cross, best at a right angle.", field="of")
    d = shared / np.linalg.norm(shared)
    p, q = (c.at(np.linspace(0, c.length, _SAMPLES)) for c in (a, b))
    if (p[-1] - p[0]) @ d * ((q[-1] - q[0]) @ d) < 0 or abs(p[0] @ d - q[0] @ d) > abs(p[0] @ d - q[-1] @ d):
        q = q[::-1]
    parts = _turns(p @ d), _turns(q @ d)
    if len(parts[0]) != len(parts[1]):
        raise BadInput(
            f"The views turn back {len(parts[0]) - 1} and {len(parts[1]) - 1} times along the line they share; "
            "draw both with as many turns.",
            field="of",
        )
    size = max(np.ptp(p @ d), np.ptp(q @ d))
    out: list = []
    for (i, k), (e, f) in zip(*parts):
        ha, hb = p[i : k + 1] @ d, q[e : f + 1] @ d
        if max(abs(ha[0] - hb[0]), abs(ha[-1] - hb[-1])) > 0.05 * size:
            raise BadInput(
                f"The views end {max(abs(ha[0] - hb[0]), abs(ha[-1] - hb[-1])):.4g} mm apart along the line they "
                "share; trim them to the same ends.",
                field="of",
            )
        low, high = max(ha.min(), hb.min()), min(ha.max(), hb.max())
        keep = (ha >= low - 1e-9 * size) & (ha <= high + 1e-9 * size)
        order = np.argsort(hb, kind="stable")
        rise = np.maximum.accumulate(hb[order] + 1e-12 * np.arange(len(order)))
        at = np.stack([np.interp(ha[keep], rise, q[e : f + 1][order][:, c]) for c in range(3)], axis=1)
        # Along a's sight until b's view is met: b's place and its sight span a plane that a's line of sight crosses.
        own = p[i : k + 1][keep]
        across = np.cross(m, d)
        along = np.einsum("ij,j->i", at - own, across) / float(n @ across)
        out.append(own + along[:, None] * n)
    points = np.concatenate([out[0], *(o[1:] for o in out[1:])])
    step = np.linalg.norm(np.diff(points, axis=0), axis=1)
    points = points[np.concatenate([[True], step > 1e-7 * step.sum()])]
    return through_points(points, max(tolerance, 1e-6 * float(step.sum())))
