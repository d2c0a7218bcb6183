"""A simulated scanner: what a structured-light head on several stations would give of a known part.

The true surface is meshed evenly (naive surface nets on its signed distance, so sharp edges come out rounded as a real
scanner rounds them), then what no station sees is left out, noise is added along the line of sight, and wear, holes,
outliers and a slab are put in on request. Everything follows from the seed.

Gibson 1998, "Constrained elastic surface nets", MICCAI (the mesher).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..core.check.deviation import ModelSurface
from ..core.elements import RigidMotion, unit
from ..core.kernel.body import Body
from ..core.kernel.tessellate import bounds_of, tessellate
from ..core.scan.mesh import TriMesh

__all__ = ["Scanner", "Wear", "scan_part", "stations_around"]


@dataclass(frozen=True)
class Wear:
    """Material gone around ``center`` (3,) within ``radius`` mm, up to ``depth`` mm."""

    center: tuple[float, float, float]
    radius: float
    depth: float


@dataclass(frozen=True)
class Scanner:
    """Settings of the device and the session. Lengths in mm, angles in degrees."""

    spacing: float = 0.55
    noise: float = 0.03
    correlated_share: float = 0.6  # of the noise variance
    correlation_mm: float = 2.5
    grazing_deg: float = 78.0
    stations: int = 20
    stand_off: float = 400.0
    outlier_share: float = 0.0
    slab: bool = False
    holes: tuple[tuple[float, float, float, float], ...] = ()  # x, y, z, radius
    wear: tuple[Wear, ...] = field(default_factory=tuple)
    seed: int = 1


def stations_around(count: int, distance: float) -> np.ndarray:
    """Evenly spread places to look from (count, 3)."""
    i = np.arange(count) + 0.5
    z = 1 - 2 * i / count
    phi = i * np.pi * (1 + np.sqrt(5))
    r = np.sqrt(1 - z * z)
    return distance * np.column_stack([r * np.cos(phi), r * np.sin(phi), z])


def _surface_nets(surface: ModelSurface, spacing: float, lattice: np.ndarray | None = None) -> TriMesh:
    """An even mesh on cells of ``spacing`` mm; ``lattice`` (3, 3) turns the cells, which leave their pattern on rounded
    edges.
    """
    low, high = bounds_of(surface.body, tight=True)
    turn = np.eye(3) if lattice is None else lattice
    if lattice is not None:
        box = np.array([[(low, high)[k >> a & 1][a] for a in range(3)] for k in range(8)]) @ turn.T
        low, high = box.min(axis=0), box.max(axis=0)
    low, high = low - 2.5 * spacing, high + 2.5 * spacing
    # An odd shift keeps the grid off the part's own planes.
    low = low + spacing * np.array([0.137, 0.291, 0.413])
    n = np.ceil((high - low) / spacing).astype(int) + 1
    axes = [low[k] + spacing * np.arange(n[k]) for k in range(3)]
    d = np.empty(n)
    for i, x in enumerate(axes[0]):
        y, z = np.meshgrid(axes[1], axes[2], indexing="ij")
        d[i] = surface.distances(np.column_stack([np.full(y.size, x), y.ravel(), z.ravel()]) @ turn).distance.reshape(
            n[1], n[2]
        )
    inside = d < 0
    cells = tuple(n - 1)
    total, count = np.zeros((*cells, 3)), np.zeros(cells)
    for axis in range(3):
        a = [slice(None)] * 3
        b = [slice(None)] * 3
        a[axis], b[axis] = slice(0, -1), slice(1, None)
        da, db = d[tuple(a)], d[tuple(b)]
        cross = inside[tuple(a)] != inside[tuple(b)]
        t = np.where(cross, da / np.where(cross, da - db, 1), 0)
        other = [k for k in range(3) if k != axis]
        for o1 in (0, 1):
            for o2 in (0, 1):
                cut = [slice(None)] * 3
                cut[other[0]] = slice(o1, cells[other[0]] + o1)
                cut[other[1]] = slice(o2, cells[other[1]] + o2)
                c = cross[tuple(cut)]
                count += c
                total[..., axis] += np.where(c, t[tuple(cut)], 0)
                total[..., other[0]] += c * o1
                total[..., other[1]] += c * o2
    active = count > 0
    index = np.full(cells, -1, np.int64)
    index[active] = np.arange(active.sum())
    grid = np.argwhere(active)
    vertices = low + spacing * (grid + total[active] / count[active][:, None])
    faces = []
    for axis in range(3):
        u, w = (axis + 1) % 3, (axis + 2) % 3
        a = [slice(None)] * 3
        b = [slice(None)] * 3
        a[axis], b[axis] = slice(0, -1), slice(1, None)
        for k in (u, w):
            a[k] = b[k] = slice(1, -1)
        sa, sb = inside[tuple(a)], inside[tuple(b)]
        for out_first in (False, True):
            at = np.argwhere((sa != sb) & (sb if out_first else sa))
            at[:, u] += 1
            at[:, w] += 1
            quad = []
            for du, dw in ((0, 0), (1, 0), (1, 1), (0, 1)):
                c = at.copy()
                c[:, u] += du - 1
                c[:, w] += dw - 1
                quad.append(index[c[:, 0], c[:, 1], c[:, 2]])
            q = np.column_stack(quad)
            if out_first:
                q = q[:, ::-1]
            q = q[(q >= 0).all(axis=1)]
            p = vertices[q]
            short = np.linalg.norm(p[:, 0] - p[:, 2], axis=1) <= np.linalg.norm(p[:, 1] - p[:, 3], axis=1)
            faces += [q[short][:, [0, 1, 2]], q[short][:, [0, 2, 3]], q[~short][:, [0, 1, 3]], q[~short][:, [1, 2, 3]]]
    return TriMesh(vertices if lattice is None else vertices @ turn, np.concatenate(faces).astype(np.int32))


def _onto_surface(mesh: TriMesh, surface: ModelSurface, spacing: float) -> np.ndarray:
    """Vertices slid evenly and laid onto the true surface, except where it turns too sharply for the scanner."""
    v = mesh.vertices
    edges = np.vstack([mesh.faces[:, [0, 1]], mesh.faces[:, [1, 2]], mesh.faces[:, [2, 0]]])
    degree = np.bincount(edges.ravel(), minlength=len(v))
    for _ in range(4):
        total = np.zeros_like(v)
        for k in range(3):
            total[:, k] = np.bincount(edges[:, 0], v[edges[:, 1], k], len(v)) + np.bincount(
                edges[:, 1], v[edges[:, 0], k], len(v)
            )
        found = surface.distances(v)
        slide = 0.5 * (total / np.maximum(degree, 1)[:, None] - v)
        slide[degree == 0] = 0.0
        slide -= np.einsum("ij,ij->i", slide, found.normal)[:, None] * found.normal
        v = v + slide
        found = surface.distances(v)
        near = np.abs(found.distance) < 0.12 * spacing
        v = v - np.where(near, found.distance, 0)[:, None] * found.normal
    return v


def _smooth_field(points: np.ndarray, length: float, rng: np.random.Generator, waves: int = 160) -> np.ndarray:
    """Unit-variance random field with this correlation length (Rahimi, Recht 2007, random Fourier features)."""
    k = rng.normal(0, 1 / length, (waves, 3))
    phase = rng.uniform(0, 2 * np.pi, waves)
    out = np.zeros(len(points))
    for kk, ph in zip(k, phase):
        out += np.cos(points @ kk + ph)
    return out * np.sqrt(2 / waves)


def scan_part(body: Body, scanner: Scanner, pose: RigidMotion | None = None) -> tuple[TriMesh, RigidMotion]:
    """The scan and the pose (part to scan coordinates) it was taken in; a random one where none is given."""
    import open3d as o3d

    rng = np.random.default_rng(scanner.seed)
    surface = ModelSurface(body)
    mesh = _surface_nets(surface, scanner.spacing)
    v = _onto_surface(mesh, surface, scanner.spacing)
    normals = TriMesh(v, mesh.faces).vertex_normals
    whole = v  # lines of sight are judged on the unworn part, which hides what lies under its surface
    for w in scanner.wear:
        r = np.linalg.norm(v - np.array(w.center), axis=1) / w.radius
        v = v - (w.depth * np.clip(1 - r * r, 0, 1) ** 2)[:, None] * normals
    centre = bounds_of(body, tight=True).mean(axis=0)
    shade = tessellate(body, 0.002 * scanner.spacing, 4.0)
    scene = o3d.t.geometry.RaycastingScene()
    scene.add_triangles((shade.vertices - centre).astype(np.float32), shade.faces.astype(np.uint32))
    best = np.zeros(len(v))
    start = whole + 0.15 * normals
    sight = normals.copy()
    for place in stations_around(scanner.stations, scanner.stand_off) + centre:
        toward = place - whole
        toward /= np.linalg.norm(toward, axis=1)[:, None]
        cosine = np.einsum("ij,ij->i", toward, normals)
        ask = np.nonzero((cosine > np.cos(np.radians(scanner.grazing_deg))) & (cosine > best))[0]
        rays = np.hstack([start[ask] - centre, toward[ask]]).astype(np.float32)
        free = ~np.isfinite(scene.cast_rays(o3d.core.Tensor(rays))["t_hit"].numpy())
        best[ask[free]] = cosine[ask[free]]
        sight[ask[free]] = toward[ask[free]]
    seen = _without_specks(best > 0, mesh.faces)
    best = np.where(seen, np.maximum(best, 0.1), best)
    for x, y, z, r in scanner.holes:
        ragged = r * (1 + 0.15 * _smooth_field(v, r / 2, rng))
        seen &= np.linalg.norm(v - [x, y, z], axis=1) > ragged
    share = scanner.correlated_share
    noise = np.sqrt(1 - share) * rng.normal(size=len(v)) + np.sqrt(share) * _smooth_field(
        v, scanner.correlation_mm, rng
    )
    grazing = np.minimum(1 / np.maximum(np.sqrt(best), 0.35), 2.0)  # slanting light is noisier
    v = v + (scanner.noise * noise * grazing)[:, None] * sight
    if scanner.outlier_share > 0:
        wild = rng.uniform(size=len(v)) < scanner.outlier_share
        v[wild] += rng.normal(0, 20 * scanner.noise, (int(wild.sum()), 3))
    faces = mesh.faces[seen[mesh.faces].all(axis=1)]
    if scanner.slab:
        v, faces = _with_slab(v, faces, scanner, rng)
    keep = np.zeros(len(v), bool)
    keep[faces] = True
    rank = np.cumsum(keep) - 1
    if pose is None:
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        turn = turn * np.sign(np.linalg.det(turn))
        pose = RigidMotion.of(turn, unit(rng.normal(size=3)) * rng.uniform(60, 160))
    return TriMesh(pose.points(v[keep]), rank[faces].astype(np.int32)), pose


def _without_specks(seen: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Single unseen vertices among seen ones are closed, as a scanner's own software does."""
    edges = np.vstack([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    degree = np.maximum(np.bincount(edges.ravel(), minlength=len(seen)), 1)
    for _ in range(4):
        lit = np.bincount(edges[:, 0], seen[edges[:, 1]], len(seen)) + np.bincount(
            edges[:, 1], seen[edges[:, 0]], len(seen)
        )
        seen = seen | (lit > 0.5 * degree)
    return seen


def _with_slab(v, faces, scanner: Scanner, rng):
    """A table under the part, seen where the part does not stand."""
    low, high = v.min(axis=0), v.max(axis=0)
    step = 2 * scanner.spacing
    x = np.arange(low[0] - 25, high[0] + 25, step)
    y = np.arange(low[1] - 25, high[1] + 25, step)
    gx, gy = np.meshgrid(x, y, indexing="ij")
    top = np.column_stack([gx.ravel(), gy.ravel(), np.full(gx.size, low[2]) + rng.normal(0, scanner.noise, gx.size)])
    i = np.arange(gx.size).reshape(gx.shape)
    a, b, c, d = i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]
    q = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    hidden = (top[:, :2] > low[:2] - 1).all(axis=1) & (top[:, :2] < high[:2] + 1).all(axis=1)
    q = q[~hidden[q].any(axis=1)]
    return np.vstack([v, top]), np.vstack([faces, q + len(v)])
