"""A toothed plate for the sketch's tests: 24 straight-sided teeth, a bore, a slot along y and a rounded window."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from deftmason.core.kernel.body import Body, faces_of
from deftmason.core.scan.mesh import TriMesh
from deftmason.rig.scanner import Scanner, scan_part

__all__ = ["Sprocket", "sprocket_outline", "sprocket_scan"]


@dataclass(frozen=True)
class Sprocket:
    """True sizes in mm and degrees; the axis is z, the first tooth's middle lies on +x."""

    teeth: int = 24
    root: float = 29.0  # radius to the corners at the root
    tip: float = 32.4  # radius to the corners at the tip
    root_share: float = 0.62  # of the pitch that a tooth takes at its root
    tip_share: float = 0.34
    thick: float = 7.0
    bore: float = 12.0
    slot: tuple[float, float, float] = (5.0, 16.0, 16.0)  # width, length along y, x of its middle
    window: tuple[float, float, float, float] = (10.0, 20.0, 2.5, -16.0)  # x, y, corner radius, x of its middle


def sprocket_outline(s: Sprocket = Sprocket()) -> np.ndarray:
    """Corners (4 · teeth, 2) of the toothed outline, anticlockwise."""
    pitch = 2 * np.pi / s.teeth
    out = []
    for k in range(s.teeth):
        for r, a in ((s.root, -s.root_share), (s.tip, -s.tip_share), (s.tip, s.tip_share), (s.root, s.root_share)):
            w = pitch * (k + a / 2)
            out.append((r * np.cos(w), r * np.sin(w)))
    return np.array(out)


def _true(s: Sprocket) -> Body:
    from build123d import Cylinder, Face, Plane, Pos, RectangleRounded, Rot, SlotOverall, Vector, Wire, extrude

    outline = Wire.make_polygon([Vector(x, y, 0) for x, y in sprocket_outline(s)])
    part = extrude(Face(outline), s.thick)
    part -= Cylinder(s.bore / 2, 6 * s.thick)
    wide, long, x = s.slot
    part -= extrude(Plane.XY.offset(-1) * (Pos(x, 0) * Rot(0, 0, 90) * SlotOverall(long, wide)), 3 * s.thick)
    w, h, r, at = s.window
    part -= extrude(Plane.XY.offset(-1) * (Pos(at, 0) * RectangleRounded(w, h, r)), 3 * s.thick)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


@functools.cache
def sprocket_scan(spacing: float = 0.5, noise: float = 0.015, seed: int = 7) -> TriMesh:
    """A scan of it, in the part's own coordinates."""
    mesh, pose = scan_part(_true(Sprocket()), Scanner(spacing=spacing, noise=noise, stations=16, seed=seed))
    return TriMesh(pose.inverse().points(mesh.vertices), mesh.faces)
