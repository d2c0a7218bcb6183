"""A body: a B-rep shape whose every face has a name that survives later features, and edges named by their faces.

A face is named by the feature that made it, its role there and the sketch entity it came from ("Base/side/e3").
Names travel through every operation by the kernel's own history; nothing is ever known by an index. An edge is named
by the two faces it parts. Siblings of a split are told apart by their neighbours first and by place last.

Kripac 1997, "A mechanism for persistently naming topological entities in history-based parametric solid models", CAD
29.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from OCP.BinTools import BinTools
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepGProp import BRepGProp
from OCP.collections import (
    IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher as _AncestorMap,
)
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as _ShapeMap
from OCP.collections import List_TopoDS_Shape
from OCP.GProp import GProp_GProps
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_SOLID
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Shape

from ...core.errors import BadInput

__all__ = ["Body", "EdgeName", "faces_of", "edges_of", "listed", "carry_names"]

EdgeName = tuple[str, str, int]


def listed(shapes: List_TopoDS_Shape) -> list[TopoDS_Shape]:
    """A kernel list as a Python list."""
    rest, out = List_TopoDS_Shape(), []
    rest.Assign(shapes)
    while not rest.IsEmpty():
        out.append(rest.First())
        rest.RemoveFirst()
    return out


def _mapped(shape: TopoDS_Shape, kind) -> _ShapeMap:
    m = _ShapeMap()
    TopExp.MapShapes_s(shape, kind, m)
    return m


def faces_of(shape: TopoDS_Shape) -> list:
    m = _mapped(shape, TopAbs_FACE)
    return [TopoDS.Face(m(i + 1)) for i in range(m.Extent())]


def edges_of(shape: TopoDS_Shape) -> list:
    m = _mapped(shape, TopAbs_EDGE)
    return [TopoDS.Edge(m(i + 1)) for i in range(m.Extent())]


def _centre(shape: TopoDS_Shape, *, surface: bool) -> tuple:
    g = GProp_GProps()
    (BRepGProp.SurfaceProperties_s if surface else BRepGProp.LinearProperties_s)(shape, g)
    c = g.CentreOfMass()
    return (round(c.X(), 6), round(c.Y(), 6), round(c.Z(), 6))


def _edge_faces(shape: TopoDS_Shape) -> list[tuple[TopoDS_Shape, list[int]]]:
    """Every edge with the positions of its faces."""
    faces = _mapped(shape, TopAbs_FACE)
    m = _AncestorMap()
    TopExp.MapShapesAndAncestors_s(shape, TopAbs_EDGE, TopAbs_FACE, m)
    out = []
    for i in range(1, m.Extent() + 1):
        ids = sorted({faces.FindIndex(f) - 1 for f in listed(m.FindFromIndex(i))})
        out.append((TopoDS.Edge(m.FindKey(i)), ids))
    return out


@dataclass(frozen=True)
class Body:
    """A shape with a name for each face, in the order of the kernel's face map. Lengths in mm."""

    shape: TopoDS_Shape
    face_names: tuple[str, ...]

    @property
    def volume(self) -> float:
        g = GProp_GProps()
        BRepGProp.VolumeProperties_s(self.shape, g, 1e-9, True)
        return float(g.Mass())

    @property
    def area(self) -> float:
        g = GProp_GProps()
        BRepGProp.SurfaceProperties_s(self.shape, g, 1e-9, True)
        return float(g.Mass())

    @property
    def is_valid(self) -> bool:
        return BRepCheck_Analyzer(self.shape).IsValid()

    @property
    def solid_count(self) -> int:
        return _mapped(self.shape, TopAbs_SOLID).Extent()

    def face(self, name: str):
        """The face of this name. Raises `BadInput` where there is none."""
        if name not in self.face_names:
            raise BadInput(f"The body has no face '{name}' any more.", field="face")
        return faces_of(self.shape)[self.face_names.index(name)]

    def edges(self) -> list[tuple[EdgeName, TopoDS_Shape]]:
        """Edges between two different faces with their names (face, face, ordinal among edges of the same two)."""
        groups: dict[tuple[str, str], list[TopoDS_Shape]] = {}
        for edge, ids in _edge_faces(self.shape):
            if len(ids) == 2:
                a, b = sorted(self.face_names[i] for i in ids)
                groups.setdefault((a, b), []).append(edge)
        out = []
        for (a, b), edges in groups.items():
            edges.sort(key=lambda e: _centre(e, surface=False))
            out += [((a, b, i), e) for i, e in enumerate(edges)]
        return out

    def to_bytes(self) -> bytes:
        """Binary B-rep without triangles."""
        from OCP.BinTools import BinTools_FormatVersion

        stream = io.BytesIO()
        BinTools.Write_s(self.shape, stream, False, False, BinTools_FormatVersion.BinTools_FormatVersion_CURRENT)
        return stream.getvalue()

    @staticmethod
    def from_bytes(data: bytes, face_names: Iterable[str]) -> Body:
        shape = TopoDS_Shape()
        BinTools.Read_s(shape, io.BytesIO(data))
        return Body(shape, tuple(face_names))


def carry_names(result: TopoDS_Shape, sources: list[tuple[TopoDS_Shape, str]], images: Callable, fresh: str) -> Body:
    """Name the faces of ``result`` from what ``images(source)`` says each named source became.

    Parameters
    ----------
    sources : (sub-shape, name) pairs, faces or edges of the inputs.
    images : sub-shape → the result's faces made or changed from it (itself where untouched).
    fresh : prefix for faces nothing accounts for.
    """
    faces = _mapped(result, TopAbs_FACE)
    names: dict[int, str] = {}
    for source, name in sources:
        for image in images(source):
            i = faces.FindIndex(image)
            if i > 0:
                names.setdefault(i - 1, name)
    count = faces.Extent()
    plain = [names.get(i, f"{fresh}/face") for i in range(count)]
    return Body(result, tuple(_distinct(result, faces, plain)))


def _distinct(result, faces, plain: list[str]) -> list[str]:
    groups: dict[str, list[int]] = {}
    for i, n in enumerate(plain):
        groups.setdefault(n, []).append(i)
    if all(len(g) == 1 for g in groups.values()):
        return plain
    beside: dict[int, set[str]] = {i: set() for i in range(len(plain))}
    for _, ids in _edge_faces(result):
        for i in ids:
            beside[i] |= {plain[j] for j in ids if j != i}
    out = list(plain)
    for name, ids in groups.items():
        if len(ids) > 1:
            ids.sort(key=lambda i: (sorted(beside[i]), _centre(faces(i + 1), surface=True)))
            for k, i in enumerate(ids):
                out[i] = name if k == 0 else f"{name}~{k + 1}"
    return out


def as_array(point) -> np.ndarray:
    return np.array([point.X(), point.Y(), point.Z()])
