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
_AWAY = 0.04  # of the size: a place farther from every vertex lies on nothing
_MOST_OFF = 0.008  # of the size: places farther off count no more


def likeness_of(mesh: TriMesh) -> list[tuple[float, float, float]]:
    """Places spread over the scan's area, to a ten-thousandth of its size or finer."""
    digits = 4 - int(np.floor(np.log10(max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-9))))
    cumulative = np.cumsum(mesh.areas)
    at = (np.arange(_PLACES) + 0.5) / _PLACES * cumulative[-1]
    p = mesh.centroids[np.minimum(np.searchsorted(cumulative, at), len(cumulative) - 1)]
    return [(float(x), float(y), float(z)) for x, y, z in np.round(p, digits)]


def _settle(tree, normals, points, places, motion: RigidMotion, rounds: int) -> tuple[RigidMotion, float]:
    """Move the scan onto the places by point-to-plane steps (Chen, Medioni 1992)."""
    for _ in range(rounds):
        q = motion.inverse().points(places)
        d, i = tree.query(q)
        keep = d <= max(3 * np.median(d), 1e-6)
        a, n = points[i[keep]], normals[i[keep]]
        r = np.einsum("ij,ij->i", q[keep] - a, n)
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
    d, i = tree.query(q)
    r = np.einsum("ij,ij->i", q - points[i], normals[i])
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    most = _MOST_OFF * size
    rms = float(np.sqrt(np.mean(np.where(d < _AWAY * size, np.minimum(np.abs(r), most), most) ** 2)))
    return motion, rms


def settle_onto(mesh: TriMesh, places) -> tuple[RigidMotion, float]:
    """The motion that lays ``mesh`` onto the places (k, 3), and the rms distance left in mm.

    Raises `BadInput` where no placement fits: it is another part, or too little of it was seen.
    """
    from scipy.spatial import cKDTree

    places = np.asarray(places, float)
    good = _GOOD * float(np.linalg.norm(np.ptp(places, axis=0)))
    tree = cKDTree(mesh.vertices)
    best = _settle(tree, mesh.vertex_normals, mesh.vertices, places, RigidMotion.identity(), 30)
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
            motion, rms = _settle(
                tree, mesh.vertex_normals, mesh.vertices, places, RigidMotion.of(turn, c2 - turn @ c1), 40
            )
            if rms < best[1]:
                best = (motion, rms)
    if best[1] > good:
        raise BadInput(
            f"The other scan does not fit onto the first (rms {best[1]:.2f} mm at best); is it the "
            "same part, in the same unit?"
        )
    return best
