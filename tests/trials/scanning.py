"""Meshes of true bodies as scans give them: facets of an even size with noise along the surface's normals, or coarse as
a CAD program writes them.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from deftmason.core.clean.remesh import remesh
from deftmason.core.kernel.body import Body
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.kernel.tessellate import diagonal_of, tessellate
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.topology import merge_vertices

__all__ = ["either_mesh_of", "even_mesh_of", "mesh_of", "split_long", "wavy"]


def split_long(v: np.ndarray, f: np.ndarray, ids: np.ndarray, length: float):
    """Every edge longer than ``length`` mm halved until none is, triangles with it (red and green: Bank, Sherman,
    Weiser 1983).
    """
    for _ in range(30):
        e = np.stack([f, np.roll(f, -1, axis=1)], axis=2)
        lo, hi = e.min(axis=2).astype(np.int64), e.max(axis=2).astype(np.int64)
        key, inverse = np.unique((lo * len(v) + hi).ravel(), return_inverse=True)
        a, b = key // len(v), key % len(v)
        long = np.linalg.norm(v[a] - v[b], axis=1) > length
        if not long.any():
            break
        number = np.full(len(key), -1, np.int64)
        number[long] = len(v) + np.arange(long.sum())
        v = np.vstack([v, 0.5 * (v[a] + v[b])[long]])
        mid = number[inverse].reshape(-1, 3)
        count = (mid >= 0).sum(axis=1)
        out, own = [f[count == 0]], [ids[count == 0]]
        for k in range(3):
            g, m = np.roll(f, -k, axis=1), np.roll(mid, -k, axis=1)
            r = np.nonzero((count == 1) & (m[:, 0] >= 0))[0]
            x, y = g[r], m[r]
            out += [np.column_stack([x[:, 0], y[:, 0], x[:, 2]]), np.column_stack([y[:, 0], x[:, 1], x[:, 2]])]
            own += [ids[r], ids[r]]
            r = np.nonzero((count == 2) & (m[:, 0] < 0))[0]
            x, y = g[r], m[r]
            out += [
                np.column_stack([x[:, 2], y[:, 2], y[:, 1]]),
                np.column_stack([x[:, 0], x[:, 1], y[:, 1]]),
                np.column_stack([x[:, 0], y[:, 1], y[:, 2]]),
            ]
            own += [ids[r]] * 3
        r = np.nonzero(count == 3)[0]
        x, y = f[r], mid[r]
        out += [
            np.column_stack(c)
            for c in (
                (x[:, 0], y[:, 0], y[:, 2]),
                (x[:, 1], y[:, 1], y[:, 0]),
                (x[:, 2], y[:, 2], y[:, 1]),
                (y[:, 0], y[:, 1], y[:, 2]),
            )
        ]
        own += [ids[r]] * 4
        f, ids = np.vstack(out), np.concatenate(own)
    return v, f.astype(np.int32), ids


def wavy(points: np.ndarray, length: float, rng: np.random.Generator, waves: int = 120) -> np.ndarray:
    """A field of unit variance that is alike over ``length`` mm (Rahimi, Recht 2007, random Fourier features)."""
    k, phase = rng.normal(0, 1 / length, (waves, 3)), rng.uniform(0, 2 * np.pi, waves)
    return np.cos(points @ k.T + phase).sum(axis=1) * np.sqrt(2 / waves)


def mesh_of(
    body: Body, rng: np.random.Generator, *, spacing: float | None = None, noise: float = 0.0, alike: float = 0.0
) -> tuple[TriMesh, np.ndarray]:
    """A mesh of a body and the face each facet is of. Without ``spacing`` (mm) it is coarse; ``noise`` mm along the
    normals, a share of which is alike over ``alike`` mm.
    """
    size = diagonal_of(body)
    t = tessellate(body, (2e-3 if spacing is None else 2e-4) * size, 25.0 if spacing is None else 6.0)
    v, index = merge_vertices(np.round(t.vertices / size, 9) * size)
    f, ids = index[t.faces], t.face_ids
    whole = (f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])
    f, ids = f[whole], ids[whole]
    if spacing is not None:
        v, f, ids = split_long(v, f, ids, 1.4 * spacing)
    mesh = TriMesh(v, f.astype(np.int32))
    if noise:
        grain = rng.normal(size=len(v))
        if alike:
            grain = np.sqrt(0.5) * grain + np.sqrt(0.5) * wavy(v, alike, rng)
        mesh = TriMesh(v + noise * grain[:, None] * mesh.vertex_normals, mesh.faces)
    return mesh, ids


def _on_the_faces(body: Body, mesh: TriMesh, ids: np.ndarray) -> TriMesh:
    """The mesh with every vertex on the true surface of its face, or of its two faces by turns, not on facets of it."""
    low = np.full(len(mesh.vertices), np.iinfo(ids.dtype).max, ids.dtype)
    high = np.full(len(mesh.vertices), -1, ids.dtype)
    for k in range(3):
        np.minimum.at(low, mesh.faces[:, k], ids)
        np.maximum.at(high, mesh.faces[:, k], ids)
    v = mesh.vertices.copy()
    for turn in range(6):
        for i, surface in enumerate(face_surfaces(body)):
            own = (low == i) | (high == i)
            if turn:
                own &= low != high
            if surface.element is not None and own.any():
                v[own] = surface.element.feet(v[own])
    return TriMesh(v, mesh.faces)


def even_mesh_of(
    body: Body, rng: np.random.Generator, spacing: float, noise: float, alike: float
) -> tuple[TriMesh, np.ndarray]:
    """A mesh with triangles of one size, as a scanner's, and the face each facet is nearest to; see `mesh_of`."""
    fine, of = mesh_of(body, rng, spacing=spacing)
    even, _ = remesh(fine, spacing)
    near = cKDTree(fine.centroids, balanced_tree=False).query(even.centroids, k=12, workers=-1)[1]
    facets = near[np.arange(len(near)), np.argmax(np.einsum("ijk,ik->ij", fine.normals[near], even.normals), axis=1)]
    even = _on_the_faces(body, even, of[facets])
    grain = rng.normal(size=len(even.vertices))
    if alike:
        grain = np.sqrt(0.5) * grain + np.sqrt(0.5) * wavy(even.vertices, alike, rng)
    noisy = TriMesh(even.vertices + noise * grain[:, None] * even.vertex_normals, even.faces)
    return noisy, of[facets]


def merged_mesh_of(
    body: Body, rng: np.random.Generator, spacing: float, noise: float, alike: float
) -> tuple[TriMesh, np.ndarray]:
    """A mesh as merging scans leaves it, and the face each facet is nearest to: its noise (mm) has no grain, is alike
    over ``alike`` mm and up to three times as strong in one place as in another; its edges are worn by about
    ``spacing``.
    """
    mesh, ids = even_mesh_of(body, rng, spacing, 0.0, 0.0)
    strength = np.exp(0.4 * wavy(mesh.vertices, 12 * alike, rng))
    v = mesh.vertices + (noise * strength * wavy(mesh.vertices, alike, rng))[:, None] * mesh.vertex_normals
    for share in (0.5, -0.53) * 3:  # to and fro, so that round faces do not shrink (Taubin 1995)
        v = v + share * (_mean_of_neighbours(v, mesh.faces) - v)
    return TriMesh(v, mesh.faces), ids


def either_mesh_of(how: str, body: Body, rng: np.random.Generator, spacing: float, noise: float) -> TriMesh:
    """A body ``coarse`` as a CAD program writes it, as a ``scan`` or ``merged``: lengths in mm."""
    if how == "coarse":
        return mesh_of(body, rng)[0]
    if how == "scan":
        return even_mesh_of(body, rng, spacing, noise, 3 * spacing * float(rng.integers(2)))[0]
    return merged_mesh_of(body, rng, spacing, noise, 2 * spacing)[0]


def _mean_of_neighbours(v: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """The middle of the vertices that each (n, 3) shares a facet with."""
    pairs = faces[:, [0, 1, 1, 2, 2, 0, 1, 0, 2, 1, 0, 2]].reshape(-1, 2)
    count = np.maximum(np.bincount(pairs[:, 0], minlength=len(v)), 1)
    near = np.stack([np.bincount(pairs[:, 0], v[pairs[:, 1], k], len(v)) for k in range(3)], -1)
    return near / count[:, None]


def away_from_edges(mesh: TriMesh, ids: np.ndarray, length: float) -> np.ndarray:
    """Facets (m,) farther than ``length`` mm from any of another face."""
    out = np.ones(len(ids), bool)
    for face in np.unique(ids):
        own = ids == face
        beside = mesh.centroids[~own]
        if len(beside):
            near, _ = cKDTree(beside, balanced_tree=False).query(mesh.centroids[own], distance_upper_bound=length)
            out[own] = ~np.isfinite(near)
    return out
