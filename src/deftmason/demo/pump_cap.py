"""The pump cap of the Wrenfleet ferry: a turned body with a groove, a ring of seven holes, a boss at its side, a slot.

Its axis is z. The profile is turned; what only some of the turn has (holes, boss, slot) is not of the profile.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..core.elements import RigidMotion
from ..core.scan.mesh import TriMesh

if TYPE_CHECKING:
    from ..core.kernel.body import Body

__all__ = ["PumpCap", "pump_cap_scan", "true_pump_cap"]


@dataclass(frozen=True)
class PumpCap:
    """True sizes in mm; ``profile`` (radius, height) from the axis to the axis, outside last."""

    profile: tuple[tuple[float, float], ...] = (
        (0, 28), (14, 28), (16, 26), (16, 0), (37, 0), (38, 1), (38, 8), (25, 8),
        (25, 15), (22.5, 15), (22.5, 20), (25, 20), (25, 32), (20, 40), (0, 40),
    )  # fmt: skip
    holes: int = 7
    hole: float = 6.6
    ring: float = 31.5  # radius of the circle the holes lie on
    boss: tuple[float, float, float] = (12.0, 26.0, 33.0)  # its diameter, height, reach from the axis
    slot: tuple[float, float, float] = (5.0, 14.0, 4.0)  # width, length and depth, along y in the upper face
    slot_x: float = 11.0

    @property
    def flank_deg(self) -> float:
        """Angle of the upper flank to the axis."""
        (r1, z1), (r2, z2) = self.profile[12:14]
        return float(np.degrees(np.arctan2(r1 - r2, z2 - z1)))


def true_pump_cap(c: PumpCap = PumpCap()) -> Body:
    """The true model."""
    from build123d import Axis, Cylinder, Face, Plane, Pos, Rot, SlotOverall, Vector, Wire, extrude, revolve

    from ..core.kernel.body import Body, faces_of

    outline = Wire.make_polygon([Vector(r, 0, z) for r, z in c.profile])
    part = revolve(Face(outline), Axis.Z)
    width, height, reach = c.boss
    part += Pos(0, 0, height) * Rot(-90, 0, 0) * Pos(0, 0, reach / 2 + 9) * Cylinder(width / 2, reach - 18)
    for k in range(c.holes):
        w = 2 * np.pi * (k + 0.5) / c.holes
        part -= Pos(c.ring * np.cos(w), c.ring * np.sin(w), 0) * Cylinder(c.hole / 2, 60)
    wide, long, deep = c.slot
    top = c.profile[-1][1]
    slot = Plane.XY.offset(top - deep) * (Pos(c.slot_x, 0) * Rot(0, 0, 90) * SlotOverall(long, wide))
    part -= extrude(slot, 2 * deep)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def pump_cap_scan(spacing: float = 0.8, seed: int = 53) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates)."""
    from ..rig.scanner import Scanner, scan_part

    return scan_part(true_pump_cap(), Scanner(spacing=spacing, noise=0.02, stations=26, seed=seed))
