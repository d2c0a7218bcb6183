"""A piece of a mesh laid flat with its angles kept as well as they can be, for a surface's two parameters.

Least squares conformal maps (Lévy et al. 2002), two far vertices pinned.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.linalg import splu

from ..errors import BadInput
from ..scan.mesh import TriMesh

__all__ = ["flattened"]


def _far_pair(p: np.ndarray) -> tuple[int, int]:
    a = int(np.argmax(np.linalg.norm(p - p.mean(axis=0), axis=1)))
    b = int(np.argmax(np.linalg.norm(p - p[a], axis=1)))
    return a, b


def flattened(mesh: TriMesh) -> np.ndarray:
    """Where each vertex of a connected open piece lies flat: (n, 2) mm, its area kept, its longest side along u.

    Raises `BadInput` where it cannot be laid flat without folding over.
    """
    v, f = mesh.vertices, mesh.faces
    n = len(v)
    a, b, c = (v[f[:, k]] for k in range(3))
    x = b - a
    long = np.maximum(np.linalg.norm(x, axis=1), 1e-300)
    x = x / long[:, None]
    d = c - a
    cx = np.einsum("ij,ij->i", d, x)
    cy = np.linalg.norm(d - cx[:, None] * x, axis=1)
    # Corners flat: (0, 0), (long, 0), (cx, cy); each corner's opposite side as a complex number.
    w = np.stack([cx - long + 1j * cy, -cx - 1j * cy, long + 0j], axis=1)
    scale = 1 / np.sqrt(np.maximum(long * cy, 1e-300))
    rows = np.repeat(np.arange(len(f)), 3)
    m = coo_matrix(((w * scale[:, None]).ravel(), (rows, f.ravel())), (len(f), n)).tocsc()
    pins = np.array(_far_pair(v))
    free = np.setdiff1d(np.arange(n), pins)
    held = np.array([0.0, np.linalg.norm(v[pins[0]] - v[pins[1]])], complex)
    left, right = m[:, free], -(m[:, pins] @ held)
    normal = (left.conj().T @ left).tocsc()
    flat = np.zeros(n, complex)
    flat[pins] = held
    flat[free] = splu(normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}, diag_pivot_thresh=0.0).solve(
        left.conj().T @ right
    )
    uv = np.column_stack([flat.real, flat.imag])
    p, q, r = (uv[f[:, k]] for k in range(3))
    turn = (q - p)[:, 0] * (r - p)[:, 1] - (q - p)[:, 1] * (r - p)[:, 0]
    if turn.sum() < 0:
        uv, turn = uv * [1, -1], -turn
    areas = mesh.areas
    if areas[turn <= 0].sum() > 0.01 * areas.sum():
        raise BadInput(
            "This area closes round or bends too much to be laid flat; mark less of it, or part it in two.",
            field="marks",
        )
    uv = uv * np.sqrt(2 * areas.sum() / turn.sum())
    return _along_longest(uv)


def _along_longest(uv: np.ndarray) -> np.ndarray:
    """Turned so that the smallest rectangle about it lies along u and v, the longer side along u, from (0, 0) on."""
    import shapely

    corners = np.array(shapely.MultiPoint(uv).minimum_rotated_rectangle.exterior.coords)
    sides = np.diff(corners[:3], axis=0)
    along = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
    along = along / max(float(np.linalg.norm(along)), 1e-300)
    if abs(along[0]) > 1e-9 and along[0] < 0:
        along = -along
    turned = uv @ np.array([[along[0], -along[1]], [along[1], along[0]]])
    return turned - turned.min(axis=0)
