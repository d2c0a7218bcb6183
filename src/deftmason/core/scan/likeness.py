"""Lay another scan of the same part onto where the first one was, known by a few hundred of its places.

Hundreds of attitudes, even over all there are, and those that the principal axes give are settled side by side on few
places; the best of them on all, and the best of these is kept. What one scan has and the other lacks counts no more
than a little: the share that fits decides.
"""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ..elements import RigidMotion
from ..errors import BadInput
from .mesh import TriMesh
from .topology import facet_neighbours

__all__ = ["likeness_of", "settle_onto"]

_PLACES = 600
_GOOD = 2e-3  # of the size: so near, one scan lies on the other
_FITS = 4e-3  # of the size: places nearer lie on the other scan
_LEAST_SHARE = 0.6  # of the places that lie on it
_MOST_OFF = 8e-3  # of the size: places farther off count no more
_FEW, _ATTITUDES, _FIRST_ROUNDS = 120, 720, 5
_MOST_FIRST = 300
_CLOSER, _ROUNDS, _LAST_ROUNDS = 12, 20, 60
_OTHER = 0.01  # of the size: places so far off the middle of the other scan are of another part: no wear, no bend
_MOST_AGAINST = 0.05  # share of such places
_TIMES = 4.0
_ROUGHLY, _ABOUT = 8_000, 0.3  # places, and how much farther than the nearest the one found may be
_TURN_BY = 6.0  # degrees
_AS_GOOD = 1.02  # times the best: where it lies already, it stays
_PLASTIC = 1.32471795724474602596  # x³ = x + 1: its powers spread places evenly over a square (Roberts 2018, R2)


def _spread(mesh: TriMesh, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Places (count, 3) spread evenly over a mesh's area, and the facets they lie on."""
    cumulative = np.cumsum(mesh.areas)
    k = np.arange(count)
    facet = np.minimum(np.searchsorted(cumulative, (k + 0.5) / count * cumulative[-1]), len(cumulative) - 1)
    u, v = (0.5 + k / _PLASTIC) % 1, (0.5 + k / _PLASTIC**2) % 1
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = (mesh.vertices[mesh.faces[facet, i]] for i in range(3))
    return a + u[:, None] * (b - a) + v[:, None] * (c - a), facet


def likeness_of(mesh: TriMesh) -> list[tuple[float, float, float]]:
    """Places spread over the scan's area, to a ten-thousandth of its size or finer."""
    digits = 4 - int(np.floor(np.log10(max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-9))))
    return [(float(x), float(y), float(z)) for x, y, z in np.round(_spread(mesh, _PLACES)[0], digits)]


class _Roughly:
    """A mesh's surface known by some thousand places of it: quick to ask from afar."""

    def __init__(self, mesh: TriMesh):
        from scipy.spatial import cKDTree

        self._places, facets = _spread(mesh, _ROUGHLY)
        self._normals = mesh.normals[facets]
        self._tree = cKDTree(self._places)
        self.size = max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-300)

    def nearest(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """As `_Surface.nearest`."""
        i = self._tree.query(q, eps=_ABOUT, workers=-1)[1]
        return self._places[i], self._normals[i]


class _Surface:
    """A mesh's surface, asked for the nearest place to others."""

    def __init__(self, mesh: TriMesh):
        import open3d as o3d

        self._tensor: Any = o3d.core.Tensor
        self._normals = mesh.normals
        self._mesh = mesh
        # Single precision: about the middle and in the mesh's own size it is good to a millionth of that.
        self._middle = mesh.bounds.mean(axis=0)
        self.size = max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-300)
        self._scene: Any = o3d.t.geometry.RaycastingScene()
        inside = (mesh.vertices - self._middle) / self.size
        corners: Any = mesh.faces.astype(np.uint32)
        self._scene.add_triangles(inside.astype(np.float32), corners)

    def nearest(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The nearest places (k, 3) to points, and the normals of the facets they lie on."""
        inside = ((q - self._middle) / self.size).astype(np.float32)
        found = self._scene.compute_closest_points(self._tensor(inside))
        places = found["points"].numpy().astype(float) * self.size + self._middle
        return places, self._normals[found["primitive_ids"].numpy().astype(np.int64)]

    def apart(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Distances (k,) of points, and whether the nearest place is no rim of the mesh: what lies beyond a rim was not
        seen, what lies off the middle of it is not there.
        """
        inside = ((q - self._middle) / self.size).astype(np.float32)
        found = self._scene.compute_closest_points(self._tensor(inside))
        places = found["points"].numpy().astype(float) * self.size + self._middle
        open_ = (facet_neighbours(self._mesh.faces, len(self._mesh.vertices)) < 0).any(axis=1)
        at_rim = np.zeros(len(self._mesh.vertices), bool)
        at_rim[self._mesh.faces[open_]] = True
        beside = at_rim[self._mesh.faces].any(axis=1)[found["primitive_ids"].numpy().astype(np.int64)]
        return np.linalg.norm(q - places, axis=1), ~beside


def _stepped(surface: _Surface | _Roughly, places: np.ndarray, turns: np.ndarray, shifts: np.ndarray, least: float):
    """One point-to-plane step (Chen, Medioni 1992) of many placements at once; places nearer than ``least`` always
    count, farther ones where most are as far.

    ``places`` (k, 3) in the first scan's coordinates; ``turns`` (m, 3, 3) and ``shifts`` (m, 3) carry the other scan to
    them. Returns both after the step, the distances (m, k) before it, and the largest change of each (m,).
    """
    q = np.einsum("mji,mkj->mki", turns, places[None] - shifts[:, None])
    a, n = (x.reshape(q.shape) for x in surface.nearest(q.reshape(-1, 3)))
    d = np.linalg.norm(q - a, axis=2)
    w = (d <= np.maximum(2.5 * np.median(d, axis=1, keepdims=True), max(least, 1e-9 * surface.size))).astype(float)
    middle = np.einsum("mk,mkj->mj", w, a) / w.sum(axis=1)[:, None]
    j = np.concatenate([np.cross(a - middle[:, None], n), n * surface.size], axis=2)  # turns and shifts alike in size
    r = np.einsum("mkj,mkj->mk", q - a, n)
    left = np.matmul((w[..., None] * j).transpose(0, 2, 1), j)
    left += 1e-9 * np.trace(left, axis1=1, axis2=2)[:, None, None] * np.eye(6)
    x = np.linalg.solve(left, np.matmul(j.transpose(0, 2, 1), (w * r)[..., None]))[..., 0]
    turn = Rotation.from_rotvec(x[:, :3]).as_matrix()
    shift = x[:, 3:] * surface.size + middle - np.einsum("mij,mj->mi", turn, middle)
    # The other scan moves by (turn, shift) in its own coordinates before it is carried over.
    return turns @ turn, shifts + np.einsum("mij,mj->mi", turns, shift), d, np.abs(x).max(axis=1)


def _settled(surface: _Surface | _Roughly, places, turns, shifts, rounds: int, least: float = 0.0):
    """Placements after so many steps, or fewer where none moves any more."""
    for _ in range(rounds):
        turns, shifts, _, moved = _stepped(surface, places, turns, shifts, least)
        if moved.max() < 1e-9:
            break
    return turns, shifts


def _distances(surface: _Surface | _Roughly, places, turns, shifts) -> np.ndarray:
    """Distances (m, k) of the places from the other scan as it is placed."""
    q = np.einsum("mji,mkj->mki", turns, places[None] - shifts[:, None])
    return np.linalg.norm(q - surface.nearest(q.reshape(-1, 3))[0].reshape(q.shape), axis=2)


def _attitudes(sample: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Turns (m, 3, 3) to begin with: none, those that lay principal axes on each other, and many even ones."""

    def axes(p):
        return np.linalg.svd(p - p.mean(axis=0), full_matrices=False)[2]

    a1, a2 = axes(sample), axes(places)
    turns = [np.eye(3)]
    for order in itertools.permutations(range(3)):
        for signs in itertools.product((1, -1), repeat=3):
            turn = a2.T @ (np.array(signs)[:, None] * a1[list(order)])
            if np.linalg.det(turn) > 0:
                turns.append(turn)
    return np.concatenate([np.array(turns), Rotation.random(_ATTITUDES, random_state=7).as_matrix()])


def _turned(turn: np.ndarray, shift: np.ndarray, sample: np.ndarray, places: np.ndarray):
    """A placement turned step by step about each principal axis of what it places, and of what it is placed on: where
    one of the two is a piece, the other's are the part's.
    """
    angles = np.radians(np.arange(_TURN_BY, 360, _TURN_BY))
    turns, shifts = [turn[None]], [shift[None]]
    for p in (sample @ turn.T + shift, places):
        middle = p.mean(axis=0)
        axes = np.linalg.svd(p - middle, full_matrices=False)[2]
        about = Rotation.from_rotvec((axes[:, None] * angles[None, :, None]).reshape(-1, 3)).as_matrix()
        turns.append(about @ turn)
        shifts.append(about @ (shift - middle) + middle)
    return np.concatenate(turns), np.concatenate(shifts)


def settle_onto(mesh: TriMesh, places) -> tuple[RigidMotion, float]:
    """The motion that lays ``mesh`` onto the places (k, 3), and the rms distance in mm of those that lie on it.

    Raises `BadInput` where no placement fits: it is another part, or too little of it was seen.
    """
    places = np.asarray(places, float)
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    surface, roughly = _Surface(mesh), _Roughly(mesh)
    sample = np.asarray(likeness_of(mesh))
    turns = _attitudes(sample, places)
    shifts = places.mean(axis=0) - turns @ sample.mean(axis=0)
    shifts[0] = 0.0  # as it lies
    few = places[:: max(len(places) // _FEW, 1)]

    def closer(turns, shifts, by: np.ndarray, ranked: _Surface | _Roughly, reach: float):
        """The best by some places, settled on all."""
        turns, shifts = _settled(roughly, by[:: max(len(by) // _MOST_FIRST, 1)], turns, shifts, _FIRST_ROUNDS)
        cost = np.minimum(_distances(ranked, by, turns, shifts), reach) ** 2
        chosen = np.unique([0, *np.argsort(cost.mean(axis=1))[:_CLOSER]])
        turns, shifts = _settled(surface, places, turns[chosen], shifts[chosen], _ROUNDS, _FITS * size)
        return turns, shifts, _distances(surface, places, turns, shifts)

    def told_apart(d: np.ndarray) -> tuple[np.ndarray, float]:
        """What each placement costs, and the distance beyond which places cost no more: some times what those lie off
        that fit best, so that what one scan lacks does not decide.
        """
        reach = min(_TIMES * float(np.quantile(d, _LEAST_SHARE, axis=1).min()), _MOST_OFF * size)
        return (np.minimum(d, reach) ** 2).mean(axis=1), reach

    turns, shifts, d = closer(turns, shifts, few, roughly, 3 * _MOST_OFF * size)
    # Where it goes nearly onto itself when turned, the few places that tell its turns apart are looked at turn by turn.
    cost, reach = told_apart(d)
    first = int(np.argmin(cost))
    about, along = _turned(turns[first], shifts[first], sample, places)
    more = closer(about, along, places, surface, max(reach, 1e-3 * size))
    turns, shifts, d = (np.concatenate([a, b]) for a, b in zip((turns, shifts, d), more))
    cost, _ = told_apart(d)
    best = 0 if cost[0] <= _AS_GOOD * cost.min() else int(np.argmin(cost))
    turns, shifts = _settled(surface, places, turns[[best]], shifts[[best]], _LAST_ROUNDS, 0.5 * _FITS * size)
    d, inner = surface.apart((places - shifts[0]) @ turns[0])
    lies = d < _FITS * size
    against = float((inner & (d > _OTHER * size)).mean())
    rms = float(np.sqrt(np.mean(d[lies] ** 2))) if lies.any() else float(np.median(d))
    if lies.mean() < _LEAST_SHARE or rms > _GOOD * size or against > _MOST_AGAINST:
        raise BadInput(
            f"The other scan does not fit onto the first ({lies.mean():.0%} of it at best, {rms:.2g} mm off); is it "
            "the same part, in the same unit?"
        )
    return RigidMotion.of(turns[0], shifts[0]), rms
