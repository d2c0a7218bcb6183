"""Profiles swept along curves: square to the path or keeping their direction, guided, twisted; rings along edges."""

from __future__ import annotations

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire, BRepBuilderAPI_RightCorner
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipeShell
from OCP.gp import gp_Ax2, gp_Circ

from ..curves.drawn import through_points
from ..curves.frames import moving_frames
from ..curves.spatial import SpaceCurve
from ..errors import BadInput
from .body import Body, carry_names, faces_of, listed
from .features import Curve2D, PaperPlane, kernel_direction, kernel_point, paper_edge
from .spatial import wire_of

__all__ = ["HOLDS", "outline_wire", "profile_wire", "ring_wire", "sweep"]

#: How a profile is carried along its path.
HOLDS = ("square", "upright", "as drawn")
_SMOOTH = 240  # places of a path of several pieces that is taken as one
_NO = "The profile cannot be swept along this path; take a smaller profile, or a path with wider bends."


def profile_wire(loop: list[Curve2D], plane: PaperPlane):
    """A profile, open or closed, as a wire, and its edges each with the id of what it was drawn as."""
    maker = BRepBuilderAPI_MakeWire()
    edges = []
    for c in loop:
        maker.Add(paper_edge(c, plane, 0.0))
        if not maker.IsDone():
            raise BadInput(f"The profile does not hang together at '{c.id}'; join its ends.", field="sketch")
        edges.append((maker.Edge(), c.id))
    return maker.Wire(), edges


def outline_wire(corners, names):
    """A closed outline of straight edges through ``corners`` (n, 3), each edge by its name."""
    maker = BRepBuilderAPI_MakeWire()
    edges = []
    for k, name in enumerate(names):
        a, b = corners[k], corners[(k + 1) % len(corners)]
        maker.Add(BRepBuilderAPI_MakeEdge(kernel_point(a), kernel_point(b)).Edge())
        edges.append((maker.Edge(), name))
    return maker.Wire(), edges


def ring_wire(middle, direction, radius: float):
    """A circle as a wire, and its edge named 'ring'."""
    ring = gp_Circ(gp_Ax2(kernel_point(middle), kernel_direction(direction)), float(radius))
    maker = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ring).Edge())
    return maker.Wire(), [(maker.Edge(), "ring")]


def sweep(
    profile,
    path: SpaceCurve,
    feature: str,
    *,
    hold: str = "square",
    up=None,
    guide: SpaceCurve | None = None,
    twist_deg: float = 0.0,
    solid: bool = True,
) -> Body:
    """A profile (a wire and its named edges) carried along a path, from where it was drawn.

    ``hold``: square to the path, upright (its ``up`` (3,) kept square to the path's way as far as it goes), or as it
    was drawn. A ``guide`` turns it so that it keeps looking at the guide; ``twist_deg`` turns it evenly along the way.
    Faces: ``feature/side/ID`` and, of a solid, ``feature/begin`` and ``feature/end``. Raises `BadInput`.
    """
    wire, named = profile
    if hold not in HOLDS:
        raise AssertionError(hold)
    if abs(twist_deg) > 1e-9 and guide is None:
        guide = _twisted(path, twist_deg)
    if guide is not None and len(path.pieces) > 1:
        # A guide is met by planes square to one smooth path.
        path = through_points(path.at(np.linspace(0, path.length, _SMOOTH)), 0.0)
    if guide is not None and twist_deg == 0:
        # Planes square to the path meet a guide that goes far enough; of a shorter one, its share of the way counts.
        for by_share in (False, True):
            try:
                return _swept(wire, named, path, feature, guide=guide, by_share=by_share, solid=solid)
            except BadInput:
                if by_share:
                    raise
    if guide is None and hold == "square":
        # Where a spline is nearly straight its own turning is ill defined: frames carried step by step serve there.
        bent = any(p.kind == "spline" for p in path.pieces)
        for stepwise in (bent, not bent):
            try:
                return _swept(wire, named, path, feature, stepwise=stepwise, solid=solid)
            except BadInput:
                if stepwise != bent:
                    raise
    return _swept(wire, named, path, feature, hold=hold, up=up, guide=guide, solid=solid)


def _swept(
    wire, named, path, feature, *, hold="square", up=None, guide=None, by_share=False, stepwise=False, solid=True
) -> Body:
    maker = BRepOffsetAPI_MakePipeShell(wire_of(path))
    maker.SetTransitionMode(BRepBuilderAPI_RightCorner)  # a sharp corner of the path is mitred
    if guide is not None:
        from OCP.BRepFill import BRepFill_NoContact

        maker.SetMode(wire_of(guide), by_share, BRepFill_NoContact)
    elif hold == "as drawn":
        d = path.direction([0.0])[0]
        maker.SetMode(gp_Ax2(kernel_point(path.at([0.0])[0]), kernel_direction(d)))
    elif hold == "upright":
        maker.SetMode(kernel_direction(np.asarray(up if up is not None else (0, 0, 1), float)))
    elif stepwise:
        maker.SetDiscreteMode()
    else:
        maker.SetMode(False)
    if solid and not wire.Closed():
        raise BadInput("An open profile gives a surface; close it, or ask for a surface.", field="sketch")
    try:
        maker.Add(wire, False, False)
        maker.Build()
        done = maker.IsDone() and (not solid or maker.MakeSolid())
    except Exception as e:
        raise BadInput(_NO, field="path") from e
    if not done:
        raise BadInput(_NO, field="path")
    shape = maker.Shape()
    body = carry_names(
        shape, [(e, f"{feature}/side/{i}") for e, i in named], lambda e: listed(maker.Generated(e)), feature
    )
    names = list(body.face_names)
    if solid:
        caps = {"begin": maker.FirstShape(), "end": maker.LastShape()}
        for k, f in enumerate(faces_of(shape)):
            for role, cap in caps.items():
                if any(f.IsSame(c) for c in (faces_of(cap) if not cap.IsNull() else [])):
                    names[k] = f"{feature}/{role}"
    return Body(shape, tuple(names))


def _twisted(path: SpaceCurve, twist_deg: float) -> SpaceCurve:
    """A curve beside the path that winds about it by so much on the way."""
    n = int(max(24, abs(twist_deg) / 8))
    s = np.linspace(0, path.length, n + 1)
    places, u, v = moving_frames(path, s)
    turn = np.radians(twist_deg) * s / path.length
    return through_points(places + 0.1 * path.length * (np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v), 0.0)
