"""Half of a symmetric area and its image as one: cut where the plane runs, joined there; sheets made even about it."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ..errors import BadInput
from ..scan.mesh import TriMesh
from .network import Network

__all__ = ["even_about", "with_image"]

_UNLIKE = 0.05  # of the size: a sheet that differs more from its own image is not laid along the plane
_REACHES = 1.5  # of the median edge: an area that stays so far from the plane does not reach it


def _image(p: np.ndarray, point: np.ndarray, normal: np.ndarray) -> np.ndarray:
    return p - 2 * ((p - point) @ normal)[:, None] * normal


def with_image(mesh: TriMesh, point, normal) -> tuple[TriMesh, np.ndarray]:
    """The larger side of a mesh, cut at a plane, with its image; which facet (m,) each was part of.

    Raises `BadInput` where the mesh does not reach the plane.
    """
    from trimesh.intersections import slice_faces_plane

    point, n = np.asarray(point, float), np.asarray(normal, float) / np.linalg.norm(normal)
    if float(((mesh.centroids - point) @ n) @ mesh.areas) < 0:
        n = -n
    if float(((mesh.vertices - point) @ n).min()) > _REACHES * mesh.median_edge:
        raise BadInput(
            "The marked area does not reach the mirror plane; mark up to it, or move the plane.", field="mirror"
        )
    v, f, _ = slice_faces_plane(mesh.vertices, np.asarray(mesh.faces), n, point)
    used, f = np.unique(f, return_inverse=True)
    v, f = np.asarray(v)[used], f.reshape(-1, 3)
    height = (v - point) @ n
    on = np.abs(height) < 1e-3 * mesh.median_edge
    v[on] -= height[on][:, None] * n
    # Places on the plane that are one are joined, there and with their own image.
    tree = cKDTree(v[on])
    into = np.arange(len(v))
    own = np.flatnonzero(on)
    for a, b in tree.query_pairs(1e-3 * mesh.median_edge):
        into[own[b]] = into[own[a]]
    f = into[f]
    f = f[(f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])]
    other = np.where(on[into], into, np.arange(len(v)) + len(v))
    both = TriMesh(np.vstack([v, _image(v, point, n)]), np.vstack([f, other[f][:, ::-1]]).astype(np.int32))
    c = both.centroids
    c = np.where(((c - point) @ n < 0)[:, None], _image(c, point, n), c)
    return both, cKDTree(mesh.centroids).query(c, workers=-1)[1]


def even_about(net: Network, point, normal) -> Network | None:
    """A sheet of one patch made its own image in a plane; None where it does not lie along it."""
    point, n = np.asarray(point, float), np.asarray(normal, float) / np.linalg.norm(normal)
    p = net.poles[net.ids[0]]
    image = _image(p.reshape(-1, 3), point, n).reshape(p.shape)
    ways = [image[::-1], image[:, ::-1]]
    best = min(ways, key=lambda q: float(((q - p) ** 2).sum()))
    size = float(np.linalg.norm(np.ptp(p.reshape(-1, 3), axis=0)))
    if np.sqrt(((best - p) ** 2).sum(axis=-1)).max() > _UNLIKE * size:
        return None
    poles = net.poles.copy()
    poles[net.ids[0]] = 0.5 * (p + best)
    return net.with_poles(poles)
