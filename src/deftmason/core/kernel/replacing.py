"""A face of a body replaced by a surface: the body is grown over the face until the surface lies in it, parted by the
surface, and what carries the old face is taken away.
"""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid
from OCP.BRepOffset import BRepOffset_MakeOffset, BRepOffset_Mode
from OCP.GeomAbs import GeomAbs_JoinType
from OCP.TopAbs import TopAbs_SHELL, TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

from ..errors import BadInput
from .body import Body, carry_names, faces_of, listed
from .features import combine
from .tessellate import diagonal_of, tessellate
from .trimming import parted_by

__all__ = ["face_replaced"]

_FINE = 2e-3
_PAST = 0.02  # of the body's size: how far it is grown past the surface
_BESIDE = 0.05  # of the body's size: places of the surface no farther beside the face lie over it
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
        kept, _ = _under(combine(grown, bare, "cut", "grown"), own, surface, feature)
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
    op = BRepOffset_MakeOffset()
    op.Initialize(
        body.shape,
        0.0,
        1e-6 * diagonal_of(body),
        BRepOffset_Mode.BRepOffset_Skin,
        False,
        False,
        GeomAbs_JoinType.GeomAbs_Intersection,
        False,
        False,
    )
    sources = list(zip(faces_of(body.shape), body.face_names))
    for f, name in sources:
        if name in own:
            op.SetOffsetOnFace(f, by)
    try:
        op.MakeOffsetShape()
        done = op.IsDone()
    except Exception:
        done = False
    if done:
        shape = op.Shape()
        if shape.ShapeType() == TopAbs_SHELL:
            shape = BRepBuilderAPI_MakeSolid(TopoDS.Shell(shape)).Solid()
        out = carry_names(shape, sources, lambda f: [*listed(op.Modified(f)), *listed(op.Generated(f))], "grown")
        if out.is_valid and out.solid_count == body.solid_count and (out.volume > body.volume) == (by > 0):
            return out
    raise BadInput(
        "The faces round this one cannot be led on to the surface; lay the surface into the body instead.", field="face"
    )


def _pieces(split: Body) -> list[Body]:
    """The solids of a body, each a body of its own."""
    named = list(zip(faces_of(split.shape), split.face_names))
    out = []
    walk = TopExp_Explorer(split.shape, TopAbs_SOLID)
    while walk.More():
        out.append(carry_names(TopoDS.Solid(walk.Current()), named, lambda f: [f], "piece"))
        walk.Next()
    return out
