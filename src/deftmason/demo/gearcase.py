"""The winch gear case of the Wrenfleet ferry, cast: a flange with bolt holes, a drafted housing under a top of free
form, rounded all round, a bearing boss across it on ribs, a filler boss, gussets, turned bores and a hollow from below;
its true model and a scan of it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.scanner import Scanner, scan_part

__all__ = ["GEAR_CASE", "GearCase", "gear_case_scan", "true_gear_case"]


@dataclass(frozen=True)
class GearCase:
    """Sizes in mm. It stands on z = 0, x along it, y across; the bearing runs along y."""

    flange: tuple[float, float, float] = (124.0, 84.0, 10.0)
    flange_corner: float = 12.0
    bolt: float = 9.0  # diameter
    bolts: tuple[float, float] = (100.0, 62.0)  # between their axes, along x and y
    housing: tuple[float, float] = (84.0, 52.0)  # where it stands on the flange
    housing_corner: float = 10.0
    lean: float = 2.0  # of its walls, degrees
    foot: float = 4.0  # rounding between housing and flange
    brow: float = 5.0  # rounding between walls and top
    axis: tuple[float, float] = (-14.0, 27.0)  # of the bearing: x and z
    bearing: tuple[float, float] = (26.0, 37.0)  # its boss: diameter, how far out each way
    bore: float = 16.0
    seat: tuple[float, float] = (20.0, 5.0)  # at both ends of the bore: diameter, how deep
    rib: float = 6.0  # how thick, under the bearing boss, to where it ends less ``rib_back``
    rib_back: float = 3.0
    gusset: tuple[float, float, float] = (5.0, 16.0, 20.0)  # how thick, how far out, how high
    gusset_y: float = 12.0
    filler: tuple[float, float, float] = (20.0, 48.0, 12.0)  # boss diameter, its top, bore
    filler_x: float = 24.0
    hollow: tuple[float, float, float, float] = (64.0, 34.0, 14.0, 6.0)  # along x, y, how high, corner

    def top(self, x, y):
        """How high the top of the housing is: crowned, with a shoulder down towards +x."""
        x, y = np.asarray(x, float), np.asarray(y, float)
        return 48 - 0.002 * x * x - 0.003 * y * y - 3.5 * (1 + np.tanh((x - 6) / 12))


GEAR_CASE = GearCase()


def _top_face(c: GearCase) -> Body:
    from scipy.interpolate import make_interp_spline

    from ..core.kernel.lofted import sewn
    from ..core.kernel.splined import surface_face

    x, y = np.linspace(-60, 60, 61), np.linspace(-45, 45, 31)
    g = np.stack([*np.broadcast_arrays(x[:, None], y[None], c.top(x[:, None], y[None]))], axis=-1)
    a = make_interp_spline(np.linspace(0, 1, len(x)), g, k=3)
    b = make_interp_spline(np.linspace(0, 1, len(y)), np.swapaxes(a.c, 0, 1), k=3)
    return sewn([(surface_face(np.swapaxes(b.c, 0, 1), a.t, b.t, 3, 3), "top")], "top", 300.0, solid=False)


def true_gear_case(c: GearCase = GEAR_CASE) -> Body:
    """The true model, built with a general CAD library independently of the program's own features."""
    from build123d import (
        Box,
        Cylinder,
        Face,
        Plane,
        Pos,
        RectangleRounded,
        Rot,
        Solid,
        Wire,
        draft,
        extrude,
        fillet,
    )

    from ..core.kernel.trimming import cut_by

    level = c.flange[2]
    part = extrude(RectangleRounded(*c.flange[:2], c.flange_corner), level)
    block = Pos(0, 0, level) * extrude(RectangleRounded(*c.housing, c.housing_corner), 60)
    block = draft([f for f in block.faces() if abs(f.normal_at().Z) < 1e-6], Plane.XY.offset(level), c.lean)
    body = Body(block.solids()[0].wrapped, tuple(f"b{k}" for k in range(len(faces_of(block.solids()[0].wrapped)))))
    top = _top_face(c)
    parts = [cut_by(body, top, keep, "cut") for keep in ("before", "behind")]
    housing = Solid(min(parts, key=lambda b: abs(b.volume - 84 * 52 * 35)).shape)
    brow = [e for e in housing.edges() if e.center().Z > 25 and e.length > 3 and not _upright(e)]
    housing = fillet(brow, c.brow)
    part = part + housing
    foot = [
        e
        for e in part.edges()
        if abs(e.center().Z - level) < 1e-6 and abs(e.center().X) < 45 and abs(e.center().Y) < 30
    ]
    part = fillet(foot, c.foot)
    x, z = c.axis
    for s in (1, -1):
        reach = c.bearing[1] - c.rib_back
        part += Pos(x, s * reach / 2, (level + z) / 2) * Box(c.rib, reach, z - level)
        half = c.housing[0] / 2
        out, high = c.gusset[1:]
        corners = [(-half + 3, level), (-half - out, level), (-half - out, level + 2), (-half, level + high)]
        corners = [*corners, (-half + 3, level + high)]
        outline = Wire.make_polygon([(a, 0, b) for a, b in corners], close=True)
        plate = extrude(Face(outline), c.gusset[0], dir=(0, 1, 0))
        part += Pos(0, s * c.gusset_y - c.gusset[0] / 2, 0) * plate
    along_y = Pos(x, 0, z) * Rot(90, 0, 0)
    part += along_y * Cylinder(c.bearing[0] / 2, 2 * c.bearing[1])
    part += Pos(c.filler_x, 0, (20 + c.filler[1]) / 2) * Cylinder(c.filler[0] / 2, c.filler[1] - 20)
    part -= along_y * Cylinder(c.bore / 2, 200)
    for s in (1, -1):
        part -= along_y * Pos(0, 0, s * (c.bearing[1] - c.seat[1] / 2)) * Cylinder(c.seat[0] / 2, c.seat[1])
    part -= extrude(RectangleRounded(*c.hollow[:2], c.hollow[3]), c.hollow[2])
    part -= Pos(c.filler_x, 0, 50) * Cylinder(c.filler[2] / 2, 100)
    for a in (-1, 1):
        for b in (-1, 1):
            part -= Pos(a * c.bolts[0] / 2, b * c.bolts[1] / 2, 0) * Cylinder(c.bolt / 2, 60)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def _upright(edge) -> bool:
    return abs(edge.tangent_at(0.5).Z) > 0.8


def gear_case_scan(spacing: float = 0.9, seed: int = 41) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates)."""
    return scan_part(true_gear_case(), Scanner(spacing=spacing, noise=0.02, stations=40, seed=seed))
