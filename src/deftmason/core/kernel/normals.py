"""Normals of the true surfaces at the corners of a body's facets."""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.Geom import Geom_BSplineSurface
from scipy.interpolate import BSpline

from ..scan.mesh import TriMesh
from .body import Body, faces_of
from .surfaces import FaceSurface, face_surfaces
from .tessellate import Facets

__all__ = ["true_normals"]

_FLAT = 1e-12  # of the slopes: a corner whose two slopes span less keeps the normal of its facets


def _of_spline(one: FaceSurface, uv: np.ndarray) -> np.ndarray:
    """Across the surface at parameters (n, 2); length 0 where it is singular."""
    s = one.spline
    assert s is not None
    poles = s.poles[..., :3] / s.poles[..., 3:]
    nu, nv = poles.shape[:2]

    def table(knots, degree, count, t, order):
        t = np.clip(t, knots[degree], knots[count])
        return BSpline(knots, np.eye(count), degree)(t, nu=order)

    a0, a1 = (table(s.u_knots, s.u_degree, nu, uv[:, 0], k) for k in (0, 1))
    b0, b1 = (table(s.v_knots, s.v_degree, nv, uv[:, 1], k) for k in (0, 1))
    du = np.einsum("ni,nj,ijc->nc", a1, b0, poles, optimize=True)
    dv = np.einsum("ni,nj,ijc->nc", a0, b1, poles, optimize=True)
    n = np.cross(du, dv)
    size = np.linalg.norm(n, axis=1)
    scale = np.linalg.norm(du, axis=1) * np.linalg.norm(dv, axis=1)
    n[size <= _FLAT * np.maximum(scale, 1e-300)] = 0
    return n


def true_normals(body: Body, facets: Facets) -> np.ndarray:
    """Unit normals (n, 3), outward, of the surfaces the facets stand for; those of the facets where none is known."""
    out = TriMesh(facets.vertices, facets.faces).vertex_normals.copy()
    for k, (face, one) in enumerate(zip(faces_of(body.shape), face_surfaces(body))):
        own = facets.vertex_faces == k
        if not own.any():
            continue
        if one.element is not None:
            n = one.element.normals(facets.vertices[own])
        elif (
            one.spline is not None
            and np.ptp(one.spline.poles[..., 3]) == 0
            and isinstance(BRep_Tool.Surface_s(face), Geom_BSplineSurface)
        ):
            n = _of_spline(one, facets.uv[own])
        else:
            continue
        size = np.linalg.norm(n, axis=1)
        sound = size > 0
        n = n[sound] / size[sound][:, None]
        rough = out[own][sound]
        n *= np.where(np.einsum("ij,ij->i", n, rough) < 0, -1.0, 1.0)[:, None]
        kept = out[own]
        kept[sound] = n
        out[own] = kept
    return out
