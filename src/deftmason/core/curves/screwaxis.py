"""The axis a surface was turned or screwed about, from its normals.

A surface that a screw motion carries along itself has normals square to that motion's velocity everywhere; its axis is
a small eigenproblem over places and normals (Pottmann, Randrup 1998, *Rotational and helical surface approximation for
reverse engineering*), made robust by weights that fall with what is left (Holland, Welsch 1977).
"""

from __future__ import annotations

import numpy as np

__all__ = ["screw_axes"]

_ROUNDS = 25
_FAR = 1.0  # sizes of the whole from its middle: surfaces are not screwed about what is farther off
_FLOOR = 0.02  # of the velocity: what is left on real scans of what belongs


def screw_axes(places: np.ndarray, normals: np.ndarray, most: int = 4) -> list[tuple[np.ndarray, np.ndarray]]:
    """Axes as (point (3,) mm, unit direction (3,)), the best first: what most of the places (n, 3) with their normals
    (n, 3) could have been screwed about."""
    middle = places.mean(axis=0)
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    q = (places - middle) / size
    moment = np.cross(q, normals)
    starts = [*np.eye(3), *np.linalg.svd(q, full_matrices=False)[2], *np.linalg.svd(normals, full_matrices=False)[2]]
    found: list[tuple[float, np.ndarray, np.ndarray]] = []
    for c in starts:
        got = _settled(q, normals, moment, c)
        if got is None:
            continue
        cost, foot, axis = got
        if np.linalg.norm(foot) > _FAR:
            continue
        if any(abs(axis @ a) > 0.9998 and np.linalg.norm(foot - f) < 0.01 for _, f, a in found):
            continue
        found.append((cost, foot, axis))
    found.sort(key=lambda f: f[0])
    return [(foot * size + middle, axis) for _, foot, axis in found[:most]]


def _settled(q, n, moment, start):
    """Weights and the axis in turn, from a direction on."""
    c = start / np.linalg.norm(start)
    w = np.ones(len(q))
    base = None
    cost = np.inf
    for turn in range(_ROUNDS):
        a = (n * w[:, None]).T @ n
        b = (n * w[:, None]).T @ moment
        d = (moment * w[:, None]).T @ moment
        solved = np.linalg.pinv(a + 1e-9 * np.trace(a) * np.eye(3)) @ b
        if turn:
            values, vectors = np.linalg.eigh(d - b.T @ solved)
            # The eigenvector next to what was: the others are other starts' business.
            near = int(np.argmax(np.abs(vectors.T @ c)))
            c = vectors[:, 0] if abs(vectors[:, 0] @ c) > 0.6 else vectors[:, near]
            c = c if c @ start >= 0 else -c
        base = -solved @ c
        velocity = base + np.cross(c, q)
        speed = np.maximum(np.linalg.norm(velocity, axis=1), 0.01)
        left = np.einsum("ij,ij->i", n, velocity) / speed
        spread = max(1.4826 * float(np.median(np.abs(left))), _FLOOR)
        w = np.exp(-0.5 * (left / (1.5 * spread)) ** 2) / speed**2
        before, cost = cost, float(np.mean(1 - np.exp(-0.5 * (left / 0.1) ** 2)))
        if turn > 5 and abs(before - cost) < 1e-6:
            break
    if base is None or not np.isfinite(cost):
        return None
    return cost, np.cross(c, base), c
