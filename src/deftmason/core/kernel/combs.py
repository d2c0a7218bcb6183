"""Curvature combs: teeth along the lines of even parameters of a body's faces, as long as the surface bends there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepClass import BRepClass_FaceClassifier
from OCP.BRepTools import BRepTools
from OCP.gp import gp_Pnt, gp_Pnt2d, gp_Vec
from OCP.TopAbs import TopAbs_OUT, TopAbs_REVERSED
from OCP.TopoDS import TopoDS

from .body import Body, faces_of

__all__ = ["Combs", "combs_of"]


@dataclass(frozen=True)
class Combs:
    """Lines of teeth: ``feet`` (n, 3) mm on the surface, ``normals`` (n, 3) outward, ``bends`` (n,) its curvature along
    the line, per mm, above 0 where it is hollow; ``line`` (n,) which line and ``face`` (n,) which face each is of.
    """

    feet: np.ndarray
    normals: np.ndarray
    bends: np.ndarray
    line: np.ndarray
    face: np.ndarray


def combs_of(body: Body, lines: int = 5, teeth: int = 40) -> Combs:
    """So many lines a face each way, so many teeth a line; what a face's trimming leaves out has none."""
    feet, normals, bends, of, owner = [], [], [], [], []
    count = 0
    for k, f in enumerate(faces_of(body.shape)):
        face = TopoDS.Face(f)
        surface = BRepAdaptor_Surface(face)
        inside = BRepClass_FaceClassifier()
        sign = -1.0 if face.Orientation() == TopAbs_REVERSED else 1.0
        low_u, high_u, low_v, high_v = BRepTools.UVBounds_s(face)
        for way in (0, 1):
            (a, b), (c, d) = ((low_u, high_u), (low_v, high_v)) if way == 0 else ((low_v, high_v), (low_u, high_u))
            for across in c + (d - c) * (np.arange(lines) + 0.5) / lines:
                for along in np.linspace(a, b, teeth):
                    u, v = (along, across) if way == 0 else (across, along)
                    inside.Perform(face, gp_Pnt2d(u, v), 1e-9)
                    if inside.State() == TopAbs_OUT:
                        count += 1  # a gap parts the line
                        continue
                    p = gp_Pnt()
                    du, dv, duu, dvv, duv = (gp_Vec() for _ in range(5))
                    surface.D2(u, v, p, du, dv, duu, dvv, duv)
                    run, bend = ((du, duu), (dv, dvv))[way]
                    n = np.cross(_of(du), _of(dv))
                    size, square = float(np.linalg.norm(n)), float(_of(run) @ _of(run))
                    if size < 1e-12 or square < 1e-24:
                        continue
                    n *= sign / size
                    feet.append((p.X(), p.Y(), p.Z()))
                    normals.append(n)
                    bends.append(float(n @ _of(bend)) / square)
                    of.append(count)
                    owner.append(k)
                count += 1
    return Combs(
        np.array(feet, float).reshape(-1, 3),
        np.array(normals, float).reshape(-1, 3),
        np.array(bends, float),
        np.array(of, int),
        np.array(owner, int),
    )


def _of(v: gp_Vec) -> np.ndarray:
    return np.array([v.X(), v.Y(), v.Z()])
