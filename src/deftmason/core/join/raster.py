"""The eye of a scan whose mesh still is the raster it was taken by.

A camera's rays are a grid. Where a scan's facets join what its neighbouring rays saw, lines of edges that go straight
on through corners of four, six or eight edges are straight lines of the picture: rows, columns and diagonals alike. The
places along one lie in a plane through the eye, whatever the part is and however much the distances scatter, and all
these planes meet in it (Hartley, Zisserman 2004, *Multiple View Geometry in Computer Vision*, §6.1 and §3.1.2). A mesh
that was thinned, merged or built anew has no such planes, and is told by that.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..scan.mesh import TriMesh
from ..scan.topology import compact
from .eye import Eye

__all__ = ["raster_eye"]

_FEWEST, _LINES = 7, 16  # places on a line, and lines that tell
_BENT = 16.0  # times the scatter off its plane that a line bends within it, squared: else its plane is not told
_COVERED, _TOLD = 0.35, 0.04  # of all places those on lines, and of these those on lines whose planes are told
_STRAIGHT = 0.15  # edges that a line's places may scatter off its plane
_EXACT = 1e-9  # of the span: what scatters less is as exact as numbers are
_ROUNDS = 12
_OUTLIER = 4.0  # scatters off the eye: another line's
_MOST_OF_THEM = 0.7  # of the lines' places that agree
_LEAST_LEAN, _SURE = 0.002, 4.0  # tangent by which rays may be off at least, and standard deviations told
_WORST_LEAN = 0.05  # else other signs tell as much
_FAR = 1000.0  # spans: eyes farther off look alike
_MANY = 400_000  # facets that tell as much as all


@dataclass(frozen=True)
class _Lines:
    """Middles (k, 3) of places on lines, their ways and variances along them (k, 3, 3) and (k, 3), least first, and how
    many places each has.
    """

    middle: np.ndarray
    ways: np.ndarray
    variances: np.ndarray
    count: np.ndarray


def _twins(faces: np.ndarray, n: int) -> np.ndarray:
    """Of each facet's edge k, from its corner k to the next, number 3 f + k, the same edge the other way (3 m,), or
    −1.
    """
    a, b = faces.ravel().astype(np.int64), np.roll(faces, -1, axis=1).ravel().astype(np.int64)
    there, back = a * n + b, b * n + a
    order = np.argsort(there)
    at = np.searchsorted(there, back, sorter=order)
    at[at == len(there)] = 0
    found = order[at]
    return np.where(there[found] == back, found, -1)


@njit(cache=True)
def _straight_on(twin, corner, degree, inner):  # pragma: no cover - compiled
    """The edge that goes on straight from each edge (3 m,) behind the corner where it ends; −1 where none does."""
    out = np.full(len(twin), -1, np.int64)
    for e in range(len(twin)):
        back = twin[e]
        if back < 0:
            continue
        at = corner[back]
        if not inner[at] or degree[at] not in (4, 6, 8):
            continue
        on = back
        for _ in range(degree[at] // 2):
            on = twin[on - 1 if on % 3 else on + 2]
            if on < 0:
                break
        out[e] = on
    return out


@njit(cache=True)
def _lines(on, start, end, twin, fewest):  # pragma: no cover - compiled
    """Which line each of some corners is on, lines from end to end, each once: (k,) lines, (k,) corners."""
    n = len(on)
    has_before = np.zeros(n, np.bool_)
    for e in range(n):
        if on[e] >= 0:
            has_before[on[e]] = True
    line, at = np.empty(2 * n, np.int64), np.empty(2 * n, np.int64)
    number = k = 0
    for e in range(n):
        if has_before[e] or on[e] < 0:
            continue
        last, length = e, 2
        while on[last] >= 0:
            last = on[last]
            length += 1
        # The same line is walked from its other end too: once is enough.
        if length < fewest or (twin[last] >= 0 and twin[last] < e):
            continue
        at[k] = start[e]
        line[k] = number
        k += 1
        last = e
        while True:
            at[k] = end[last]
            line[k] = number
            k += 1
            if on[last] < 0:
                break
            last = on[last]
        number += 1
    return line[:k], at[:k]


def _lines_of(mesh: TriMesh) -> _Lines | None:
    faces, n = mesh.faces, len(mesh.vertices)
    twin = _twins(faces, n)
    start, end = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
    degree = np.bincount(start, minlength=n)
    inner = np.ones(n, bool)
    lone = twin < 0
    inner[start[lone]] = inner[end[lone]] = False
    line, at = _lines(_straight_on(twin, start, degree, inner), start, end, twin, _FEWEST)
    if not len(line) or line[-1] + 1 < _LINES:
        return None
    k = int(line[-1]) + 1
    p = mesh.vertices[at] - mesh.vertices.mean(axis=0)
    count = np.bincount(line, minlength=k)
    middle = np.stack([np.bincount(line, p[:, c], k) for c in range(3)], axis=1) / count[:, None]
    q = p - middle[line]
    spread = np.empty((k, 3, 3))
    for a in range(3):
        for b in range(a + 1):
            spread[:, a, b] = spread[:, b, a] = np.bincount(line, q[:, a] * q[:, b], k) / count
    values, ways = np.linalg.eigh(spread)
    return _Lines(middle, ways.transpose(0, 2, 1), np.maximum(values, 0.0), count)


def raster_eye(mesh: TriMesh) -> Eye | None:
    """Where a scan was seen from; None where its facets are no raster's, or what they show is too flat to tell."""
    if len(mesh.faces) > _MANY:
        near = np.argpartition(np.linalg.norm(mesh.centroids - mesh.centroids.mean(axis=0), axis=1), _MANY)[:_MANY]
        mesh = TriMesh(*compact(mesh.vertices, mesh.faces[near])[:2])
    lines = _lines_of(mesh)
    if lines is None:
        return None
    span = float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))
    least = (_EXACT * span) ** 2
    plain = lines.variances[:, 1] > _BENT * np.maximum(lines.variances[:, 0], least)
    total = int(lines.count.sum())
    middle, normal, along = lines.middle[plain], lines.ways[plain, 0], lines.ways[plain, 1:]
    v, count = lines.variances[plain], lines.count[plain]
    if plain.sum() < _LINES or count.sum() < _TOLD * total or total < _COVERED * len(mesh.vertices):
        return None
    all_scatter = lines.variances[:, 0] * lines.count / (lines.count - 3.0)
    scatter = float(np.sqrt(max(np.median(all_scatter), np.median(v[:, 0] * count / (count - 3.0)), least)))
    if scatter > _STRAIGHT * mesh.median_edge:
        return None
    # Begun as if the eye were equally far from all: how surely a plane is told is how far its line bends within it.
    told = scatter / np.sqrt(count * v[:, 1])
    keep = np.ones(len(count), bool)
    for turn in range(_ROUNDS):
        # The eye in homogeneous coordinates, for it may be as far as can be.
        a = np.column_stack([normal, -np.einsum("ij,ij->i", normal, middle) / span]) / told[:, None]
        x = np.linalg.eigh(a[keep].T @ a[keep])[1][:, 0]
        x = x if x[3] >= 0 else -x
        d = span * x[:3] - x[3] * middle
        aside = np.einsum("ikj,ij->ik", along, d)
        told = scatter * np.sqrt((x[3] ** 2 + aside[:, 0] ** 2 / v[:, 1] + aside[:, 1] ** 2 / v[:, 2]) / count)
        off = np.abs(np.einsum("ij,ij->i", normal, d))
        # Lines that went astray at first pull the eye to themselves.
        wide = 2 * float(np.median(off / told)) if turn < _ROUNDS // 2 else 0.0
        keep = off < max(_OUTLIER, wide) * told
        if keep.sum() < _LINES:
            return None
    if count[keep].sum() < _MOST_OF_THEM * count.sum():
        return None
    eye = span * x[:3] / max(x[3], float(np.linalg.norm(x[:3])) / _FAR)
    distance = float(np.linalg.norm(eye))
    toward = eye / distance
    # Whichever way a parallel picture was looked at, it shows what faces it.
    if distance > 0.5 * _FAR * span and float((mesh.normals @ toward).mean()) < 0:
        toward, eye = -toward, -eye
    lean = _lean(normal[keep], (told / np.linalg.norm(d, axis=1))[keep], toward, 0.5 * span / distance)
    return Eye(eye + mesh.vertices.mean(axis=0), toward, lean) if lean < _WORST_LEAN else None


def _lean(normal: np.ndarray, told: np.ndarray, toward: np.ndarray, wide: float) -> float:
    """Tangent of the angle by which rays may be off, when so many planes (k, 3), each told to (k,) radians seen from
    the scan, say where its eye is, from which the scan's half looks ``wide`` radians wide.
    """
    u = np.linalg.svd(toward[None])[2]
    m = normal @ u.T / told[:, None]
    covariance = np.linalg.pinv(m.T @ m)
    aside = float(np.sqrt(np.linalg.eigvalsh(covariance[1:, 1:])[-1]))
    along = float(np.sqrt(max(covariance[0, 0], 0.0))) * wide
    return max(_LEAST_LEAN, _SURE * float(np.hypot(aside, along)))
