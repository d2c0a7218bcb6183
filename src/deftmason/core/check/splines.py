"""Rational B-spline surfaces and curves, evaluated and inverted in compiled code without allocations.

All surfaces of a body lie one behind the other in flat arrays, so that one compiled loop serves them all. Piegl, Tiller
1997,
*The NURBS Book*, algorithms A2.1–A2.3, §4.5 (rational derivatives) and §6.1 (point inversion).
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["packed", "surface_at", "curve_at", "surface_foot", "curve_foot", "WIDE", "scratch_of", "surface_places"]

WIDE = 27  # degree and one more, at most


def scratch_of() -> np.ndarray:
    """Room for one evaluation at a time, see `surface_at`."""
    return np.zeros((12 + 2 * WIDE, WIDE))


def packed(
    items: list[tuple[np.ndarray, list[np.ndarray], list[int]] | None],
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Poles, knots and a table from one entry (poles (…, 4), knots by direction, degrees) a face or edge, None where it
    has none.

    A row of the table: first pole, poles by direction, first knot by direction, degrees, whether closed by direction.
    """
    poles, knots, table = [np.zeros((0, 4))], [np.zeros(0)], np.full((len(items), 9), -1, np.int64)
    at = before = 0
    for i, item in enumerate(items):
        if item is None:
            continue
        p, ks, degrees = item
        table[i, 0] = at
        for d in range(len(ks)):
            table[i, 1 + d], table[i, 3 + d], table[i, 5 + d] = p.shape[d], before, degrees[d]
            ends = np.take(p, 0, axis=d), np.take(p, -1, axis=d)
            apart = np.abs(ends[0][..., :3] / ends[0][..., 3:] - ends[1][..., :3] / ends[1][..., 3:]).max()
            table[i, 7 + d] = apart < 1e-9 * np.abs(p[..., :3]).max() + 1e-12
            knots.append(ks[d])
            before += len(ks[d])
        flat = p.reshape(-1, 4)
        poles.append(flat)
        at += len(flat)
    return np.ascontiguousarray(np.concatenate(poles)), np.concatenate(knots), table


@njit(cache=True)
def _span(knots, first, degree, count, u):  # pragma: no cover - compiled
    if u >= knots[first + count]:
        return count - 1
    lo, hi = degree, count
    while hi - lo > 1:
        mid = (lo + hi) // 2
        if u < knots[first + mid]:
            hi = mid
        else:
            lo = mid
    return lo


@njit(cache=True)
def _basis(knots, first, p, span, u, ders, ndu, lr, a):  # pragma: no cover - compiled
    """Basis functions and their first two derivatives at u into ders (3, p + 1); the rest is room to work in."""
    ndu[0, 0] = 1.0
    for j in range(1, p + 1):
        lr[0, j] = u - knots[first + span + 1 - j]
        lr[1, j] = knots[first + span + j] - u
        saved = 0.0
        for r in range(j):
            ndu[j, r] = lr[1, r + 1] + lr[0, j - r]
            t = ndu[r, j - 1] / ndu[j, r]
            ndu[r, j] = saved + lr[1, r + 1] * t
            saved = lr[0, j - r] * t
        ndu[j, j] = saved
    for j in range(p + 1):
        ders[0, j] = ndu[j, p]
        ders[1, j] = 0.0
        ders[2, j] = 0.0
    for r in range(p + 1):
        s1, s2 = 0, 1
        a[0, 0] = 1.0
        for k in range(1, min(2, p) + 1):
            d = 0.0
            rk, pk = r - k, p - k
            if r >= k:
                a[s2, 0] = a[s1, 0] / ndu[pk + 1, rk]
                d = a[s2, 0] * ndu[rk, pk]
            j1 = 1 if rk >= -1 else -rk
            j2 = k - 1 if r - 1 <= pk else p - r
            for j in range(j1, j2 + 1):
                a[s2, j] = (a[s1, j] - a[s1, j - 1]) / ndu[pk + 1, rk + j]
                d += a[s2, j] * ndu[rk + j, pk]
            if r <= pk:
                a[s2, k] = -a[s1, k - 1] / ndu[pk + 1, r]
                d += a[s2, k] * ndu[r, pk]
            ders[k, r] = d
            s1, s2 = s2, s1
    for j in range(p + 1):
        ders[1, j] *= p
        ders[2, j] *= p * (p - 1)


@njit(cache=True)
def surface_at(poles, knots, row, u, v, out, room):  # pragma: no cover - compiled
    """S, Su, Sv, Suu, Suv, Svv into out (6, 3)."""
    pu, pv, nu, nv = row[5], row[6], row[1], row[2]
    su, sv = _span(knots, row[3], pu, nu, u), _span(knots, row[4], pv, nv, v)
    du, dv, a, h = room[0:3], room[3:6], room[6:8], room[8:12]
    ndu, lr = room[12 : 12 + WIDE], room[12 + WIDE : 14 + WIDE]
    _basis(knots, row[3], pu, su, u, du, ndu, lr, a)
    _basis(knots, row[4], pv, sv, v, dv, ndu, lr, a)
    for k in range(6):
        for c in range(4):
            h[c, k] = 0.0
    for i in range(pu + 1):
        at = row[0] + (su - pu + i) * nv + sv - pv
        for j in range(pv + 1):
            b00, b10, b01 = du[0, i] * dv[0, j], du[1, i] * dv[0, j], du[0, i] * dv[1, j]
            b20, b11, b02 = du[2, i] * dv[0, j], du[1, i] * dv[1, j], du[0, i] * dv[2, j]
            for c in range(4):
                w = poles[at + j, c]
                h[c, 0] += b00 * w
                h[c, 1] += b10 * w
                h[c, 2] += b01 * w
                h[c, 3] += b20 * w
                h[c, 4] += b11 * w
                h[c, 5] += b02 * w
    w = h[3, 0]
    for c in range(3):
        s = h[c, 0] / w
        d1 = (h[c, 1] - h[3, 1] * s) / w
        d2 = (h[c, 2] - h[3, 2] * s) / w
        out[0, c], out[1, c], out[2, c] = s, d1, d2
        out[3, c] = (h[c, 3] - 2 * h[3, 1] * d1 - h[3, 3] * s) / w
        out[4, c] = (h[c, 4] - h[3, 1] * d2 - h[3, 2] * d1 - h[3, 4] * s) / w
        out[5, c] = (h[c, 5] - 2 * h[3, 2] * d2 - h[3, 5] * s) / w


@njit(cache=True)
def curve_at(poles, knots, row, u, out, room):  # pragma: no cover - compiled
    """C, C′, C″ into out (3, 3)."""
    p, n = row[5], row[1]
    s = _span(knots, row[3], p, n, u)
    d, a, h = room[0:3], room[6:8], room[8:12]
    _basis(knots, row[3], p, s, u, d, room[12 : 12 + WIDE], room[12 + WIDE : 14 + WIDE], a)
    for k in range(3):
        for c in range(4):
            h[c, k] = 0.0
    for i in range(p + 1):
        for c in range(4):
            w = poles[row[0] + s - p + i, c]
            h[c, 0] += d[0, i] * w
            h[c, 1] += d[1, i] * w
            h[c, 2] += d[2, i] * w
    w = h[3, 0]
    for c in range(3):
        x = h[c, 0] / w
        d1 = (h[c, 1] - h[3, 1] * x) / w
        out[0, c], out[1, c] = x, d1
        out[2, c] = (h[c, 2] - 2 * h[3, 1] * d1 - h[3, 2] * x) / w


@njit(cache=True, inline="always")
def _within(u, low, high, closed):  # pragma: no cover - compiled
    if closed and (u < low or u > high):
        return low + (u - low) % (high - low)
    return min(max(u, low), high)


@njit(cache=True)
def surface_foot(px, py, pz, poles, knots, row, u, v, out, room):  # pragma: no cover - compiled
    """The place of a surface nearest to a point, sought downhill from (u, v) by Newton's method; derivatives there are
    left in ``out``.

    Returns u, v and how far from square the line to the point still stands, as a length in mm.
    """
    u0, u1 = knots[row[3] + row[5]], knots[row[3] + row[1]]
    v0, v1 = knots[row[4] + row[6]], knots[row[4] + row[2]]
    u, v = _within(u, u0, u1, row[7]), _within(v, v0, v1, row[8])
    surface_at(poles, knots, row, u, v, out, room)
    rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
    value = rx * rx + ry * ry + rz * rz
    for _ in range(40):
        g0 = rx * out[1, 0] + ry * out[1, 1] + rz * out[1, 2]
        g1 = rx * out[2, 0] + ry * out[2, 1] + rz * out[2, 2]
        e = out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2
        f = out[1, 0] * out[2, 0] + out[1, 1] * out[2, 1] + out[1, 2] * out[2, 2]
        g = out[2, 0] ** 2 + out[2, 1] ** 2 + out[2, 2] ** 2
        a = e + rx * out[3, 0] + ry * out[3, 1] + rz * out[3, 2]
        b = f + rx * out[4, 0] + ry * out[4, 1] + rz * out[4, 2]
        c = g + rx * out[5, 0] + ry * out[5, 1] + rz * out[5, 2]
        # A parameter held at its end, and drawn beyond it, is not free.
        hold_u = not row[7] and ((u <= u0 and g0 > 0) or (u >= u1 and g0 < 0))
        hold_v = not row[8] and ((v <= v0 and g1 > 0) or (v >= v1 and g1 < 0))
        if a * c - b * b <= 1e-12 * abs(a * c) or a <= 0:  # not convex here: Gauss–Newton instead
            a, b, c = e, f, g
        du = dv = 0.0
        if hold_u and not hold_v:
            dv = -g1 / c if c > 0 else (-g1 / g if g > 0 else 0.0)
        elif hold_v and not hold_u:
            du = -g0 / a if a > 0 else (-g0 / e if e > 0 else 0.0)
        elif not hold_u and not hold_v:
            det = a * c - b * b
            if det > 1e-14 * abs(a * c):
                du, dv = -(c * g0 - b * g1) / det, -(a * g1 - b * g0) / det
            else:
                du, dv = (-g0 / e if e > 0 else 0.0), (-g1 / g if g > 0 else 0.0)
        if du == 0.0 and dv == 0.0:
            break
        moved = False
        for _ in range(12):
            un, vn = _within(u + du, u0, u1, row[7]), _within(v + dv, v0, v1, row[8])
            surface_at(poles, knots, row, un, vn, out, room)
            rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
            now = rx * rx + ry * ry + rz * rz
            if now <= value * (1 + 1e-13) + 1e-300:
                moved = True
                break
            du, dv = 0.5 * du, 0.5 * dv
        step = abs(du) * np.sqrt(e) + abs(dv) * np.sqrt(g)
        if moved:
            u, v, value = un, vn, now
        else:
            surface_at(poles, knots, row, u, v, out, room)
            rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
        if not moved or step < 1e-13 * (1 + np.sqrt(value)):
            break
    e = np.sqrt(out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2)
    g = np.sqrt(out[2, 0] ** 2 + out[2, 1] ** 2 + out[2, 2] ** 2)
    off = 0.0
    if e > 0:
        off = abs(rx * out[1, 0] + ry * out[1, 1] + rz * out[1, 2]) / e
    if g > 0:
        off = max(off, abs(rx * out[2, 0] + ry * out[2, 1] + rz * out[2, 2]) / g)
    return u, v, off


@njit(cache=True)
def curve_foot(px, py, pz, poles, knots, row, u, out, room):  # pragma: no cover - compiled
    """The parameter of the place of a curve nearest to a point, sought downhill from ``u``; C, C′, C″ there are left in
    ``out``.
    """
    u0, u1 = knots[row[3] + row[5]], knots[row[3] + row[1]]
    u = _within(u, u0, u1, row[7])
    curve_at(poles, knots, row, u, out, room)
    rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
    value = rx * rx + ry * ry + rz * rz
    for _ in range(40):
        g0 = rx * out[1, 0] + ry * out[1, 1] + rz * out[1, 2]
        e = out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2
        a = e + rx * out[2, 0] + ry * out[2, 1] + rz * out[2, 2]
        if a <= 0.05 * e:
            a = e
        if a <= 0 or (not row[7] and ((u <= u0 and g0 > 0) or (u >= u1 and g0 < 0))):
            break
        du = -g0 / a
        moved = False
        for _ in range(12):
            un = _within(u + du, u0, u1, row[7])
            curve_at(poles, knots, row, un, out, room)
            rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
            now = rx * rx + ry * ry + rz * rz
            if now <= value * (1 + 1e-13) + 1e-300:
                moved = True
                break
            du = 0.5 * du
        if moved:
            u, value = un, now
        else:
            curve_at(poles, knots, row, u, out, room)
            rx, ry, rz = out[0, 0] - px, out[0, 1] - py, out[0, 2] - pz
        if not moved or abs(du) * np.sqrt(e) < 1e-13 * (1 + np.sqrt(value)):
            break
    return u


@njit(cache=True)
def surface_places(poles, knots, row, uv, at, normal, room):  # pragma: no cover - compiled
    """Places and unit normals along Su × Sv (zero where there is none) of one surface at parameters ``uv`` (n, 2)."""
    s = np.zeros((6, 3))
    u0, u1 = knots[row[3] + row[5]], knots[row[3] + row[1]]
    v0, v1 = knots[row[4] + row[6]], knots[row[4] + row[2]]
    for i in range(len(uv)):
        surface_at(poles, knots, row, _within(uv[i, 0], u0, u1, row[7]), _within(uv[i, 1], v0, v1, row[8]), s, room)
        n0 = s[1, 1] * s[2, 2] - s[1, 2] * s[2, 1]
        n1 = s[1, 2] * s[2, 0] - s[1, 0] * s[2, 2]
        n2 = s[1, 0] * s[2, 1] - s[1, 1] * s[2, 0]
        l = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        at[i, 0], at[i, 1], at[i, 2] = s[0, 0], s[0, 1], s[0, 2]
        if l > 1e-300:
            normal[i, 0], normal[i, 1], normal[i, 2] = n0 / l, n1 / l, n2 / l
        else:
            normal[i, 0], normal[i, 1], normal[i, 2] = 0.0, 0.0, 0.0
