"""Where the surface lies at one place of a scan and how it faces, told by the facets about it: a quadric over a patch
(Petitjean 2002, *A survey of methods for recovering quadrics in triangle meshes*), so that what bends is not cut short.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import perpendicular_pair
from ..elements.uncertainty import correlated_covariance, noise_model
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import patch_about

__all__ = ["SurfaceAt", "surface_at"]

_PATCH, _CONE_DEG = 240, 25.0
_FEWEST = 8


@dataclass(frozen=True)
class SurfaceAt:
    """``place`` (3,) mm on the surface and its unit ``normal`` there; ``sigma`` mm along the way it was met, and
    ``turn`` (rad), their standard deviations.
    """

    place: np.ndarray
    normal: np.ndarray
    sigma: float
    turn: float


def surface_at(index: ScanIndex, seed: int, at: np.ndarray, way: np.ndarray) -> SurfaceAt:
    """The surface about a facet where the line through a place along a way (3,) meets it.

    Raises
    ------
    BadInput : where the scan has too few facets there.
    """
    m = index.mesh
    facets = patch_about(index, seed, _CONE_DEG, _PATCH)
    ids = index.corners(facets)
    if index.exact and len(ids) < _FEWEST:
        n = m.normals[seed]
        p = at + way * float((m.centroids[seed] - at) @ n) / float(way @ n)
        return SurfaceAt(p, n, 0.0, 0.0)
    if len(ids) < _FEWEST:
        raise BadInput("The scan has too few facets at this place to tell its surface; pick another.", field="pick")
    p = m.vertices[ids]
    e, f = perpendicular_pair(way)
    scale = float(np.linalg.norm(np.ptp(p, axis=0)))
    x, y, z = ((p - at) @ d / scale for d in (e, f, way))
    j = np.column_stack([np.ones(len(x)), x, y, x * x, x * y, y * y])
    solved, _, rank, _ = np.linalg.lstsq(j, z, rcond=1e-9)
    if rank < 6:
        j = j[:, :3]
        solved = np.linalg.lstsq(j, z, rcond=None)[0]
    r = z - j @ solved
    places = np.column_stack([x, y, np.zeros(len(x))])
    covariance = correlated_covariance(places, j, noise_model(places, r, j))[0]
    slope = way - solved[1] * e - solved[2] * f
    turn = float(np.sqrt(max(covariance[1, 1] + covariance[2, 2], 0.0)))
    sigma = scale * float(np.sqrt(max(covariance[0, 0], 0.0)))
    return SurfaceAt(at + way * scale * solved[0], slope / np.linalg.norm(slope), sigma, turn)
