"""How a patch bends, and whether an element leaves what lies about it a shape."""

from __future__ import annotations

import numpy as np

from ..elements import Element, fit
from ..elements.motion import perpendicular_pair
from ..errors import BadInput
from .ground import Ground
from .looks import places_of, some_of

__all__ = ["bends_as", "is_shaped", "mean_turn"]

_ALIKE = 2.0  # noise alike from facet to facet makes a curvature less sure than their count says
_FEWEST = 12  # facets, twice over, that can tell a shape
_PATCH_ALIKE = 12  # facets whose noise counts as one
_SHAPED = 0.08  # share of the residuals' square that a shape may explain by chance, in a large zone


def bends_as(ground: Ground, patch: np.ndarray) -> tuple[str, ...]:
    """The kinds a patch could be part of, by its two principal curvatures and how sure they are.

    A quadric over the patch's own plane (Petitjean 2002) gives both with their standard deviations; a curvature
    counts where it is more than three of them and bends the patch by more than its noise.
    """
    m = ground.index.mesh
    ids = np.unique(m.faces[patch])
    if len(ids) < 8:
        return ("plane",)
    p = m.vertices[ids] - m.vertices[ids].mean(axis=0)
    n = ground.normals[patch].mean(axis=0)
    n /= max(np.linalg.norm(n), 1e-300)
    u, v = perpendicular_pair(n)
    x, y, h = p @ u, p @ v, p @ n
    a = np.stack([np.ones_like(x), x, y, x * x / 2, x * y, y * y / 2], -1)
    inverse = np.linalg.pinv(a.T @ a)
    c = inverse @ (a.T @ h)
    scatter = max(float(np.sqrt(((h - a @ c) ** 2).sum() / max(len(h) - 6, 1))), ground.noise)
    small, large = sorted(np.linalg.eigvalsh([[c[3], c[4]], [c[4], c[5]]]), key=abs)
    sure = 3 * _ALIKE * scatter * float(np.sqrt(max(inverse[3, 3], inverse[5, 5])))
    size = float(np.percentile(np.hypot(x, y), 90))
    least = max(sure, scatter / max(size * size, 1e-300))
    if abs(large) < least:
        return ("plane",)
    if abs(small) < 0.1 * abs(large):
        kinds: tuple[str, ...] = ("cylinder", "cone") if abs(small) < least else ("cylinder", "cone", "torus")
    elif abs(small) < least:
        kinds = ("cylinder", "cone")
    elif small * large > 0 and abs(small) > 0.6 * abs(large):
        kinds = ("sphere", "torus", "cone")
    else:
        kinds = ("torus", "cone", "cylinder")
    return ("plane", *kinds) if abs(large) < 3 * least else kinds


def is_shaped(ground: Ground, facets: np.ndarray, element: Element) -> bool:
    """Whether the distances from an element still follow a quadric in space: more than chance lets them."""
    if ground.index.exact or len(facets) < 2 * _FEWEST:
        return False
    p, n = places_of(ground, some_of(facets))
    try:
        r = fit(element.kind, p, normals=n, correlated=False, near=element).residuals
    except BadInput:
        r = element.distance(p)
    q = (p - p.mean(axis=0)) / max(float(np.abs(p - p.mean(axis=0)).max()), 1e-300)
    x, y, z = q.T
    a = np.stack([np.ones_like(x), x, y, z, x * x, y * y, z * z, x * y, y * z, z * x], -1)
    u, s, _ = np.linalg.svd(a, full_matrices=False)
    u = u[:, s > 1e-3 * s[0]]
    total = float(r @ r)
    explained = float(((u.T @ r) ** 2).sum())
    by_chance = _SHAPED + 20.0 * _PATCH_ALIKE / len(facets)
    return explained > by_chance * total and explained > len(r) * (0.35 * ground.noise) ** 2 / 3


def mean_turn(ground: Ground, facets: np.ndarray, element: Element) -> float:
    """Mean angle (rad) between facets and an element: coarse corners on two circles lie on many surfaces, their facets
    do not.
    """
    m = ground.index.mesh
    along = np.abs(np.einsum("ij,ij->i", element.normals(m.centroids[facets]), ground.normals[facets]))
    return float(np.average(np.arccos(np.clip(along, 0, 1)), weights=m.areas[facets]))
