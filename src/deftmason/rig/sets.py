"""Sets of partial scans whose placements are known, to prove joining on.

A ring too wide for one look, scanned in eight sectors that close on themselves; a turned part whose only hold against
turning
is one small flat; a plain turned part that nothing holds; each seen with or without the slab.
"""

from __future__ import annotations

import numpy as np

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..core.scan.topology import compact
from .views import View, scan_views, turned

__all__ = ["ring_body", "turned_body", "ring_scans", "turned_scans", "around"]


def _body(part) -> Body:
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def ring_body() -> Body:
    """A bearing ring with pads, holes and notches spaced unevenly around it; its axis is z, mm."""
    from build123d import Box, Cylinder, Pos, Rot

    part = Pos(0, 0, 5) * Cylinder(60, 10) - Pos(0, 0, 5) * Cylinder(42, 20)
    pads = [
        (6, 51, 3.0),
        (50, 47, 2.2),
        (85, 54, 2.6),
        (131, 50, 3.4),
        (176, 53, 2.0),
        (211, 47, 2.8),
        (261, 52, 3.2),
        (307, 50, 1.8),
        (338, 54, 2.9),
    ]
    for degrees, radius, size in pads:
        at = Rot(0, 0, degrees) * Pos(radius, 0, 11)
        part += at * Rot(0, 0, 3 * degrees) * Box(4 * size, 2.4 * size, 4 + size)
    for degrees, radius in ((22, 50), (66, 52), (113, 48), (149, 52), (192, 54), (243, 50), (278, 52), (321, 48)):
        part -= Rot(0, 0, degrees) * Pos(radius, 0, 5) * Cylinder(2.2 + degrees % 7 / 4, 30)
    for degrees in (36, 103, 161, 226, 293, 353):
        part -= Rot(0, 0, degrees) * Pos(60, 0, 8) * Box(5, 6 + degrees % 5, 6)
    return _body(part)


def turned_body(feature: bool = True) -> Body:
    """A stepped spindle about z; with ``feature``, one small flat on its collar."""
    from build123d import Box, Cone, Cylinder, Pos

    part = Pos(0, 0, 15) * Cylinder(9, 30) + Pos(0, 0, 35) * Cylinder(20, 12) + Pos(0, 0, 51) * Cone(14, 8, 20)
    part += Pos(0, 0, 68) * Cylinder(8, 15)
    if feature:
        part -= Pos(22, 0, 38) * Box(8, 9, 8)
    return _body(part)


def around(count: int, rise: float, attitude: np.ndarray | None = None, start: float = 0.0) -> list[View]:
    """Views evenly around the part, the head raised by ``rise`` for one length sideways."""
    at = np.eye(3) if attitude is None else attitude
    turns = start + 2 * np.pi * np.arange(count) / count
    return [View(at, (float(np.cos(t)), float(np.sin(t)), rise)) for t in turns]


def ring_scans(
    spacing: float = 0.6, sector_deg: float = 72.0, *, correlated_share: float = 0.0, seed: int = 5
) -> list[tuple[TriMesh, RigidMotion]]:
    """Eight sectors of the ring, each 45° on from the last, seen from above and outside; and their poses."""
    whole = scan_views(
        ring_body(), around(8, 1.3), spacing=spacing, slab=False, correlated_share=correlated_share, seed=seed
    )
    out = []
    for k, (mesh, pose) in enumerate(whole):
        p = pose.inverse().points(mesh.centroids)
        off = np.degrees(np.arctan2(p[:, 1], p[:, 0])) - 45 * k
        keep = np.abs((off + 180) % 360 - 180) < sector_deg / 2
        v, f = compact(mesh.vertices, mesh.faces[keep])
        out.append((TriMesh(v, f), pose))
    return out


def turned_scans(feature: bool = True, spacing: float = 0.7, seed: int = 6) -> list[tuple[TriMesh, RigidMotion]]:
    """Four looks at the spindle, two lying and two standing. Without its feature each look has a lattice of its own:
    one for all would leave
    the same pattern on every rounded edge, and hold what nothing holds."""
    lying = turned((0, 1, 0), -90)
    views = [
        *around(1, 0.9),
        View(lying, (-0.3, 0.35, 1.2)),
        View(lying, (0.4, -0.45, 1.2)),
        *around(1, 0.9, start=0.9),
    ]
    body = turned_body(feature)
    if feature:
        return scan_views(body, views, spacing=spacing, slab=False, seed=seed)
    lattices = [turned((k + 1.0, 2.0, 3.0 - k), 20.0 + 37 * k) for k in range(len(views))]
    return [
        scan_views(body, [v], spacing=spacing, slab=False, seed=seed + k, lattice=l)[0]
        for k, (v, l) in enumerate(zip(views, lattices))
    ]
