"""Small patches of a mesh, and what they scatter about the simplest bent surface through them."""

from __future__ import annotations

import numpy as np

from .mesh import TriMesh

__all__ = ["around", "look_at_patch", "patches_scatter"]

_SMOOTH_SHARE = 0.35  # the share of patches that no edge or blend runs through, on any part worth scanning
_TELLING = 160  # vertices that tell as much as all of a patch
_FEWEST = 18  # vertices of a patch that tell


def patches_scatter(mesh: TriMesh, neighbours: np.ndarray, facets: int, patches: int, *, seed: int = 5) -> float:
    """Standard deviation of the vertices of smooth patches of so many facets about a quadric each, mm: that of the
    patches without an edge (Mederos et al. 2003 fit likewise; the quantile keeps edges and blends out).

    Parameters
    ----------
    neighbours : (m, 3) of facets, −1 where there is none.  patches : how many are looked at, drawn by ``seed``.
    """
    rng = np.random.default_rng(seed)
    found = []
    for f in rng.choice(len(mesh.faces), min(patches, len(mesh.faces)), replace=False):
        ids = np.unique(mesh.faces[around(neighbours, int(f), facets)])
        if len(ids) < min(_FEWEST, max(facets // 2, 7)):
            continue
        p = mesh.vertices[ids] - mesh.vertices[ids].mean(axis=0)
        _, _, axes = np.linalg.svd(p, full_matrices=False)
        u, v, h = (p @ axes.T).T
        size = max(float(np.abs(u).max()), float(np.abs(v).max()), 1e-300)
        u, v = u / size, v / size
        a = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], -1)
        r = h - a @ np.linalg.lstsq(a, h, rcond=None)[0]
        found.append(float(np.sqrt((r**2).sum() / (len(r) - 6))))
    return float(np.quantile(found, _SMOOTH_SHARE)) if found else 0.0


def look_at_patch(mesh: TriMesh, facets: np.ndarray, outward: np.ndarray) -> tuple[float, float, float, float]:
    """Of vertices of some facets (k,): their standard deviations about the plane and about the cubic that fit them
    best, how far they bow to the ``outward`` side (3,), and how wide they lie; all mm.
    """
    p = mesh.vertices[mesh.faces[facets[:: int(np.ceil(len(facets) / _TELLING))], 0]]
    p = p - p.mean(axis=0)
    axes = np.linalg.eigh(p.T @ p)[1]
    h, v, u = (p @ axes).T
    if axes[:, 0] @ outward < 0:
        h = -h
    size = max(float(np.abs(u).max()), float(np.abs(v).max()), 1e-300)
    u, v = u / size, v / size
    a = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v, u**3, u * u * v, u * v * v, v**3], -1)
    flat, full = (np.linalg.lstsq(a[:, :many], h, rcond=None)[0] for many in (3, 10))
    scatter = [float(np.sqrt(((h - a[:, : len(c)] @ c) ** 2).sum() / max(len(h) - len(c), 1))) for c in (flat, full)]
    return scatter[0], scatter[1], -float(full[3] + full[5]), 2 * size


def around(neighbours: np.ndarray, facet: int, most: int) -> np.ndarray:
    """Facets (k,) about one, ring by ring, until there are as many."""
    seen, front = {facet}, [facet]
    while front and len(seen) < most:
        nxt = []
        for f in front:
            for g in neighbours[f]:
                if g >= 0 and int(g) not in seen:
                    seen.add(int(g))
                    nxt.append(int(g))
        front = nxt
    return np.fromiter(seen, np.int64)
