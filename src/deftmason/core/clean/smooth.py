"""Smoothing that keeps edges, volume, and every vertex within a bound.

Facet normals are averaged with neighbours that face alike, then vertices follow the normals (Zheng, Fu, Au, Tai 2011,
*Bilateral normal filtering for mesh denoising*, local scheme); the shift is clamped to the bound, and what volume was
lost is given back along the normals within it.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..errors import BadArgument
from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from ..scan.steady import facets_at, filter_once, roughness
from ..scan.topology import facet_neighbours

__all__ = ["smooth"]


@njit(cache=True, parallel=True)
def _follow(p, faces, normals, start, at, first, bound, rim, out):  # pragma: no cover - compiled
    """Vertices drawn to their facets' planes (Sun et al. 2007), clamped to the bound about where they were first."""
    for v in prange(p.shape[0]):
        x = y = z = 0.0
        n = start[v + 1] - start[v]
        if n == 0 or rim[v]:
            out[v] = p[v]
            continue
        for i in range(start[v], start[v + 1]):
            f = at[i]
            cx = (p[faces[f, 0], 0] + p[faces[f, 1], 0] + p[faces[f, 2], 0]) / 3 - p[v, 0]
            cy = (p[faces[f, 0], 1] + p[faces[f, 1], 1] + p[faces[f, 2], 1]) / 3 - p[v, 1]
            cz = (p[faces[f, 0], 2] + p[faces[f, 1], 2] + p[faces[f, 2], 2]) / 3 - p[v, 2]
            h = normals[f, 0] * cx + normals[f, 1] * cy + normals[f, 2] * cz
            x += normals[f, 0] * h
            y += normals[f, 1] * h
            z += normals[f, 2] * h
        x, y, z = p[v, 0] + x / n - first[v, 0], p[v, 1] + y / n - first[v, 1], p[v, 2] + z / n - first[v, 2]
        s = np.sqrt(x * x + y * y + z * z)
        t = 1.0 if s <= bound else bound / s
        out[v, 0], out[v, 1], out[v, 2] = first[v, 0] + t * x, first[v, 1] + t * y, first[v, 2] + t * z


def smooth(
    mesh: TriMesh, strength: float, *, bound: float | None = None, progress: Progress = silent
) -> tuple[TriMesh, dict]:
    """Calm the noise, keep the shape.

    Parameters
    ----------
    strength : 0 (nothing) to 1 (strong).  bound : farthest a vertex may move, mm; none: four times the scan's own
        scatter.

    Returns
    -------
    The mesh (facets and rims unchanged), and ``{bound, moved_rms, moved_max, volume_change}``.
    """
    if not 0 <= strength <= 1:
        raise BadArgument("The strength is between 0 and 1.", field="strength")
    if bound is not None and not 0 < bound < np.inf:
        raise BadArgument("The bound must be above 0 mm.", field="bound")
    near = facet_neighbours(mesh.faces, len(mesh.vertices))
    scatter, middle = roughness(mesh, near)
    bound = bound if bound is not None else max(4 * scatter, 1e-6)
    start, at = facets_at(mesh.faces, len(mesh.vertices))
    f, k = np.nonzero(near < 0)
    rim = np.zeros(len(mesh.vertices), bool)
    rim[mesh.faces[f, k]] = rim[mesh.faces[f, (k + 1) % 3]] = True
    faces = np.ascontiguousarray(mesh.faces, np.int32)
    first = np.ascontiguousarray(mesh.vertices)
    v = first.copy()
    rounds = int(round(12 * strength))
    # Facets within about the noise's own turn are averaged, an edge's two sides are not.
    alike = 2 * (2 * np.sin(np.radians(np.clip(1.6 * middle * (0.5 + strength), 6, 32)) / 2)) ** 2
    near2 = 2 * (2.0 * mesh.median_edge) ** 2
    for r in range(rounds):
        progress(r / max(rounds, 1), "Smoothing")
        part = TriMesh(v, faces)
        n = part.normals
        for _ in range(2):
            out = np.empty_like(n)
            filter_once(n, part.centroids, part.areas, faces, start, at, alike, near2, out)
            n = out
        for _ in range(3):
            out = np.empty_like(v)
            _follow(v, faces, n, start, at, first, bound, rim, out)
            v = out
    done = TriMesh(v, faces, mesh.colors)
    lost = _volume(mesh) - _volume(done)
    area = float(done.areas.sum())
    if rounds and area > 0:
        # The volume between the two surfaces, spread over the area.
        shift = np.clip(lost / area, -bound, bound) * done.vertex_normals
        shift[rim] = 0
        step = v + shift - first
        size = np.linalg.norm(step, axis=1)
        v = first + step * np.minimum(1, bound / np.maximum(size, 1e-300))[:, None]
        done = TriMesh(v, faces, mesh.colors)
    moved = np.linalg.norm(done.vertices - mesh.vertices, axis=1)
    before = _volume(mesh)
    return done, {
        "bound": float(bound),
        "moved_rms": float(np.sqrt((moved**2).mean())),
        "moved_max": float(moved.max(initial=0)),
        "volume_change": float((_volume(done) - before) / before) if before else 0.0,
    }


def _volume(mesh: TriMesh) -> float:
    """Signed volume about the middle; for open meshes that of the cone over the rims (fixed, as rims are)."""
    t = mesh.vertices[mesh.faces] - mesh.bounds.mean(axis=0)
    return float(np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6)
