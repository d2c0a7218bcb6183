"""How far is each scan point from the model's true surface, and on which side?

A body is made ready once: facets, each with the bound by which its patch departs from it, a tree over them, and the
exact surfaces
and border curves behind (see `nearest`). What is told is the distance to those, to about a millionth of a part's size,
however coarse the facets are.

Bærentzen, Aanæs 2005, "Signed distance computation using the angle weighted pseudonormal", IEEE TVCG 11 (the sign at
corners).
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..elements import Cone, Cylinder, Plane, Sphere, Torus
from ..kernel.body import Body
from ..kernel.borders import SPLINE, Bordered, bordered_facets, face_areas
from ..kernel.surfaces import FaceSurface, face_surfaces
from ..progress import Progress, silent
from .answers import Distances, Spread, within_limits
from .boxtree import BoxTree
from .nearest import CONE, CYLINDER, FACETS_ONLY, ON_SPLINE, PLANE, SPHERE, TORUS, nearest_places, on_edge
from .splines import curve_at, packed, scratch_of, surface_foot, surface_places

__all__ = ["ModelSurface", "Distances"]

_COARSE = 2e-4  # of the body's diagonal: how far facets may depart from the surface
_FINE = 4e-6  # the same where a surface has no exact form and its facets are all there is
_TURN_DEG = 15.0
_SAFE = 2.0  # times the departure measured at a few places of a facet
_TORN = 0.02  # of a face's area that its facets may miss: chords of the coarsest arcs miss a hundredth
_EPS = 1e-9  # of the diagonal: two places this near are one
_CHUNK = 100_000

_CODES = {Plane: PLANE, Cylinder: CYLINDER, Cone: CONE, Sphere: SPHERE, Torus: TORUS}


def _walk(points: np.ndarray) -> np.ndarray:
    """An order (n,) in which neighbours follow each other: along a Z curve through 64 cells a side (Morton 1966, *A
    computer oriented geodetic data base*), so that each point is sought where the one before was found.
    """
    if len(points) < 1000:
        return np.arange(len(points))
    low, high = (np.array([pick(points[:, c]) for c in range(3)]) for pick in (np.min, np.max))
    return _counted(_cells(points, low, 64 / np.maximum(high - low, 1e-300)), np.zeros((1 << 18) + 1, np.int64))


@njit(cache=True, parallel=True)
def _cells(points, low, scale):  # pragma: no cover - compiled
    key = np.empty(len(points), np.int32)
    for i in prange(len(points)):
        k = 0
        for axis in range(3):
            cell = min(int((points[i, axis] - low[axis]) * scale[axis]), 63)
            for bit in range(6):
                k |= ((cell >> bit) & 1) << (3 * bit + axis)
        key[i] = k
    return key


@njit(cache=True)
def _counted(key, first):  # pragma: no cover - compiled
    """Order (n,) by ``key``, those alike as they came; ``first`` is room for a count of each key and one more."""
    for k in key:
        first[k + 1] += 1
    for k in range(1, len(first)):
        first[k] += first[k - 1]
    order = np.empty(len(key), np.int64)
    for i in range(len(key)):
        order[first[key[i]]] = i
        first[key[i]] += 1
    return order


class ModelSurface:
    """A body made ready to measure to; make it once, ask it often.

    Attributes
    ----------
    vertices, faces, face_ids : facets of the body, (n, 3) mm, (m, 3), (m,).
    deflection : largest departure of a facet from its patch, mm.
    areas : (faces,) true area of each face, mm².
    unsure : names of faces that could not be covered by facets; distances near them may be to another face.
    """

    def __init__(self, body: Body, progress: Progress = silent):
        progress(0.0, "Making the model ready to measure to")
        self.body = body
        self.surfaces: list[FaceSurface] = face_surfaces(body)
        self._tables()
        from ..kernel.tessellate import diagonal_of

        self.size = diagonal_of(body)
        fine = (self._code == FACETS_ONLY).any()
        self.areas = face_areas(body)
        self.names, self.kinds = [s.name for s in self.surfaces], [s.kind for s in self.surfaces]
        for finer in (1.0, 0.2):
            made = bordered_facets(body, finer * (_FINE if fine else _COARSE) * self.size, finer * _TURN_DEG)
            self.unsure = self._torn(made)
            if not self.unsure:
                break
        progress(0.5)
        self._facets(made)
        progress(1.0)

    @property
    def spread(self) -> Spread:
        return Spread(self._tris, self.face_ids.astype(np.int64), self.areas)

    def warnings(self) -> list[str]:
        """What a person should know before trusting the distances."""
        if not self.unsure:
            return []
        names = ", ".join(self.unsure[:5]) + (f" and {len(self.unsure) - 5} more" if len(self.unsure) > 5 else "")
        return [
            f"The model is damaged at {names}: its outline does not close there. Distances near may "
            "be to another face; export the model again."
        ]

    def _torn(self, made: Bordered) -> list[str]:
        """Names of faces whose facets do not cover them: a broken outline, as damaged files have."""
        f = made.facets
        t = f.vertices[f.faces]
        each = 0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1)
        got = np.bincount(f.face_ids, each, len(self.areas))
        bad = np.abs(got - self.areas) > _TORN * self.areas + 1e-7 * self.size**2
        return [self.surfaces[i].name for i in np.nonzero(bad)[0]]

    def _tables(self) -> None:
        n = len(self.surfaces)
        self._code = np.full(n, FACETS_ONLY, np.int64)
        self._origin, self._axis = np.zeros((n, 3)), np.zeros((n, 3))
        self._r1, self._r2 = np.zeros(n), np.zeros(n)
        self._outward = np.array([s.outward for s in self.surfaces])
        splines = []
        for i, s in enumerate(self.surfaces):
            e = s.element
            b = s.spline if e is None else None
            splines.append(None if b is None else (b.poles, [b.u_knots, b.v_knots], [b.u_degree, b.v_degree]))
            if b is not None:
                self._code[i] = ON_SPLINE
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
        self._s_poles, self._s_knots, self._s_table = packed(splines)
        self._s_side = np.ones(n)

    def _facets(self, made: Bordered) -> None:
        """Facets with departures, normals, borders and mates, in the order of the tree."""
        f = made.facets
        uv, normals = self._parameters(made)
        tris = f.vertices[f.faces]
        par, e_tables = self._edges(made)
        err, gap = self._departures(f, tris, uv, made, par, e_tables)
        tree = BoxTree.of(tris, err)
        o = tree.order
        self.vertices, self.faces, self.face_ids = (
            f.vertices,
            np.ascontiguousarray(f.faces[o]),
            np.ascontiguousarray(f.face_ids[o]),
        )
        self._tris, self._err, self._uv = (np.ascontiguousarray(x[o]) for x in (tris, err, uv[f.faces]))
        self._edge, self._gap, self._par = (np.ascontiguousarray(x[o]) for x in (made.edge, gap, par))
        self._normal = np.ascontiguousarray(normals[f.faces][o])
        self.deflection = float(err.max())
        self._tree, self._e_tables = tree, e_tables
        self._join(made, o)

    def _parameters(self, made: Bordered) -> tuple[np.ndarray, np.ndarray]:
        """Parameters (n, 2) of the nodes on their spline and outward normals (n, 3) of their faces there."""
        f = made.facets
        uv, normals = np.array(f.uv), np.zeros_like(f.vertices)
        room = scratch_of()
        flat = np.cross(
            f.vertices[f.faces[:, 1]] - f.vertices[f.faces[:, 0]], f.vertices[f.faces[:, 2]] - f.vertices[f.faces[:, 0]]
        )
        for i, s in enumerate(self.surfaces):
            mine = np.nonzero(f.vertex_faces == i)[0]
            tri = np.nonzero(f.face_ids == i)[0]
            if not len(mine):
                continue
            around = np.zeros((len(mine), 3))
            for k in range(3):
                np.add.at(around, f.faces[tri, k] - mine[0], flat[tri])
            if s.element is not None:
                normals[mine] = s.element.normals(f.vertices[mine]) * s.outward
                lost = ~np.isfinite(normals[mine]).all(axis=1) | (np.linalg.norm(normals[mine], axis=1) < 0.5)
            elif self._code[i] == ON_SPLINE:
                at, n = np.zeros((len(mine), 3)), np.zeros((len(mine), 3))
                row = self._s_table[i]
                surface_places(self._s_poles, self._s_knots, row, uv[mine], at, n, room)
                if np.linalg.norm(at - f.vertices[mine], axis=1).max() > 1e-5 * self.size:
                    uv[mine] = self._found(i, f.vertices[mine])  # the spline has parameters of its own
                    surface_places(self._s_poles, self._s_knots, row, uv[mine], at, n, room)
                self._s_side[i] = 1.0 if np.einsum("ij,ij->", n, around) >= 0 else -1.0
                normals[mine] = n * self._s_side[i]
                lost = np.linalg.norm(n, axis=1) < 0.5
            else:
                lost = np.ones(len(mine), bool)
            around /= np.maximum(np.linalg.norm(around, axis=1), 1e-300)[:, None]
            normals[mine[lost]] = around[lost]
        return uv, normals

    def _found(self, i: int, points: np.ndarray) -> np.ndarray:
        """Parameters of places that lie on a spline, from the nearest of a grid of its own."""
        from scipy.spatial import cKDTree

        s, row, room = self.surfaces[i].spline, self._s_table[i], scratch_of()
        assert s is not None

        def steps(knots) -> np.ndarray:
            k = np.unique(knots)
            each = max(4, min(17, 200 // max(len(k) - 1, 1)))
            return np.unique(np.concatenate([np.linspace(a, b, each) for a, b in zip(k[:-1], k[1:])]))

        grid = np.stack(np.meshgrid(steps(s.u_knots), steps(s.v_knots), indexing="ij"), -1).reshape(-1, 2)
        at, n, deriv = np.zeros((len(grid), 3)), np.zeros((len(grid), 3)), np.zeros((6, 3))
        surface_places(self._s_poles, self._s_knots, row, grid, at, n, room)
        out = grid[cKDTree(at).query(points)[1]]
        for k, p in enumerate(points):
            out[k] = surface_foot(*p, self._s_poles, self._s_knots, row, *out[k], deriv, room)[:2]
        return out

    def _edges(self, made: Bordered):
        """Parameters (m, 3, 2) of each facet's corners on the border they end, and the tables of all border curves."""
        count = len(made.curves)
        code = np.array([c.code for c in made.curves], np.int64).reshape(count)
        frame = np.array([[c.origin, c.x, c.y] for c in made.curves]).reshape(count, 3, 3)
        size = np.array([[c.radius, c.low, c.high] for c in made.curves]).reshape(count, 3)
        splines = [(c.poles, [c.knots], [c.degree]) if c.code == SPLINE else None for c in made.curves]
        poles, knots, table = packed(splines)  # type: ignore[arg-type]
        tables = code, frame, size, poles, knots, table
        f, par = made.facets, np.zeros((*made.edge.shape, 2))
        room, out = scratch_of(), np.zeros((3, 3))
        at = [
            self._along(e, f.vertices[n[0]], tables, room, out) if n and code[e] <= SPLINE else None
            for e, n in enumerate(made.nodes)
        ]
        start = np.zeros(count + 1, np.int64)
        np.cumsum([0 if a is None else len(a) for a in at], out=start[1:])
        flat = np.concatenate([np.zeros(0), *(a for a in at if a is not None)])
        first = np.concatenate([np.zeros(0, np.int64), *(n[0] for n, a in zip(made.nodes, at) if a is not None)])
        t, k = np.nonzero(made.edge >= 0)
        j = start[made.edge[t, k]] + made.part[t, k]
        # The side runs with the edge or against it.
        p, q = f.vertices[f.faces[t, k]], f.vertices[f.faces[t, (k + 1) % 3]]
        near, far = f.vertices[first[j]], f.vertices[first[j + 1]]
        with_it = np.linalg.norm(p - near, axis=1) + np.linalg.norm(q - far, axis=1) <= np.linalg.norm(
            p - far, axis=1
        ) + np.linalg.norm(q - near, axis=1)
        par[t, k, 0], par[t, k, 1] = np.where(with_it, flat[j], flat[j + 1]), np.where(with_it, flat[j + 1], flat[j])
        return par, tables

    @staticmethod
    def _along(e: int, places: np.ndarray, tables, room, out) -> np.ndarray:
        """Parameters of an edge's nodes in order along it: its ends at both ends, the nearest in between."""
        code, _, size, poles, knots, table = tables
        low, high = size[e, 1:]
        at = np.linspace(low, high, len(places))
        if code[e] == SPLINE:
            tries = np.linspace(low, high, max(24, 4 * len(places)))
            on = np.empty((len(tries), 3))
            for q, u in enumerate(tries):
                curve_at(poles, knots, table[e], u, out, room)
                on[q] = out[0]
        for m in range(1, len(places) - 1):
            near = tries[np.argmin(((on - places[m]) ** 2).sum(axis=1))] if code[e] == SPLINE else at[m]
            at[m] = on_edge(*places[m], e, near, *tables, out, room)
        # Nodes may be listed against the edge's own direction.
        if len(at) == 2:
            against = on_edge(*places[0], e, low, *tables, out, room) > on_edge(*places[1], e, high, *tables, out, room)
        else:
            against = (
                float(np.median(np.diff(at[1:-1]))) < 0
                if len(at) > 3
                else bool(on_edge(*places[0], e, at[1], *tables, out, room) > at[1])
            )
        if against:
            at[0], at[-1] = high, low
        return at

    def _departures(self, f, tris, uv, made: Bordered, par, e_tables) -> tuple[np.ndarray, np.ndarray]:
        """A bound (m,) on how far each facet's patch lies from it, and (m, 3) its sides from their border curves, from
        what is measured at a few places.
        """
        share = np.array([[4, 1, 1], [1, 4, 1], [1, 1, 4], [3, 3, 0], [0, 3, 3], [3, 0, 3], [2, 2, 2]]) / 6
        err, gap = np.zeros(len(tris)), np.zeros((len(tris), 3))
        flat = np.cross(tris[:, 1] - tris[:, 0], tris[:, 2] - tris[:, 0])
        flat /= np.maximum(np.linalg.norm(flat, axis=1), 1e-300)[:, None]
        room = scratch_of()
        for i, s in enumerate(self.surfaces):
            mine = np.nonzero(f.face_ids == i)[0]
            if not len(mine):
                continue
            for w in share:
                p = np.einsum("k,mkc->mc", w, tris[mine])
                if s.element is not None:
                    off = np.abs(s.element.distance(p))
                elif self._code[i] == ON_SPLINE:
                    at, n = np.zeros_like(p), np.zeros_like(p)
                    surface_places(
                        self._s_poles,
                        self._s_knots,
                        self._s_table[i],
                        np.einsum("k,mkc->mc", w, uv[f.faces[mine]]),
                        at,
                        n,
                        room,
                    )
                    long = np.linalg.norm(np.ptp(tris[mine], axis=1), axis=1)
                    # Across the facet; along it the surface's parameters run unevenly, which is no departure. A jump is
                    # a seam's.
                    off = np.abs(np.einsum("ij,ij->i", at - p, flat[mine]))
                    off = np.where(np.linalg.norm(at - p, axis=1) < long, off, 0.1 * long)
                else:
                    off = np.full(len(mine), _FINE * self.size)
                err[mine] = np.maximum(err[mine], _SAFE * off)
        code, frame, size, poles, knots, table = e_tables
        out = np.zeros((3, 3))
        for t, k in np.argwhere(made.edge >= 0):
            e = made.edge[t, k]
            if code[e] == 0 or code[e] > SPLINE:
                continue
            p = 0.5 * (tris[t, k] + tris[t, (k + 1) % 3])
            on_edge(*p, e, 0.5 * par[t, k].sum(), *e_tables, out, room)
            gap[t, k] = _SAFE * float(np.linalg.norm(out[0] - p))
        return np.maximum(err, gap.max(axis=1)), gap

    def _join(self, made: Bordered, o: np.ndarray) -> None:
        """What lies across each border, which nodes are corners of the body, and the pseudo-normals there."""
        f = made.facets
        edge, part = made.edge[o], made.part[o]
        t, k = np.nonzero(edge >= 0)
        key = edge[t, k] * (part.max(initial=0) + 1) + part[t, k]
        s = np.argsort(key, kind="stable")
        pair = np.nonzero(key[s][:-1] == key[s][1:])[0]
        side = 3 * t + k
        mate = np.full(3 * len(o), -1, np.int64)
        mate[side[s[pair]]], mate[side[s[pair + 1]]] = side[s[pair + 1]], side[s[pair]]
        self._mate = mate.reshape(-1, 3)
        # Nodes at one place are one, across faces.
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components

        n = len(f.vertices)
        links = [np.zeros((0, 2), np.int64)]
        for nodes, curve in zip(made.nodes, made.curves):
            for own in nodes:
                links.append(
                    np.column_stack([nodes[0], own]) if len(own) == len(nodes[0]) else np.zeros((0, 2), np.int64)
                )
                closed = np.linalg.norm(f.vertices[own[0]] - f.vertices[own[-1]]) <= _EPS * self.size
                if closed or curve.code > SPLINE:
                    links.append(
                        np.column_stack([np.full(len(own) - 1, own[0]), own[1:]])[
                            slice(None) if curve.code > SPLINE else slice(-1, None)
                        ]
                    )
        a, b = np.concatenate(links).T
        count, label = connected_components(coo_matrix((np.ones(len(a)), (a, b)), (n, n)), directed=False)
        self._node = label[self.faces].astype(np.int64)
        is_corner = np.zeros(count, bool)
        for nodes in made.nodes:
            for own in nodes:
                is_corner[label[own[[0, -1]]]] = True
        self._is_corner = is_corner
        tri = self._tris
        flat = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
        size = np.linalg.norm(flat, axis=1)
        flat /= np.maximum(size, 1e-300)[:, None]
        corner = np.zeros((count, 3))
        for c in range(3):
            u, w = tri[:, (c + 1) % 3] - tri[:, c], tri[:, (c + 2) % 3] - tri[:, c]
            angle = np.arctan2(size, np.einsum("ij,ij->i", u, w))
            np.add.at(corner, self._node[:, c], flat * angle[:, None])
        self._corner_normal = corner

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
        angle_deg : points whose normal turns more than this from the surface's outward normal (at an edge: from the
            nearer of its two faces') are not answered.
        """
        points = np.ascontiguousarray(points, float)
        n = len(points)
        out = Distances.room(n)
        order = _walk(points)
        for begin in range(0, n, _CHUNK):
            progress(begin / max(n, 1), f"Measuring {begin:,} of {n:,} points")
            some = order[begin : begin + _CHUNK]
            here = Distances.room(len(some))
            self._measure(points[some], here, slice(0, len(some)))
            out.distance[some], out.face[some], out.exact[some] = here.distance, here.face, here.exact
            out.normal[some], out.other_normal[some] = here.normal, here.other_normal
        progress(1.0, "Measured")
        return within_limits(out, normals, reach, angle_deg)

    def _measure(self, points: np.ndarray, out: Distances, s: slice) -> None:
        t = self._tree
        nearest_places(
            points[s],
            self._tris,
            self._err,
            self.face_ids.astype(np.int64),
            self._uv,
            self._edge,
            self._gap,
            self._par,
            self._normal,
            self._mate,
            self._node,
            self._is_corner,
            self._corner_normal,
            t.low,
            t.high,
            t.slack,
            t.left,
            t.begin,
            t.count,
            self._code,
            self._origin,
            self._axis,
            self._r1,
            self._r2,
            self._outward,
            self._s_poles,
            self._s_knots,
            self._s_table,
            self._s_side,
            *self._e_tables,
            _EPS * self.size,
            out.distance[s],
            out.face[s],
            out.normal[s],
            out.other_normal[s],
            out.exact[s],
        )
