"""The place of a triangle nearest to a point, and the facet of a mesh nearest to one, compiled and in double
precision.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

__all__ = ["on_triangle", "facet_distances"]

_BLOCK = 4096


@njit(cache=True)
def on_triangle(px, py, pz, tri):  # pragma: no cover - compiled
    """Shares (v, w) of corners 1 and 2 in the nearest place of a triangle (3, 3), and its distance (Ericson 2005,
    *Real-Time Collision
    Detection*, §5.1.5); a triangle without area is taken as its sides."""
    ax, ay, az = tri[0, 0], tri[0, 1], tri[0, 2]
    abx, aby, abz = tri[1, 0] - ax, tri[1, 1] - ay, tri[1, 2] - az
    acx, acy, acz = tri[2, 0] - ax, tri[2, 1] - ay, tri[2, 2] - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    bpx, bpy, bpz = apx - abx, apy - aby, apz - abz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    cpx, cpy, cpz = apx - acx, apy - acy, apz - acz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    v = w = 0.0
    va = d3 * d6 - d5 * d4
    vb = d5 * d2 - d1 * d6
    vc = d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        pass
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / max(d1 - d3, 1e-300)
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / max(d2 - d6, 1e-300)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-300)
        v = 1.0 - w
    else:
        s = 1.0 / max(va + vb + vc, 1e-300)
        v, w = vb * s, vc * s
    dx, dy, dz = apx - v * abx - w * acx, apy - v * aby - w * acy, apz - v * abz - w * acz
    return v, w, np.sqrt(dx * dx + dy * dy + dz * dz)


@njit(cache=True, parallel=True)
def facet_distances(vertices, faces, place):  # pragma: no cover - compiled
    """Distance (m,) in mm from a place (3,) to every facet."""
    out = np.empty(faces.shape[0])
    for block in prange((faces.shape[0] + _BLOCK - 1) // _BLOCK):
        tri = np.empty((3, 3))
        for f in range(block * _BLOCK, min((block + 1) * _BLOCK, faces.shape[0])):
            for k in range(3):
                for c in range(3):
                    tri[k, c] = vertices[faces[f, k], c]
            _, _, out[f] = on_triangle(place[0], place[1], place[2], tri)
    return out
