"""Split the triangles of a body until they follow its true surface to a fraction of a micrometre.

The kernel's own mesher is slow at such a fineness. Here a coarse tessellation is refined: each triangle edge whose
midpoint is too far from the surface (inside a face) or from the face's border curve (on a border) is split there, and
triangles are divided by how many of their edges were split (Bank, Sherman, Weiser 1983, red and green refinement).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..progress import Progress, silent

__all__ = ["refine_triangles", "nearest_on_polylines"]

_MOST_ROUNDS = 12


def nearest_on_polylines(points: np.ndarray, lines: list[np.ndarray]) -> np.ndarray:
    """The nearest place (n, 3) to each point on any of the polylines."""
    a = np.concatenate([p[:-1] for p in lines])
    b = np.concatenate([p[1:] for p in lines])
    d = b - a
    dd = np.maximum(np.einsum("ij,ij->i", d, d), 1e-300)
    out = np.empty_like(points)
    for i in range(0, len(points), 256):
        rel = points[i : i + 256, None, :] - a[None]
        t = np.clip(np.einsum("ijk,jk->ij", rel, d) / dd, 0, 1)
        off = rel - t[..., None] * d[None]
        k = np.argmin(np.einsum("ijk,ijk->ij", off, off), axis=1)
        t = t[np.arange(len(k)), k]
        out[i : i + 256] = a[k] + t[:, None] * d[k]
    return out


def refine_triangles(
    vertices: np.ndarray,
    faces: np.ndarray,
    face_ids: np.ndarray,
    onto_face: Callable[[int, np.ndarray], np.ndarray],
    onto_border: Callable[[int, int, np.ndarray], np.ndarray],
    target: float,
    most: int,
    progress: Progress = silent,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """Refined vertices, faces, face ids and the largest distance left; vertices are shared across faces.

    Parameters
    ----------
    vertices : (n, 3) merged across faces.  faces : (m, 3).  face_ids : (m,).
    onto_face : (face id, points) → the points on that face's surface.
    onto_border : (lower id, higher id, points) → the points on the border between two faces.
    target : largest distance in mm of an edge's middle from the surface.  most : triangles not to exceed.
    """
    worst = 0.0
    for turn in range(_MOST_ROUNDS):
        progress(turn / _MOST_ROUNDS, "Following the model's true surface")
        m = len(faces)
        lo = np.minimum(faces, np.roll(faces, -1, axis=1)).astype(np.int64)
        hi = np.maximum(faces, np.roll(faces, -1, axis=1)).astype(np.int64)
        keys = (lo * len(vertices) + hi).ravel()
        unique, first, inverse = np.unique(keys, return_index=True, return_inverse=True)
        owner_low = np.full(len(unique), np.iinfo(np.int32).max, np.int64)
        owner_high = np.full(len(unique), -1, np.int64)
        ids = np.repeat(face_ids, 3)
        np.minimum.at(owner_low, inverse, ids)
        np.maximum.at(owner_high, inverse, ids)
        a, b = unique // len(vertices), unique % len(vertices)
        middle = 0.5 * (vertices[a] + vertices[b])
        foot = middle.copy()
        inside = owner_low == owner_high
        order = np.argsort(owner_low, kind="stable")
        order = order[inside[order]]
        for part in np.split(order, np.nonzero(np.diff(owner_low[order]))[0] + 1):
            if len(part):
                foot[part] = onto_face(int(owner_low[part[0]]), middle[part])
        border = np.nonzero(~inside)[0]
        if len(border):
            pair = owner_low[border] * (face_ids.max() + 1) + owner_high[border]
            border = border[np.argsort(pair, kind="stable")]
            pair = np.sort(pair, kind="stable")
            for part in np.split(border, np.nonzero(np.diff(pair))[0] + 1):
                foot[part] = onto_border(int(owner_low[part[0]]), int(owner_high[part[0]]), middle[part])
        off = np.linalg.norm(foot - middle, axis=1)
        # A foot farther than half the edge is no midpoint of it: leave such an edge alone.
        length = np.linalg.norm(vertices[a] - vertices[b], axis=1)
        sane = off < 0.5 * length
        worst = float(np.max(off[sane], initial=0.0))
        split = (off > target) & sane
        if not split.any():
            break
        number = np.full(len(unique), -1, np.int64)
        number[split] = len(vertices) + np.arange(split.sum())
        mids = number[inverse].reshape(m, 3)
        if m + (mids >= 0).sum() > most:
            break
        vertices = np.concatenate([vertices, foot[split]])
        faces, face_ids = _divide(faces, face_ids, mids)
    return vertices, faces, face_ids, max(worst, target)


def _divide(faces, face_ids, mids):
    """New triangles from the numbers of the middles of edges 0–1, 1–2, 2–0 (−1 where not split)."""
    count = (mids >= 0).sum(axis=1)
    out, ids = [faces[count == 0]], [face_ids[count == 0]]

    def add(rows, *triangles):
        for t in triangles:
            out.append(np.stack(t, axis=1))
            ids.append(face_ids[rows])

    rows = np.nonzero(count == 3)[0]
    v, e = faces[rows].T, mids[rows].T
    add(rows, (v[0], e[0], e[2]), (v[1], e[1], e[0]), (v[2], e[2], e[1]), (e[0], e[1], e[2]))
    for k in range(3):
        turned = np.roll(faces, -k, axis=1), np.roll(mids, -k, axis=1)
        rows = np.nonzero((count == 1) & (mids[:, k] >= 0))[0]  # only edge 0 of the turned triangle
        v, e = turned[0][rows].T, turned[1][rows].T
        add(rows, (v[0], e[0], v[2]), (e[0], v[1], v[2]))
        rows = np.nonzero((count == 2) & (mids[:, k] < 0))[0]  # all but edge 0
        v, e = turned[0][rows].T, turned[1][rows].T
        add(rows, (v[2], e[2], e[1]), (v[0], v[1], e[1]), (v[0], e[1], e[2]))
    return np.ascontiguousarray(np.concatenate(out), np.int32), np.concatenate(ids)
