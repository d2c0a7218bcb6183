"""Triangles split, flipped and laid between given edges: the hands of filling and remeshing.

All splits of a pass happen at once from a table of the eight cases; flips walk the edges until every pair of triangles
is
Delaunay in its own plane.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ..scan.topology import facet_neighbours

__all__ = ["edges_of", "split_edges", "flip_to_delaunay", "span_loop"]

#: New facets of one whose edges (0–1, 1–2, 2–0) are split, by bits; 0–2 are corners, 3–5 the edges' midpoints.
_CASES = {
    0: [(0, 1, 2)],
    1: [(0, 3, 2), (3, 1, 2)],
    2: [(0, 1, 4), (0, 4, 2)],
    4: [(0, 1, 5), (5, 1, 2)],
    3: [(3, 1, 4), (0, 3, 4), (0, 4, 2)],
    6: [(4, 2, 5), (0, 1, 4), (0, 4, 5)],
    5: [(0, 3, 5), (3, 1, 2), (3, 2, 5)],
    7: [(0, 3, 5), (3, 1, 4), (5, 4, 2), (3, 4, 5)],
}


def edges_of(faces: np.ndarray, vertex_count: int) -> tuple[np.ndarray, np.ndarray]:
    """Distinct edges (e, 2) and for each facet the number of its three edges (m, 3)."""
    a, b = faces, np.roll(faces, -1, axis=1)
    lo, hi = np.minimum(a, b).astype(np.int64), np.maximum(a, b)
    key, inverse = np.unique((lo * vertex_count + hi).ravel(), return_inverse=True)
    return np.column_stack([key // vertex_count, key % vertex_count]), inverse.reshape(-1, 3)


def split_edges(faces: np.ndarray, edge_numbers: np.ndarray, new_vertex: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Split edges at new vertices.

    Parameters
    ----------
    faces (m, 3); edge_numbers (m, 3) from `edges_of`; new_vertex (e,) its number where an edge is split, else −1.

    Returns
    -------
    The new facets, and which old facet each came from.
    """
    middle = new_vertex[edge_numbers]
    case = ((middle >= 0) * np.array([1, 2, 4])).sum(axis=1)
    corners = np.hstack([faces, middle])
    out, source = [], []
    for bits, triangles in _CASES.items():
        ids = np.nonzero(case == bits)[0]
        for t in triangles if len(ids) else []:
            out.append(corners[ids][:, t])
            source.append(ids)
    source = np.concatenate(source)  # type: ignore[assignment]
    order = np.argsort(source, kind="stable")
    return np.concatenate(out)[order].astype(np.int32), source[order]


@njit(cache=True)
def _opposite_angle(p, a, b, c):  # pragma: no cover - compiled
    """Angle at c of the triangle a, b, c."""
    ux, uy, uz = p[a, 0] - p[c, 0], p[a, 1] - p[c, 1], p[a, 2] - p[c, 2]
    wx, wy, wz = p[b, 0] - p[c, 0], p[b, 1] - p[c, 1], p[b, 2] - p[c, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return np.arctan2(np.sqrt(x * x + y * y + z * z), ux * wx + uy * wy + uz * wz)


@njit(cache=True)
def _normal(p, a, b, c):  # pragma: no cover - compiled
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    wx, wy, wz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    s = np.sqrt(x * x + y * y + z * z)
    s = 1 / s if s > 0 else 0.0
    return x * s, y * s, z * s


@njit(cache=True)
def _replace(near, f, old, new):  # pragma: no cover - compiled
    if f >= 0:
        for k in range(3):
            if near[f, k] == old:
                near[f, k] = new
                return


@njit(cache=True)
def _flips(p, faces, near, locked, barred, n, rounds, crease):  # pragma: no cover - compiled
    """Edge flips in place. ``locked[f, k]`` edges stay; ``barred`` sorted keys of edges that must not arise."""
    total = 0
    m = faces.shape[0]
    for _ in range(rounds):
        done = 0
        for f in range(m):
            for k in range(3):
                g = near[f, k]
                if g <= f or locked[f, k]:
                    continue
                a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
                j = -1
                for i in range(3):
                    if near[g, i] == f and faces[g, i] == b and faces[g, (i + 1) % 3] == a:
                        j = i
                if j < 0:
                    continue
                d = faces[g, (j + 2) % 3]
                if c == d:
                    continue
                if _opposite_angle(p, a, b, c) + _opposite_angle(p, a, b, d) <= np.pi + 1e-6:
                    continue
                key = np.int64(min(c, d)) * n + max(c, d)
                at = np.searchsorted(barred, key)
                if at < barred.shape[0] and barred[at] == key:
                    continue
                # The new pair must not fold back on the old one.
                x1, y1, z1 = _normal(p, a, b, c)
                x2, y2, z2 = _normal(p, b, a, d)
                if x1 * x2 + y1 * y2 + z1 * z2 < crease:
                    continue
                x3, y3, z3 = _normal(p, c, a, d)
                x4, y4, z4 = _normal(p, d, b, c)
                if x3 * x4 + y3 * y4 + z3 * z4 < crease:
                    continue
                if (x1 + x2) * x3 + (y1 + y2) * y3 + (z1 + z2) * z3 <= 0 or (x1 + x2) * x4 + (y1 + y2) * y4 + (
                    z1 + z2
                ) * z4 <= 0:
                    continue
                # An edge c–d may exist already on the other side of either.
                fb, fc = near[f, (k + 1) % 3], near[f, (k + 2) % 3]
                ga, gd = near[g, (j + 1) % 3], near[g, (j + 2) % 3]
                clash = False
                if fb >= 0 and fb == gd or fc >= 0 and fc == ga:
                    clash = True
                if clash:
                    continue
                lb, lc = locked[f, (k + 1) % 3], locked[f, (k + 2) % 3]
                la, ld = locked[g, (j + 1) % 3], locked[g, (j + 2) % 3]
                # f = c a d, g = d b c
                faces[f, 0], faces[f, 1], faces[f, 2] = c, a, d
                near[f, 0], near[f, 1], near[f, 2] = fc, ga, g
                locked[f, 0], locked[f, 1], locked[f, 2] = lc, la, False
                faces[g, 0], faces[g, 1], faces[g, 2] = d, b, c
                near[g, 0], near[g, 1], near[g, 2] = gd, fb, f
                locked[g, 0], locked[g, 1], locked[g, 2] = ld, lb, False
                _replace(near, ga, g, f)
                _replace(near, fb, f, g)
                done += 1
                break
        total += done
        if done <= m // 5000:
            break
    return total


def flip_to_delaunay(
    points: np.ndarray,
    faces: np.ndarray,
    *,
    locked: np.ndarray | None = None,
    barred: np.ndarray | None = None,
    crease_deg: float = 60.0,
    rounds: int = 12,
) -> np.ndarray:
    """Facets with their inner edges flipped where that makes both triangles rounder.

    Parameters
    ----------
    locked : (m, 3) bool, edges that stay.  barred : sorted keys ``lo * n + hi`` of edges that must not arise.
    crease_deg : pairs of facets that meet more sharply are left.
    """
    faces = np.ascontiguousarray(faces, np.int32).copy()
    near = facet_neighbours(faces, len(points))
    held = np.zeros(faces.shape, bool) if locked is None else locked.copy()
    none = np.zeros(0, np.int64) if barred is None else barred
    _flips(
        np.ascontiguousarray(points),
        faces,
        near,
        held,
        none,
        len(points),
        rounds,
        float(np.cos(np.radians(crease_deg))),
    )
    return faces


@njit(cache=True)
def _span(p, normals, allowed):  # pragma: no cover - compiled
    """Which middle vertex each stretch i…k of a closed loop takes: least sharpest angle, then least area."""
    n = p.shape[0]
    angle = np.zeros((n, n))
    area = np.zeros((n, n))
    middle = np.full((n, n), -1, np.int32)
    nx = np.zeros((n, n, 3))
    for i in range(n - 1):
        nx[i, i + 1] = normals[i]
    for width in range(2, n):
        for i in range(n - width):
            k = i + width
            best_angle, best_area, best = 1e30, 1e30, -1
            for m in range(i + 1, k):
                x, y, z = _normal(p, i, m, k)
                worst = max(angle[i, m], angle[m, k])
                if x == 0 and y == 0 and z == 0:
                    worst = max(worst, 3.0)
                c1 = x * nx[i, m, 0] + y * nx[i, m, 1] + z * nx[i, m, 2]
                c2 = x * nx[m, k, 0] + y * nx[m, k, 1] + z * nx[m, k, 2]
                worst = max(worst, 1 - c1, 1 - c2)
                if width == n - 1:
                    worst = max(worst, 1 - (x * normals[k, 0] + y * normals[k, 1] + z * normals[k, 2]))
                if not allowed[i, m] or not allowed[m, k]:
                    worst += 10.0
                ux, uy, uz = p[m, 0] - p[i, 0], p[m, 1] - p[i, 1], p[m, 2] - p[i, 2]
                wx, wy, wz = p[k, 0] - p[i, 0], p[k, 1] - p[i, 1], p[k, 2] - p[i, 2]
                cx, cy, cz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                a = area[i, m] + area[m, k] + 0.5 * np.sqrt(cx * cx + cy * cy + cz * cz)
                if worst < best_angle - 1e-9 or (worst < best_angle + 1e-9 and a < best_area):
                    best_angle, best_area, best = worst, a, m
            angle[i, k], area[i, k], middle[i, k] = best_angle, best_area, best
            x, y, z = _normal(p, i, best, k)
            nx[i, k, 0], nx[i, k, 1], nx[i, k, 2] = x, y, z
    return middle


_MOST_SPANNED = 110


def span_loop(points: np.ndarray, normals: np.ndarray, allowed: np.ndarray | None = None) -> np.ndarray:
    """Triangles (n − 2, 3) over a closed loop of points, as flat with each other and the surroundings as can be.

    Parameters
    ----------
    points : (n, 3) in the triangles' own turning sense.  normals : (n, 3) of the surface outside edge i–i+1, or zeros.
    allowed : (n, n) bool, chords that may be used.

    Source: Barequet, Sharir 1995 and Liepa 2003, *Filling holes in meshes*, §3. Longer loops are spanned through every
    few vertices, those between joined to the far corner.
    """
    n = len(points)
    if n > _MOST_SPANNED:
        pick = np.unique(np.linspace(0, n, _MOST_SPANNED, endpoint=False).astype(int))
        coarse = span_loop(points[pick], normals[pick])
        return np.array(_open_sides([tuple(int(x) for x in t) for t in pick[coarse]], pick, n), np.int32)
    if allowed is None:
        allowed = np.ones((n, n), bool)
    middle = _span(np.ascontiguousarray(points), np.ascontiguousarray(normals), allowed)
    out, todo = [], [(0, n - 1)]
    while todo:
        i, k = todo.pop()
        if k - i < 2:
            continue
        m = int(middle[i, k])
        out.append((i, m, k))
        todo += [(i, m), (m, k)]
    return np.array(out, np.int32).reshape(-1, 3)


def _open_sides(triangles, pick, n):
    """Triangles whose sides skip loop vertices, fanned out to them."""
    place = {int(v): i for i, v in enumerate(pick)}
    todo, out = list(triangles), []
    while todo:
        t = todo.pop()
        for k in range(3):
            i, j, far = t[k], t[(k + 1) % 3], t[(k + 2) % 3]
            gap = (j - i) % n
            if gap > 1 and i in place and int(pick[(place[i] + 1) % len(pick)]) == j:
                chain = [x % n for x in range(i, i + gap + 1)]
                todo += [(chain[q], chain[q + 1], far) for q in range(gap)]
                break
        else:
            out.append(t)
    return out
