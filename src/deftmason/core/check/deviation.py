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
from numba import njit, prange

from ..elements import Cone, Cylinder, Plane, Sphere, Torus
from ..errors import BadArgument
from ..kernel.body import Body
from ..kernel.surfaces import FaceSurface, face_surfaces
from ..kernel.tessellate import Facets, tessellate
from ..progress import Progress, part, silent
from ..scan.topology import facet_neighbours, merge_vertices
from .splines import spline_feet, spline_parameters

__all__ = ["ModelSurface", "Distances"]

_FINEST_MM = 0.0005
_MOST_TRIANGLES = 500_000
_CHUNK = 200_000

_CODES = {Plane: 0, Cylinder: 1, Cone: 2, Sphere: 3, Torus: 4}


@njit(cache=True, parallel=True)
def _closed_form(points, prim, tris, tri_face, code, origin, axis, r1, r2, outward, slack,
                 dist, face, normal, settled, closest, bary):  # pragma: no cover - compiled
    for n in prange(points.shape[0]):
        p = points[n]
        t = prim[n]
        a, b, c = tris[t, 0], tris[t, 1], tris[t, 2]
        ab, ac, ap = b - a, c - a, p - a
        d1, d2 = np.dot(ab, ap), np.dot(ac, ap)
        bp = p - b
        d3, d4 = np.dot(ab, bp), np.dot(ac, bp)
        cp = p - c
        d5, d6 = np.dot(ab, cp), np.dot(ac, cp)
        vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
        v, w = 0.0, 0.0
        if d1 <= 0 and d2 <= 0:
            v, w = 0.0, 0.0
        elif d3 >= 0 and d4 <= d3:
            v, w = 1.0, 0.0
        elif vc <= 0 and d1 >= 0 and d3 <= 0:
            v, w = d1 / max(d1 - d3, 1e-300), 0.0
        elif d6 >= 0 and d5 <= d6:
            v, w = 0.0, 1.0
        elif vb <= 0 and d2 >= 0 and d6 <= 0:
            v, w = 0.0, d2 / max(d2 - d6, 1e-300)
        elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
            w = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-300)
            v = 1.0 - w
        else:
            s = 1.0 / (va + vb + vc)
            v, w = vb * s, vc * s
        q = a + ab * v + ac * w
        bary[n, 0], bary[n, 1], bary[n, 2] = 1 - v - w, v, w
        closest[n] = q
        far = np.sqrt(np.dot(p - q, p - q))
        f = tri_face[t]
        face[n] = f
        dist[n] = far
        k = code[f]
        settled[n] = False
        if k < 0:
            continue
        d = p - origin[f]
        h = np.dot(d, axis[f])
        if k == 0:
            e = h
            g0, g1, g2 = axis[f, 0], axis[f, 1], axis[f, 2]
        elif k == 3:
            rr = np.sqrt(np.dot(d, d))
            e = rr - r1[f]
            s = 1.0 / max(rr, 1e-300)
            g0, g1, g2 = d[0] * s, d[1] * s, d[2] * s
        else:
            x, y, z = d[0] - h * axis[f, 0], d[1] - h * axis[f, 1], d[2] - h * axis[f, 2]
            rho = np.sqrt(x * x + y * y + z * z)
            s = 1.0 / max(rho, 1e-300)
            x, y, z = x * s, y * s, z * s
            if k == 1:
                e = rho - r1[f]
                g0, g1, g2 = x, y, z
            elif k == 2:
                ca, sa = np.cos(r1[f]), np.sin(r1[f])
                e = rho * ca - h * sa
                g0, g1, g2 = x * ca - axis[f, 0] * sa, y * ca - axis[f, 1] * sa, z * ca - axis[f, 2] * sa
            else:
                m = rho - r1[f]
                tube = np.sqrt(m * m + h * h)
                e = tube - r2[f]
                s = 1.0 / max(tube, 1e-300)
                g0, g1, g2 = (x * m + axis[f, 0] * h) * s, (y * m + axis[f, 1] * h) * s, (z * m + axis[f, 2] * h) * s
        o = outward[f]
        normal[n, 0], normal[n, 1], normal[n, 2] = g0 * o, g1 * o, g2 * o
        if abs(abs(e) - far) <= slack:
            dist[n] = e * o
            settled[n] = True


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

    def __init__(self, body: Body):
        import open3d as o3d

        self.body = body
        coarse = tessellate(body, 0.02, 30.0)
        self.deflection = max(_FINEST_MM, 0.02 * len(coarse.faces) / _MOST_TRIANGLES)
        self.facets: Facets = tessellate(body, self.deflection, 30.0)
        self.surfaces: list[FaceSurface] = face_surfaces(body)
        v = self.facets.vertices
        self.centre = (v.min(axis=0) + v.max(axis=0)) / 2
        self._scene = o3d.t.geometry.RaycastingScene()
        self._scene.add_triangles((v - self.centre).astype(np.float32), self.facets.faces.astype(np.uint32))
        self._tris = np.ascontiguousarray(v[self.facets.faces])
        self._tables()
        self._pseudo()
        self._spline_uv: dict[int, np.ndarray] = {}

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
        merged, index = merge_vertices(np.round(self.facets.vertices, 7))
        faces = np.ascontiguousarray(index[self.facets.faces], np.int32)
        t = self._tris
        n = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
        corner = np.zeros((len(merged), 3))
        for k in range(3):
            a, b = t[:, (k + 1) % 3] - t[:, k], t[:, (k + 2) % 3] - t[:, k]
            cosine = np.einsum("ij,ij->i", a, b) / np.maximum(np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-300)
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
            raise BadArgument("An angle limit needs points with normals; use a mesh, or leave the angle out.", field="angle")
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
        _closed_form(p, prim, self._tris, self.facets.face_ids, self._code, self._origin, self._axis, self._r1, self._r2,
                     self._outward, slack, dist, face, normal, settled, closest, bary)
        for f in np.unique(face[~settled]):
            if self._code[f] < 0 and self.surfaces[f].spline is not None:
                self._on_spline(int(f), p, prim, bary, dist, face, normal, settled, slack)
        rest = np.nonzero(~settled)[0]
        if len(rest):
            pseudo = self._pseudo_normals(prim[rest], bary[rest])
            side = np.einsum("ij,ij->i", p[rest] - closest[rest], pseudo)
            dist[rest] = np.where(side < 0, -dist[rest], dist[rest])
            normal[rest] = pseudo / np.maximum(np.linalg.norm(pseudo, axis=1), 1e-300)[:, None]
        out.distance[begin:end], out.face[begin:end], out.normal[begin:end] = dist, face, normal

    def _on_spline(self, f, p, prim, bary, dist, face, normal, settled, slack) -> None:
        s = self.surfaces[f].spline
        owned = self.facets.vertex_faces == f
        if f not in self._spline_uv:
            uv = np.zeros((len(owned), 2))
            uv[owned] = spline_parameters(s, self.facets.vertices[owned])
            self._spline_uv[f] = uv
        ids = np.nonzero((face == f) & ~settled)[0]
        corners = self.facets.faces[prim[ids]]
        start = np.einsum("ik,ikc->ic", bary[ids], self._spline_uv[f][corners])
        foot, n, _ = spline_feet(s, p[ids], start)
        flat = self._flat[prim[ids]]
        n = n * np.sign(np.einsum("ij,ij->i", n, flat))[:, None]
        d = np.linalg.norm(p[ids] - foot, axis=1)
        # The nearer of foot and triangles is right to within the deflection; the foot is exact where they agree.
        ok = np.abs(d - dist[ids]) <= slack
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
