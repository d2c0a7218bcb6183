"""Tubes as solids: a ring or a disc swept along straights and bends, as exact cylinders and rings."""

from __future__ import annotations

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipe
from OCP.GC import GC_MakeArcOfCircle
from OCP.GeomAbs import GeomAbs_Plane
from OCP.gp import gp_Ax2, gp_Circ

from ..curves.bentpath import BentPath
from ..errors import BadInput
from .body import Body, as_array, faces_of
from .features import kernel_direction, kernel_point
from .solids import solid

__all__ = ["path_wire", "pipe"]


def path_wire(path: BentPath):
    """The path as a wire of true lines and arcs."""
    maker = BRepBuilderAPI_MakeWire()
    for q in path.pieces:
        if q.length <= 1e-9 * max(path.length, 1.0):
            continue
        a, m, b = q.at(np.array([0.0, 0.5, 1.0]) * q.length)
        if q.straight:
            edge = BRepBuilderAPI_MakeEdge(kernel_point(a), kernel_point(b))
        else:
            arc = GC_MakeArcOfCircle(kernel_point(a), kernel_point(m), kernel_point(b))
            edge = BRepBuilderAPI_MakeEdge(arc.Value())
        maker.Add(edge.Edge())
    if not maker.IsDone():
        raise BadInput("The path does not hang together; look at its bends.", field="path")
    return maker.Wire()


def pipe(path: BentPath, radius: float, feature: str, *, wall: float | None = None) -> Body:
    """The tube along a path, of outer ``radius`` mm, solid or with a ``wall`` of so many mm.

    Faces: ``feature/outside/k`` and, with a wall, ``feature/inside/k`` of the k-th piece (from 1), ``feature/begin``
    and ``feature/end``. Raises `BadInput` where a bend is tighter than the tube or the wall too thick.
    """
    if len(path.bends) and float(path.bends[:, 2].min()) <= radius:
        raise BadInput("A bend's radius is above the tube's own; choose a larger one.", field="radius")
    if wall is not None and not 0 < wall < radius:
        raise BadInput("A wall is above 0 mm and thinner than the tube's radius.", field="wall")

    def swept(r: float):
        ring = gp_Circ(gp_Ax2(kernel_point(path.start), kernel_direction(path.direction)), r)
        face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ring).Edge()).Wire())
        return BRepOffsetAPI_MakePipe(path_wire(path), face.Face()).Shape()

    if len(path.bends) == 0:
        outer = solid("cylinder", feature, path.start, path.direction, radius=radius, height=path.length).shape
    else:
        outer = swept(radius)
    shape = outer
    if wall is not None:
        from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

        inner = (
            swept(radius - wall)
            if len(path.bends)
            else solid("cylinder", feature, path.start, path.direction, radius=radius - wall, height=path.length).shape
        )
        shape = BRepAlgoAPI_Cut(outer, inner).Shape()
    return Body(shape, _names(shape, path, radius, wall, feature))


def _names(shape, path: BentPath, radius: float, wall: float | None, feature: str) -> tuple[str, ...]:
    """What each face is, by where its middle lies along the path and how far from it."""
    ends = path.at(np.array([0.0, path.length]))
    names: list[str] = []
    pieces = [q for q in path.pieces if q.length > 1e-9 * max(path.length, 1.0)]
    for face in faces_of(shape):
        s = BRepAdaptor_Surface(face)
        u = 0.5 * (s.FirstUParameter() + s.LastUParameter()), 0.5 * (s.FirstVParameter() + s.LastVParameter())
        p = as_array(s.Value(*u))
        if s.GetType() == GeomAbs_Plane:
            which = int(np.argmin(np.linalg.norm(ends - p, axis=1)))
            names.append(f"{feature}/{('begin', 'end')[which]}")
            continue
        off = []
        for q in pieces:
            along, rho, _ = q.from_axis(p[None])
            out = max(0.0, -float(along[0]), float(along[0]) - q.length)
            off.append((out + abs(float(rho[0]) - radius) * 1e-3, float(rho[0])))
        k = int(np.argmin([o for o, _ in off]))
        inside = wall is not None and abs(off[k][1] - radius) > 0.5 * wall
        names.append(f"{feature}/{'inside' if inside else 'outside'}/{k + 1}")
    return tuple(names)
