"""The winch hood of the Wrenfleet ferry: a thin cover, mirror symmetric about y = 0, its top and sides smooth skins
that meet in a rounding, with a lamp hole, a cut-out of free form and a rail each side; its true model, and a scan of
the outside of one half.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.scanner import Scanner, scan_part

__all__ = ["HOOD", "WinchHood", "hood_scan", "true_hood"]


@dataclass(frozen=True)
class WinchHood:
    """Sizes in mm. The hood runs along x, stands on z = 0; its rails lie under that."""

    length: float = 140.0
    wall: float = 3.0
    rounding: float = 8.0  # outside, between top and side
    lamp: float = 24.0  # diameter, its axis along z
    lamp_x: float = 96.0
    rail: tuple[float, float, float] = (34.0, 62.0, 5.0)  # from y, to y, how thick

    def top(self, x, y):
        """How high the top is, both sides."""
        s = np.asarray(x, float) / self.length
        return (1 - s) * (44 - 0.006 * np.square(y)) + s * (58 - 0.005 * np.square(y))

    def side(self, x, z):
        """How far out the side is where y > 0."""
        s = np.asarray(x, float) / self.length
        z = np.asarray(z, float)
        return (1 - s) * (46 - 0.06 * z - 0.0012 * z * z) + s * (53 - 0.05 * z - 0.001 * z * z)

    def cut_out(self, count: int = 60) -> np.ndarray:
        """A closed line (n, 2) in x and z that the side is cut out along."""
        t = 2 * np.pi * np.arange(count) / count
        r = 9 + 2.2 * np.cos(2 * t + 0.4) + 0.8 * np.sin(3 * t)
        return np.column_stack([52 + 1.5 * r * np.cos(t), 20 + 0.8 * r * np.sin(t)])


HOOD = WinchHood()


def _sheet(places, name: str) -> Body:
    """A surface through even grids of places, straight along the first way."""
    from scipy.interpolate import make_interp_spline

    from ..core.kernel.lofted import sewn
    from ..core.kernel.splined import surface_face

    g = np.asarray(places, float)
    u, v = np.linspace(0, 1, len(g)), np.linspace(0, 1, g.shape[1])
    a = make_interp_spline(u, g, k=1)
    b = make_interp_spline(v, np.swapaxes(a.c, 0, 1), k=3)
    return sewn([(surface_face(np.swapaxes(b.c, 0, 1), a.t, b.t, 1, 3), name)], name, 300.0, solid=False)


def true_hood(h: WinchHood = HOOD) -> Body:
    """The true model."""
    from build123d import Box, Cylinder, Edge, Face, Pos, Solid, Vector, Wire, extrude, fillet, offset

    from ..core.kernel.solids import solid
    from ..core.kernel.trimming import cut_by

    x = np.array([-10.0, h.length + 10])
    y, z = np.linspace(-70, 70, 41), np.linspace(-12, 70, 41)
    top = _sheet(np.stack([*np.broadcast_arrays(x[:, None], y[None], h.top(x[:, None], y[None]))], axis=-1), "top")
    bulk = solid(
        "box", "bulk", np.array([h.length / 2, 0, 0.0]), np.array([0, 0, 1.0]), np.array([1.0, 0, 0]),
        width=h.length, depth=140.0, height=80.0,
    )  # fmt: skip
    bulk = cut_by(bulk, top, _keeps(bulk, top, 0.5), "low")
    for s in (1.0, -1.0):
        out = s * h.side(x[:, None], z[None])
        side = _sheet(np.stack([*np.broadcast_arrays(x[:, None], out, z[None])], axis=-1), "side")
        bulk = cut_by(bulk, side, _keeps(bulk, side, 0.6), f"in{s:g}")
    part = Solid(bulk.shape)
    ridge = [e for e in part.edges() if abs(e.center().Y) > 25 and e.center().Z > 25 and e.length > 0.8 * h.length]
    part = fillet(ridge, h.rounding)
    open_ = [f for f in part.faces() if abs(f.normal_at().X) > 0.9 or f.normal_at().Z < -0.9]
    part = offset(part, amount=-h.wall, openings=open_)
    part -= Pos(h.lamp_x, 0, 40) * Cylinder(h.lamp / 2, 80)
    line = h.cut_out()
    rim = Edge.make_spline([Vector(a, 20, b) for a, b in line], periodic=True)
    cut = extrude(Face(Wire([rim])), 60, dir=(0, 1, 0))
    part = part - cut - Pos(0, -100, 0) * cut
    low, high, thick = h.rail
    for s in (1, -1):
        part += Pos(h.length / 2, s * (low + high) / 2, -thick / 2) * Box(h.length, high - low, thick)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def _keeps(bulk: Body, sheet: Body, share: float) -> str:
    """The side of a sheet on which the smaller part of a block is cut off."""
    from ..core.kernel.trimming import cut_by

    whole = bulk.volume
    return "behind" if cut_by(bulk, sheet, "behind", "try").volume > share * whole else "before"


_PAST = 9.0  # how far past the middle the device was led


def hood_scan(spacing: float = 1.1, seed: int = 17, h: WinchHood = HOOD) -> tuple[TriMesh, RigidMotion]:
    """A scan of its outside, of half of it, and its pose (part to scan coordinates)."""
    mesh, pose = scan_part(true_hood(), Scanner(spacing=spacing, noise=0.02, stations=30, seed=seed))
    p = pose.inverse().points(mesh.centroids)
    deep = (p[:, 2] < h.top(p[:, 0], p[:, 1]) - 0.8 * h.wall) & (
        np.abs(p[:, 1]) < h.side(p[:, 0], p[:, 2]) - 0.8 * h.wall
    )
    keep = (p[:, 1] > -_PAST) & ~(deep & (p[:, 2] > 0.5))
    used, faces = np.unique(mesh.faces[keep], return_inverse=True)
    return TriMesh(mesh.vertices[used], faces.reshape(-1, 3).astype(np.int32)), pose
