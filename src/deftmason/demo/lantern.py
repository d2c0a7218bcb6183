"""The lantern arm of the Wrenfleet ferry: its true model, and six raw scans of it on a slab.

A foot with two bolt holes, an arm that rises and swings forward, an eye at its end for the lantern's pin, a rib under
the
arm. No symmetry, so that its scans go together in one way only.
"""

from __future__ import annotations

import numpy as np

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.views import View, scan_views, turned

__all__ = ["true_lantern_arm", "lantern_scans", "LANTERN_VIEWS"]


def true_lantern_arm() -> Body:
    """The true model, mm; the foot's underside is z = 0."""
    from build123d import Box, Cylinder, Plane, Polyline, Pos, Rot, extrude, fillet, make_face

    foot = Pos(0, 0, 3) * Box(44, 30, 6)
    foot = fillet([e for e in foot.edges() if abs(e.center().Z - 3) < 0.1], 5)
    side = Polyline((-12, 6), (-2, 34), (34, 46), (52, 46), (52, 37), (37, 37), (9, 27), (10, 6), close=True)
    arm = extrude(Plane.XZ.offset(-5) * make_face(side), 10)
    rib = extrude(Plane.XZ.offset(-2) * make_face(Polyline((8, 5), (20, 5), (9, 26), close=True)), 4)
    eye = Pos(52, 0, 41.5) * Rot(90, 0, 0) * Cylinder(10, 14)
    part = foot + arm + rib + eye
    part -= Pos(52, 0, 41.5) * Rot(90, 0, 0) * Cylinder(5.5, 30)
    part -= Pos(-16, 9, 3) * Cylinder(3.25, 20)
    part -= Pos(15, -9, 3) * Cylinder(3.25, 20)
    shape = part.wrapped if hasattr(part, "wrapped") and part.wrapped is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


_STAND, _SIDE, _OVER = np.eye(3), turned((1, 0, 0), 90), turned((1, 0, 0), -90)
#: How the arm lay and where the head was, for each of the six scans.
LANTERN_VIEWS = [
    View(_STAND, (0.9, -0.9, 0.9)),
    View(_STAND, (0.9, 0.9, 0.9)),
    View(_STAND, (-1.0, -0.6, 0.7)),
    View(_SIDE, (0.95, 0.45, 0.6)),
    View(_OVER, (-0.5, 0.5, 1.2)),
    View(_SIDE, (-0.2, -1.3, 0.9)),
]


def lantern_scans(spacing: float = 0.7, seed: int = 3) -> list[tuple[TriMesh, RigidMotion]]:
    """The six raw scans and their poses (part to scan coordinates)."""
    return scan_views(true_lantern_arm(), LANTERN_VIEWS, spacing=spacing, seed=seed)
