"""Bodies parted by surfaces: surfaces trimmed against each other, solids cut by a surface; sides told by the surface's
own normal and not by a click.
"""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepAlgoAPI import BRepAlgoAPI_Splitter
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.collections import List_TopoDS_Shape
from OCP.gp import gp_Pln
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Compound

from ..errors import BadInput
from .body import Body, carry_names, faces_of
from .extending import reaching
from .features import history, kernel_direction, kernel_point
from .lofted import sewn
from .tessellate import diagonal_of, tessellate

__all__ = ["cut_by", "parted_by", "plane_sheet", "trimmed_mutually"]

_FINE = 2e-3
_PAST = 0.25  # of the size: how far a surface is continued to part another


def plane_sheet(point, normal, size: float) -> Body:
    """A square sheet in a plane about a point (3,), ``size`` mm half as wide."""
    plane = gp_Pln(kernel_point(point), kernel_direction(normal))
    return Body(BRepBuilderAPI_MakeFace(plane, -size, size, -size, size).Face(), ("plane",))


def parted_by(body: Body, tool: Body, feature: str) -> Body:
    """A body split where a surface lies in it: the faces of both by their names, the tool's as ``feature/NAME``.

    Raises `BadInput` where it cannot be.
    """
    given, tools = List_TopoDS_Shape(), List_TopoDS_Shape()
    given.Append(body.shape)
    tools.Append(tool.shape)
    op = BRepAlgoAPI_Splitter()
    op.SetArguments(given)
    op.SetTools(tools)
    op.Build()
    if not op.IsDone() or op.Shape().IsNull() or not faces_of(op.Shape()):
        raise BadInput("The two cannot be parted by each other; move one slightly.", field="by")
    sources = [
        *zip(faces_of(body.shape), body.face_names),
        *((f, f"{feature}/{n}") for f, n in zip(faces_of(tool.shape), tool.face_names)),
    ]
    return carry_names(op.Shape(), sources, history(op), feature)


def _farther(tool: Body, size: float) -> Body | None:
    """A surface continued straight past its open sides; none where it cannot be."""
    try:
        return reaching(tool, _PAST * size, False, [], "farther")
    except BadInput:
        return None


def _parted(body: Body, tool: Body, feature: str) -> tuple[Body, Body]:
    """A surface split by another, which is continued where it does not reach all the way; and that other."""
    split = parted_by(body, tool, feature)
    if len(split.face_names) > len(body.face_names):
        return split, tool
    longer = _farther(tool, max(diagonal_of(body), diagonal_of(tool)))
    if longer is not None:
        split = parted_by(body, longer, feature)
    if longer is None or len(split.face_names) == len(body.face_names):
        raise BadInput("The two do not cross all the way; let each reach past the other first.", field="by")
    return split, longer


class _Sides:
    """Which side of a surface places lie on, told where they lie farthest from it."""

    def __init__(self, tool: Body):
        from scipy.spatial import cKDTree

        facets = tessellate(tool, _FINE * diagonal_of(tool), 6.0)
        corners = facets.vertices[facets.faces]
        n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        area = np.linalg.norm(n, axis=1)
        n = n / np.maximum(area, 1e-300)[:, None]
        # Several places a facet, so that the nearest is told well.
        share = np.array([[1, 1, 1], [4, 1, 1], [1, 4, 1], [1, 1, 4]]) / np.array([[3], [6], [6], [6]])
        self._at = np.einsum("sk,fkc->fsc", share, corners).reshape(-1, 3)
        self._normal = np.repeat(n, len(share), axis=0)
        self._tree = cKDTree(self._at)

    def of(self, places: np.ndarray) -> float:
        """Above 0 before the surface, where its normal points; below 0 behind it."""
        near = self._tree.query(places)[1]
        off = np.einsum("ij,ij->i", places - self._at[near], self._normal[near])
        return float(off[int(np.argmax(np.abs(off)))])


def _kept(body: Body, sides: _Sides, before: bool) -> list[tuple]:
    """The faces of a split surface on one side, with their names."""
    facets = tessellate(body, _FINE * diagonal_of(body), 10.0)
    out = []
    for k, (f, name) in enumerate(zip(faces_of(body.shape), body.face_names)):
        own = facets.vertices[facets.faces[facets.face_ids == k]].mean(axis=1)
        if len(own) and (sides.of(own) > 0) == before:
            out.append((f, name))
    return out


def trimmed_mutually(a: Body, b: Body, keep_a: str, keep_b: str, feature: str) -> Body:
    """Two surfaces trimmed where they meet and sewn there.

    ``keep_a`` : which side of b is kept of a: ``before`` it, where its normal points, or ``behind``; ``keep_b`` as
    well. Raises `BadInput` where they do not part each other.
    """
    pieces = []
    for own, other, keep in ((a, b, keep_a), (b, a, keep_b)):
        split, tool = _parted(own, other, feature)
        kept = _kept(split, _Sides(tool), keep == "before")
        if not kept:
            raise BadInput("Nothing is left on the side that is kept; keep the other one.", field="keep")
        pieces += kept
    return sewn(pieces, feature, max(diagonal_of(a), diagonal_of(b)), solid=False)


def cut_by(body: Body, tool: Body, keep: str, feature: str) -> Body:
    """What of a body lies ``before`` a surface, where its normal points, or ``behind`` it; a solid stays one, with the
    surface as its new face ``feature/NAME``. Raises `BadInput` where the surface does not part it.
    """
    if body.solid_count == 0:
        split, tool = _parted(body, tool, feature)
        kept = _kept(split, _Sides(tool), keep == "before")
        if not kept:
            raise BadInput("Nothing is left on the side that is kept; keep the other one.", field="keep")
        return sewn(kept, feature, diagonal_of(body), solid=False)
    split, sides = parted_by(body, tool, feature), _Sides(tool)
    builder, whole = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(whole)
    walk, count, taken = TopExp_Explorer(split.shape, TopAbs_SOLID), 0, 0
    while walk.More():
        solid = TopoDS.Solid(walk.Current())
        count += 1
        one = Body(solid, ("",) * len(faces_of(solid)))
        if (sides.of(tessellate(one, _FINE * diagonal_of(one)).vertices) > 0) == (keep == "before"):
            builder.Add(whole, solid)
            taken += 1
        walk.Next()
    if count < 2:
        raise BadInput("The surface does not part the body all the way; let it reach farther.", field="by")
    if not taken:
        raise BadInput("Nothing is left on the side that is kept; keep the other one.", field="keep")
    shape = TopoDS.Solid(TopExp_Explorer(whole, TopAbs_SOLID).Current()) if taken == 1 else whole
    return carry_names(shape, list(zip(faces_of(split.shape), split.face_names)), lambda f: [f], feature)
