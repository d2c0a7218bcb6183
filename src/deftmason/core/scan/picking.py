"""From a place and a rule to facets: the picks that survive a new scan, because no facet is ever named.

A pick floods out from the facet nearest its place, over neighbours that agree with a running description of what has
been gathered so far: a mean facing, or an element refitted as it grows. Comparing with the running fit, not only with
the next facet, keeps a noisy scan from leaking through a soft edge or stopping short.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import njit

from ..elements import FIT_KINDS, Element, Fit, fit
from ..errors import BadArgument, BadInput
from .growing import flood_on
from .index import ScanIndex

__all__ = ["RULES", "Gathered", "gather", "gather_on", "fit_gathered"]

#: Rules a place can grow by, and the angle each starts with (degrees).
RULES = {"same facing": 12.0, "same bend": 20.0}

_PATCH_FACETS = 260  # the first look around the place
_FIT_SAMPLE = 800  # points a running fit needs
_REACH_SIGMAS = 4.0  # how far off the running element a facet may lie
_BENDS = ("cylinder", "cone", "sphere", "torus")


@dataclass(frozen=True)
class Gathered:
    """Facets found from one place. ``facets`` (k,) sorted; ``missed`` the distance from the place to the scan, mm."""

    facets: np.ndarray
    rule: str
    angle_deg: float
    missed: float
    element: Element | None = field(default=None)

    def vertices(self, index: ScanIndex) -> np.ndarray:
        """Distinct vertex numbers of the facets."""
        return np.unique(index.mesh.faces[self.facets])


@njit(cache=True)
def _flood(seed, allowed, neighbours, most):  # pragma: no cover - compiled
    m = neighbours.shape[0]
    seen = np.zeros(m, np.bool_)
    queue = np.empty(m if most <= 0 else min(m, most + 3), np.int32)
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail:
        f = queue[head]
        head += 1
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0 and not seen[g] and allowed[g]:
                if most > 0 and tail >= most:
                    return queue[:tail]
                seen[g] = True
                queue[tail] = g
                tail += 1
    return queue[:tail]


@njit(cache=True)
def _facing(normals, ref, limit):  # pragma: no cover - compiled
    out = np.empty(normals.shape[0], np.bool_)
    for i in range(normals.shape[0]):
        out[i] = normals[i, 0] * ref[0] + normals[i, 1] * ref[1] + normals[i, 2] * ref[2] >= limit
    return out


def _mean_normal(index: ScanIndex, facets: np.ndarray) -> np.ndarray:
    n = (index.calm_normals[facets] * index.mesh.areas[facets, None]).sum(axis=0)
    return n / max(np.linalg.norm(n), 1e-300)


def _first_patch(index: ScanIndex, seed: int, cone_deg: float, facets: int = _PATCH_FACETS) -> np.ndarray:
    """Facets around the seed, breadth first, that do not turn more than ``cone_deg`` from it."""
    near = _facing(index.calm_normals, index.calm_normals[seed], np.cos(np.radians(cone_deg)))
    near[seed] = True
    return _flood(seed, near, index.neighbours, facets)


def _seed(index: ScanIndex, place, normal) -> tuple[int, float]:
    place = np.asarray(place, float)
    if place.shape != (3,) or not np.isfinite(place).all():
        raise BadArgument("A place is three numbers x, y, z in millimetres.", field="place")
    return index.nearest_facet(place, None if normal is None else np.asarray(normal, float))


def gather(index: ScanIndex, place, rule: str, angle_deg: float | None = None, *, normal=None) -> Gathered:
    """Facets that belong with a place by a rule.

    Parameters
    ----------
    place : (3,) in the scan's coordinates, mm.  normal : (3,), which side of a thin wall was meant.
    rule : 'same facing' or 'same bend'.  angle_deg : how far a facet's normal may turn from the running description.
    """
    if rule not in RULES:
        raise BadArgument(f"There is no rule '{rule}'; choose one of {', '.join(RULES)}.", field="rule")
    angle = RULES[rule] if angle_deg is None else float(angle_deg)
    if not 0.1 <= angle <= 90:
        raise BadArgument("The angle must lie between 0.1° and 90°.", field="angle_deg")
    seed, missed = _seed(index, place, normal)
    if rule == "same facing":
        patch = _first_patch(index, seed, max(angle, 8.0), 60)
        ref = _mean_normal(index, patch)
        facets = patch
        for _ in range(3):
            allowed = _facing(index.calm_normals, ref, np.cos(np.radians(angle)))
            allowed[seed] = True
            found = _flood(seed, allowed, index.neighbours, 0)
            new = _mean_normal(index, found)
            done = len(found) == len(facets) or new @ ref > np.cos(np.radians(angle * 0.02))
            facets, ref = found, new
            if done:
                break
        return Gathered(np.sort(facets), rule, angle, missed)
    best, element = None, None
    patch = _first_patch(index, seed, 60.0)
    for kind in _BENDS:
        try:
            found = _grow(index, seed, kind, angle, patch)
        except BadInput:
            continue
        if found is None:
            continue
        facets, e, sigma = found
        # Prefer the element that explains the most surface; an extra parameter must earn 3 % more.
        score = index.mesh.areas[facets].sum() * (1 - 0.03 * (FIT_KINDS[kind] - 4))
        if best is None or score > best[0]:
            best, element = (score, facets), e
        if kind == "cylinder" and len(facets) > 3 * len(patch):
            break
    if best is None:
        return gather(index, place, "same facing", min(angle, RULES["same facing"]), normal=normal)
    return Gathered(np.sort(best[1]), rule, angle, missed, element)


def gather_on(index: ScanIndex, place, kind: str, angle_deg: float | None = None, *, normal=None) -> Gathered:
    """Facets of the surface of one kind that passes through the place (running fit of that kind)."""
    if kind in ("line", "circle"):
        raise BadArgument(
            f"A {kind} is a curve: it has no surface to spread over; fit it without a seed.", field="kind"
        )
    angle = RULES["same facing" if kind == "plane" else "same bend"] if angle_deg is None else float(angle_deg)
    seed, missed = _seed(index, place, normal)
    patch = _first_patch(index, seed, 12.0 if kind == "plane" else 60.0)
    found = _grow(index, seed, kind, angle, patch)
    if found is None:
        raise BadInput(f"No {kind} passes through the place given; pick another place or another kind.")
    return Gathered(np.sort(found[0]), f"on one {kind}", angle, missed, found[1])


def _grow(index: ScanIndex, seed: int, kind: str, angle: float, patch: np.ndarray):
    facets, last, known = patch, 0, None
    rng = np.random.default_rng(3)
    for _ in range(6):
        use = facets if len(facets) <= _FIT_SAMPLE else rng.choice(facets, _FIT_SAMPLE, replace=False)
        if len(use) < FIT_KINDS.get(kind, 3):
            return None
        p = index.mesh.centroids[use]
        f = fit(kind, p, normals=index.calm_normals[use], correlated=False, near=known)
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        keep = np.abs(f.residuals) <= max(3 * spread, 1e-9)
        if keep.sum() >= FIT_KINDS[kind] and keep.sum() < len(keep):
            f = fit(kind, p[keep], normals=index.calm_normals[use][keep], correlated=False, near=f.element)
            spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        known = f.element
        reach = max(_REACH_SIGMAS * spread, 1e-6 + 0.002 * index.mesh.median_edge)
        found = flood_on(index, seed, f.element, reach, angle, facets)
        if len(found) < 12:
            return None if last == 0 else (facets, f.element, spread)
        facets = found
        if abs(len(facets) - last) <= 0.005 * len(facets):
            break
        last = len(facets)
    return facets, f.element, spread


def fit_gathered(index: ScanIndex, gathered: Gathered, kind: str, **holds) -> tuple[Fit, np.ndarray]:
    """Fit an element to a pick's vertices, leaving out what stands off the rest (dents, blends, specks).

    Returns the fit and the vertex numbers it used, at most 20 000 evenly taken ones.
    """
    ids = gathered.vertices(index)
    if len(ids) > 20_000:
        ids = ids[:: int(np.ceil(len(ids) / 20_000))]
    p, n = index.mesh.vertices[ids], index.mesh.vertex_normals[ids]
    f = fit(kind, p, normals=n, correlated=False, near=gathered.element, **holds)
    for _ in range(5):
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        keep = np.abs(f.residuals) <= max(3.5 * spread, 1e-9)
        if keep.all() or keep.sum() < max(FIT_KINDS[kind], 8):
            break
        ids, p, n = ids[keep], p[keep], n[keep]
        f = fit(kind, p, normals=n, correlated=False, near=f.element, **holds)
    return fit(kind, p, normals=n, **holds), ids
