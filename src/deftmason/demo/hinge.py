"""The rowlock hinge of the Wrenfleet ferry: its true model, whose leaf was bent by 0.4°, and two scans of it.

A saddle with two lugs and a pin's bore through both, mirrored about x = 0; a leaf with two screw holes reaches forward
from under it. The leaf was forced once: it leans by ``bend_deg`` about the line in which it leaves the saddle, so that
its upper face, the bores and the plane of symmetry do not agree.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.scanner import Scanner, scan_part

__all__ = ["WORN", "Hinge", "hinge_scan", "true_hinge", "worn_hinges"]


@dataclass(frozen=True)
class Hinge:
    """True sizes in mm and degrees. The pin's axis is the x axis, z is up, the leaf reaches along −y."""

    bore: float = 12.0
    lug: float = 11.0  # radius of its round end
    lug_thick: float = 10.0
    lug_inner: float = 14.0  # from the plane of symmetry
    saddle: tuple[float, float, float] = (48.0, 30.0, 12.0)
    under: float = -28.0  # height of the saddle's underside
    leaf: tuple[float, float, float] = (40.0, 46.0, 7.0)
    screw: float = 6.5
    screw_x: float = 22.0
    bend_deg: float = 0.4


def true_hinge(h: Hinge = Hinge()) -> Body:
    """The true model, the leaf bent about the y axis through its own middle."""
    from build123d import Box, Cylinder, Pos, Rot, fillet

    length, depth, high = h.saddle
    part = Pos(0, 0, h.under + high / 2) * Box(length, depth, high)
    part = fillet([e for e in part.edges() if abs(e.center().Z - h.under - high / 2) < 1e-6], 4)
    upright = -h.under - high
    for side in (-1, 1):
        x = side * (h.lug_inner + h.lug_thick / 2)
        part += Pos(x, 0, -upright / 2) * Box(h.lug_thick, 2 * h.lug, upright)
        part += Pos(x, 0, 0) * Rot(0, 90, 0) * Cylinder(h.lug, h.lug_thick)
    part -= Rot(0, 90, 0) * Cylinder(h.bore / 2, 2 * length)
    wide, long, thick = h.leaf
    leaf = Pos(0, -depth / 2 - long / 2 + 5, 0) * Box(wide, long + 10, thick)
    leaf = fillet([e for e in leaf.edges() if abs(e.center().Z) < 1e-6 and e.center().Y < -depth], 6)
    for x in (-h.screw_x / 2, h.screw_x / 2):
        leaf -= Pos(x, -depth / 2 - 0.7 * long, 0) * Cylinder(h.screw / 2, 3 * thick)
    part += Pos(0, 0, h.under + high / 2) * Rot(0, h.bend_deg, 0) * leaf
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def hinge_scan(spacing: float = 0.7, seed: int = 31, h: Hinge = Hinge()) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates); another seed is another scan of the same hinge."""
    return scan_part(true_hinge(h), Scanner(spacing=spacing, noise=0.03, stations=30, seed=seed))


#: Six hinges that were in use: the pin has worn each bore wider, and their leaves were bent in both directions.
WORN = (
    Hinge(bore=12.06, bend_deg=0.1),
    Hinge(bore=12.24, bend_deg=0.4),
    Hinge(bore=12.12, bend_deg=-0.2),
    Hinge(bore=12.55, bend_deg=0.9),
    Hinge(bore=12.38, bend_deg=0.3),
    Hinge(bore=12.17, bend_deg=-0.1),
)


def worn_hinges(spacing: float = 0.9) -> list[tuple[TriMesh, RigidMotion]]:
    """A scan and its pose of each of the six."""
    return [hinge_scan(spacing, 60 + k, h) for k, h in enumerate(WORN)]
