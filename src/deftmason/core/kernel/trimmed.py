"""Spline surfaces trimmed by loops of their own parameters."""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepLib import BRepLib
from OCP.collections import Array1_double, Array1_gp_Pnt2d, Array1_int
from OCP.Geom2d import Geom2d_BSplineCurve
from OCP.gp import gp_Pnt2d
from OCP.ShapeFix import ShapeFix_Face

from ..errors import BadInput

__all__ = ["Rim", "rim_curves", "trimmed_face"]

_LEAST = 8  # places of a loop
_SMALL = 0.03  # of the longest loop: shorter ones are specks


#: A closed cubic B-spline in parameters: flat knots, clamped at 0 and 1, and poles (n, 2).
Rim = tuple[np.ndarray, np.ndarray]


def rim_curves(loops: list[np.ndarray], off: np.ndarray) -> list[Rim]:
    """Loops of parameters (k, 2) as smooth curves, the outermost first; specks are left out.

    ``off`` (2,): how far, in parameters, a loop may be smoothed. Raises `BadInput` where there is none.
    """
    from scipy.interpolate import BSpline, make_interp_spline, splprep

    length = [float(np.linalg.norm(np.diff(r, axis=0), axis=1).sum()) for r in loops]
    taken = [r for r, n in zip(loops, length) if len(r) >= _LEAST and n > _SMALL * max(length)]
    if not taken:
        raise BadInput("The area has no rim to trim by; let the sheet reach past it.", field="ends")
    out = []
    for k, loop in enumerate(taken):
        area = float(np.sum(loop[:, 0] * np.roll(loop[:, 1], -1) - np.roll(loop[:, 0], -1) * loop[:, 1]))
        p = (loop[::-1] if (area > 0) == bool(k) else loop) / off
        (knots, c, degree), _ = splprep(np.vstack([p, p[:1]]).T, s=len(p), per=True, k=3)
        # Drawn again with ends: what the kernel takes.
        t = np.linspace(0, 1, max(3 * len(c[0]), 40))
        places = np.clip(BSpline(knots, np.column_stack(c) * off, degree)(t), 0, 1)
        places[-1] = places[0]
        drawn = make_interp_spline(t, places, k=3)
        out.append((drawn.t, drawn.c))
    return out


def trimmed_face(surface, rims: list[Rim]):
    """The part of a surface inside its first rim and outside the others."""
    maker = None
    for knots, poles in rims:
        held = Array1_gp_Pnt2d(1, len(poles))
        for i, p in enumerate(poles):
            held.SetValue(i + 1, gp_Pnt2d(float(p[0]), float(p[1])))
        values, counts = np.unique(knots, return_counts=True)
        at, many = Array1_double(1, len(values)), Array1_int(1, len(values))
        for i, (v, c) in enumerate(zip(values, counts)):
            at.SetValue(i + 1, float(v))
            many.SetValue(i + 1, int(c))
        edge = BRepBuilderAPI_MakeEdge(Geom2d_BSplineCurve(held, at, many, 3), surface).Edge()
        wire = BRepBuilderAPI_MakeWire(edge).Wire()
        BRepLib.BuildCurves3d_s(wire)
        if maker is None:
            maker = BRepBuilderAPI_MakeFace(surface, wire, True)
        else:
            maker.Add(wire)
    assert maker is not None
    fix = ShapeFix_Face(maker.Face())
    fix.Perform()
    return fix.Face()
