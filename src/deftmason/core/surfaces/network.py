"""Spline patches over a layout that share their rims: one set of poles for all, so that no gap can open between them.

Each patch is a tensor-product B-spline of one degree on even knots. Where two patches meet their rims have the same
poles; a corner is one pole of all patches about it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import csr_matrix

from .basis import basis, even_knots, grams, greville, span_grams, window
from .layout import Layout

__all__ = ["Network", "network_through"]


def _rim(n: int, side: int) -> tuple[np.ndarray, np.ndarray]:
    """The poles (i, j) of a side, the way round the patch."""
    k = np.arange(n)
    return [(k, 0 * k), (0 * k + n - 1, k), (k[::-1], 0 * k + n - 1), (0 * k, k[::-1])][side]


@dataclass(frozen=True)
class Network:
    """``poles`` (K, 3) mm of all patches; ``ids`` (m, n, n) which of them each patch has."""

    layout: Layout
    spans: int
    degree: int
    ids: np.ndarray
    poles: np.ndarray

    @property
    def knots(self) -> np.ndarray:
        return even_knots(self.spans, self.degree)

    @property
    def count(self) -> int:
        """Poles a patch has each way."""
        return self.spans + self.degree

    def with_poles(self, poles: np.ndarray) -> Network:
        return replace(self, poles=poles)

    def moved(self, to: Callable[[np.ndarray], np.ndarray]) -> Network:
        """With its poles and corners where ``to`` takes them."""
        layout = Layout(to(self.layout.corners), self.layout.quads)
        return replace(self, layout=layout, poles=to(self.poles))

    def edge_lines(self, fine: int) -> np.ndarray:
        """The layout's edges as they run on the surface: (e, fine, 3)."""
        out = np.zeros((len(self.layout.edges), fine, 3))
        g = self.grid(fine)
        for side in range(4):
            i, j = _rim(fine, side)
            line = g[:, i, j]
            back = self.layout.against[:, side]
            line[back] = line[back][:, ::-1]
            out[self.layout.sides[:, side]] = line
        return out

    def rows(self, patch: np.ndarray, u: np.ndarray, v: np.ndarray, du: int = 0, dv: int = 0) -> csr_matrix:
        """What poles count for at places (patch, u, v): (N, K)."""
        d = self.degree
        a, b = window(self.knots, d, u), window(self.knots, d, v)
        k = np.arange(d + 1)
        fu = np.take_along_axis(basis(self.knots, d, u, du), a[:, None] + k, axis=1)
        fv = np.take_along_axis(basis(self.knots, d, v, dv), b[:, None] + k, axis=1)
        cols = self.ids[patch[:, None, None], (a[:, None] + k)[:, :, None], (b[:, None] + k)[:, None, :]]
        data = fu[:, :, None] * fv[:, None, :]
        m = len(patch)
        return csr_matrix(
            (data.reshape(-1), cols.reshape(-1), np.arange(0, m * (d + 1) ** 2 + 1, (d + 1) ** 2)),
            shape=(m, len(self.poles)),
        )

    def at(self, patch, u, v, du: int = 0, dv: int = 0) -> np.ndarray:
        """Places (N, 3), or derivatives."""
        return self.rows(patch, u, v, du, dv) @ self.poles

    def grid(self, fine: int, du: int = 0, dv: int = 0) -> np.ndarray:
        """Places of every patch on an even grid: (m, fine, fine, 3)."""
        t = np.linspace(0, 1, fine)
        fu, fv = basis(self.knots, self.degree, t, du), basis(self.knots, self.degree, t, dv)
        return np.einsum("ai,bj,mijc->mabc", fu, fv, self.poles[self.ids], optimize=True)

    def normals(self, fine: int) -> np.ndarray:
        """Unit normals on an even grid: (m, fine, fine, 3)."""
        n = np.cross(self.grid(fine, 1, 0), self.grid(fine, 0, 1))
        return n / np.maximum(np.linalg.norm(n, axis=-1), 1e-300)[..., None]

    @cached_property
    def sizes(self) -> np.ndarray:
        """How long each patch is in u and v, mm: (m, 2)."""
        g = self.grid(7)
        along = np.linalg.norm(np.diff(g, axis=1), axis=-1).sum(axis=1).mean(axis=1)
        across = np.linalg.norm(np.diff(g, axis=2), axis=-1).sum(axis=2).mean(axis=1)
        return np.maximum(np.column_stack([along, across]), 1e-9)

    def bending(self, ease: np.ndarray | None = None) -> csr_matrix:
        """The thin plate's energy of all patches as a quadratic form (K, K); what it costs does not change with the
        part's size. ``ease`` (m, s, s): what of it each span counts for."""
        if ease is not None:
            return self._eased(ease)
        g0, g1, g2 = grams(self.spans, self.degree)
        n = self.count
        parts = [np.kron(g2, g0), 2 * np.kron(g1, g1), np.kron(g0, g2)]
        a, b = self.sizes[:, 0], self.sizes[:, 1]
        mean = float(np.sqrt(a * b).mean())
        weights = np.stack([b / a**3, 1 / (a * b), a / b**3]) * mean**2
        flat = self.ids.reshape(len(self.ids), -1)
        block = sum(w[:, None, None] * p[None] for w, p in zip(weights, parts))
        rows = np.repeat(flat, n * n, axis=1).ravel()
        cols = np.tile(flat, (1, n * n)).ravel()
        k = len(self.poles)
        out = csr_matrix((block.reshape(-1), (rows, cols)), shape=(k, k))
        out.sum_duplicates()
        return out

    def _eased(self, ease: np.ndarray) -> csr_matrix:
        g = span_grams(self.spans, self.degree)  # three of (s, d + 1, d + 1)
        a, b = self.sizes[:, 0], self.sizes[:, 1]
        mean = float(np.sqrt(a * b).mean())
        weights = np.stack([b / a**3, 2 / (a * b), a / b**3]) * mean**2
        s, d = self.spans, self.degree + 1
        local = [np.einsum("eij,fkl->efikjl", g[x], g[y]) for x, y in ((2, 0), (1, 1), (0, 2))]
        block = sum(w[:, None, None, None, None, None, None] * p[None] for w, p in zip(weights, local))
        block = block * ease[:, :, :, None, None, None, None]
        k = np.arange(s)[:, None] + np.arange(d)
        ids = self.ids[:, k[:, None, :, None], k[None, :, None, :]].reshape(len(self.ids), s, s, d * d)
        rows = np.broadcast_to(ids[..., :, None], (*ids.shape, d * d)).ravel()
        cols = np.broadcast_to(ids[..., None, :], (*ids.shape, d * d)).ravel()
        count = len(self.poles)
        out = csr_matrix((block.reshape(-1), (rows, cols)), shape=(count, count))
        out.sum_duplicates()
        return out

    def along_joints(self, each: int, ends: bool = False):
        """Places on the joints seen from both patches: joint (j,), and for the two sides (patch, u, v), (j,) each.

        ``each`` places a joint, away from its ends (or with them).
        """
        t = np.linspace(0, 1, each) if ends else (np.arange(each) + 0.5) / each
        joint: list[np.ndarray] = []
        both: tuple[list, list] = ([], [])
        for k, (_, first, second) in enumerate(self.layout.joints):
            joint.append(np.full(each, k))
            for out, (patch, side) in zip(both, (first, second)):
                s = 1 - t if self.layout.against[patch, side] else t
                zero, one = np.zeros(each), np.ones(each)
                u, v = [(s, zero), (one, s), (1 - s, one), (zero, 1 - s)][side]
                out.append((np.full(each, patch), u, v))
        if not joint:
            none = (np.zeros(0, int), np.zeros(0), np.zeros(0))
            return none[0], none, none
        sides = [tuple(np.concatenate([p[i] for p in out]) for i in range(3)) for out in both]
        return np.concatenate(joint), sides[0], sides[1]

    def joint_angles(self, each: int = 60) -> tuple[np.ndarray, np.ndarray]:
        """Angles between the patches' normals along the joints, degrees (j, each), and the joints' lengths there."""
        _, a, b = self.along_joints(each)
        n = []
        for patch, u, v in (a, b):
            su, sv = self.at(patch, u, v, 1, 0), self.at(patch, u, v, 0, 1)
            c = np.cross(su, sv)
            n.append(c / np.maximum(np.linalg.norm(c, axis=1), 1e-300)[:, None])
        sin = np.linalg.norm(np.cross(n[0], n[1]), axis=1)
        cos = np.einsum("ij,ij->i", n[0], n[1])
        place = self.at(*a).reshape(-1, each, 3)
        step = np.linalg.norm(np.gradient(place, axis=1), axis=2)
        return np.degrees(np.arctan2(sin, cos)).reshape(-1, each), step

    def joints_turn(self, share: float, each: int = 60) -> float:
        """The angle, degrees, that so large a share of the joints' length stays under; 0 where there is no joint."""
        angles, step = (x.ravel() for x in self.joint_angles(each))
        if not angles.size:
            return 0.0
        order = np.argsort(angles)
        length = np.cumsum(step[order])
        return float(angles[order][min(int(np.searchsorted(length, share * length[-1])), len(order) - 1)])

    def finer(self, spans: int) -> Network:
        """The same surface on finer spans (nearly so, where they do not divide the old)."""
        made = _empty(self.layout, spans, self.degree)
        t = greville(made.knots, self.degree)
        fine = len(t)
        fu = basis(self.knots, self.degree, t)
        places = np.einsum("ai,bj,mijc->mabc", fu, fu, self.poles[self.ids], optimize=True)
        own = np.linalg.inv(basis(made.knots, self.degree, t))
        poles = np.einsum("ai,bj,mijc->mabc", own, own, places, optimize=True)
        return made.with_poles(_gathered(made, poles.reshape(len(self.ids), fine, fine, 3)))


def _gathered(net: Network, poles: np.ndarray) -> np.ndarray:
    """Poles by patch (m, n, n, 3) as one set; where patches share one, their mean."""
    k = int(net.ids.max()) + 1
    flat = net.ids.ravel()
    count = np.bincount(flat, minlength=k)
    return np.stack([np.bincount(flat, poles[..., c].ravel(), k) / count for c in range(3)], axis=1)


def _empty(layout: Layout, spans: int, degree: int) -> Network:
    n, m = spans + degree, len(layout.quads)
    ids = np.full((m, n, n), -1)
    total = len(layout.corners)
    edge_first = total + np.arange(len(layout.edges)) * (n - 2)
    total += len(layout.edges) * (n - 2)
    for side in range(4):
        i, j = _rim(n, side)
        run = np.arange(n - 2)[None] + edge_first[layout.sides[:, side]][:, None]
        back = layout.against[:, side]
        run[back] = run[back][:, ::-1]
        ids[:, i[1:-1], j[1:-1]] = run
        ids[:, i[0], j[0]] = layout.quads[:, side]
    inner = (n - 2) ** 2
    ids[:, 1:-1, 1:-1] = total + np.arange(m * inner).reshape(m, n - 2, n - 2)
    total += m * inner
    used, ids = np.unique(ids, return_inverse=True)
    return Network(layout, spans, degree, ids.reshape(m, n, n), np.zeros((len(used), 3)))


def network_through(layout: Layout, grids: np.ndarray, spans: int, degree: int = 3) -> Network:
    """The network nearest to even grids of places (m, g, g, 3) that agree on the rims patches share."""
    net = _empty(layout, spans, degree)
    t = np.linspace(0, 1, grids.shape[1])
    own = np.linalg.pinv(basis(net.knots, degree, t))
    poles = np.einsum("ia,jb,mabc->mijc", own, own, grids, optimize=True)
    return net.with_poles(_gathered(net, poles))
