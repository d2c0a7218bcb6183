"""Short edges drawn together, as many at once as do not disturb each other.

An edge may go when its ends share exactly the vertices its own triangles have (the link condition, Dey et al. 1999) and
no triangle around turns over.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ..scan.steady import facets_at
from ..scan.topology import vertex_rings
from .triangles import edges_of

__all__ = ["collapse_edges"]


@njit(cache=True)
def _cross(p, a, b, c, q, v):  # pragma: no cover - compiled
    """Twice the vector area of a, b, c where vertex v lies at q."""
    ax, ay, az = (q[0], q[1], q[2]) if a == v else (p[a, 0], p[a, 1], p[a, 2])
    bx, by, bz = (q[0], q[1], q[2]) if b == v else (p[b, 0], p[b, 1], p[b, 2])
    cx, cy, cz = (q[0], q[1], q[2]) if c == v else (p[c, 0], p[c, 1], p[c, 2])
    ux, uy, uz, wx, wy, wz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@njit(cache=True)
def _choose(p, faces, edges, uses, order, target, most, start, at, first, ring, gone):  # pragma: no cover - compiled
    n = p.shape[0]
    busy = np.zeros(n, np.bool_)
    count = 0
    none = np.zeros(3)
    for o in range(order.shape[0]):
        e = order[o]
        a, b = edges[e, 0], edges[e, 1]
        if busy[a] or busy[b]:
            continue
        common = 0
        free = True
        for i in range(first[a], first[a + 1]):
            for j in range(first[b], first[b + 1]):
                if ring[i] == ring[j]:
                    common += 1
        if common != uses[e]:
            continue
        q = target[e]
        for side in range(2):
            v, w = (a, b) if side == 0 else (b, a)
            for i in range(start[v], start[v + 1]):
                f = at[i]
                x, y, z = faces[f, 0], faces[f, 1], faces[f, 2]
                if x == w or y == w or z == w:
                    continue
                ox, oy, oz = _cross(p, x, y, z, none, -1)
                nx, ny, nz = _cross(p, x, y, z, q, v)
                s = np.sqrt((ox * ox + oy * oy + oz * oz) * (nx * nx + ny * ny + nz * nz))
                if ox * nx + oy * ny + oz * nz < 0.3 * s:
                    free = False
                for k in range(3):
                    u = faces[f, k]
                    if u != v and most[e] > 0:
                        d = (p[u, 0] - q[0]) ** 2 + (p[u, 1] - q[1]) ** 2 + (p[u, 2] - q[2]) ** 2
                        if d > most[e] * most[e]:
                            free = False
        if not free:
            continue
        gone[b] = a
        p[a] = q
        for v in (a, b):
            busy[v] = True
            for i in range(first[v], first[v + 1]):
                busy[ring[i]] = True
        count += 1
    return count


def collapse_edges(
    points: np.ndarray, faces: np.ndarray, wanted, *, rounds: int = 8
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Draw edges together until no wanted one is left that may go.

    Parameters
    ----------
    wanted : ``(points, edges, uses, length) → (mask (e,), target (e, 3), longest (e,))``: which edges should go, where
        their
        vertex then lies, and how long the edges around it may become (0 for any).

    Returns
    -------
    points (as many as before, some no longer used), the facets left, and the vertex each old one went to (n,).
    """
    points, faces = np.array(points, float), np.ascontiguousarray(faces, np.int32)
    n = len(points)
    went = np.arange(n, dtype=np.int32)
    for _ in range(rounds):
        edges, numbers = edges_of(faces, n)
        uses = np.bincount(numbers.ravel(), minlength=len(edges))
        length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
        mask, target, most = wanted(points, edges, uses, length)
        ids = np.nonzero(mask & (uses <= 2))[0]
        if not len(ids):
            break
        order = ids[np.argsort(length[ids], kind="stable")]
        first, ring = vertex_rings(faces, n)
        start, at = facets_at(faces, n)
        gone = np.arange(n, dtype=np.int32)
        longest = np.broadcast_to(np.asarray(most, float), len(edges)).copy()
        done = _choose(
            points, faces, edges, uses, order, np.ascontiguousarray(target), longest, start, at, first, ring, gone
        )
        if not done:
            break
        faces, went = gone[faces], gone[went]
        keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
        faces = np.ascontiguousarray(faces[keep])
    return points, faces, went
