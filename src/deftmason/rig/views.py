"""Raw partial scans: what one station sees of a part on its slab, each scan in coordinates of its own.

The part lies on the slab in some attitude, the head looks from one place, and gets the part and the slab around it as
far as
neither hides the other, with noise along the line of sight, stray points and a few scraps in mid-air.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.check.deviation import ModelSurface
from ..core.elements import RigidMotion, unit
from ..core.kernel.body import Body
from ..core.kernel.tessellate import bounds_of, tessellate
from ..core.scan.mesh import TriMesh
from .scanner import _onto_surface, _smooth_field, _surface_nets, _without_specks

__all__ = ["View", "scan_views", "turned"]


@dataclass(frozen=True)
class View:
    """``attitude`` (3, 3) turns the part before it is set down on the slab; ``toward`` (3,) points to the head
    from it.
    """

    attitude: np.ndarray
    toward: tuple[float, float, float]


def scan_views(
    body: Body,
    views: list[View],
    *,
    spacing: float = 0.7,
    noise: float = 0.03,
    correlated_share: float = 0.6,
    correlation_mm: float = 1.0,
    grazing_deg: float = 74.0,
    outlier_share: float = 0.0015,
    scraps: int = 5,
    slab: bool = True,
    seed: int = 3,
    lattice: np.ndarray | None = None,
) -> list[tuple[TriMesh, RigidMotion]]:
    """One scan for each view, and the pose (part to scan coordinates) of each. Lengths in mm; ``lattice`` turns the
    cells the part is meshed on.
    """
    import open3d as o3d

    rng = np.random.default_rng(seed)
    surface = ModelSurface(body)
    mesh = _surface_nets(surface, spacing, lattice)
    part = _onto_surface(mesh, surface, spacing)
    normals = TriMesh(part, mesh.faces).vertex_normals
    centre = bounds_of(body, tight=True).mean(axis=0)
    shade = tessellate(body, 0.002 * spacing, 4.0)
    scene = o3d.t.geometry.RaycastingScene()
    scene.add_triangles((shade.vertices - centre).astype(np.float32), shade.faces.astype(np.uint32))
    out = []
    for view in views:
        up = view.attitude.T @ [0, 0, 1.0]  # the slab's normal in part coordinates
        floor = float((part @ up).min())
        v, n, faces = part, normals, mesh.faces
        if slab:
            top, top_faces = _slab(part, up, floor, 2 * spacing)
            v = np.vstack([part, top])
            n = np.vstack([normals, np.broadcast_to(up, top.shape)])
            faces = np.vstack([mesh.faces, top_faces + len(part)])
        place = centre + 380 * unit(view.attitude.T @ np.array(view.toward, float))
        toward = place - v
        toward /= np.linalg.norm(toward, axis=1)[:, None]
        cosine = np.einsum("ij,ij->i", toward, n)
        ask = np.nonzero(cosine > np.cos(np.radians(grazing_deg)))[0]
        start = v[ask] + 0.15 * n[ask] - centre
        rays = np.hstack([start, toward[ask]]).astype(np.float32)
        seen = np.zeros(len(v), bool)
        seen[ask] = ~np.isfinite(scene.cast_rays(o3d.core.Tensor(rays))["t_hit"].numpy())
        seen[: len(part)] = _without_specks(seen[: len(part)], mesh.faces) & (cosine[: len(part)] > 0.05)
        grain = np.sqrt(1 - correlated_share) * rng.normal(size=len(v)) + np.sqrt(correlated_share) * _smooth_field(
            v, correlation_mm, rng, 80
        )
        shift = noise * grain * np.minimum(1 / np.maximum(np.sqrt(np.maximum(cosine, 0.01)), 0.35), 2)
        wild = rng.uniform(size=len(v)) < outlier_share
        shift[wild] += rng.normal(0, 40 * noise, int(wild.sum()))
        v = v + shift[:, None] * toward
        faces = faces[seen[faces].all(axis=1)]
        v, faces = _with_scraps(v, faces, part, up, scraps, spacing, rng)
        used = np.zeros(len(v), bool)
        used[faces] = True
        rank = np.cumsum(used) - 1
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        turn *= np.sign(np.linalg.det(turn))
        pose = RigidMotion.of(turn, unit(rng.normal(size=3)) * rng.uniform(40, 120))
        out.append((TriMesh(pose.points(v[used]), rank[faces].astype(np.int32)), pose))
    return out


def _slab(part: np.ndarray, up: np.ndarray, floor: float, step: float) -> tuple[np.ndarray, np.ndarray]:
    """A grid of the slab's top under and around the part."""
    u = np.linalg.svd(up[None])[2][1:]
    flat = part @ u.T
    low, high = flat.min(axis=0) - 18, flat.max(axis=0) + 18
    a, b = (np.arange(low[k], high[k], step) for k in (0, 1))
    x, y = np.meshgrid(a, b, indexing="ij")
    p = x.ravel()[:, None] * u[0] + y.ravel()[:, None] * u[1] + floor * up
    i = np.arange(x.size).reshape(x.shape)
    q = np.stack([i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]], -1).reshape(-1, 4)
    faces = np.vstack([q[:, [0, 1, 2]], q[:, [0, 2, 3]]])
    if np.cross(u[0], u[1]) @ up < 0:
        faces = faces[:, ::-1]
    return p, faces


def _with_scraps(v, faces, part, up, count, spacing, rng):
    """A few specks of mesh in mid-air, as dust and reflections leave."""
    size = np.ptp(part, axis=0).max()
    for _ in range(count):
        at = part.mean(axis=0) + rng.normal(0, 0.35 * size, 3) + 0.25 * size * up
        k = int(rng.integers(3, 9))
        ring = at + 1.6 * spacing * rng.normal(size=(k + 1, 3))
        fan = np.array([[0, i, i + 1] for i in range(1, k)])
        faces = np.vstack([faces, fan + len(v)])
        v = np.vstack([v, ring])
    return v, faces


def turned(axis, degrees: float) -> np.ndarray:
    """Rotation matrix (3, 3) about an axis."""
    a = unit(np.array(axis, float))
    k = np.array([[0, -a[2], a[1]], [a[2], 0, -a[0]], [-a[1], a[0], 0]])
    t = np.radians(degrees)
    return np.eye(3) + np.sin(t) * k + (1 - np.cos(t)) * k @ k
