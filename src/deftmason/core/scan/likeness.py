"""Lay another scan of the same part onto where the first one was, known by a few hundred of its places.

Both are described by their principal axes; the placements these allow are each settled by point-to-plane steps and the
best kept. Where the first placement already fits, nothing is moved.
"""

from __future__ import annotations

import itertools

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from .mesh import TriMesh

__all__ = ["likeness_of", "settle_onto"]

_PLACES = 600
_GOOD = 2e-3  # of the size: so near, one scan lies on the other
_AWAY = 0.04  # of the size: a place farther from the surface lies on nothing
_MOST_OFF = 0.008  # of the size: places farther off count no more
_PLASTIC = 1.32471795724474602596  # x³ = x + 1: its powers spread places evenly over a square (Roberts 2018, R2)


def likeness_of(mesh: TriMesh) -> list[tuple[float, float, float]]:
    """Places spread over the scan's area, to a ten-thousandth of its size or finer."""
    digits = 4 - int(np.floor(np.log10(max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-9))))
    cumulative = np.cumsum(mesh.areas)
    k = np.arange(_PLACES)
    facet = np.minimum(np.searchsorted(cumulative, (k + 0.5) / _PLACES * cumulative[-1]), len(cumulative) - 1)
    u, v = (0.5 + k / _PLASTIC) % 1, (0.5 + k / _PLASTIC**2) % 1
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = (mesh.vertices[mesh.faces[facet, i]] for i in range(3))
    p = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    return [(float(x), float(y), float(z)) for x, y, z in np.round(p, digits)]


class _Surface:
    """A mesh's surface, asked for the nearest place to others."""

    def __init__(self, mesh: TriMesh):
        import open3d as o3d

        self._tensor = o3d.core.Tensor
        self._normals = mesh.normals
        # Single precision: about the middle and in the mesh's own size it is good to a millionth of that.
        self._middle = mesh.bounds.mean(axis=0)
        self._size = max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-300)
        self._scene = o3d.t.geometry.RaycastingScene()
        inside = (mesh.vertices - self._middle) / self._size
        self._scene.add_triangles(inside.astype(np.float32), mesh.faces.astype(np.uint32))

    def nearest(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The nearest places (k, 3) to points, and the normals of the facets they lie on."""
        inside = ((q - self._middle) / self._size).astype(np.float32)
        found = self._scene.compute_closest_points(self._tensor(inside))
        places = found["points"].numpy().astype(float) * self._size + self._middle
        return places, self._normals[found["primitive_ids"].numpy().astype(np.int64)]


def _settle(surface: _Surface, places, motion: RigidMotion, rounds: int) -> tuple[RigidMotion, float]:
    """Move the scan onto the places by point-to-plane steps (Chen, Medioni 1992)."""
    for _ in range(rounds):
        q = motion.inverse().points(places)
        a, n = surface.nearest(q)
        d = np.linalg.norm(q - a, axis=1)
        keep = d <= max(3 * np.median(d), 1e-6)
        q, a, n = q[keep], a[keep], n[keep]
        r = np.einsum("ij,ij->i", q - a, n)
        j = np.column_stack([np.cross(a, n), n])
        x = np.linalg.lstsq(j, r, rcond=None)[0]
        angle = np.linalg.norm(x[:3])
        k = x[:3] / max(angle, 1e-300)
        skew = np.array([[0, -k[2], k[1]], [k[2], 0, -k[0]], [-k[1], k[0], 0]])
        turn = np.eye(3) + np.sin(angle) * skew + (1 - np.cos(angle)) * skew @ skew
        motion = motion.after(RigidMotion.of(turn, x[3:]))
        if np.abs(x).max() < 1e-9:
            break
    q = motion.inverse().points(places)
    d = np.linalg.norm(q - surface.nearest(q)[0], axis=1)
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    most = _MOST_OFF * size
    rms = float(np.sqrt(np.mean(np.where(d < _AWAY * size, np.minimum(d, most), most) ** 2)))
    return motion, rms


def settle_onto(mesh: TriMesh, places) -> tuple[RigidMotion, float]:
    """The motion that lays ``mesh`` onto the places (k, 3), and the rms distance left in mm.

    Raises `BadInput` where no placement fits: it is another part, or too little of it was seen.
    """
    places = np.asarray(places, float)
    good = _GOOD * float(np.linalg.norm(np.ptp(places, axis=0)))
    surface = _Surface(mesh)
    best = _settle(surface, places, RigidMotion.identity(), 30)
    if best[1] <= good:
        return best
    sample = np.asarray(likeness_of(mesh))

    def axes(p):
        c = p.mean(axis=0)
        return c, np.linalg.svd(p - c, full_matrices=False)[2]

    c1, a1 = axes(sample)
    c2, a2 = axes(places)
    for order in itertools.permutations(range(3)):
        for signs in itertools.product((1, -1), repeat=3):
            turn = a2.T @ (np.array(signs)[:, None] * a1[list(order)])
            if np.linalg.det(turn) < 0:
                continue
            motion, rms = _settle(surface, places, RigidMotion.of(turn, c2 - turn @ c1), 40)
            if rms < best[1]:
                best = (motion, rms)
    if best[1] > good:
        raise BadInput(
            f"The other scan does not fit onto the first (rms {best[1]:.2f} mm at best); is it the "
            "same part, in the same unit?"
        )
    return best
