"""A layout laid onto a mesh: its patches as even grids of places on the surface, drawn tight and even."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix, diags

from .layout import Layout
from .network import Network, _empty, network_through
from .target import Target

__all__ = ["wrapped"]

_ROUNDS = (12, 14, 14, 12, 8)
_EVENED = 30  # rounds where places between still ones are evened out
_TURN = 0.25  # of the part's size: normals that differ by 1 count as so far apart at first, then less and less


def _neighbours(net: Network):
    """Each place's mean of its neighbours in the grids, as a matrix; corners among them."""
    ids = net.ids
    pairs = np.concatenate(
        [
            np.stack([ids[:, 1:], ids[:, :-1]], -1).reshape(-1, 2),
            np.stack([ids[:, :, 1:], ids[:, :, :-1]], -1).reshape(-1, 2),
        ]
    )
    pairs = np.unique(np.sort(pairs, axis=1), axis=0)
    i, j = np.concatenate([pairs, pairs[:, ::-1]]).T
    k = len(net.poles)
    m = coo_matrix((np.ones(len(i)), (i, j)), (k, k)).tocsr()
    return diags(1 / np.asarray(m.sum(axis=1)).ravel()) @ m


def _normals(net: Network) -> np.ndarray:
    """Normals (K, 3) at the places of a grid network."""
    g = net.poles[net.ids]
    c = np.cross(g[:, 1:, :-1] - g[:, :-1, :-1], g[:, :-1, 1:] - g[:, :-1, :-1])
    c = c + np.cross(g[:, 1:, 1:] - g[:, :-1, 1:], g[:, 1:, 1:] - g[:, 1:, :-1])
    out = np.zeros_like(net.poles)
    for a in (slice(None, -1), slice(1, None)):
        for b in (slice(None, -1), slice(1, None)):
            flat = net.ids[:, a, b].ravel()
            for k in range(3):
                out[:, k] += np.bincount(flat, c[..., k].ravel(), len(out))
    return out / np.maximum(np.linalg.norm(out, axis=1), 1e-300)[:, None]


def wrapped(
    layout: Layout,
    target: Target,
    levels: int = 3,
    held: np.ndarray | None = None,
    start: np.ndarray | None = None,
    still: np.ndarray | None = None,
) -> tuple[Layout, np.ndarray]:
    """The layout with its corners on the surface, and its patches' grids (m, 2^levels + 1, …, 3).

    ``held`` : corners (k,) that stay where they are; ``start`` such grids to begin from, else it begins from the
    layout's corners; ``still`` (m, g, g) places of those grids that stay along the surface, while the others are
    evened out between them.
    """
    net = _empty(layout, 1, 1)
    net = net.with_poles(layout.corners[np.unique(layout.quads)])
    if start is not None:
        net = network_through(layout, start, 2**levels, 1)
    fixed = None if still is None else np.unique(net.ids[still])
    even = start is None or still is not None
    # Grids that were given are only brought onto the surface: evened out again they would leave what holds them.
    for level in range(levels + 1) if start is None else [levels]:
        if level and start is None:
            g = net.grid(2**level + 1)
            fine = _empty(layout, 2**level, 1)
            poles = np.zeros((len(fine.poles), 3))
            poles[fine.ids.reshape(-1)] = g.reshape(-1, 3)
            net = fine.with_poles(poles)
        mean = _neighbours(net)
        turn = _TURN * target.size / 2**level
        tree = target.tree(turn)
        for k in range(_EVENED if still is not None else _ROUNDS[min(level, len(_ROUNDS) - 1)]):
            p = net.poles
            if even and (k or level):
                p = p + 0.5 * (mean @ p - p)
            n = _normals(net.with_poles(p))
            near = tree.query(np.hstack([p, turn * n]), workers=-1)[1]
            gap = np.einsum("ij,ij->i", target.places[near] - p, target.normals[near])
            side = target.places[near] - p - gap[:, None] * target.normals[near]
            pull = 1.0 if level >= 2 else 0.7
            # Far off, it goes to the place itself; near by, onto its tangent plane.
            beside = np.linalg.norm(side, axis=1) - 1.5 * target.spacing
            far = np.clip(beside / (0.05 * target.size), 0, 1)[:, None]
            p = p + pull * (gap[:, None] * target.normals[near] + far * side)
            if held is not None:
                p[: len(layout.corners)][held] = layout.corners[held]
            if fixed is not None:
                # Where they are along the surface, but on it.
                to = target.normals[near[fixed]]
                height = np.einsum("ij,ij->i", target.places[near[fixed]] - net.poles[fixed], to)
                p[fixed] = net.poles[fixed] + height[:, None] * to
            net = net.with_poles(p)
    corners = layout.corners.copy()
    corners[np.unique(layout.quads)] = net.poles[: len(np.unique(layout.quads))]
    return replace(layout, corners=corners), net.poles[net.ids]
