"""Vertices parted at creases, for drawing: a flat face looks flat to its edge, a bend looks round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .mesh import TriMesh
from .topology import facet_neighbours

__all__ = ["Creased", "part_at_creases"]

_CREASE_DEG = 35.0


@dataclass(frozen=True)
class Creased:
    """``faces`` (m, 3) int32 over ``sources`` (k,) int32, the mesh's vertex each stands for; ``normals`` (k, 3)."""

    faces: np.ndarray
    sources: np.ndarray
    normals: np.ndarray


def part_at_creases(mesh: TriMesh, angle_deg: float = _CREASE_DEG) -> Creased:
    """A mesh with a vertex for each smooth fan of facets about it: facets that meet at less than ``angle_deg`` share
    theirs.

    Corners of facets are joined over every edge that is no crease; what hangs together is one vertex, and its normal
    the mean of its facets' weighted by their angles there (Thürmer, Wüthrich 1998).
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    faces = mesh.faces
    m = len(faces)
    if m == 0:
        none = np.zeros(0, np.int32)
        return Creased(faces.astype(np.int32), none, np.zeros((0, 3)))
    beside = facet_neighbours(faces, len(mesh.vertices))
    one, k = np.nonzero(beside > np.arange(m)[:, None])  # each edge once
    other, ends = beside[one, k], np.stack([faces[one, k], faces[one, (k + 1) % 3]], -1)
    smooth = np.einsum("ij,ij->i", mesh.normals[one], mesh.normals[other]) > np.cos(np.radians(angle_deg))
    one, other, ends = one[smooth], other[smooth], ends[smooth]

    def corner(facet: np.ndarray, vertex: np.ndarray) -> np.ndarray:
        return 3 * facet + np.argmax(faces[facet] == vertex[:, None], axis=1)

    a = np.concatenate([corner(one, ends[:, k]) for k in (0, 1)])
    b = np.concatenate([corner(other, ends[:, k]) for k in (0, 1)])
    joined = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(3 * m, 3 * m))
    count, label = connected_components(joined, directed=False)
    flat = faces.ravel()
    sources = np.zeros(count, np.int32)
    sources[label] = flat
    weights = _corner_angles(mesh).ravel()
    facet_normals = np.repeat(mesh.normals, 3, axis=0) * weights[:, None]
    normals = np.stack([np.bincount(label, facet_normals[:, k], count) for k in range(3)], -1)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(length > 1e-12, normals / np.maximum(length, 1e-12), [0.0, 0.0, 1.0])
    return Creased(label.reshape(-1, 3).astype(np.int32), sources, normals)


def _corner_angles(mesh: TriMesh) -> np.ndarray:
    """Angle of each facet at each of its corners (m, 3), radians."""
    p = mesh.vertices[mesh.faces]
    out = np.empty((len(mesh.faces), 3))
    for k in range(3):
        u, v = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        size = np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1)
        out[:, k] = np.arccos(np.clip(np.einsum("ij,ij->i", u, v) / np.maximum(size, 1e-300), -1, 1))
    return out
