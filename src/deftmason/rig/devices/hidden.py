"""The part under a device, seen and touched only through it, with what spoils real captures: noise that grows where
light slants, nothing where it grazes, shine that blinds, spots that are missed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.elements import RigidMotion
from ...core.kernel.body import Body
from ...core.kernel.tessellate import diagonal_of, tessellate

__all__ = ["HiddenPart", "Optics"]

_FINE = 2e-4  # of the size: chords of the part's triangles
_TOUCHES = 80  # steps of a ball towards the part
_CLOSE = 1e-7  # of the size: so near, it touches


@dataclass(frozen=True)
class Optics:
    """What a sensor makes of light: noise in mm head on, angles in degrees."""

    noise: float = 0.02
    grazing_deg: float = 72.0
    shine_deg: float = 4.0  # within this of head on, a smooth place may blind it
    shine_share: float = 0.35
    missed_share: float = 0.004


class HiddenPart:
    """A true body as it stands before the device: ``pose`` carries the body to the device's coordinates."""

    def __init__(self, body: Body, pose: RigidMotion):
        import open3d as o3d

        mesh = tessellate(body, _FINE * diagonal_of(body), 3.0)
        vertices = pose.points(mesh.vertices)
        self.low, self.high = vertices.min(axis=0), vertices.max(axis=0)
        self.size = float(np.linalg.norm(self.high - self.low))
        self._middle = 0.5 * (self.low + self.high)
        self._tensor = o3d.core.Tensor
        self._scene = o3d.t.geometry.RaycastingScene()
        self._scene.add_triangles((vertices - self._middle).astype(np.float32), mesh.faces.astype(np.uint32))

    def rays(self, starts: np.ndarray, along: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How far each ray (k, 3) goes until it meets the part (infinite where it does not), and the normals there."""
        rays = np.hstack([starts - self._middle, np.broadcast_to(along, starts.shape)]).astype(np.float32)
        found = self._scene.cast_rays(self._tensor(rays))
        return found["t_hit"].numpy().astype(float), found["primitive_normals"].numpy().astype(float)

    def away(self, places: np.ndarray) -> np.ndarray:
        """Distances (k,) of places from the part's surface, mm."""
        return (
            self._scene.compute_distance(self._tensor((places - self._middle).astype(np.float32))).numpy().astype(float)
        )

    def touched(self, start: np.ndarray, along: np.ndarray, ball: float) -> np.ndarray | None:
        """Where a ball's middle comes to rest that moves along a direction; None where it meets nothing."""
        p, moved = np.asarray(start, float), 0.0
        for _ in range(_TOUCHES):
            free = float(self.away(p[None])[0]) - ball
            if free <= _CLOSE * self.size:
                return p
            p, moved = p + free * along, moved + free
            if moved > 4 * self.size + float(np.linalg.norm(np.asarray(start) - self._middle)):
                return None
        return p

    def seen(self, starts: np.ndarray, along: np.ndarray, optics: Optics, rng: np.random.Generator):
        """What a sensor that looks along rays (k, 3) gets: places (m, 3) and directions back to it (m, 3)."""
        along = np.broadcast_to(along, starts.shape)
        far, normals = self.rays(starts, along)
        cosine = np.abs(np.einsum("ij,ij->i", normals, along))
        there = np.isfinite(far) & (cosine > np.cos(np.radians(optics.grazing_deg)))
        blinds = (cosine > np.cos(np.radians(optics.shine_deg))) & (rng.uniform(size=len(far)) < optics.shine_share)
        there &= ~blinds & (rng.uniform(size=len(far)) >= optics.missed_share)
        noise = optics.noise * rng.normal(size=len(far)) / np.sqrt(np.maximum(cosine, 0.1))
        places = starts + (np.where(there, far, 0.0) + noise)[:, None] * along
        return places[there], -along[there]
