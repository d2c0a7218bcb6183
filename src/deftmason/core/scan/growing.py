"""A flood over the facets that agree with an element, or lie so many rings about others; it looks at no others."""

from __future__ import annotations

import numpy as np
from numba import njit

from ..elements import Element
from ..elements.feet import foot, packed

__all__ = ["flood_on", "with_rings"]


@njit(cache=True, nogil=True)
def _flood_element(
    code, e, seed, known, v, faces, c, normals, neighbours, reach, least, taken, alike
):  # pragma: no cover - compiled
    # Which way round the surface was seen: as most of what is known.
    agree = 0
    for i in known:
        _, nx, ny, nz = foot(code, e, c[i, 0], c[i, 1], c[i, 2])
        agree += 1 if nx * normals[i, 0] + ny * normals[i, 1] + nz * normals[i, 2] >= 0 else -1
    side = 1.0 if agree >= 0 else -1.0
    seen = np.zeros(c.shape[0], np.bool_)
    stack = [np.int64(seed)]
    seen[seed] = True
    out = [np.int32(seed)]
    while len(stack):
        f = stack.pop()
        for k in range(3):
            g = neighbours[f, k]
            if g < 0 or seen[g] or (len(taken) and taken[g]):
                continue
            seen[g] = True
            _, nx, ny, nz = foot(code, e, c[g, 0], c[g, 1], c[g, 2])
            if side * (nx * normals[g, 0] + ny * normals[g, 1] + nz * normals[g, 2]) < least:
                continue
            # Corners lie on the surface, a coarse facet's middle under it.
            off = False
            for j in range(3):
                a = faces[g, j]
                d, _, _, _ = foot(code, e, v[a, 0], v[a, 1], v[a, 2])
                off = off or abs(d) > reach
            if off:
                continue
            if alike > 0:
                # From facet to facet, an exact mesh turns as its surface does.
                _, fx, fy, fz = foot(code, e, c[f, 0], c[f, 1], c[f, 2])
                dx = normals[g, 0] - normals[f, 0] - side * (nx - fx)
                dy = normals[g, 1] - normals[f, 1] - side * (ny - fy)
                dz = normals[g, 2] - normals[f, 2] - side * (nz - fz)
                if dx * dx + dy * dy + dz * dz > alike * alike:
                    continue
            stack.append(np.int64(g))
            out.append(np.int32(g))
    return np.array(out)


_NONE = np.zeros(0, np.bool_)


def flood_on(
    index,
    seed: int,
    element: Element,
    reach: float,
    angle_deg: float,
    known: np.ndarray,
    *,
    taken: np.ndarray = _NONE,
    normals: np.ndarray | None = None,
    turns_alike: float = 0.0,
) -> np.ndarray:
    """Facets joined to the seed within ``reach`` mm of the element whose normals follow it within ``angle_deg``.

    ``known`` facets tell which way round the surface is seen; none that is ``taken`` (m,) is looked at. ``normals``
    (m, 3): the scan's calm ones where not given. ``turns_alike``, of an exact mesh: how far (rad) the turn between
    facets may differ from the element's.
    """
    code, e = packed(element)
    least = float(np.cos(np.radians(angle_deg)))
    n = index.calm_normals if normals is None else normals
    m = index.mesh
    return _flood_element(
        code,
        e,
        seed,
        known[:400],
        m.vertices,
        m.faces,
        m.centroids,
        n,
        index.neighbours,
        float(reach),
        least,
        taken,
        float(turns_alike),
    )


@njit(cache=True, nogil=True)
def _rings(start, rings, neighbours, allowed):  # pragma: no cover - compiled
    seen = np.zeros(neighbours.shape[0], np.bool_)
    out = [np.int32(f) for f in start]
    for f in start:
        seen[f] = True
    first = 0
    for _ in range(rings):
        last = len(out)
        for i in range(first, last):
            for k in range(3):
                g = neighbours[out[i], k]
                if g >= 0 and not seen[g] and (len(allowed) == 0 or allowed[g]):
                    seen[g] = True
                    out.append(np.int32(g))
        first = last
    return np.array(out)


def with_rings(index, facets: np.ndarray, rings: int, allowed: np.ndarray = _NONE) -> np.ndarray:
    """Some facets (k,) and so many rings of those about them that are ``allowed`` (m,), sorted."""
    if not len(facets):
        return np.asarray(facets, np.int32)
    return np.sort(_rings(np.asarray(facets, np.int32), rings, index.neighbours, allowed))
