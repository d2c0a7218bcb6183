"""Surface bodies that reach farther: open sides continued, trimming taken off; or that lie beside themselves."""

from __future__ import annotations

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve2d
from OCP.BRepOffset import BRepOffset_MakeSimpleOffset
from OCP.TopoDS import TopoDS

from ..errors import BadInput
from ..surfaces.extending import SplinePatch, extended
from .body import Body, carry_names, edge_faces, faces_of
from .lofted import sewn
from .shells import folds
from .splined import surface_face
from .surfaces import SplineSurface, face_surfaces, spline_of
from .tessellate import diagonal_of

__all__ = ["OPEN_SIDES", "moved_along_itself", "reaching", "whole_again"]

#: The sides of a face, as `reaching` names them.
OPEN_SIDES = ("u0", "u1", "v0", "v1")
_ON = 1e-6


def _patch(s: SplineSurface, name: str) -> SplinePatch:
    if np.ptp(s.poles[..., 3]) > 1e-9 * abs(s.poles[..., 3]).max():
        raise BadInput(f"'{name}' is a rational surface; fit a sheet to it first.", field="body")
    return SplinePatch(s.poles[..., :3] / s.poles[..., 3:], s.u_knots, s.v_knots, s.u_degree, s.v_degree)


def _splines(body: Body) -> list[SplineSurface]:
    out = []
    for face, one in zip(faces_of(body.shape), face_surfaces(body)):
        found = one.spline or spline_of(face)
        if found is None:
            raise BadInput(f"'{one.name}' cannot be continued; fit a sheet to it first.", field="body")
        out.append(found)
    return out


def _sides(body: Body, k: int, s: SplineSurface) -> list[int]:
    """Which whole sides of face k are rims of the body. Raises `BadInput` where the face is trimmed otherwise."""
    low = np.array([s.u_knots[0], s.v_knots[0]])
    span = np.array([s.u_knots[-1], s.v_knots[-1]]) - low
    face = TopoDS.Face(faces_of(body.shape)[k])
    found = []
    for edge, ids in edge_faces(body.shape):
        if k not in ids:
            continue
        c = BRepAdaptor_Curve2d(TopoDS.Edge(edge), face)
        t = np.linspace(c.FirstParameter(), c.LastParameter(), 5)
        uv = (np.array([[c.Value(float(x)).X(), c.Value(float(x)).Y()] for x in t]) - low) / span
        on = [(np.abs(uv[:, a] - e) < _ON).all() for a in (0, 1) for e in (0.0, 1.0)]
        if not any(on):
            raise BadInput(
                f"'{body.face_names[k]}' is trimmed; take its trimming off first, then let it reach.", field="body"
            )
        if len(ids) == 1:
            found.append(int(np.argmax(on)))
    return found


def reaching(body: Body, length: float, bends: bool, sides: list[str], feature: str) -> Body:
    """A surface continued past its open sides (all, or of each face those named in `OPEN_SIDES`) by ``length`` mm.

    Names stay. Raises `BadInput` for solids, trimmed faces, and where no such side is open.
    """
    if body.solid_count:
        raise BadInput("A solid has no open side; name a surface.", field="body")
    if length <= 0:
        raise BadInput("A surface reaches farther by more than 0 mm.", field="by")
    faces, done = [], 0
    for k, (s, name) in enumerate(zip(_splines(body), body.face_names)):
        patch = _patch(s, name)
        for side in _sides(body, k, s):
            if sides and OPEN_SIDES[side] not in sides:
                continue
            patch = extended(patch, side, length, bends)
            done += 1
        faces.append((surface_face(patch.poles, patch.u_knots, patch.v_knots, patch.u_degree, patch.v_degree), name))
    if not done:
        raise BadInput("None of these sides is open; choose others.", field="sides")
    return sewn(faces, feature, diagonal_of(body) + 2 * length, solid=False)


def whole_again(body: Body, feature: str) -> Body:
    """Every face of a surface without its trimming, as far as its own surface goes."""
    if body.solid_count:
        raise BadInput("Only a surface can have its trimming taken off; name one.", field="body")
    faces = []
    for s, name in zip(_splines(body), body.face_names):
        p = _patch(s, name)
        faces.append((surface_face(p.poles, p.u_knots, p.v_knots, p.u_degree, p.v_degree), name))
    return sewn(faces, feature, diagonal_of(body), solid=False)


def moved_along_itself(body: Body, distance: float, feature: str) -> Body:
    """A surface at ``distance`` mm to the side its faces look to (the other where less than 0); names stay."""
    if abs(distance) < 1e-9:
        raise BadInput("A surface is offset by more than 0 mm.", field="by")
    if any(folds(f, distance) for f in faces_of(body.shape)):
        raise BadInput(f"The surface bends tighter than {abs(distance):g} mm; offset it less.", field="by")
    try:
        op = BRepOffset_MakeSimpleOffset(body.shape, float(distance))
        op.Perform()
        shape = op.GetResultShape()
        done = op.IsDone() and len(faces_of(shape)) > 0
    except Exception:
        done = False
    if not done:
        raise BadInput(f"The surface bends tighter than {abs(distance):g} mm; offset it less.", field="by")
    own = list(zip(faces_of(body.shape), body.face_names))
    out = carry_names(shape, own, lambda f: [op.Generated(f)], feature)
    if not out.is_valid:
        raise BadInput(f"The surface folds when offset by {abs(distance):g} mm; take less.", field="by")
    return out
