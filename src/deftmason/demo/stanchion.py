"""The handrail stanchion of the Wrenfleet ferry: a foot, a bent tube whose last bend leaves its plane, a branch, two
bars mirrored about the mid-plane, and welds; its true model and a scan of it, warped a little by the welding.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..core.curves.bentpath import BentPath
from ..core.elements import RigidMotion
from ..core.scan.mesh import TriMesh

if TYPE_CHECKING:
    from ..core.kernel.body import Body

__all__ = ["STANCHION", "Stanchion", "stanchion_scan", "true_stanchion"]


@dataclass(frozen=True)
class Stanchion:
    """Sizes in mm and degrees. The foot lies on z = 0, the tube rises from its middle, the mid-plane is y = 0."""

    foot: tuple[float, float, float] = (110.0, 90.0, 8.0)
    tube: float = 34.0
    straights: tuple[float, ...] = (150.0, 120.0, 90.0)
    bends: tuple[tuple[float, float, float], ...] = ((0.0, 50.0, 80.0), (40.0, 30.0, 80.0))
    branch: float = 22.0
    branch_height: float = 100.0
    branch_long: float = 95.0
    bar: float = 12.0
    bar_y: float = 32.0
    bar_straights: tuple[float, float] = (60.0, 46.0)
    bar_bend: tuple[float, float] = (32.0, 40.0)
    weld: float = 8.0  # diameter of the beads
    warp: float = 0.35  # mm at the tube's end

    @property
    def path(self) -> BentPath:
        """The tube's axis."""
        bends = np.array([[np.radians(r), np.radians(a), w] for r, a, w in self.bends])
        up, out = np.array([0, 0, 1.0]), np.array([1.0, 0, 0])
        return BentPath(np.array([-30.0, 0, self.foot[2]]), up, out, np.array(self.straights), bends)

    def bar_path(self, side: int) -> BentPath:
        """A bar's axis, on the side y > 0 (1) or y < 0 (-1)."""
        angle, wide = self.bar_bend
        bends = np.array([[0.0, np.radians(angle), wide]])
        at = np.array([36.0, side * self.bar_y, self.foot[2]])
        inward = np.array([-1.0, 0, 0])
        return BentPath(at, np.array([0, 0, 1.0]), inward, np.array(self.bar_straights), bends)

    @property
    def branch_path(self) -> BentPath:
        """The branch's axis, from the tube's out."""
        d = np.array([-1.0, 0.0, 0.35]) / np.hypot(1.0, 0.35)
        start = np.array([-30.0, 0.0, self.foot[2] + self.branch_height])
        return BentPath(start, d, np.array([0, 1.0, 0]), np.array([self.branch_long]), np.zeros((0, 3)))


STANCHION = Stanchion()


def true_stanchion(s: Stanchion = STANCHION) -> Body:
    """The true model, without the warp."""
    from build123d import Box, Pos, Solid, Torus

    from ..core.kernel.body import Body, faces_of
    from ..core.kernel.pipes import pipe

    def tube(path: BentPath, diameter: float) -> Solid:
        return Solid(pipe(path, diameter / 2, "tube").shape)

    long, wide, thick = s.foot
    part = Pos(0, 0, thick / 2) * Box(long, wide, thick)
    for solid in (
        tube(s.path, s.tube),
        tube(s.branch_path, s.branch),
        tube(s.bar_path(1), s.bar),
        tube(s.bar_path(-1), s.bar),
    ):
        part += solid
    part += Pos(-30, 0, thick) * Torus(s.tube / 2, s.weld / 2)
    for side in (-1, 1):
        part += Pos(36, side * s.bar_y, thick) * Torus(s.bar / 2, 0.35 * s.weld)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def stanchion_scan(spacing: float = 1.5, seed: int = 61) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates)."""
    from ..rig.scanner import Scanner, scan_part

    mesh, pose = scan_part(true_stanchion(), Scanner(spacing=spacing, noise=0.03, stations=30, seed=seed))
    part = pose.inverse().points(mesh.vertices)
    # The welds drew the tube over: more the higher up, to one side.
    t = np.clip((part[:, 2] - 20) / 300, 0, 1.5)
    part = part + STANCHION.warp * np.column_stack([0 * t, t**2, 0 * t])
    return TriMesh(pose.points(part), mesh.faces), pose
