"""Where faces end, at creases and outlines: what holds two scans of flats that share nothing else.

Two looks at a flat face slide on each other. But each sees where the face ends, be it at a crease or where nothing is
behind, and there both must end alike. An end is a place whose neighbours that face as it does all lie to one side; the
way out of the face along it is the direction in which it holds. Ends of shadows, where something nearer to the eye
hides how the face goes on, hold nothing, nor do contours, where a round face turns away from the eye.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit

from ..elements import RigidMotion
from .eye import Eye, project
from .nearest import Nearest, closest

__all__ = ["Ends", "ends_of", "ends_on", "going_on", "END_SCATTER", "END_REACH"]

END_SCATTER = 0.35  # spacings that an end lies off where its face ends: points lie by chance
END_REACH = 3.0  # scatters within which two ends may be one
_LOOK = 3.0  # spacings
_ALIKE = 0.9  # cosine of normals of one face
_ASIDE = 0.3  # of the look that neighbours lie to one side (a straight end: 0.42)
_FEWEST = 5  # neighbours alike
_OUTMOST = 0.6  # spacings that no neighbour lies farther out
_SURE = 0.1  # lean of an eye that tells shadows and contours
# cosine between ray and normal, and rad that a face turns over the look on its way out: round ones seem to end where
# they turn away from the eye
_NO_CONTOUR, _TURNS = 0.5, 0.06
_BESIDE = 2.0  # spacings out of the face where what hides it is looked for
_HIDES = 4.0  # spacings nearer to the eye
_SAME_WAY, _FACING = 0.8, 0.85  # cosines between ways out, and normals, of two ends that may be one
_GOES_ON = 0.8  # spacings beyond an end
_SHORT = 0.6  # spacings that the last points of a face lie short of its end, on average over the trial's looks


@dataclass(frozen=True, eq=False)
class Ends:
    """``points`` (k, 3) mm where a face ends, ``normals`` (k, 3) of the face there, ``out`` (k, 3) the way out of it
    along it; ``spacing`` mm of the scan's points.
    """

    points: np.ndarray
    normals: np.ndarray
    out: np.ndarray
    spacing: float

    @cached_property
    def nearest(self) -> Nearest:
        """Of ends, which lie along lines, one cell of the box holds a few."""
        return Nearest.of(self.points, self.spacing)

    def prepare(self) -> None:
        """All that is asked of them worked out, before several threads ask."""
        if len(self.points):
            _ = self.nearest

    def moved(self, m: RigidMotion) -> Ends:
        return Ends(m.points(self.points), m.vectors(self.normals), m.vectors(self.out), self.spacing)

    def only(self, which: np.ndarray) -> Ends:
        return Ends(self.points[which], self.normals[which], self.out[which], self.spacing)

    @staticmethod
    def all_of(several: list[Ends]) -> Ends:
        p, n, out = (np.vstack([getattr(e, k) for e in several]) for k in ("points", "normals", "out"))
        return Ends(p, n, out, min(e.spacing for e in several))


def ends_of(points: np.ndarray, normals: np.ndarray, spacing: float, nearest: Nearest, eye: Eye | None) -> Ends:
    """The ends of the faces that points (n, 3) with normals show, ``spacing`` mm apart, seen from ``eye``; none where
    nothing tells them from ends of seeing.
    """
    if eye is None or eye.lean > _SURE:
        return Ends(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros((0, 3)), spacing)
    o = nearest
    is_end, out = np.zeros(len(points), np.bool_), np.zeros((len(points), 3))
    _find_ends(
        *o.grid,
        np.ascontiguousarray(normals),
        _LOOK * spacing,
        _OUTMOST * spacing,
        is_end,
        out,
    )
    is_end &= eye.facing(points, normals) > _NO_CONTOUR
    ends = Ends(points[is_end], normals[is_end], out[is_end], spacing)
    if is_end.any():
        ends = ends.only(~_shadows(points, spacing, ends, eye))
    return Ends(ends.points + _SHORT * spacing * ends.out, ends.normals, ends.out, spacing)


@njit(cache=True, nogil=True)
def _find_ends(p, order, start, dims, low, cell, normals, look, outmost, is_end, out):  # pragma: no cover - compiled
    r = int(np.ceil(look / cell))
    mean = np.empty(3)
    for i in range(p.shape[0]):
        me = order[i]
        nx, ny, nz = normals[me, 0], normals[me, 1], normals[me, 2]
        a = int(np.floor((p[i, 0] - low[0]) / cell))
        b = int(np.floor((p[i, 1] - low[1]) / cell))
        c = int(np.floor((p[i, 2] - low[2]) / cell))
        mean[:] = 0.0
        count, far, bend, spread = 0, 0.0, 0.0, 0.0
        for turn in range(2):
            for u in range(max(a - r, 0), min(a + r, dims[0] - 1) + 1):
                for v in range(max(b - r, 0), min(b + r, dims[1] - 1) + 1):
                    row = (u * dims[1] + v) * dims[2]
                    first, last = start[row + max(c - r, 0)], start[row + min(c + r, dims[2] - 1) + 1]
                    for j in range(first, last):
                        x, y, z = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
                        if x * x + y * y + z * z > look * look:
                            continue
                        k = order[j]
                        if nx * normals[k, 0] + ny * normals[k, 1] + nz * normals[k, 2] < _ALIKE:
                            continue
                        h = x * nx + y * ny + z * nz
                        x, y, z = x - h * nx, y - h * ny, z - h * nz
                        if turn == 0:
                            mean[0] += x
                            mean[1] += y
                            mean[2] += z
                            count += 1
                        else:
                            t = -(x * mean[0] + y * mean[1] + z * mean[2])
                            far = max(far, t)
                            spread += t * t
                            for q in range(3):
                                bend -= t * (normals[k, q] - normals[me, q]) * mean[q]
            if turn == 0:
                size = np.sqrt(mean[0] ** 2 + mean[1] ** 2 + mean[2] ** 2)
                if count < _FEWEST or size <= _ASIDE * look * count:
                    break
                mean /= size
            elif far < outmost and abs(bend) * look < _TURNS * spread:
                is_end[me] = True
                out[me] = -mean


def _shadows(points: np.ndarray, spacing: float, ends: Ends, eye: Eye) -> np.ndarray:
    """Which ends are made by something nearer to the eye that hides how the face goes on."""
    from scipy.spatial import cKDTree

    flat, depth = project(points, eye.place, eye.toward)
    at, deep = project(ends.points + _BESIDE * spacing * ends.out, eye.place, eye.toward)
    width = 1.5 * spacing / max(float(np.median(depth)), 1e-300)
    near = cKDTree(flat).query(at, k=6, distance_upper_bound=width)[1]
    ahead = np.where(near < len(points), depth[np.minimum(near, len(points) - 1)], np.inf).min(axis=1)
    return ahead < deep - _HIDES * spacing


def ends_on(
    a: Ends, b: Ends, motion: RigidMotion, onward: RigidMotion, reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Ends of ``a`` that may be ends of ``b`` within ``reach`` mm once ``motion`` has taken ``a`` to ``b``: their
    places, the places on ``b``, and the way out of the face (k, 3) in which both must be alike, all moved ``onward``.
    """
    k = len(a.points) if len(b.points) else 0
    p, q, n = np.empty((k, 3)), np.empty((k, 3)), np.empty((k, 3))
    if not k:
        return p, q, n
    o = b.nearest
    used = _ends_met(
        a.points,
        a.normals,
        a.out,
        motion.matrix,
        onward.matrix,
        *o.grid,
        b.points,
        b.normals,
        b.out,
        float(reach),
        p,
        q,
        n,
    )
    return p[:used], q[:used], n[:used]


@njit(cache=True, nogil=True)
def _ends_met(
    at, facing, out, m, on, p, order, start, dims, low, cell, b, bn, bo, reach, to_p, to_q, to_n
):  # pragma: no cover - compiled
    used = 0
    x, t, o = np.empty(3), np.empty(3), np.empty(3)
    for i in range(at.shape[0]):
        for k in range(3):
            x[k] = m[k, 0] * at[i, 0] + m[k, 1] * at[i, 1] + m[k, 2] * at[i, 2] + m[k, 3]
        first, _, _, _ = closest(p, start, dims, low, cell, x[0], x[1], x[2], reach)
        if first < 0:
            continue
        j = order[first]
        same, c = 0.0, 0.0
        for k in range(3):
            t[k] = m[k, 0] * facing[i, 0] + m[k, 1] * facing[i, 1] + m[k, 2] * facing[i, 2]
            o[k] = m[k, 0] * out[i, 0] + m[k, 1] * out[i, 1] + m[k, 2] * out[i, 2]
            c += t[k] * bn[j, k]
            same += o[k] * bo[j, k]
        if same <= _SAME_WAY or c <= _FACING:
            continue
        size, along = 0.0, 0.0
        for k in range(3):
            t[k] += bn[j, k]
            o[k] += bo[j, k]
            size += t[k] * t[k]
            along += o[k] * t[k]
        way = 0.0
        for k in range(3):
            o[k] -= along / size * t[k]
            way += o[k] * o[k]
        way = np.sqrt(way)
        for k in range(3):
            to_p[used, k] = on[k, 0] * x[0] + on[k, 1] * x[1] + on[k, 2] * x[2] + on[k, 3]
            to_q[used, k] = on[k, 0] * b[j, 0] + on[k, 1] * b[j, 1] + on[k, 2] * b[j, 2] + on[k, 3]
            to_n[used, k] = (on[k, 0] * o[0] + on[k, 1] * o[1] + on[k, 2] * o[2]) / way
        used += 1
    return used


def going_on(ends: Ends, nearest: Nearest, normals: np.ndarray, spacing: float) -> np.ndarray:
    """Which ends (k,) of one scan another one, by its points and normals, shows to go on."""
    d, j = nearest.query(ends.points + _GOES_ON * spacing * ends.out, spacing)
    facing = np.einsum("ij,ij->i", ends.normals, normals[np.maximum(j, 0)])
    return (j >= 0) & (facing > _FACING)
