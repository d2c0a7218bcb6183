"""The inner loop of a check: nearest place on a candidate triangle, then the distance to that face's own element.

Written in scalars so that it compiles quickly and runs without temporaries.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

__all__ = ["PLANE", "CYLINDER", "CONE", "SPHERE", "TORUS", "measure"]

PLANE, CYLINDER, CONE, SPHERE, TORUS = 0, 1, 2, 3, 4


@njit(cache=True)
def _on_triangle(px, py, pz, tri):  # pragma: no cover - compiled
    """Barycentric shares (v, w) of the nearest place (Ericson 2005, *Real-Time Collision Detection*, §5.1.5)."""
    ax, ay, az = tri[0, 0], tri[0, 1], tri[0, 2]
    abx, aby, abz = tri[1, 0] - ax, tri[1, 1] - ay, tri[1, 2] - az
    acx, acy, acz = tri[2, 0] - ax, tri[2, 1] - ay, tri[2, 2] - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0 and d2 <= 0:
        return 0.0, 0.0
    bpx, bpy, bpz = apx - abx, apy - aby, apz - abz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0 and d4 <= d3:
        return 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        return d1 / max(d1 - d3, 1e-300), 0.0
    cpx, cpy, cpz = apx - acx, apy - acy, apz - acz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0 and d5 <= d6:
        return 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        return 0.0, d2 / max(d2 - d6, 1e-300)
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-300)
        return 1.0 - w, w
    s = 1.0 / (va + vb + vc)
    return vb * s, vc * s


@njit(cache=True)
def _to_element(px, py, pz, k, ox, oy, oz, ax, ay, az, r1, r2):  # pragma: no cover - compiled
    """Signed distance to an element and its gradient there. ``r1`` is a cone's half angle in radians."""
    dx, dy, dz = px - ox, py - oy, pz - oz
    h = dx * ax + dy * ay + dz * az
    if k == PLANE:
        return h, ax, ay, az
    if k == SPHERE:
        r = np.sqrt(dx * dx + dy * dy + dz * dz)
        s = 1.0 / max(r, 1e-300)
        return r - r1, dx * s, dy * s, dz * s
    x, y, z = dx - h * ax, dy - h * ay, dz - h * az
    rho = np.sqrt(x * x + y * y + z * z)
    s = 1.0 / max(rho, 1e-300)
    x, y, z = x * s, y * s, z * s
    if k == CYLINDER:
        return rho - r1, x, y, z
    if k == CONE:
        ca, sa = np.cos(r1), np.sin(r1)
        return rho * ca - h * sa, x * ca - ax * sa, y * ca - ay * sa, z * ca - az * sa
    m = rho - r1
    tube = np.sqrt(m * m + h * h)
    s = 1.0 / max(tube, 1e-300)
    return tube - r2, (x * m + ax * h) * s, (y * m + ay * h) * s, (z * m + az * h) * s


@njit(cache=True, parallel=True)
def measure(
    points, prim, tris, tri_face, code, origin, axis, r1, r2, outward, slack, dist, face, normal, settled, closest, bary
):  # pragma: no cover - compiled
    """Fill the output arrays for every point from its nearest candidate triangle ``prim``.

    A point is ``settled`` where the closed form agrees with the triangle to within ``slack``; elsewhere ``dist`` is
    the unsigned distance to the triangle.
    """
    for n in prange(points.shape[0]):
        px, py, pz = points[n, 0], points[n, 1], points[n, 2]
        t = prim[n]
        v, w = _on_triangle(px, py, pz, tris[t])
        u = 1.0 - v - w
        qx = u * tris[t, 0, 0] + v * tris[t, 1, 0] + w * tris[t, 2, 0]
        qy = u * tris[t, 0, 1] + v * tris[t, 1, 1] + w * tris[t, 2, 1]
        qz = u * tris[t, 0, 2] + v * tris[t, 1, 2] + w * tris[t, 2, 2]
        bary[n, 0], bary[n, 1], bary[n, 2] = u, v, w
        closest[n, 0], closest[n, 1], closest[n, 2] = qx, qy, qz
        far = np.sqrt((px - qx) ** 2 + (py - qy) ** 2 + (pz - qz) ** 2)
        f = tri_face[t]
        face[n] = f
        dist[n] = far
        settled[n] = False
        if code[f] >= 0:
            e, gx, gy, gz = _to_element(
                px,
                py,
                pz,
                code[f],
                origin[f, 0],
                origin[f, 1],
                origin[f, 2],
                axis[f, 0],
                axis[f, 1],
                axis[f, 2],
                r1[f],
                r2[f],
            )
            o = outward[f]
            normal[n, 0], normal[n, 1], normal[n, 2] = gx * o, gy * o, gz * o
            if abs(abs(e) - far) <= slack:
                dist[n] = e * o
                settled[n] = True
