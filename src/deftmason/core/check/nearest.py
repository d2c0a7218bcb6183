"""The place of a body's true surface nearest to each point: candidates from facets, then exact feet on faces, edges and
corners.

Facets say which patches may hold the nearest place, each within the bound by which it departs from its surface. On a
patch's surface the
foot is closed form, or Newton's on a spline; it counts where it lies inside the face, which is judged exactly, at the
border curve nearest to
it. Border curves and corners compete with their own feet. So what is told never depends on how fine the facets are.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..scan.onfacet import on_triangle
from .boxtree import DEEP, gather
from .splines import WIDE, curve_foot, surface_foot

__all__ = ["PLANE", "CYLINDER", "CONE", "SPHERE", "TORUS", "FACETS_ONLY", "ON_SPLINE", "nearest_places", "on_edge"]

PLANE, CYLINDER, CONE, SPHERE, TORUS, ON_SPLINE, FACETS_ONLY = 0, 1, 2, 3, 4, 5, -1
_LINE, _CIRCLE, _CURVE = 0, 1, 2  # as in kernel/borders
_ROOM = 160  # candidates a point may have
_STARTS = 4  # facets of one spline face that Newton starts from
_BLOCK = 512


@njit(cache=True)
def _on_element(px, py, pz, k, o, a, r1, r2, out):  # pragma: no cover - compiled
    """Foot into out[0], outward gradient into out[1]; returns the signed distance. ``r1`` is a cone's half angle in
    radians.
    """
    dx, dy, dz = px - o[0], py - o[1], pz - o[2]
    h = dx * a[0] + dy * a[1] + dz * a[2]
    if k == PLANE:
        d, gx, gy, gz = h, a[0], a[1], a[2]
    elif k == SPHERE:
        r = np.sqrt(dx * dx + dy * dy + dz * dz)
        if r > 1e-300:
            gx, gy, gz = dx / r, dy / r, dz / r
        else:
            gx, gy, gz = 0.0, 0.0, 1.0
        d = r - r1
    else:
        x, y, z = dx - h * a[0], dy - h * a[1], dz - h * a[2]
        rho = np.sqrt(x * x + y * y + z * z)
        if rho > 1e-300:
            x, y, z = x / rho, y / rho, z / rho
        else:  # on the axis every direction serves
            x, y, z = 0.0, a[2], -a[1]
            if y * y + z * z < 0.1:
                x, y, z = -a[2], 0.0, a[0]
            l = np.sqrt(x * x + y * y + z * z)
            x, y, z = x / l, y / l, z / l
        if k == CYLINDER:
            d, gx, gy, gz = rho - r1, x, y, z
        elif k == CONE:
            ca, sa = np.cos(r1), np.sin(r1)
            d = rho * ca - h * sa
            gx, gy, gz = x * ca - a[0] * sa, y * ca - a[1] * sa, z * ca - a[2] * sa
            if h * ca + rho * sa < 0:  # behind the apex: that is the nearest place
                d = np.sqrt(dx * dx + dy * dy + dz * dz)
                out[0, 0], out[0, 1], out[0, 2] = o[0], o[1], o[2]
                if d > 1e-300:
                    gx, gy, gz = dx / d, dy / d, dz / d
                out[1, 0], out[1, 1], out[1, 2] = gx, gy, gz
                return d
        else:
            m = rho - r1
            tube = np.sqrt(m * m + h * h)
            if tube > 1e-300:
                gx, gy, gz = (x * m + a[0] * h) / tube, (y * m + a[1] * h) / tube, (z * m + a[2] * h) / tube
            else:
                gx, gy, gz = a[0], a[1], a[2]
            d = tube - r2
    out[0, 0], out[0, 1], out[0, 2] = px - d * gx, py - d * gy, pz - d * gz
    out[1, 0], out[1, 1], out[1, 2] = gx, gy, gz
    return d


@njit(cache=True)
def on_edge(px, py, pz, e, near, code, frame, size, poles, knots, table, out, room):  # pragma: no cover - compiled
    """The parameter of an edge's place nearest to a point, from ``near``, kept within the edge; place and derivative
    left in ``out``.
    """
    low, high = size[e, 1], size[e, 2]
    if code[e] == _CURVE:
        return curve_foot(px, py, pz, poles, knots, table[e], near, out, room)
    o, x, y = frame[e, 0], frame[e, 1], frame[e, 2]
    dx, dy, dz = px - o[0], py - o[1], pz - o[2]
    a = dx * x[0] + dy * x[1] + dz * x[2]
    if code[e] == _LINE:
        t = min(max(a, low), high)
        for c in range(3):
            out[0, c], out[1, c] = o[c] + t * x[c], x[c]
        return t
    b = dx * y[0] + dy * y[1] + dz * y[2]
    t = np.arctan2(b, a)
    t += 2 * np.pi * np.round((near - t) / (2 * np.pi))
    if t < low or t > high:
        # The ends, whichever is nearer; a full circle has none.
        if high - low > 2 * np.pi - 1e-9:
            t = low + (t - low) % (2 * np.pi)
        else:
            other = t + 2 * np.pi if t < low else t - 2 * np.pi
            if low <= other <= high:
                t = other
            else:
                t = low if np.cos(t - low) > np.cos(t - high) else high
    s, c = np.sin(t), np.cos(t)
    r = size[e, 0]
    for k in range(3):
        out[0, k] = o[k] + r * (c * x[k] + s * y[k])
        out[1, k] = r * (-s * x[k] + c * y[k])
    return t


@njit(cache=True)
def _to_side(px, py, pz, tri, k):  # pragma: no cover - compiled
    """Distance to the side from corner k to the next, and the share of the way along it."""
    j = (k + 1) % 3
    dx, dy, dz = tri[j, 0] - tri[k, 0], tri[j, 1] - tri[k, 1], tri[j, 2] - tri[k, 2]
    rx, ry, rz = px - tri[k, 0], py - tri[k, 1], pz - tri[k, 2]
    l = dx * dx + dy * dy + dz * dz
    t = min(max((rx * dx + ry * dy + rz * dz) / l, 0.0), 1.0) if l > 0 else 0.0
    rx, ry, rz = rx - t * dx, ry - t * dy, rz - t * dz
    return np.sqrt(rx * rx + ry * ry + rz * rz), t


@njit(cache=True)
def _inside(
    sx,
    sy,
    sz,
    f,
    found,
    n,
    tris,
    err,
    face,
    edge,
    gap,
    par,
    normal,
    e_code,
    e_frame,
    e_size,
    e_poles,
    e_knots,
    e_table,
    eps,
    curve,
    room,
):  # pragma: no cover - compiled
    """Whether a place on the surface of face ``f`` lies inside the face, judged by the candidates and the border
    nearest to it.
    """
    least, slack = np.inf, 0.0
    for c in range(n):
        t = found[c]
        if face[t] == f:
            _, _, d = on_triangle(sx, sy, sz, tris[t])
            if d < least:
                least, slack = d, err[t]
    if least > 2 * slack + eps:
        return False
    best, best_side = np.inf, 0.0
    for c in range(n):
        t = found[c]
        if face[t] != f:
            continue
        for k in range(3):
            e = edge[t, k]
            if e < 0 or e_code[e] > _CURVE:
                continue
            d, s = _to_side(sx, sy, sz, tris[t], k)
            if d > 2.5 * gap[t, k] + 2.2 * slack + eps:
                continue
            on_edge(
                sx,
                sy,
                sz,
                e,
                par[t, k, 0] + s * (par[t, k, 1] - par[t, k, 0]),
                e_code,
                e_frame,
                e_size,
                e_poles,
                e_knots,
                e_table,
                curve,
                room,
            )
            qx, qy, qz = sx - curve[0, 0], sy - curve[0, 1], sz - curve[0, 2]
            j, o = (k + 1) % 3, (k + 2) % 3
            nx = normal[t, k, 0] + s * (normal[t, j, 0] - normal[t, k, 0])
            ny = normal[t, k, 1] + s * (normal[t, j, 1] - normal[t, k, 1])
            nz = normal[t, k, 2] + s * (normal[t, j, 2] - normal[t, k, 2])
            tx, ty, tz = curve[1, 0], curve[1, 1], curve[1, 2]
            bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
            l = np.sqrt(bx * bx + by * by + bz * bz)
            if l < 1e-300:
                continue
            # Toward the inside: where the facet's third corner lies of its side.
            ax, ay, az = tris[t, j, 0] - tris[t, k, 0], tris[t, j, 1] - tris[t, k, 1], tris[t, j, 2] - tris[t, k, 2]
            cx, cy, cz = tris[t, o, 0] - tris[t, k, 0], tris[t, o, 1] - tris[t, k, 1], tris[t, o, 2] - tris[t, k, 2]
            if (ny * az - nz * ay) * cx + (nz * ax - nx * az) * cy + (nx * ay - ny * ax) * cz < 0:
                l = -l
            if tx * ax + ty * ay + tz * az < 0:
                l = -l
            side = (qx * bx + qy * by + qz * bz) / l
            far = np.sqrt(qx * qx + qy * qy + qz * qz)
            if far < best - 1e-3 * eps or (far < best + 1e-3 * eps and abs(side) > abs(best_side)):
                best, best_side = min(far, best), side
    return best_side > -1e-3 * eps or best == np.inf


@njit(cache=True)
def _apart(p, q):  # pragma: no cover - compiled
    return np.sqrt((p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 + (p[2] - q[2]) ** 2)


@njit(cache=True)
def _faces_more(rx, ry, rz, m, n):  # pragma: no cover - compiled
    """Whether a normal ``m`` points more along (rx, ry, rz) than ``n``; of two alike, the one first by its numbers."""
    a = rx * m[0] + ry * m[1] + rz * m[2]
    b = rx * n[0] + ry * n[1] + rz * n[2]
    tiny = 1e-9 * np.sqrt(rx * rx + ry * ry + rz * rz)
    if abs(a - b) > tiny:
        return a > b
    for q in range(3):
        if abs(m[q] - n[q]) > 1e-9:
            return m[q] > n[q]
    return False


@njit(cache=True, parallel=True)
def nearest_places(
    points, tris, err, face, uv, edge, gap, par, normal, mate, node, is_corner, corner_normal,
    low, high, slack, left, begin, count,
    f_code, f_origin, f_axis, f_r1, f_r2, f_out, s_poles, s_knots, s_table, s_side,
    e_code, e_frame, e_size, e_poles, e_knots, e_table, eps,
    dist, which, n_one, n_two, sure,
):  # fmt: skip  # pragma: no cover - compiled
    """Fill, for each point: signed distance, face, the outward normals of the one or two faces at the nearest place,
    and whether the
    answer is a true foot (else that of a facet)."""
    blocks = (points.shape[0] + _BLOCK - 1) // _BLOCK
    for b in prange(blocks):
        stack = np.empty(2 * DEEP, np.int64)
        found = np.empty(_ROOM, np.int64)
        share = np.empty((_ROOM, 3))
        room = np.zeros((14 + 2 * WIDE, WIDE))
        deriv, curve, foot = np.zeros((6, 3)), np.zeros((3, 3)), np.zeros((2, 3))
        hint = -1  # the point before often lies near the same triangle
        for i in range(b * _BLOCK, min((b + 1) * _BLOCK, points.shape[0])):
            px, py, pz = points[i, 0], points[i, 1], points[i, 2]
            n, most = gather(
                px, py, pz, tris, err, low, high, slack, left, begin, count, eps, stack, found, share, hint
            )
            hint = found[0]
            for c in range(1, n):
                hint = found[c] if share[c, 2] < share[0, 2] else hint
            best, sign, f_best = np.inf, 1.0, -1
            two = False
            # Faces.
            for c in range(n):
                t = found[c]
                f = face[t]
                code = f_code[f]
                if code == FACETS_ONLY:
                    continue
                first = True
                for q in range(c):
                    if face[found[q]] == f:
                        first = False
                        break
                if not first:
                    continue
                if code != ON_SPLINE:
                    d = _on_element(px, py, pz, code, f_origin[f], f_axis[f], f_r1[f], f_r2[f], foot)
                    if abs(d) < best - 1e-3 * eps and _inside(
                        foot[0, 0],
                        foot[0, 1],
                        foot[0, 2],
                        f,
                        found,
                        n,
                        tris,
                        err,
                        face,
                        edge,
                        gap,
                        par,
                        normal,
                        e_code,
                        e_frame,
                        e_size,
                        e_poles,
                        e_knots,
                        e_table,
                        eps,
                        curve,
                        room,
                    ):
                        best, f_best, two = abs(d), f, False
                        sign = f_out[f] if d >= 0 else -f_out[f]
                        for k in range(3):
                            n_one[i, k] = foot[1, k] * f_out[f]
                    continue
                bound = -1.0
                for _ in range(_STARTS):
                    # The nearest facet of this face that was not tried yet.
                    pick, d_pick = -1, np.inf
                    for q in range(c, n):
                        if face[found[q]] == f and (share[q, 2] > bound) and share[q, 2] < d_pick:
                            pick, d_pick = q, share[q, 2]
                    if pick < 0 or d_pick - err[found[pick]] > best:
                        break
                    bound = d_pick
                    t = found[pick]
                    v, w = share[pick, 0], share[pick, 1]
                    a0 = uv[t, 0, 0] + v * (uv[t, 1, 0] - uv[t, 0, 0]) + w * (uv[t, 2, 0] - uv[t, 0, 0])
                    a1 = uv[t, 0, 1] + v * (uv[t, 1, 1] - uv[t, 0, 1]) + w * (uv[t, 2, 1] - uv[t, 0, 1])
                    _, _, off = surface_foot(px, py, pz, s_poles, s_knots, s_table[f], a0, a1, deriv, room)
                    rx, ry, rz = px - deriv[0, 0], py - deriv[0, 1], pz - deriv[0, 2]
                    d = np.sqrt(rx * rx + ry * ry + rz * rz)
                    if d >= best - 1e-3 * eps or off > 1e-4 * d + 10 * eps:
                        continue
                    if not _inside(
                        deriv[0, 0],
                        deriv[0, 1],
                        deriv[0, 2],
                        f,
                        found,
                        n,
                        tris,
                        err,
                        face,
                        edge,
                        gap,
                        par,
                        normal,
                        e_code,
                        e_frame,
                        e_size,
                        e_poles,
                        e_knots,
                        e_table,
                        eps,
                        curve,
                        room,
                    ):
                        continue
                    nx = deriv[1, 1] * deriv[2, 2] - deriv[1, 2] * deriv[2, 1]
                    ny = deriv[1, 2] * deriv[2, 0] - deriv[1, 0] * deriv[2, 2]
                    nz = deriv[1, 0] * deriv[2, 1] - deriv[1, 1] * deriv[2, 0]
                    l = np.sqrt(nx * nx + ny * ny + nz * nz) * s_side[f]
                    if l == 0.0:
                        continue
                    best, f_best, two = d, f, False
                    n_one[i, 0], n_one[i, 1], n_one[i, 2] = nx / l, ny / l, nz / l
                    sign = 1.0 if rx * n_one[i, 0] + ry * n_one[i, 1] + rz * n_one[i, 2] >= 0 else -1.0
            # Borders and corners: of faces that meet there, the one that faces the point more answers.
            corner = -1
            for c in range(n):
                t = found[c]
                if share[c, 2] - err[t] > best:
                    continue
                for k in range(3):
                    if is_corner[node[t, k]]:
                        rx, ry, rz = px - tris[t, k, 0], py - tris[t, k, 1], pz - tris[t, k, 2]
                        d = np.sqrt(rx * rx + ry * ry + rz * rz)
                        near = node[t, k] == corner and d < best + 1e-3 * eps
                        if d < best - 1e-3 * eps or (near and _faces_more(rx, ry, rz, normal[t, k], n_one[i])):
                            corner = node[t, k]
                            m = corner_normal[node[t, k]]
                            best, f_best, two = d, face[t], False
                            sign = 1.0 if rx * m[0] + ry * m[1] + rz * m[2] >= 0 else -1.0
                            n_one[i, 0], n_one[i, 1], n_one[i, 2] = normal[t, k, 0], normal[t, k, 1], normal[t, k, 2]
                    e = edge[t, k]
                    if e < 0 or e_code[e] > _CURVE:
                        continue
                    d, s = _to_side(px, py, pz, tris[t], k)
                    if d - err[t] > best:
                        continue
                    on_edge(
                        px,
                        py,
                        pz,
                        e,
                        par[t, k, 0] + s * (par[t, k, 1] - par[t, k, 0]),
                        e_code,
                        e_frame,
                        e_size,
                        e_poles,
                        e_knots,
                        e_table,
                        curve,
                        room,
                    )
                    rx, ry, rz = px - curve[0, 0], py - curve[0, 1], pz - curve[0, 2]
                    d = np.sqrt(rx * rx + ry * ry + rz * rz)
                    if d >= best - 1e-3 * eps:
                        continue
                    # Where along the facet's side the foot lies, for the normals there; on another stretch of the edge,
                    # that one answers.
                    aside, s = _to_side(curve[0, 0], curve[0, 1], curve[0, 2], tris[t], k)
                    if aside > 2.5 * gap[t, k] + eps:
                        continue
                    j = (k + 1) % 3
                    if (is_corner[node[t, k]] and _apart(curve[0], tris[t, k]) < eps) or (
                        is_corner[node[t, j]] and _apart(curve[0], tris[t, j]) < eps
                    ):
                        continue  # the corner answers
                    best, f_best, corner = d, face[t], -1
                    for q in range(3):
                        n_one[i, q] = normal[t, k, q] + s * (normal[t, j, q] - normal[t, k, q])
                    mx, my, mz = n_one[i, 0], n_one[i, 1], n_one[i, 2]
                    o = mate[t, k]
                    two = o >= 0
                    if two:
                        u, k2 = o // 3, o % 3
                        j2 = (k2 + 1) % 3
                        back = node[u, k2] == node[t, k]
                        g = s if back else 1.0 - s
                        for q in range(3):
                            n_two[i, q] = normal[u, k2, q] + g * (normal[u, j2, q] - normal[u, k2, q])
                        mx, my, mz = mx + n_two[i, 0], my + n_two[i, 1], mz + n_two[i, 2]
                        if _faces_more(rx, ry, rz, n_two[i], n_one[i]):
                            f_best = face[u]
                            for q in range(3):
                                n_one[i, q], n_two[i, q] = n_two[i, q], n_one[i, q]
                    sign = 1.0 if rx * mx + ry * my + rz * mz >= 0 else -1.0
            # The bounds are measured at a few places of each facet: a foot a little beyond them is still the foot.
            loose = 0.0
            for c in range(n):
                loose = max(loose, err[found[c]])
            sure[i] = best <= most + loose + eps
            if not sure[i]:
                # No foot was found where the facets promise one: theirs stands, right to within their bound.
                pick = 0
                for c in range(1, n):
                    if share[c, 2] < share[pick, 2]:
                        pick = c
                t = found[pick]
                v, w = share[pick, 0], share[pick, 1]
                rx, ry, rz = px, py, pz
                for q in range(3):
                    n_one[i, q] = (1 - v - w) * normal[t, 0, q] + v * normal[t, 1, q] + w * normal[t, 2, q]
                rx -= (1 - v - w) * tris[t, 0, 0] + v * tris[t, 1, 0] + w * tris[t, 2, 0]
                ry -= (1 - v - w) * tris[t, 0, 1] + v * tris[t, 1, 1] + w * tris[t, 2, 1]
                rz -= (1 - v - w) * tris[t, 0, 2] + v * tris[t, 1, 2] + w * tris[t, 2, 2]
                best, f_best, two = share[pick, 2], face[t], False
                sign = 1.0 if rx * n_one[i, 0] + ry * n_one[i, 1] + rz * n_one[i, 2] >= 0 else -1.0
            dist[i], which[i] = sign * best, f_best
            if not two:
                for q in range(3):
                    n_two[i, q] = n_one[i, q]
