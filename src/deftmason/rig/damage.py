"""Damage that raw meshes come with, put into a clean one: torn holes, spikes, flipped and doubled triangles, scraps, a
fin.
"""

from __future__ import annotations

import numpy as np

from ..core.scan.mesh import TriMesh
from ..core.scan.topology import facet_neighbours

__all__ = ["tear", "spoil"]


def tear(mesh: TriMesh, places: list[tuple[float, float, float, float]], seed: int = 9) -> TriMesh:
    """The mesh with ragged holes about places (x, y, z, radius in mm)."""
    rng = np.random.default_rng(seed)
    goes = np.zeros(len(mesh.faces), bool)
    for x, y, z, r in places:
        d = mesh.centroids - [x, y, z]
        near = np.nonzero(np.linalg.norm(d, axis=1) < 1.6 * r)[0]
        n = mesh.normals[near].sum(axis=0)
        n /= max(np.linalg.norm(n), 1e-12)
        u = np.linalg.svd(n[None])[2][1:]
        angle = np.arctan2(d[near] @ u[0], d[near] @ u[1])
        k = rng.uniform(-1, 1, (2, 14))
        jag = sum(k[0, q] * np.cos((q + 3) * angle) + k[1, q] * np.sin((q + 3) * angle) for q in range(14)) / 14
        goes[near] |= np.linalg.norm(d[near], axis=1) < r * (1 + jag)
    return _compact(mesh.vertices, mesh.faces[~goes])


def spoil(mesh: TriMesh, *, spikes=9, flipped=14, doubled=11, scraps=6, seed: int = 10) -> TriMesh:
    """The mesh with defects, apart from each other and from rims."""
    rng = np.random.default_rng(seed)
    v, faces = mesh.vertices.copy(), mesh.faces.copy()
    near = facet_neighbours(faces, len(v))
    inner = np.nonzero((near >= 0).all(axis=1))[0]
    pick = rng.choice(inner, flipped + doubled + spikes, replace=False)
    turn, twice, stand = np.split(pick, [flipped, flipped + doubled])
    faces[turn] = faces[turn][:, ::-1]
    normals = mesh.vertex_normals
    tips = np.unique(faces[stand, 0])
    v[tips] += (rng.uniform(5, 9, len(tips)) * mesh.median_edge)[:, None] * normals[tips]
    parts, whole = [faces, faces[twice]], [v]
    low, high = mesh.bounds
    count = len(v)
    for _ in range(scraps):
        at = rng.uniform(low - 6, high + 6)
        ring = at + 1.5 * mesh.median_edge * rng.normal(size=(6, 3))
        whole.append(ring)
        parts.append(np.array([[0, i, i + 1] for i in range(1, 5)]) + count)
        count += 6
    return TriMesh(np.concatenate(whole), np.concatenate(parts).astype(np.int32))


def _compact(v: np.ndarray, faces: np.ndarray) -> TriMesh:
    used = np.zeros(len(v), bool)
    used[faces] = True
    return TriMesh(v[used], (np.cumsum(used) - 1)[faces].astype(np.int32))
