"""What every facet of a mesh says of itself and adds to its corners, compiled: no room is taken beside the answers."""

from __future__ import annotations

import numpy as np
from numba import float64, int32, njit, types

__all__ = ["angle_sums", "area_sums", "crosses"]

# Of arrays that may be written to or not, as those of a stored result: one form of each for all.
_PLACES = types.Array(float64, 2, "C", readonly=True)
_FACES = types.Array(int32, 2, "C", readonly=True)


@njit([float64[:, ::1](_PLACES, _FACES)], cache=True)
def crosses(vertices, faces):  # pragma: no cover - compiled
    """(m, 3): twice each facet's area along its normal, mm²."""
    out = np.empty((len(faces), 3))
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = vertices[a, 0], vertices[a, 1], vertices[a, 2]
        ux, uy, uz = vertices[b, 0] - ax, vertices[b, 1] - ay, vertices[b, 2] - az
        wx, wy, wz = vertices[c, 0] - ax, vertices[c, 1] - ay, vertices[c, 2] - az
        out[f, 0], out[f, 1], out[f, 2] = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return out


@njit([float64[:, ::1](_PLACES, _FACES, _PLACES)], cache=True)
def area_sums(vertices, faces, cross):  # pragma: no cover - compiled
    """(n, 3): the sum of ``cross`` (m, 3) over the facets about each vertex."""
    out = np.zeros((len(vertices), 3))
    for f in range(len(faces)):
        for i in range(3):
            for k in range(3):
                out[faces[f, i], k] += cross[f, k]
    return out


@njit([float64[:, ::1](_PLACES, _FACES, _PLACES)], cache=True)
def angle_sums(vertices, faces, cross):  # pragma: no cover - compiled
    """(n, 3): the sum of the facets' unit normals about each vertex, each times its angle there (radians)."""
    out = np.zeros((len(vertices), 3))
    for f in range(len(faces)):
        x, y, z = cross[f, 0], cross[f, 1], cross[f, 2]
        size = np.sqrt(x * x + y * y + z * z)
        if size < 1e-300:
            continue
        for i in range(3):
            p, q, r = faces[f, i], faces[f, (i + 1) % 3], faces[f, (i + 2) % 3]
            along = 0.0
            for k in range(3):
                along += (vertices[q, k] - vertices[p, k]) * (vertices[r, k] - vertices[p, k])
            weight = np.arctan2(size, along) / size
            out[p, 0] += weight * x
            out[p, 1] += weight * y
            out[p, 2] += weight * z
    return out
