"""The chain guide bracket of the Wrenfleet ferry: its true model, and a scan of a worn one.

The part: a plate with four bolt holes and a pivot bore, a drafted boss with a gently crowned top, a pocket with a
rounded floor. The numbers here are the truth that tests compare with.
"""

from __future__ import annotations

import numpy as np

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.damage import spoil, tear
from ..rig.scanner import Scanner, Wear
from .bracket_sizes import Bracket

__all__ = ["Bracket", "true_bracket", "bracket_scanner", "raw_bracket", "WORN"]

#: The worn stretch of the plate's edge: centre and radius in part coordinates, mm.
WORN = Wear(center=(45.0, -24.0, 12.0), radius=8.0, depth=0.8)


def true_bracket(b: Bracket = Bracket()) -> Body:
    """The true model, built with a general CAD library independently of the program's own features."""
    from build123d import (
        Cylinder,
        Plane,
        Pos,
        RectangleRounded,
        Sphere,
        draft,
        extrude,
        fillet,
    )

    plate = extrude(RectangleRounded(b.length, b.width, b.corner), b.plate)
    boss = Pos(0, 0, b.plate) * extrude(
        RectangleRounded(b.boss_length, b.boss_width, b.boss_corner), b.boss_top + 3 - b.plate
    )
    walls = [f for f in boss.faces() if abs(f.normal_at().Z) < 1e-6]
    boss = draft(walls, Plane.XY.offset(b.boss_level), b.draft_deg)
    # The crown: a large sphere touching the top at its highest, lower by ``crown`` at the boss's ends.
    half = b.boss_length / 2
    radius = (half**2 + b.crown**2) / (2 * b.crown)
    boss = boss & (Pos(0, 0, b.boss_top + b.crown / 2 - radius) * Sphere(radius))
    part = plate + boss
    foot = [
        e
        for e in part.edges()
        if abs(e.center().Z - b.plate) < 1e-6
        and abs(e.center().X) < half + 2
        and abs(e.center().Y) < b.boss_width / 2 + 2
        and len(e.vertices()) == 2
    ]
    part = fillet(foot, b.foot)
    part -= Pos(0, 0, b.pocket_floor) * extrude(RectangleRounded(b.pocket_length, b.pocket_width, b.pocket_corner), 40)
    part -= Pos(0, 0, b.plate / 2) * Cylinder(b.pivot / 2, 60)
    for x in (-b.bolt_x / 2, b.bolt_x / 2):
        for y in (-b.bolt_y / 2, b.bolt_y / 2):
            part -= Pos(x, y, b.plate / 2) * Cylinder(b.bolt / 2, 60)
    shape = part.wrapped if hasattr(part, "wrapped") and part.wrapped is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def bracket_scanner(spacing: float = 0.52, seed: int = 20) -> Scanner:
    """How the demo's bracket was scanned: three holes in the mesh, part of one edge worn."""
    return Scanner(
        spacing=spacing,
        noise=0.03,
        stations=40,
        seed=seed,
        wear=(WORN,),
        holes=((-38.0, -8.0, 12.0, 3.2), (20.0, 30.0, 6.0, 2.6), (6.0, -18.8, 24.0, 2.8)),
    )


#: Where the raw scan is torn, in part coordinates: x, y, z and radius, mm. The last is the pivot bore's mouth.
TORN = (
    (30.0, 8.0, 12.0, 3.5),
    (-30.0, -20.0, 12.0, 2.6),
    (-12.0, 17.9, 20.0, 3.0),
    (45.0, 10.0, 6.0, 2.4),
    (0.0, -30.0, 6.0, 3.2),
    (10.0, 24.0, 12.0, 2.0),
    (-20.0, 2.0, 30.0, 2.2),
    (20.0, 16.0, 0.0, 3.6),
    (6.0, 0.0, 12.0, 2.6),
)


def raw_bracket(mesh: TriMesh, pose: RigidMotion) -> TriMesh:
    """The scan as it came from the scanner's own software: torn holes, spikes, flipped and doubled triangles,
    scraps.
    """
    at = [(*pose.points(np.array(t[:3])).tolist(), t[3]) for t in TORN]
    return spoil(tear(mesh, at))
