"""Cut a scan by planes, fast enough to drag one through it.

Facets are counted into bins by their lowest height along the cutting direction, so the next cut along the same
direction touches only the facets near it. Loops are chained by walking from facet to neighbouring facet.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..elements import perpendicular_pair, unit
from .index import ScanIndex

__all__ = ["Section", "SectionPlane", "SectionCutter", "cut_section"]

_BINS = 4096
_CREASE_COS = 0.85
_SPAN = 6  # bins a facet may cover and still be found through its lowest one


@dataclass(frozen=True)
class SectionPlane:
    """A plane with its paper directions: ``origin``, ``normal``, ``u`` (3,) in mm; v = normal × u."""

    origin: np.ndarray
    normal: np.ndarray
    u: np.ndarray

    @staticmethod
    def at(origin, normal, u=None) -> SectionPlane:
        n = unit(normal, field="normal")
        if u is None:
            u = perpendicular_pair(n)[0]
        u = np.asarray(u, float) - (np.asarray(u, float) @ n) * n
        return SectionPlane(np.asarray(origin, float), n, unit(u))

    @property
    def v(self) -> np.ndarray:
        return np.cross(self.normal, self.u)

    def to_paper(self, points) -> np.ndarray:
        d = np.asarray(points, float) - self.origin
        return np.stack([d @ self.u, d @ self.v], axis=-1)

    def to_space(self, uv) -> np.ndarray:
        uv = np.asarray(uv, float)
        return self.origin + uv[..., :1] * self.u + uv[..., 1:] * self.v


@dataclass(frozen=True)
class Section:
    """Loops of a cut. ``points`` (n, 3) mm; loop i is points[starts[i]:starts[i+1]]; ``closed`` (k,) bool.

    Point j lies on the edge between vertices ``ends[j]``, at ``shares[j]`` of the way.
    """

    points: np.ndarray
    starts: np.ndarray
    closed: np.ndarray
    ends: np.ndarray
    shares: np.ndarray

    def lifted(self, index: ScanIndex) -> Section:
        """The same loops on the smooth surface the facets stand for, not on their chords.

        A point on an edge moves towards the tangent planes at the edge's two vertices, halfway (Boubekeur, Alexa 2008,
        "Phong tessellation"; one half is exact to second order on a circle), so that arcs are not measured too tight.
        Edges across a crease are left alone.
        """
        v, n = index.mesh.vertices, index.mesh.vertex_normals
        a, b = self.ends[:, 0], self.ends[:, 1]
        na, nb = n[a], n[b]
        t = self.shares[:, None]
        p = self.points
        to_a = p - np.einsum("ij,ij->i", p - v[a], na)[:, None] * na
        to_b = p - np.einsum("ij,ij->i", p - v[b], nb)[:, None] * nb
        move = 0.5 * ((1 - t) * to_a + t * to_b - p)
        smooth = np.einsum("ij,ij->i", na, nb) > _CREASE_COS
        return Section(np.where(smooth[:, None], p + move, p), self.starts, self.closed, self.ends, self.shares)

    def loops(self):
        for i in range(len(self.closed)):
            yield self.points[self.starts[i] : self.starts[i + 1]], bool(self.closed[i])


@njit(cache=True)
def _bin_facets(h, faces, low, scale, bins, span):  # pragma: no cover - compiled
    m = faces.shape[0]
    which = np.empty(m, np.int32)
    count = np.zeros(bins + 2, np.int32)
    for f in range(m):
        a, b, c = h[faces[f, 0]], h[faces[f, 1]], h[faces[f, 2]]
        lo, hi = min(a, b, c), max(a, b, c)
        k = np.int32((lo - low) * scale)
        if np.int32((hi - low) * scale) - k > span:
            k = np.int32(bins)  # long facets: looked at every time
        which[f] = k
        count[k + 1] += 1
    for k in range(bins + 1):
        count[k + 1] += count[k]
    fill = count[:-1].copy()
    order = np.empty(m, np.int32)
    for f in range(m):
        k = which[f]
        order[fill[k]] = f
        fill[k] += 1
    return order, count


@njit(cache=True)
def _crossing(h, faces, z, order, begin, end, out, n):  # pragma: no cover - compiled
    for i in range(begin, end):
        f = order[i]
        a, b, c = h[faces[f, 0]] > z, h[faces[f, 1]] > z, h[faces[f, 2]] > z
        if a != b or b != c:
            out[n] = f
            n += 1
    return n


@njit(cache=True)
def _chain(h, faces, neighbours, vertices, z, hits, stamp, mark):  # pragma: no cover - compiled
    n = len(hits)
    points = np.empty((2 * n + 2, 6))
    starts = np.empty(n + 1, np.int64)
    closed = np.empty(n, np.bool_)
    loops, at = 0, 0
    back = np.empty((n + 2, 6))
    for i in range(n):
        if stamp[hits[i]] == mark:
            continue
        starts[loops] = at
        begin = hits[i]
        is_closed = False
        for side in range(2):
            f = begin
            nb = 0
            while True:
                stamp[f] = mark
                # Walking so that the higher side is on the left leaves through the edge that goes down.
                out_k = -1
                for k in range(3):
                    a, b = h[faces[f, k]] > z, h[faces[f, (k + 1) % 3]] > z
                    if (a and not b and side == 0) or (b and not a and side == 1):
                        out_k = k
                va, vb = faces[f, out_k], faces[f, (out_k + 1) % 3]
                if va > vb:  # the same arithmetic from both sides of an edge
                    va, vb = vb, va
                t = (z - h[va]) / (h[vb] - h[va])
                x = vertices[va, 0] + t * (vertices[vb, 0] - vertices[va, 0])
                y = vertices[va, 1] + t * (vertices[vb, 1] - vertices[va, 1])
                w = vertices[va, 2] + t * (vertices[vb, 2] - vertices[va, 2])
                if side == 0:
                    points[at, 0], points[at, 1], points[at, 2] = x, y, w
                    points[at, 3], points[at, 4], points[at, 5] = va, vb, t
                    at += 1
                else:
                    back[nb, 0], back[nb, 1], back[nb, 2] = x, y, w
                    back[nb, 3], back[nb, 4], back[nb, 5] = va, vb, t
                    nb += 1
                g = neighbours[f, out_k]
                if g < 0:
                    break
                if g == begin:
                    is_closed = True
                    break
                if stamp[g] == mark:
                    break
                f = g
            if is_closed:
                break
            if side == 1:
                # The backward part goes in front, reversed.
                first = starts[loops]
                count = at - first
                for j in range(count - 1, -1, -1):
                    for c in range(6):
                        points[first + nb + j, c] = points[first + j, c]
                for j in range(nb):
                    for c in range(6):
                        points[first + j, c] = back[nb - 1 - j, c]
                at += nb
        closed[loops] = is_closed
        loops += 1
    starts[loops] = at
    return points[:at].copy(), starts[: loops + 1].copy(), closed[:loops].copy()


class SectionCutter:
    """Cuts of one scan by planes of one direction.

    Parameters
    ----------
    normal : (3,) cutting direction in the scan's coordinates.
    """

    def __init__(self, index: ScanIndex, normal):
        self._index = index
        self.normal = unit(normal, field="normal")
        self._h = index.mesh.vertices @ self.normal
        self.low, self.high = float(self._h.min()), float(self._h.max())
        self._scale = (_BINS - 1) / max(self.high - self.low, 1e-12)
        self._order, self._count = _bin_facets(self._h, index.mesh.faces, self.low, self._scale, _BINS, _SPAN)
        self._stamp = np.zeros(len(index.mesh.faces), np.int32)
        self._mark = 0
        self._hits = np.empty(len(index.mesh.faces), np.int32)

    def at(self, height: float) -> Section:
        """The section at ``height`` mm along the normal from the scan's origin."""
        z = float(height)
        faces, m, c = self._index.mesh.faces, len(self._index.mesh.faces), self._count
        n = 0
        if self.low <= z <= self.high:
            k = int((z - self.low) * self._scale)
            n = _crossing(self._h, faces, z, self._order, c[max(k - _SPAN - 1, 0)], c[min(k + 1, _BINS)], self._hits, n)
            n = _crossing(self._h, faces, z, self._order, c[_BINS], m, self._hits, n)
        self._mark += 1
        hits = np.sort(self._hits[:n])
        rows, starts, closed = _chain(
            self._h, faces, self._index.neighbours, self._index.mesh.vertices, z, hits, self._stamp, self._mark
        )
        return Section(np.ascontiguousarray(rows[:, :3]), starts, closed, rows[:, 3:5].astype(np.int32), rows[:, 5])


def cut_section(index: ScanIndex, plane: SectionPlane) -> Section:
    """One cut by one plane."""
    return SectionCutter(index, plane.normal).at(float(plane.origin @ plane.normal))
