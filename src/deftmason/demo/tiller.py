"""The tiller grip of the Wrenfleet ferry: an organic shape, mirror symmetric about y = 0, with a bore for the tiller, a
flat face it ends in and two flats for a key; its true model and a scan of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..core.elements import RigidMotion
from ..core.scan.mesh import TriMesh

if TYPE_CHECKING:
    from ..core.kernel.body import Body

__all__ = ["TILLER", "TillerGrip", "tiller_scan", "true_tiller"]


@dataclass(frozen=True)
class TillerGrip:
    """Sizes in mm. The bore runs along x; the grip ends flat at x = 0 and round at ``length``."""

    length: float = 118.0
    half: float = 15.0  # of its height in the middle
    wide: float = 0.86  # of its height, how wide it is
    bow: float = 7.0  # how far its middle line falls
    bore: float = 12.0  # diameter
    deep: float = 55.0
    flats: float = 22.0  # between them, across y
    long: float = 16.0  # how far the flats reach

    def middle(self, x: np.ndarray) -> np.ndarray:
        """The height of its middle line over x; flat where the bore runs in."""
        t = np.clip((x - 0.1 * self.length) / (0.9 * self.length), 0, 1)
        return -self.bow * t * t * (3 - 2 * t)

    def swell(self, x: np.ndarray) -> np.ndarray:
        """How high and wide it is over x, against ``half``: a hand's grip, a palm's bulge, a waist."""
        t = x / self.length
        return 0.94 + 0.10 * np.sin(2.1 * np.pi * t + 0.5) + 0.10 * t**2

    def places(self, around: int, along: int) -> np.ndarray:
        """Places on the outside (around + 1, along + 1, 3), closed round, drawn to a pole at its end."""
        phi = np.linspace(0, 2 * np.pi, around + 1)
        # Towards the pole x slows down as on a ball, so that the end is round and smooth.
        q = np.linspace(0, np.pi / 2, along + 1)
        x = self.length * np.sin(q)
        r = self.half * self.swell(x) * np.cos(q)
        z = np.outer(np.cos(phi) * (1 - 0.09 * np.cos(phi)), r) + self.middle(x)
        y = np.outer(np.sin(phi) * self.wide * (1 + 0.07 * np.cos(phi)), r)
        return np.stack([np.broadcast_to(x, y.shape), y, z], axis=-1)


TILLER = TillerGrip()


def true_organic(t: TillerGrip = TILLER) -> Body:
    """The grip without bore and flats."""
    from scipy.interpolate import make_interp_spline

    from ..core.kernel.lofted import sewn
    from ..core.kernel.splined import surface_face

    g = t.places(72, 60)
    g[-1] = g[0]
    g[:, -1] = g[:, -1].mean(axis=0)
    u, v = np.linspace(0, 1, len(g)), np.linspace(0, 1, g.shape[1])
    closed = make_interp_spline(u, g, k=3, bc_type="periodic")
    ends = [(1, closed(0.0, nu=1))]
    across = make_interp_spline(u, g, k=3, bc_type=(ends, ends))
    along = make_interp_spline(v, np.swapaxes(across.c, 0, 1), k=3)
    side = surface_face(np.swapaxes(along.c, 0, 1), across.t, along.t, 3, 3)
    from build123d import Face, Wire

    rim = [e for e in Face(side).edges() if abs(e.center().X) < 1e-6 and e.length > 1]
    end = Face(Wire(rim)).wrapped
    return sewn([(side, "grip"), (end, "end")], "tiller", 2 * t.length, solid=True)


def true_tiller(t: TillerGrip = TILLER) -> Body:
    """The true model."""
    from build123d import Box, Cylinder, Pos, Rot, Solid

    from ..core.kernel.body import Body, faces_of

    part = Solid(true_organic(t).shape)
    for s in (-1, 1):
        part -= Pos(t.long / 2, s * (t.flats / 2 + 10), 0) * Box(t.long, 20, 80)
    part -= Pos(t.deep / 2, 0, 0) * Rot(0, 90, 0) * Cylinder(t.bore / 2, t.deep)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def tiller_scan(spacing: float = 1.0, seed: int = 31) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates)."""
    from ..rig.scanner import Scanner, scan_part

    return scan_part(true_tiller(), Scanner(spacing=spacing, noise=0.02, stations=34, seed=seed))
