"""The rope fairlead of the Wrenfleet ferry, a weldment: a foot plate and on it a trough of bent sheet that flares out
both ways, mirrored about x = 0; its true model and a scan of it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.curves.drawn import through_points
from ..core.curves.skinning import matched, skin
from ..core.curves.spatial import SpaceCurve
from ..core.elements import RigidMotion
from ..core.kernel.body import Body, faces_of
from ..core.scan.mesh import TriMesh
from ..rig.scanner import Scanner, scan_part

__all__ = ["FAIRLEAD", "Fairlead", "fairlead_scan", "true_fairlead"]


@dataclass(frozen=True)
class Fairlead:
    """Sizes in mm. The foot lies on z = 0, its middle at the origin; the trough's inside rests on its path."""

    foot: tuple[float, float, float] = (120.0, 64.0, 8.0)
    sheet: float = 4.0
    low: float = 12.0  # the path's height at the mid-plane
    half: float = 70.0  # how far the trough reaches
    drop: float = 16.0  # by how much the path falls at its end
    wide: tuple[float, float] = (21.0, 33.0)  # half width at the mid-plane and at the end
    deep: tuple[float, float] = (30.0, 23.0)
    sections: int = 5

    def path_at(self, x: np.ndarray) -> np.ndarray:
        """The path's height over x."""
        t = np.abs(np.asarray(x, float)) / self.half
        return self.low - self.drop * t**2.5 + self.drop

    def section(self, t: float) -> SpaceCurve:
        """The trough's inside at a share of its half, square to the path there: a parabola-like line."""
        x = t * self.half
        slope = -2.5 * self.drop * t**1.5 / self.half
        along = np.array([1.0, 0, slope]) / np.hypot(1.0, slope)
        up = np.array([-along[2], 0, along[0]])
        wide = self.wide[0] + (self.wide[1] - self.wide[0]) * t**2
        deep = self.deep[0] + (self.deep[1] - self.deep[0]) * t**2
        s = np.linspace(-1, 1, 41)
        lift = deep * np.abs(s) ** 2.4
        at = np.array([x, 0, float(self.path_at(np.array([x]))[0])])
        return through_points(at + np.outer(wide * s, [0, 1, 0]) + np.outer(lift, up), 0.0)


FAIRLEAD = Fairlead()


def true_fairlead(f: Fairlead = FAIRLEAD) -> Body:
    """The true model."""
    from build123d import Box, Pos, Solid

    from ..core.kernel.lofted import lofted
    from ..core.kernel.shells import stitched, thickened
    from ..core.kernel.whole import mirrored

    match = matched([(f.section(t), ["inside"]) for t in np.linspace(0, 1, f.sections)])
    half = lofted(match, skin(match, begin=(1, 0, 0)), "trough", solid=False)
    whole = stitched([half, mirrored(half, (0, 0, 0), (1, 0, 0))], 0.01, "trough").body
    sheets = [thickened(whole, t, "sheet") for t in (f.sheet, -f.sheet)]
    sheet = min(sheets, key=_lowest)
    long, wide, thick = f.foot
    part = Pos(0, 0, thick / 2) * Box(long, wide, thick) + Solid(sheet.shape)
    # A block under the trough's middle carries it.
    part += Pos(0, 0, (f.low + f.drop) / 2) * Box(46, 24, f.low + f.drop - f.sheet / 2)
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def _lowest(body: Body) -> float:
    from ..core.kernel.tessellate import diagonal_of, tessellate

    return float(tessellate(body, 1e-3 * diagonal_of(body)).vertices[:, 2].min())


def fairlead_scan(spacing: float = 0.9, seed: int = 67) -> tuple[TriMesh, RigidMotion]:
    """A scan and its pose (part to scan coordinates)."""
    return scan_part(true_fairlead(), Scanner(spacing=spacing, noise=0.03, stations=30, seed=seed))
