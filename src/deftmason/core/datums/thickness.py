"""How thick a wall is: along its own normal to the other side, both sides read from the facets about the ray.

Each side is a quadric over a patch (Petitjean 2002, *A survey of methods for recovering quadrics in triangle meshes*),
so that bent walls are not read too thick or too thin; the ray is cast through every facet (Möller, Trumbore 1997).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..scan.index import ScanIndex
from .surface_at import surface_at

__all__ = ["Wall", "thickness"]

_AWAY = 1e-6  # of the scan's size: what is nearer is the facet the ray begins on


@dataclass(frozen=True)
class Wall:
    """``thickness`` mm with its standard deviation; ``lean_deg`` between both sides; where the ray enters and leaves
    (3,) mm.
    """

    thickness: float
    uncertainty: float
    lean_deg: float
    lean_uncertainty_deg: float
    enters: np.ndarray
    leaves: np.ndarray


def thickness(index: ScanIndex, place, normal=None) -> Wall:
    """The wall at a place (3,) mm; ``normal`` (3,) tells which side of it was meant.

    Raises
    ------
    BadInput : where the scan has no other side behind the place, or is too rough there.
    """
    at = np.asarray(place, float)
    seed, _ = index.nearest_facet(at, None if normal is None else np.asarray(normal, float))
    near = surface_at(index, seed, at, index.mesh.normals[seed])
    other, hit = _behind(index, near.place, -near.normal, seed)
    far = surface_at(index, other, hit, near.normal)
    apart = far.place - near.place
    lean = float(np.degrees(np.arccos(np.clip(abs(near.normal @ far.normal), 0, 1))))
    sigma = float(np.hypot(near.sigma, far.sigma / max(abs(near.normal @ far.normal), 0.2)))
    turn = float(np.degrees(np.hypot(near.turn, far.turn)))
    return Wall(float(np.linalg.norm(apart)), sigma, lean, turn, near.place, far.place)


def _behind(index: ScanIndex, start: np.ndarray, way: np.ndarray, seed: int) -> tuple[int, np.ndarray]:
    """The first facet a ray meets behind the one it begins on, and where."""
    m = index.mesh
    a, b, c = (m.vertices[m.faces[:, k]] for k in range(3))
    e1, e2, s = b - a, c - a, start - a
    h = np.cross(way, e2)
    det = np.einsum("ij,ij->i", e1, h)
    with np.errstate(divide="ignore", invalid="ignore"):
        u = np.einsum("ij,ij->i", s, h) / det
        q = np.cross(s, e1)
        v = (q @ way) / det
        t = np.einsum("ij,ij->i", e2, q) / det
        inside = (u >= 0) & (v >= 0) & (u + v <= 1)
    # A facet whose back the ray meets is the other side; one it meets from the front is another wall's beginning.
    out = (m.normals @ way > 0) & inside & (t > _AWAY * index.size)
    out[seed] = False
    if not out.any():
        raise BadInput("The scan has no other side behind this place; scan the wall from behind as well.", field="pick")
    k = int(np.nonzero(out)[0][np.argmin(t[out])])
    return k, start + t[k] * way
