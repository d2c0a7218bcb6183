"""How far is each scan point from the model's true surface, and on which side?

A fine tessellation (within `ModelSurface.deflection`) tells which face is nearest; the distance itself is then taken in
closed form to that face's own surface, or by Newton to its spline. Where the true foot lies beyond the face's border, the
point is nearest to an edge or corner: there the triangles' distance stands (off by no more than the deflection) and
the sign comes from the angle-weighted pseudo-normal.

Bærentzen, Aanæs 2005, "Signed distance computation using the angle weighted pseudonormal", IEEE TVCG 11.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..elements import Cone, Cylinder, Plane, Sphere, Torus
from ..errors import BadArgument
from ..kernel.body import Body
from ..kernel.surfaces import FaceSurface, face_surfaces
from ..kernel.tessellate import edge_polylines, tessellate
from ..progress import Progress, part, silent
from ..scan.topology import facet_neighbours, merge_vertices
from .closedform import CONE, CYLINDER, PLANE, SPHERE, TORUS, measure
from .refine import nearest_on_polylines, refine_triangles
from .splines import spline_feet, spline_grid

__all__ = ["ModelSurface", "Distances"]

_FINEST_MM = 0.0004  # triangles follow the true surface to within this
_COARSE_MM = 0.02  # where refinement starts
_MOST_TRIANGLES = 1_200_000
_CHUNK = 200_000

_CODES = {Plane: PLANE, Cylinder: CYLINDER, Cone: CONE, Sphere: SPHERE, Torus: TORUS}


@dataclass(frozen=True)
class Distances:
    """``distance`` (n,) mm, positive outside, NaN where unanswered; ``face`` (n,) int32 into the body's names, −1 there."""

    distance: np.ndarray
    face: np.ndarray
    normal: np.ndarray = field(repr=False)


class ModelSurface:
    """A body made ready to measure to; make it once, ask it often.

    Attributes
    ----------
    deflection : largest distance in mm between the candidate triangles and the surface: the error bound at edges.
    """

    def __init__(self, body: Body, progress: Progress = silent):
        progress(0.0, "Making the model ready to measure to")
        import open3d as o3d

        self.body = body
        self.surfaces: list[FaceSurface] = face_surfaces(body)
        self._spline_tree: dict[int, tuple] = {}
        self._tables()
        coarse = tessellate(body, _COARSE_MM, 30.0)
        merged, index = merge_vertices(np.round(coarse.vertices, 7))
        borders: dict[tuple[int, int], list[np.ndarray]] = {}
        ids = {n: i for i, n in enumerate(body.face_names)}
        for (first, second, _), line in edge_polylines(body, _FINEST_MM / 2):
            low, high = sorted((ids[first], ids[second]))
            borders.setdefault((low, high), []).append(line)

        def onto_border(low: int, high: int, points: np.ndarray) -> np.ndarray:
            return nearest_on_polylines(points, borders[low, high]) if (low, high) in borders else points

        self.vertices, self.faces, self.face_ids, self.deflection = refine_triangles(
            merged,
            index[coarse.faces],
            coarse.face_ids,
            self._onto_face,
            onto_border,
            _FINEST_MM,
            _MOST_TRIANGLES,
            part(progress, 0.2, 0.7),
        )
        v = self.vertices
        self.centre = (v.min(axis=0) + v.max(axis=0)) / 2
        self._scene = o3d.t.geometry.RaycastingScene()
        self._scene.add_triangles((v - self.centre).astype(np.float32), self.faces.astype(np.uint32))
        self._tris = np.ascontiguousarray(v[self.faces])
        progress(0.9)
        self._pseudo()

    def _onto_face(self, face: int, points: np.ndarray) -> np.ndarray:
        surface = self.surfaces[face]
        if surface.element is not None:
            e = surface.element
            return points - e.distance(points)[:, None] * e.normals(points)
        if surface.spline is not None:
            return self._spline_foot(face, points)[0]
        return points

    def _spline_foot(self, face: int, points: np.ndarray):
        """Feet and normals on a spline face, started from the nearest of a grid of its places."""
        spline = self.surfaces[face].spline
        if face not in self._spline_tree:
            self._spline_tree[face] = spline_grid(spline)
        tree, grid = self._spline_tree[face]
        foot, normal, _ = spline_feet(spline, points, grid[tree.query(points)[1]])
        return foot, normal

    def _tables(self) -> None:
        n = len(self.surfaces)
        self._code = np.full(n, -1, np.int64)
        self._origin, self._axis = np.zeros((n, 3)), np.zeros((n, 3))
        self._r1, self._r2 = np.zeros(n), np.zeros(n)
        self._outward = np.array([s.outward for s in self.surfaces])
        for i, s in enumerate(self.surfaces):
            e = s.element
            if e is None:
                continue
            self._code[i] = _CODES[type(e)]
            if isinstance(e, Plane):
                self._origin[i], self._axis[i] = e.point, e.normal
            elif isinstance(e, Cylinder):
                self._origin[i], self._axis[i], self._r1[i] = e.point, e.direction, e.radius
            elif isinstance(e, Cone):
                self._origin[i], self._axis[i], self._r1[i] = e.apex, e.direction, np.radians(e.half_angle_deg)
            elif isinstance(e, Sphere):
                self._origin[i], self._r1[i] = e.center, e.radius
            else:
                self._origin[i], self._axis[i] = e.center, e.direction
                self._r1[i], self._r2[i] = e.major_radius, e.minor_radius

    def _pseudo(self) -> None:
        """Pseudo-normals of the tessellation's corners and edges, across faces."""
        merged, faces = self.vertices, self.faces
        t = self._tris
        n = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
        corner = np.zeros((len(merged), 3))
        for k in range(3):
            a, b = t[:, (k + 1) % 3] - t[:, k], t[:, (k + 2) % 3] - t[:, k]
            cosine = np.einsum("ij,ij->i", a, b) / np.maximum(
                np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-300
            )
            weighted = n * np.arccos(np.clip(cosine, -1, 1))[:, None]
            for c in range(3):
                corner[:, c] += np.bincount(faces[:, k], weighted[:, c], len(merged))
        mates = facet_neighbours(faces, len(merged))
        self._flat, self._corner, self._merged_faces, self._mates = n, corner, faces, mates

    def distances(
        self,
        points,
        normals=None,
        *,
        reach: float | None = None,
        angle_deg: float | None = None,
        progress: Progress = silent,
    ) -> Distances:
        """Signed distances of points (n, 3) in mm to the true surface.

        Parameters
        ----------
        normals : (n, 3) unit normals of the points, needed for ``angle_deg``.
        reach : points farther than this (mm) are not answered.
        angle_deg : points whose normal turns more than this from the surface's outward normal are not answered.
        """
        points = np.ascontiguousarray(points, float)
        if angle_deg is not None and normals is None:
            raise BadArgument(
                "An angle limit needs points with normals; use a mesh, or leave the angle out.", field="angle"
            )
        n = len(points)
        out = Distances(np.empty(n), np.empty(n, np.int32), np.empty((n, 3)))
        for begin in range(0, n, _CHUNK):
            progress(begin / max(n, 1), f"Measuring {begin:,} of {n:,} points")
            end = min(begin + _CHUNK, n)
            self._measure(points[begin:end], out, begin, end)
        quiet = np.zeros(n, bool)
        if reach is not None:
            quiet |= np.abs(out.distance) > reach
        if angle_deg is not None:
            quiet |= np.einsum("ij,ij->i", np.asarray(normals, float), out.normal) < np.cos(np.radians(angle_deg))
        out.distance[quiet] = np.nan
        out.face[quiet] = -1
        progress(1.0, "Measured")
        return out

    def _measure(self, p: np.ndarray, out: Distances, begin: int, end: int) -> None:
        import open3d as o3d

        near = self._scene.compute_closest_points(o3d.core.Tensor((p - self.centre).astype(np.float32)))
        prim = near["primitive_ids"].numpy().astype(np.int64)
        m = len(p)
        dist, face, normal = np.empty(m), np.empty(m, np.int32), np.zeros((m, 3))
        settled, closest, bary = np.empty(m, np.bool_), np.empty((m, 3)), np.empty((m, 3))
        slack = 2 * self.deflection + 1e-6
        measure(
            p,
            prim,
            self._tris,
            self.face_ids,
            self._code,
            self._origin,
            self._axis,
            self._r1,
            self._r2,
            self._outward,
            slack,
            dist,
            face,
            normal,
            settled,
            closest,
            bary,
        )
        for f in np.unique(face[~settled]):
            if self._code[f] < 0 and self.surfaces[f].spline is not None:
                self._on_spline(int(f), p, prim, dist, face, normal, settled, slack)
        rest = np.nonzero(~settled)[0]
        if len(rest):
            pseudo = self._pseudo_normals(prim[rest], bary[rest])
            side = np.einsum("ij,ij->i", p[rest] - closest[rest], pseudo)
            dist[rest] = np.where(side < 0, -dist[rest], dist[rest])
            normal[rest] = pseudo / np.maximum(np.linalg.norm(pseudo, axis=1), 1e-300)[:, None]
        out.distance[begin:end], out.face[begin:end], out.normal[begin:end] = dist, face, normal

    def _on_spline(self, f, p, prim, dist, face, normal, settled, slack) -> None:
        ids = np.nonzero((face == f) & ~settled)[0]
        foot, n = self._spline_foot(f, p[ids])
        flat = self._flat[prim[ids]]
        n = n * np.sign(np.einsum("ij,ij->i", n, flat))[:, None]
        d = np.linalg.norm(p[ids] - foot, axis=1)
        # The nearer of foot and triangles is right to within the deflection; the foot is exact where they agree.
        # A foot on the spline's own border is an edge's, not a foot square to the surface: the edge rule takes it.
        square = np.abs(np.einsum("ij,ij->i", p[ids] - foot, n)) >= d - 1e-5
        ok = (np.abs(d - dist[ids]) <= slack) & square
        use = ids[ok]
        side = np.einsum("ij,ij->i", (p[ids] - foot)[ok], n[ok])
        dist[use] = np.where(side < 0, -d[ok], d[ok])
        normal[use] = n[ok]
        settled[use] = True

    def _pseudo_normals(self, prim: np.ndarray, bary: np.ndarray) -> np.ndarray:
        out = self._flat[prim].copy()
        eps = 1e-7
        for k in range(3):
            on_edge = bary[:, (k + 2) % 3] < eps  # opposite corner has no share: on the edge k, k + 1
            mate = self._mates[prim, k]
            use = on_edge & (mate >= 0)
            out[use] = self._flat[prim[use]] + self._flat[mate[use]]
        for k in range(3):
            use = bary[:, k] > 1 - eps
            out[use] = self._corner[self._merged_faces[prim[use], k]]
        return out
