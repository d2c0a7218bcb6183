"""A body: a B-rep shape whose every face has a name that survives later features, and edges named by their faces.

A face is named by the feature that made it, its role there and the sketch entity it came from ("Base/side/e3").
Names travel through every operation by the kernel's own history; nothing is ever known by an index. An edge is named
by the two faces it parts. Siblings of a split are told apart by a neighbour that only one of them has, by place last.

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
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_SOLID, TopAbs_VERTEX
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Shape

from ...core.errors import BadInput

__all__ = ["Body", "EdgeName", "carry_names", "edge_faces", "edges_of", "faces_of", "listed", "root_of"]

#: Two faces as they were before they were split, and what tells it from others between the same two: the faces that
#: only it meets at its ends, or a number; empty where there is only one.
EdgeName = tuple[str, str, str]


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


def edge_faces(shape: TopoDS_Shape) -> list[tuple[TopoDS_Shape, list[int]]]:
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

    def faces_named(self, name: str) -> list[str]:
        """The face of this name, or all that it was split into since; none where it is gone."""
        if name in self.face_names:
            return [name]
        root, _, label = name.partition("~")
        kin = [(n, about) for n, about in zip(self.face_names, self._beside()) if root_of(n) == root]
        return [kin[k][0] for k in _meant(label, [about for _, about in kin], self._roots())]

    def _roots(self) -> set[str]:
        return {root_of(n) for n in self.face_names}

    def _beside(self) -> list[set[str]]:
        """The faces beside each face, by the names they had before they were split."""
        return _beside(self.shape, [root_of(n) for n in self.face_names])

    def _edges(self) -> list[tuple[EdgeName, TopoDS_Shape, tuple[str, str], set[str]]]:
        """Edges with their names, their two faces now, and the other faces that meet at their ends."""
        groups: dict[tuple[str, str], list] = {}
        ends = _end_faces(self.shape)
        for edge, ids in edge_faces(self.shape):
            if len(ids) == 2:
                a, b = sorted(self.face_names[i] for i in ids)
                about = {root_of(self.face_names[i]) for i in ends(edge) - set(ids)}
                roots = sorted((root_of(a), root_of(b)))
                groups.setdefault((roots[0], roots[1]), []).append((edge, (a, b), about))
        out = []
        for (a, b), edges in groups.items():
            edges.sort(key=lambda e: _centre(e[0], surface=False))
            labels = _labels([about for *_, about in edges])
            out += [((a, b, l), e, faces, about) for (e, faces, about), l in zip(edges, labels)]
        return out

    def edges(self) -> list[tuple[EdgeName, TopoDS_Shape]]:
        """Edges between two different faces with their names, as `EdgeName` has them."""
        return [(n, e) for n, e, *_ in self._edges()]

    def edge_faces(self) -> dict[EdgeName, tuple[str, str]]:
        """The two faces of each edge by its name."""
        return {n: faces for n, _, faces, _ in self._edges()}

    def edges_named(self, name: tuple[str, str, str | int]) -> list[EdgeName]:
        """The edges that a name given out by `edges`, now or before, stands for: one, or all that it was split into
        since; none where it is gone. A number in place of the end is that of older recipes, counted by place.
        """
        wanted = sorted(root_of(n) for n in name[:2])
        pair = [(n, about) for n, _, _, about in self._edges() if list(n[:2]) == wanted]
        end = name[2]
        if isinstance(end, int):
            return [n for n, _ in pair[end : end + 1]]
        exact = [n for n, _ in pair if n[2] == end]
        if exact:
            return exact
        return [pair[k][0] for k in _meant(end, [about for _, about in pair], self._roots())]

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


def root_of(name: str) -> str:
    """A face's name before it was split."""
    return name.partition("~")[0]


def _beside(shape: TopoDS_Shape, names: list[str]) -> list[set[str]]:
    """The names of the faces beside each face."""
    beside: list[set[str]] = [set() for _ in names]
    for _, ids in edge_faces(shape):
        for i in ids:
            beside[i] |= {names[j] for j in ids if j != i}
    return beside


def _distinct(result, faces, plain: list[str]) -> list[str]:
    """Names told apart: where one comes twice, all that were one face once are labelled anew, so that the order of the
    steps that split it does not matter; else labels stay as they were carried.
    """
    twice = {root_of(n) for n in plain if plain.count(n) > 1} if len(set(plain)) < len(plain) else set()
    if not twice:
        return plain
    roots = [root_of(n) for n in plain]
    beside = _beside(result, roots)
    out = list(plain)
    for root in twice:
        ids = [i for i, r in enumerate(roots) if r == root]
        ids.sort(key=lambda i: (sorted(beside[i]), _centre(faces(i + 1), surface=True)))
        for i, label in zip(ids, _labels([beside[i] - {root} for i in ids])):
            out[i] = f"{root}~{label}" if label else root
    return out


_MOST_TOLD = 3  # neighbours by which a sibling is told apart


def _labels(about: list[set[str]]) -> list[str]:
    """What tells siblings apart: the faces that only this one touches, or a number where it has none of its own. Empty
    where there is only one.
    """
    if len(about) == 1:
        return [""]
    out: list[str] = []
    for k, mine in enumerate(about):
        others = set().union(*(t for n, t in enumerate(about) if n != k))
        own = sorted(mine - others)[:_MOST_TOLD]
        out.append("&".join(own) if own else f"#{k + 1}")
    return out


def _meant(label: str, about: list[set[str]], there: set[str]) -> list[int]:
    """Which of the siblings there are now a label of before means: all for one that was whole; those that touch what it
    touched; none where a face that told it apart is gone, since it may have grown together with another.
    """
    if not label:
        return list(range(len(about)))
    told = f"&{label}&"
    known = sorted((r for r in there if f"&{r}&" in told), key=len, reverse=True)
    for r in known:
        told = told.replace(f"&{r}&", "&&")
    if told.strip("&"):
        return []
    return [k for k, mine in enumerate(about) if mine & set(known)]


def _end_faces(shape: TopoDS_Shape) -> Callable[[TopoDS_Shape], set[int]]:
    """For an edge of the shape, the positions of all faces that meet at its ends."""
    faces = _mapped(shape, TopAbs_FACE)
    m = _AncestorMap()
    TopExp.MapShapesAndAncestors_s(shape, TopAbs_VERTEX, TopAbs_FACE, m)

    def at(edge: TopoDS_Shape) -> set[int]:
        corners = _mapped(edge, TopAbs_VERTEX)
        return {
            faces.FindIndex(f) - 1 for k in range(1, corners.Extent() + 1) for f in listed(m.FindFromKey(corners(k)))
        }

    return at


def as_array(point) -> np.ndarray:
    return np.array([point.X(), point.Y(), point.Z()])
