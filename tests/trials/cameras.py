"""Scans as a camera takes them: rays from one eye, what hides hides, depth steps are not joined, noise lies along the
ray.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.kernel.body import Body
from deftmason.core.kernel.tessellate import bounds_of, tessellate
from deftmason.core.scan.mesh import TriMesh

from .scanning import wavy

__all__ = ["Room", "Shot", "looks_around"]

_STEP = 5.0  # pixels' width at the part between neighbours that are still one surface
_SLANT = 0.2  # cosine between ray and normal below which nothing comes back


@dataclass(frozen=True)
class Shot:
    """A scan, the pose that took the part's coordinates to the scan's, and the eye in the part's coordinates; ``pixel``
    the angle from ray to ray, rad.
    """

    mesh: TriMesh
    pose: RigidMotion
    eye: np.ndarray
    noise: float
    pixel: float = 0.0


class Room:
    """A part to be looked at, alone or on a slab of its own size with sides."""

    def __init__(self, body: Body):
        import open3d as o3d

        low, high = bounds_of(body, tight=True)
        self.centre, self.size = 0.5 * (low + high), float(np.linalg.norm(high - low))
        self.box = np.array([[(low, high)[k >> a & 1][a] for a in range(3)] for k in range(8)])
        t = tessellate(body, 1e-4 * self.size, 5.0)
        self.v, self.f = t.vertices - self.centre, t.faces
        self.o3d = o3d
        self.alone = self._scene(None)

    def _scene(self, up: np.ndarray | None, share: float = 1.4):
        scene = self.o3d.t.geometry.RaycastingScene()
        scene.add_triangles(self.v.astype(np.float32), self.f.astype(np.uint32))
        if up is not None:
            u = np.linalg.svd(up[None])[2][1:]
            flat = self.v @ u.T
            low, high = flat.min(axis=0), flat.max(axis=0)
            grow = 0.5 * (share - 1) * float((high - low).max())
            low, high, floor = low - grow, high + grow, float((self.v @ up).min())
            at = [
                (x, y, z)
                for z in (floor, floor - 0.06 * self.size)
                for x, y in ((low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1]))
            ]
            v = np.array([x * u[0] + y * u[1] + z * up for x, y, z in at])
            quads = [(0, 1, 2, 3), (4, 7, 6, 5), (0, 4, 5, 1), (1, 5, 6, 2), (2, 6, 7, 3), (3, 7, 4, 0)]
            f = np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])
            scene.add_triangles(v.astype(np.float32), f.astype(np.uint32))
        return scene

    def ahead(self, start: np.ndarray, to: np.ndarray) -> np.ndarray:
        """How far before (+) or behind (−) the first of the part's surface each place lies as seen from ``start``, mm
        (part coordinates).
        """
        a = start - self.centre
        d = to - start
        far = np.linalg.norm(d, axis=1)
        rays = np.hstack([np.broadcast_to(a, d.shape), d / far[:, None]]).astype(np.float32)
        return self.alone.cast_rays(self.o3d.core.Tensor(rays))["t_hit"].numpy() - far

    def shot(
        self,
        toward: np.ndarray,
        rng: np.random.Generator,
        *,
        up: np.ndarray | None = None,
        pixels: int = 150,
        noise: float = 3e-4,
        scale: float = 1.0,
        slab: float = 1.4,
    ) -> Shot:
        """A look from ``toward``; ``up`` the direction away from a slab ``slab`` times as wide as the part, None: the
        part is held; ``noise`` by the part's size.
        """
        o3d = self.o3d
        toward = toward / np.linalg.norm(toward)
        eye = 2.2 * self.size * toward
        u, w = np.linalg.svd(toward[None])[2][1:]
        reach = 0.58 * self.size if up is None else 0.75 * self.size
        a = np.linspace(-reach, reach, pixels)
        x, y = np.meshgrid(a, a, indexing="ij")
        d = (x[..., None] * u + y[..., None] * w) - eye
        d /= np.linalg.norm(d, axis=2, keepdims=True)
        scene = self.alone if up is None else self._scene(up, slab)
        rays = np.concatenate([np.broadcast_to(eye, d.shape), d], axis=2).reshape(-1, 6).astype(np.float32)
        hit = scene.cast_rays(o3d.core.Tensor(rays))
        t, n = hit["t_hit"].numpy(), hit["primitive_normals"].numpy()
        d = d.reshape(-1, 3)
        ok = np.isfinite(t) & (np.abs(np.einsum("ij,ij->i", n, d)) > _SLANT)
        ok &= rng.uniform(size=len(ok)) > 0.002  # here and there nothing comes back
        p = eye + np.where(ok, t, 1.0)[:, None] * d
        pitch = 2 * reach / (pixels - 1)
        id_ = np.arange(pixels * pixels).reshape(pixels, pixels)
        q = [id_[:-1, :-1].ravel(), id_[1:, :-1].ravel(), id_[1:, 1:].ravel(), id_[:-1, 1:].ravel()]
        f = np.vstack([np.column_stack([q[0], q[1], q[2]]), np.column_stack([q[0], q[2], q[3]])])
        long = np.max([np.linalg.norm(p[f[:, k]] - p[f[:, k - 1]], axis=1) for k in range(3)], axis=0)
        f = f[ok[f].all(axis=1) & (long < _STEP * pitch)]
        sigma = noise * self.size
        grain = np.sqrt(0.5) * rng.normal(size=len(p)) + np.sqrt(0.5) * wavy(p, 1.5 * pitch, rng)
        wild = rng.uniform(size=len(p)) < 0.0008
        grain[wild] *= 20
        p = p + (sigma * grain)[:, None] * d
        used = np.zeros(len(p), bool)
        used[f] = True
        rank = np.cumsum(used) - 1
        v, f = p[used] + self.centre, rank[f]
        if np.einsum("ij,ij->i", TriMesh(v, f.astype(np.int32)).normals, eye + self.centre - v[f[:, 0]]).mean() < 0:
            f = f[:, ::-1]
        pose = RigidMotion.of(
            Rotation.random(random_state=rng.integers(2**31)).as_matrix(),
            rng.normal(size=3) * self.size * scale * rng.choice([0.3, 3]),
        )
        return Shot(
            TriMesh(pose.points(v * scale), np.ascontiguousarray(f, np.int32)),
            pose,
            eye + self.centre,
            sigma * scale,
            pitch / (2.2 * self.size),
        )


def looks_around(rng: np.random.Generator, count: int) -> list[tuple[np.ndarray, np.ndarray | None]]:
    """(toward, up) of each look: some on a slab, most of them around, the rest from below on the other side or held."""
    up = (
        Rotation.random(random_state=rng.integers(2**31)).as_matrix()[0]
        if rng.uniform() < 0.3
        else np.array([0, 0, 1.0]) * rng.choice([-1, 1])
    )
    u, w = np.linalg.svd(up[None])[2][1:]
    slab = rng.uniform() < 0.6
    below = int(count >= 5) + int(count >= 7)
    around = count - below
    begin = rng.uniform(0, 2 * np.pi)
    wide = min(2 * np.pi / around, np.radians(rng.uniform(50, 75)))
    out = []
    for k in range(count):
        side = 1 if k < around else -1
        turn = begin + k * wide if side == 1 else begin + (k - around) * np.pi
        lift = np.radians(rng.uniform(25, 60) if side == 1 else rng.uniform(5, 25))
        toward = np.cos(lift) * (np.cos(turn) * u + np.sin(turn) * w) + np.sin(lift) * side * up
        out.append((toward, side * up if slab and (side == 1 or rng.uniform() < 0.5) else None))
    return out
