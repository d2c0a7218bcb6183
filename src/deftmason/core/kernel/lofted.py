"""Skins over sections as spline surfaces, sewn with their ends to a solid or left open."""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
from OCP.ShapeFix import ShapeFix_Solid
from OCP.TopAbs import TopAbs_SHELL
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

from ..curves.skinning import Match, Strip
from ..curves.spatial import SpaceCurve
from ..errors import BadInput
from .body import Body, carry_names
from .spatial import wire_of
from .splined import surface_face

__all__ = ["lofted", "sewn", "spline_face"]


def spline_face(strip: Strip):
    """The spline surface through a strip's grid of places, as a face."""
    from scipy.interpolate import make_interp_spline

    ku = 1 if strip.straight else 3
    kv = min(3, len(strip.v) - 1)
    across = make_interp_spline(strip.u, strip.grid, k=ku)
    along = make_interp_spline(strip.v, np.swapaxes(across.c, 0, 1), k=kv)
    poles = np.swapaxes(along.c, 0, 1)  # (nu, nv, 3)
    return surface_face(poles, across.t, along.t, ku, kv)


def _cap(strips: list[Strip], last: bool):
    """The flat face that closes an end: its rim is that of the strips' own."""
    from scipy.interpolate import make_interp_spline

    from ..curves.spatial import spline_piece

    pieces = []
    for s in strips:
        rim = s.grid[:, -1 if last else 0]
        pieces.append(spline_piece(make_interp_spline(s.u, rim, k=1 if s.straight else 3)))
    maker = BRepBuilderAPI_MakeFace(wire_of(SpaceCurve(tuple(pieces), True)), True)
    if not maker.IsDone():
        raise BadInput("An end section is not flat; it cannot be closed.", field="sections")
    return maker.Face()


def sewn(faces: list[tuple], feature: str, size: float, *, solid: bool) -> Body:
    """Faces, each with its name, sewn where their rims meet; a solid where they close.

    Raises `BadInput` where they are to close and do not.
    """
    sewing = BRepBuilderAPI_Sewing(max(1e-6 * size, 1e-6))
    for f, _ in faces:
        sewing.Add(f)
    sewing.Perform()
    shape = sewing.SewedShape()
    named = [(sewing.ModifiedSubShape(f), name) for f, name in faces]
    if solid:
        walk = TopExp_Explorer(shape, TopAbs_SHELL)
        if sewing.NbFreeEdges() > 0 or not walk.More():
            raise BadInput("The faces do not close to a solid; look at its sections and guides.", field="sections")
        made = BRepBuilderAPI_MakeSolid(TopoDS.Shell(walk.Current())).Solid()
        fix = ShapeFix_Solid(made)
        fix.Perform()
        shape = fix.Solid()
        context = fix.Context()
        named = [(context.Apply(f), name) for f, name in named]
    return carry_names(shape, named, lambda f: [f], feature)


def lofted(match: Match, strips: list[Strip], feature: str, *, solid: bool) -> Body:
    """The skin over sections. Faces: ``feature/side/ID`` and, of a solid, ``feature/begin`` and ``feature/end``."""
    grids = np.concatenate([s.grid.reshape(-1, 3) for s in strips])
    size = float(np.linalg.norm(np.ptp(grids, axis=0)))
    faces = [(spline_face(s), f"{feature}/side/{s.name}") for s in strips]
    if solid:
        if not match.closed:
            raise BadInput("Open sections give a surface; close them, or ask for a surface.", field="sections")
        faces += [(_cap(strips, False), f"{feature}/begin"), (_cap(strips, True), f"{feature}/end")]
    return sewn(faces, feature, size, solid=solid)
