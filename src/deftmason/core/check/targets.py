"""What a scan can be measured to besides a body: another scan's facets, a fitted element, a sketch's walls.

Each answers like `ModelSurface`: signed distances, the part that answered, its normal. A scan is answered in double
precision by its nearest facet; the sign is that of the facet, at its sides and corners of the pseudo-normal
(Bærentzen, Aanæs 2005).
"""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numba import njit, prange

from ..elements import Element
from ..errors import BadArgument
from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from ..scan.onfacet import on_triangle
from .answers import Distances, Spread, within_limits
from .boxtree import DEEP, BoxTree, gather

__all__ = ["ElementSurface", "MeshSurface", "Target", "WallsSurface"]

_ROOM = 64  # facets that may be equally near
_CHUNK = 200_000
_SIDE = 1e-9  # share of a corner below which a place lies on the side across from it


class Target(Protocol):
    """What can be measured to. ``names`` and ``kinds`` tell its parts; ``spread`` its area, where it has one."""

    names: list[str]
    kinds: list[str]
    size: float

    @property
    def spread(self) -> Spread | None: ...
    def distances(
        self,
        points,
        normals=None,
        *,
        reach: float | None = None,
        angle_deg: float | None = None,
        progress: Progress = silent,
    ) -> Distances: ...
    def warnings(self) -> list[str]: ...


def _empty(n: int) -> Distances:
    return Distances(np.full(n, np.nan), np.full(n, -1, np.int32), np.zeros((n, 3)), np.zeros((n, 3)), np.ones(n, bool))


class MeshSurface:
    """Another scan, made ready to measure to: one part, named ``name``."""

    def __init__(self, mesh: TriMesh, name: str, progress: Progress = silent):
        progress(0.0, "Making the other scan ready to measure to")
        self.names, self.kinds = [name], ["scan"]
        self.size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
        triangles = np.ascontiguousarray(mesh.vertices[mesh.faces], float)
        self._tree = BoxTree.of(triangles, np.zeros(len(triangles)))
        o = self._tree.order
        self._tris = np.ascontiguousarray(triangles[o])
        self._flat = np.ascontiguousarray(mesh.normals[o], float)
        self._corner = np.ascontiguousarray(mesh.angle_normals[mesh.faces][o], float)
        self._across = _side_normals(mesh.faces, np.asarray(mesh.normals, float))[o]
        self._areas = mesh.areas[o]
        progress(1.0)

    @property
    def spread(self) -> Spread:
        return Spread(self._tris, np.zeros(len(self._tris), np.int64), np.array([float(self._areas.sum())]))

    def warnings(self) -> list[str]:
        return []

    def distances(self, points, normals=None, *, reach=None, angle_deg=None, progress: Progress = silent) -> Distances:
        """As `ModelSurface.distances`."""
        points = np.ascontiguousarray(points, float)
        out, t = _empty(len(points)), self._tree
        for begin in range(0, len(points), _CHUNK):
            progress(begin / max(len(points), 1), f"Measuring {begin:,} of {len(points):,} points")
            s = slice(begin, begin + _CHUNK)
            _nearest(
                points[s], self._tris, self._flat, self._across, self._corner, t.low, t.high, t.slack, t.left,
                t.begin, t.count, 1e-12 * self.size, out.distance[s], out.normal[s],
            )  # fmt: skip
        out.face[:] = 0
        out.other_normal[:] = out.normal
        return within_limits(out, normals, reach, angle_deg)


def _side_normals(faces: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """(m, 3, 3): the sum of both facets' normals at the side from each corner to the next."""
    m = len(faces)
    sides = np.stack([faces, faces[:, [1, 2, 0]]], axis=-1).reshape(-1, 2)
    key = np.sort(sides, axis=1).astype(np.int64)
    _, which = np.unique(key[:, 0] * (int(faces.max(initial=0)) + 1) + key[:, 1], return_inverse=True)
    each = np.repeat(normals, 3, axis=0)
    total = np.stack([np.bincount(which, each[:, c]) for c in range(3)], axis=-1)
    return np.ascontiguousarray(total[which].reshape(m, 3, 3))


@njit(cache=True, parallel=True)
def _nearest(
    points, tris, flat, across, corner, low, high, slack, left, begin, count, eps, distance, normal
):  # pragma: no cover - compiled
    blocks = (len(points) + 511) // 512
    for b in prange(blocks):
        stack, found, share = np.empty(DEEP, np.int64), np.empty(_ROOM, np.int64), np.empty((_ROOM, 3))
        none = np.zeros(len(tris))
        f = np.int64(-1)
        for i in range(512 * b, min(512 * (b + 1), len(points))):
            px, py, pz = points[i, 0], points[i, 1], points[i, 2]
            n, _ = gather(px, py, pz, tris, none, low, high, slack, left, begin, count, eps, stack, found, share, f)
            best, k = np.inf, -1
            for j in range(n):
                if share[j, 2] < best:
                    best, k = share[j, 2], j
            f = found[k]
            v, w, d = on_triangle(px, py, pz, tris[f])
            u = 1.0 - v - w
            q = u * tris[f, 0] + v * tris[f, 1] + w * tris[f, 2]
            if u > 1.0 - _SIDE:
                g = corner[f, 0]
            elif v > 1.0 - _SIDE:
                g = corner[f, 1]
            elif w > 1.0 - _SIDE:
                g = corner[f, 2]
            elif w < _SIDE:
                g = across[f, 0]
            elif u < _SIDE:
                g = across[f, 1]
            elif v < _SIDE:
                g = across[f, 2]
            else:
                g = flat[f]
            dx, dy, dz = px - q[0], py - q[1], pz - q[2]
            side = dx * g[0] + dy * g[1] + dz * g[2]
            distance[i] = d if side >= 0 else -d
            for c in range(3):
                normal[i, c] = flat[f, c]


class ElementSurface:
    """A fitted element, without end: its own positive side is out."""

    def __init__(self, element: Element, name: str, size: float):
        self.names, self.kinds, self.size = [name], [element.kind], size
        self._element = element
        self.spread: Spread | None = None

    def warnings(self) -> list[str]:
        return []

    def distances(self, points, normals=None, *, reach=None, angle_deg=None, progress: Progress = silent) -> Distances:
        """As `ModelSurface.distances`; a plane has two sides to face, so a point turned the other way is answered."""
        points = np.asarray(points, float)
        out = _empty(len(points))
        out.distance[:] = self._element.distance(points)
        try:
            out.normal[:] = self._element.normals(points)
        except NotImplementedError:  # lines, circles and points have no outside
            feet = self._element.feet(points)
            away = np.linalg.norm(points - feet, axis=1)
            out.normal[:] = (points - feet) / np.maximum(away, 1e-300)[:, None]
            angle_deg = None
        out.other_normal[:] = -out.normal  # a hole's wall faces its axis, a shaft's faces away
        out.face[:] = 0
        return within_limits(out, normals, reach, angle_deg)


class WallsSurface:
    """A sketch's outline as walls square to its plane: what a scan shows beside the plane, within the reach of it.

    Parameters
    ----------
    geometry : entities as a sketch tells them (lines, arcs, circles, ellipses, splines), in the plane's mm.
    origin, x, y : (3,) the plane in the coordinates of the points.
    depth : mm above and below the plane that are asked.
    """

    def __init__(self, geometry: list[dict], origin, x, y, depth: float, size: float):
        from ..sketch.curve import Curve

        self._curves = [Curve(e) for e in geometry if e["kind"] != "point"]
        self.names = [str(e["id"]) for e in geometry if e["kind"] != "point"]
        self.kinds = [str(e["kind"]) for e in geometry if e["kind"] != "point"]
        if not self._curves:
            raise BadArgument("The sketch has no lines to measure to; draw some first.", field="body")
        self._origin, self._x, self._y = (np.asarray(v, float) for v in (origin, x, y))
        self._z, self._depth, self.size = np.cross(self._x, self._y), depth, size
        self.spread: Spread | None = None

    def warnings(self) -> list[str]:
        return []

    def distances(self, points, normals=None, *, reach=None, angle_deg=None, progress: Progress = silent) -> Distances:
        """As `ModelSurface.distances`; a place is proud where its own normal points away from the line."""
        off = np.asarray(points, float) - self._origin
        out = _empty(len(off))
        near = np.flatnonzero(np.abs(off @ self._z) <= self._depth)
        if normals is not None:
            near = near[np.abs(np.asarray(normals, float)[near] @ self._z) < np.sin(np.radians(angle_deg or 60.0))]
        if not len(near):
            return out
        uv = np.column_stack([off[near] @ self._x, off[near] @ self._y])
        best = np.full(len(near), np.inf)
        for k, c in enumerate(self._curves):
            at, along = c.at(c.nearest(uv)), c.along(c.nearest(uv))
            away = np.linalg.norm(uv - at, axis=1)
            won = away < best
            best = np.where(won, away, best)
            normal = np.column_stack([-along[:, 1], along[:, 0]]) / np.maximum(np.hypot(*along.T), 1e-300)[:, None]
            out.face[near[won]] = k
            out.normal[near[won]] = (normal[:, :1] * self._x + normal[:, 1:] * self._y)[won]
            out.distance[near[won]] = np.einsum("ij,ij->i", uv - at, normal)[won]
        if normals is not None:
            inward = np.einsum("ij,ij->i", np.asarray(normals, float)[near], out.normal[near]) < 0
            out.distance[near[inward]] *= -1
            out.normal[near[inward]] *= -1
        out.other_normal[:] = out.normal
        return within_limits(out, normals, reach, angle_deg)
