"""A face of a body replaced by a surface: the body is grown over the face until the surface lies in it, parted by the
surface, and what carries the old face is taken away.
"""

from __future__ import annotations

from functools import reduce

import numpy as np
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Trsf, gp_Vec
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS

from ..elements import Cylinder, Plane
from ..errors import BadInput
from .body import Body, carry_names, edge_faces, faces_of, listed
from .features import combine
from .offsetting import faces_offset
from .surfaces import face_surfaces
from .tessellate import diagonal_of, tessellate
from .trimming import parted_by

__all__ = ["face_replaced"]

_FINE = 2e-3
_PAST = 0.02  # of the body's size: how far it is grown past the surface
_BESIDE = 0.05  # of the body's size: places of the surface no farther beside the face lie over it
_ALONG = 1e-9  # by how little a wall leans that runs straight
_OVER = 0.98  # of the face that the surface lies over at least


def face_replaced(body: Body, face: str, surface: Body, feature: str) -> Body:
    """The body with the surface where a face was, the faces around it led on to it or back to it.

    New face: ``feature/NAME`` of each of the surface's. Raises `BadInput` where the surface does not lie over the whole
    face, or the body cannot be grown to it.
    """
    own = body.faces_named(face)
    if not own:
        raise BadInput(f"The body has no face '{face}' any more; pick it again.", field="face")
    low, high = _rise(body, own, surface)
    past = _PAST * diagonal_of(body)
    grown = _moved(body, own, high + past) if high > -past else body
    kept, gone = _under(grown, own, surface, feature)
    beside = {f for e in body.edge_faces().values() if set(e) & set(own) for f in e}
    if any(n not in beside for p in gone for n in p.face_names if n in body.face_names):
        # Something else stands beside the face and reaches through the surface: only what lies over the face counts.
        bare = _moved(body, own, low - past) if low < past else body
        bare = Body(bare.shape, tuple("grown/foot" if n in own else n for n in bare.face_names))
        way, _ = _straight(body, own)
        if way is None:
            slab = combine(grown, bare, "cut", "grown")
        else:
            foot = min(low - past, 0.0)
            slab = reduce(
                lambda a, b: combine(a, b, "join", "grown"), _prisms(body, own, foot * way, (high + past) * way)
            )
        kept, _ = _under(slab, own, surface, feature)
        kept = [bare, *kept]
    out = kept[0]
    for other in kept[1:]:
        out = combine(out, other, "join", feature)
    return _plainly_named(out, body)


def _under(grown: Body, own: list[str], surface: Body, feature: str) -> tuple[list[Body], list[Body]]:
    """The pieces of a body that a surface parts which do not carry the old face, and those that do."""
    pieces = _pieces(parted_by(grown, surface, feature))
    gone = [p for p in pieces if any(p.faces_named(f) for f in own)]
    kept = [p for p in pieces if not any(p is g for g in gone)]
    if not gone or not kept:
        raise BadInput("The surface does not part the body under this face; let it reach past its sides.", field="by")
    return kept, gone


def _plainly_named(out: Body, before: Body) -> Body:
    """A face that is whole again by its plain name: of what it was parted from nothing is left."""
    plain = [n if n in before.face_names else n.split("~")[0] for n in out.face_names]
    fits = [p in before.face_names and plain.count(p) == 1 for p in plain]
    return Body(out.shape, tuple(p if ok else n for p, n, ok in zip(plain, out.face_names, fits)))


def _rise(body: Body, own: list[str], surface: Body) -> tuple[float, float]:
    """How far the surface rises over a face at least and at most, mm; below 0 where it lies in the body."""
    from scipy.spatial import cKDTree

    fine = _FINE * diagonal_of(body)
    facets, tool = tessellate(body, fine, 6.0), tessellate(surface, _FINE * diagonal_of(surface), 6.0)
    mine = np.isin(facets.face_ids, [k for k, n in enumerate(body.face_names) if n in own])
    corners = facets.vertices[facets.faces[mine]]
    n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(n, axis=1)
    way = n.sum(axis=0) / max(float(np.linalg.norm(n.sum(axis=0))), 1e-300)
    # Seen along the way the face looks: places of both, spread over their facets.
    at, over = _spread(corners, area), _spread(tool.vertices[tool.faces], None)
    flat = np.eye(3) - np.outer(way, way)
    near, k = cKDTree(at @ flat).query(over @ flat, distance_upper_bound=_BESIDE * diagonal_of(body))
    there = np.isfinite(near)
    reach = cKDTree(over @ flat).query(at @ flat, distance_upper_bound=_BESIDE * diagonal_of(body))[0]
    if not there.any() or np.isfinite(reach).mean() < _OVER:
        raise BadInput("The surface does not lie over the whole face; let it reach past its sides first.", field="by")
    rise = (over[there] - at[k[there]]) @ way
    return float(rise.min()), float(rise.max())


def _spread(corners: np.ndarray, area: np.ndarray | None, count: int = 20_000) -> np.ndarray:
    """Places (n, 3) spread evenly over triangles (k, 3, 3), and their corners."""
    if area is None:
        n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        area = np.linalg.norm(n, axis=1)
    rng = np.random.default_rng(0)
    k = rng.choice(len(corners), count, p=area / area.sum())
    u, v = rng.uniform(size=(2, count, 1))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = corners[k, 0], corners[k, 1], corners[k, 2]
    return np.concatenate([a + u * (b - a) + v * (c - a), corners.reshape(-1, 3)])


def _moved(body: Body, own: list[str], by: float) -> Body:
    """The body with some faces moved by a distance, outwards above 0, those around them led on or back."""
    way, rounds = _straight(body, own)
    if way is not None and not rounds:
        return _pushed(body, own, by * way, by > 0)
    try:
        return faces_offset(body, own, by)
    except BadInput:
        if way is None:
            raise
        return _pushed(body, own, by * way, by > 0)


def _straight(body: Body, own: list[str]) -> tuple[np.ndarray | None, bool]:
    """The way (3,) that flat faces look where all the faces around them run along it, None where one does not; and
    whether some of those are round (two pieces of a bore are not always made one).
    """
    known = {s.name: s for s in face_surfaces(body)}
    ends = [(known[n].element, known[n].outward) for n in own]
    ways = np.array([out * e.normal for e, out in ends if isinstance(e, Plane)])
    if len(ways) < len(own) or (ways @ ways[0] < 1 - _ALONG).any():
        return None, False
    beside = {f for e in body.edge_faces().values() if set(e) & set(own) for f in e} - set(own)
    for e in (known[n].element for n in beside):
        off = abs(float(e.normal @ ways[0])) if isinstance(e, Plane) else 1.0
        off = 1 - abs(float(e.direction @ ways[0])) if isinstance(e, Cylinder) else off
        if off > _ALONG:
            return None, False
    return ways[0], any(isinstance(known[n].element, Cylinder) for n in beside)


def _pushed(body: Body, own: list[str], by: np.ndarray, outwards: bool) -> Body:
    """The body with flat faces pushed along their own normal by (3,) mm, out of it or into it."""
    out = body
    for prism in _prisms(body, own, np.zeros(3), by):
        out = combine(out, prism, "join" if outwards else "cut", "grown")
    return out


def _prisms(body: Body, own: list[str], low: np.ndarray, high: np.ndarray) -> list[Body]:
    """What some faces sweep from one place to another, (3,) mm from where they are, their walls named by those they
    run on from.
    """
    shapes, rims = faces_of(body.shape), edge_faces(body.shape)
    aside = gp_Trsf()
    aside.SetTranslation(gp_Vec(*map(float, low)))
    out = []
    for k in (k for k, n in enumerate(body.face_names) if n in own):
        op = BRepPrimAPI_MakePrism(shapes[k], gp_Vec(*map(float, high - low)))
        named = [(op.LastShape(), body.face_names[k]), (op.FirstShape(), "grown/foot")]
        for edge, ids in rims:
            wall = next((body.face_names[i] for i in ids if i != k), "grown/wall")
            named += [(f, wall) for f in (listed(op.Generated(edge)) if k in ids else ())]
        prism = carry_names(op.Shape(), named, lambda f: [f], "grown")
        out.append(Body(prism.shape.Moved(TopLoc_Location(aside)), prism.face_names))
    return out


def _pieces(split: Body) -> list[Body]:
    """The solids of a body, each a body of its own."""
    named = list(zip(faces_of(split.shape), split.face_names))
    out = []
    walk = TopExp_Explorer(split.shape, TopAbs_SOLID)
    while walk.More():
        out.append(carry_names(TopoDS.Solid(walk.Current()), named, lambda f: [f], "piece"))
        walk.Next()
    return out
