"""Spline surfaces as whole faces."""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.collections import Array1_double, Array1_int, Array2_gp_Pnt
from OCP.Geom import Geom_BSplineSurface

from .features import kernel_point

__all__ = ["spline_surface", "surface_face"]


def surface_face(poles: np.ndarray, u_knots: np.ndarray, v_knots: np.ndarray, u_degree: int, v_degree: int):
    """A whole B-spline surface as a face: ``poles`` (nu, nv, 3), flat knots."""
    surface = spline_surface(poles, u_knots, v_knots, u_degree, v_degree)
    return BRepBuilderAPI_MakeFace(surface, 1e-9).Face()


def spline_surface(poles: np.ndarray, u_knots: np.ndarray, v_knots: np.ndarray, u_degree: int, v_degree: int):
    """The kernel's B-spline surface of ``poles`` (nu, nv, 3) and flat knots."""
    held = Array2_gp_Pnt(1, poles.shape[0], 1, poles.shape[1])
    for i in range(poles.shape[0]):
        for j in range(poles.shape[1]):
            held.SetValue(i + 1, j + 1, kernel_point(poles[i, j]))
    values, times = [], []
    for t in (u_knots, v_knots):
        knots, counts = np.unique(t, return_counts=True)
        a, b = Array1_double(1, len(knots)), Array1_int(1, len(knots))
        for k in range(len(knots)):
            a.SetValue(k + 1, float(knots[k]))
            b.SetValue(k + 1, int(counts[k]))
        values.append(a)
        times.append(b)
    return Geom_BSplineSurface(held, values[0], values[1], times[0], times[1], u_degree, v_degree)
