"""A layout changed by hand: corners moved, a strip of patches split along its middle, a strip taken out.

Splitting and joining act on the whole strip of patches that an edge leads through, so that patches stay four-sided and
meet corner to corner (Daniels et al. 2008, *Quadrilateral mesh simplification*).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import BadInput
from .layout import Layout
from .network import Network

__all__ = ["WHOLE", "Came", "grids_of", "joined", "moved", "nearest_corner", "nearest_edge", "split"]


def nearest_corner(layout: Layout, place: np.ndarray) -> int:
    return int(np.argmin(np.linalg.norm(layout.corners - place, axis=1)))


def nearest_edge(lines: np.ndarray, place: np.ndarray) -> int:
    """Of edges drawn as places (e, n, 3), the one that passes nearest."""
    return int(np.argmin(np.linalg.norm(lines - place, axis=2).min(axis=1)))


#: For each patch of a changed layout the patch it came from, and its four corners (4, 2) in that one's parameters.
Came = list[tuple[int, np.ndarray]]

#: A patch's corners in its own parameters.
WHOLE = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])


def moved(layout: Layout, corner: int, to: np.ndarray) -> tuple[Layout, Came]:
    """With a corner put elsewhere."""
    corners = layout.corners.copy()
    corners[corner] = to
    return replace(layout, corners=corners), [(k, WHOLE) for k in range(len(layout.quads))]


def grids_of(before: Network, layout: Layout, came: Came, fine: int) -> np.ndarray:
    """Even grids (m, fine, fine, 3) for a changed layout, drawn over those of before so that its corners lie where they
    are now."""
    t = np.linspace(0, 1, fine)
    u, v = (x.ravel() for x in np.meshgrid(t, t, indexing="ij"))
    weights = np.stack([(1 - u) * (1 - v), u * (1 - v), u * v, (1 - u) * v], axis=1)
    out = []
    for quad, (patch, corners) in zip(layout.quads, came):
        at = weights @ corners
        places = before.at(np.full(len(at), patch), at[:, 0], at[:, 1])
        ends = before.at(np.full(4, patch), corners[:, 0], corners[:, 1])
        out.append((places + weights @ (layout.corners[quad] - ends)).reshape(fine, fine, 3))
    return np.array(out)


def _strip(layout: Layout, edge: int) -> tuple[list[tuple[int, int]], list[int]]:
    """The patches (patch, side it is entered by) of the strip that an edge leads through, and the strip's own edges."""
    beside: dict[int, list[tuple[int, int]]] = {}
    for patch, sides in enumerate(layout.sides):
        for side, e in enumerate(sides):
            beside.setdefault(int(e), []).append((patch, side))
    run: list[tuple[int, int]] = []
    edges = [edge]
    for patch, side in beside[edge]:
        at: int | None = patch
        while at is not None:
            run.append((at, side))
            out = int(layout.sides[at, (side + 2) % 4])
            if out == edge:
                return run, edges
            edges.append(out)
            onward = [(p, s) for p, s in beside[out] if p != at or s != (side + 2) % 4]
            at, side = onward[0] if onward else (None, 0)
    return run, edges


def _apart(run: list[tuple[int, int]]) -> None:
    if len({p for p, _ in run}) < len(run):
        raise BadInput("This strip of patches crosses itself; change another one.", field="by_hand")


def split(layout: Layout, edge: int) -> tuple[Layout, Came]:
    """Every patch of the strip through an edge parted in two. Raises `BadInput` where the strip crosses itself."""
    run, edges = _strip(layout, edge)
    _apart(run)
    ends = layout.edges[edges]
    corners = np.vstack([layout.corners, layout.corners[ends].mean(axis=1)])
    middle = {e: len(layout.corners) + k for k, e in enumerate(edges)}
    gone = {p for p, _ in run}
    quads = [q for k, q in enumerate(layout.quads.tolist()) if k not in gone]
    came: Came = [(k, WHOLE) for k in range(len(layout.quads)) if k not in gone]
    for patch, side in run:
        q, uv = np.roll(layout.quads[patch], -side), np.roll(WHOLE, -side, axis=0)
        a, b = middle[int(layout.sides[patch, side])], middle[int(layout.sides[patch, (side + 2) % 4])]
        ua, ub = 0.5 * (uv[0] + uv[1]), 0.5 * (uv[2] + uv[3])
        quads += [[int(q[0]), a, b, int(q[3])], [a, int(q[1]), int(q[2]), b]]
        came += [(patch, np.array([uv[0], ua, ub, uv[3]])), (patch, np.array([ua, uv[1], uv[2], ub]))]
    return Layout(corners, np.array(quads)), came


def joined(layout: Layout, edge: int) -> tuple[Layout, Came]:
    """The strip through an edge taken out, its edges drawn together. Raises `BadInput` where that is no layout."""
    run, edges = _strip(layout, edge)
    _apart(run)
    into = np.arange(len(layout.corners))
    corners = layout.corners.copy()
    for a, b in layout.edges[edges]:
        ra, rb = _root(into, int(a)), _root(into, int(b))
        corners[ra] = 0.5 * (corners[ra] + corners[rb])
        into[rb] = ra
    into = np.array([_root(into, k) for k in range(len(into))])
    gone = {p for p, _ in run}
    stays = [k for k in range(len(layout.quads)) if k not in gone]
    used, quads = np.unique(into[layout.quads[stays]], return_inverse=True)
    out = Layout(corners[used], quads.reshape(-1, 4))
    proper = len(out.quads) > 0 and all(len(set(q)) == 4 for q in out.quads.tolist())
    if not proper or out.euler != layout.euler or not out.is_sound() or out.valence.min() < 2 + (not len(out.rim)):
        raise BadInput("The patches could not be joined here without tearing the layout; join others.", field="by_hand")
    return out, [(k, WHOLE) for k in stays]


def _root(into: np.ndarray, k: int) -> int:
    while into[k] != k:
        k = int(into[k])
    return k
