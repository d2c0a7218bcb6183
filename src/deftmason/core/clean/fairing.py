"""Patches shaped by the surface around them: soap film, thin plate, or least change of curvature.

The unknowns are the patch's inner vertices and a band of scan vertices around it. The band is held to the scan only as
hard as its noise deserves, so a patch continues the surface and not the noise of its rim. The energy is
``λ‖M^{-1/2} L x‖² + Σ_band A|x − x₀|²`` with cotangent Laplacian L and vertex areas M (Botsch, Kobbelt 2004, *An
intuitive framework for real-time freeform modeling*), and with ``∇(M⁻¹ L x)`` in place of ``M⁻¹ L x`` for curvature.
"""

from __future__ import annotations

import numpy as np

__all__ = ["fair", "spread_inward"]

_SMOOTHING_EDGES = 1.6  # over how many edges the band's noise is averaged
_HELD = 1e6  # weight of what must not move


def _laplacian(points: np.ndarray, faces: np.ndarray, n: int, uniform: bool):
    """Stiffness matrix (n, n), row sums zero and positive on the diagonal, and vertex areas (n,)."""
    from scipy.sparse import coo_matrix

    p = points[faces]
    rows, cols, data = [], [], []
    double = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    for k in range(3):
        i, j = faces[:, (k + 1) % 3], faces[:, (k + 2) % 3]
        if uniform:
            w = np.full(len(faces), 0.4)
        else:
            u, v = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
            w = 0.5 * np.clip(np.einsum("ij,ij->i", u, v) / np.maximum(double, 1e-12), 0.05, 8.0)
        rows += [i, j]
        cols += [j, i]
        data += [w, w]
    w = coo_matrix((np.concatenate(data), (np.concatenate(rows), np.concatenate(cols))), shape=(n, n)).tocsr()
    area = np.bincount(faces.ravel(), np.repeat(double / 6, 3), n)
    from scipy.sparse import diags

    return (diags(np.asarray(w.sum(axis=1)).ravel()) - w).tocsr(), np.maximum(area, 1e-12)


def fair(
    points: np.ndarray,
    faces: np.ndarray,
    free: np.ndarray,
    held: np.ndarray,
    order: int,
    *,
    uniform: bool = False,
) -> np.ndarray:
    """Positions (n, 3) that make the region smooth.

    Parameters
    ----------
    points, faces : the region: patch and band.  free : (n,) bool, patch vertices without data.
    held : (n,) bool, vertices that stay exactly (the band's outer ring is better left to its data).
    order : 1 soap film, 2 thin plate, 3 least change of curvature.
    """
    from scipy.sparse import diags
    from scipy.sparse.linalg import splu

    n = len(points)
    stiff, area = _laplacian(points, faces, n, uniform)
    edge2 = float(np.median(np.sum((points[faces[:, 0]] - points[faces[:, 1]]) ** 2, axis=1)))
    if uniform:
        area = np.full(n, edge2 * 0.87)
    # Vertices on the region's own border have no full ring: the energy is not asked there.
    a, b = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], -1).reshape(-1, 2), axis=1).T
    key, uses = np.unique(a.astype(np.int64) * n + b, return_counts=True)
    rim = np.zeros(n, bool)
    rim[key[uses == 1] // n] = True
    rim[key[uses == 1] % n] = True
    full = (~rim).astype(float)
    if order == 1:
        k, weight = stiff, np.where(free, 0.0, _HELD)
        scale = 1.0
    else:
        h = diags(full / area) @ stiff
        if order == 2:
            k = h.T @ diags(area) @ h
            scale = (_SMOOTHING_EDGES**2 * edge2) ** 2
        else:
            inner = (~rim)[faces].all(axis=1)
            sub, _ = _laplacian(points, faces[inner], n, uniform)
            k = h.T @ sub @ h
            scale = (_SMOOTHING_EDGES**2 * edge2) ** 3
        weight = np.where(free, 0.0, np.where(held, _HELD, 1.0)) * area
    origin = points.mean(axis=0)
    system = (scale * k + diags(weight + 1e-9 * weight.max())).tocsc()
    factor = splu(system, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}, diag_pivot_thresh=0.0)
    rhs = (weight + 1e-9 * weight.max())[:, None] * (points - origin)
    return factor.solve(rhs) + origin


def spread_inward(points: np.ndarray, faces: np.ndarray, rim: int, shift: np.ndarray, edges: float = 2.0) -> np.ndarray:
    """A shift (rim, 3) given at the first ``rim`` vertices, fading into the rest over a few edges (screened
    Laplacian).
    """
    from scipy.sparse import diags
    from scipy.sparse.linalg import splu

    n = len(points)
    stiff, _ = _laplacian(points, faces, n, True)
    system = (stiff + diags(np.full(n, 0.87 / edges**2))).tocsc()
    inner = np.arange(rim, n)
    if not len(inner):
        return np.zeros((0, 3))
    factor = splu(system[rim:, rim:].tocsc(), permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True})
    return factor.solve(-(system[rim:, :rim] @ shift))
