"""From a place and a rule to facets: the picks that survive a new scan, because no facet is ever named.

A pick floods out from the facet nearest its place, over neighbours that agree with a running description of what has
been gathered so far: a mean facing, or an element refitted as it grows. Comparing with the running fit, not only with
the next facet, keeps a noisy scan from leaking through a soft edge or stopping short.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import njit

from ..elements import FIT_KINDS, Element, Fit, Side, fit, middle_of_tube, rolling_ball
from ..errors import BadArgument, BadInput
from .growing import flood_on
from .index import ScanIndex

__all__ = ["RULES", "Gathered", "gather", "flood", "gather_on", "fit_gathered", "patch_about", "set_aside"]

#: Rules a place can grow by, and the angle each starts with (degrees).
RULES = {"same facing": 12.0, "same bend": 20.0}

_PATCH_FACETS = 260  # the first look around the place
_SCAN_PATCHES = (260, 60)
_EXACT_PATCHES = (10, 40, 160, 640)
_TURNED_DEG = 8.0  # that exact facets must turn to tell a bend
_CREASE_DEG = 35.0  # exact facets that turn more are parted by an edge
_CALM = 0.25  # of the median edge: an element that scatters less than this is taken at once
_EXACT = 3e-6  # of the mesh's size: how far off exact facets' corners may lie
_FIT_SAMPLE = 800  # points a running fit needs
_REACH_SIGMAS = 4.0  # how far off the running element a facet may lie
_BENDS = ("cylinder", "cone", "sphere", "torus")


@dataclass(frozen=True)
class Gathered:
    """Facets found from one place. ``facets`` (k,) sorted; ``missed`` the distance from the place to the scan, mm;
    ``between`` what a narrow rounding is tangent to.
    """

    facets: np.ndarray
    rule: str
    angle_deg: float
    missed: float
    element: Element | None = field(default=None)
    between: tuple[Side, Side] | None = field(default=None)

    def vertices(self, index: ScanIndex) -> np.ndarray:
        """Distinct vertex numbers of the facets."""
        return index.corners(self.facets)


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


def flood(index: ScanIndex, seed: int, allowed: np.ndarray) -> np.ndarray:
    """The facets (k,), sorted, that are reached from one over allowed ones (a mask of all)."""
    return np.sort(_flood(seed, allowed, index.neighbours, 0))


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
    """Facets around the seed, breadth first, that do not turn more than ``cone_deg`` from it; on exact facets, not
    across an edge either.
    """
    near = _facing(index.calm_normals, index.calm_normals[seed], np.cos(np.radians(cone_deg)))
    near[seed] = True
    if index.exact:
        return _flood_smooth(seed, near, index.neighbours, index.mesh.normals, np.cos(np.radians(_CREASE_DEG)), facets)
    return _flood(seed, near, index.neighbours, facets)


def patch_about(index: ScanIndex, seed: int, cone_deg: float, facets: int) -> np.ndarray:
    """Up to so many facets (k,) about one, nearest first, that turn no more than an angle (degrees) from it."""
    return _first_patch(index, seed, cone_deg, facets)


@njit(cache=True)
def _flood_smooth(seed, allowed, neighbours, normals, least, most):  # pragma: no cover - compiled
    """Like `_flood`, but from facet to facet only where they turn by little."""
    seen = np.zeros(neighbours.shape[0], np.bool_)
    queue = np.empty(most + 3, np.int32)
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail and tail < most:
        f = queue[head]
        head += 1
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0 and not seen[g] and allowed[g]:
                if (
                    normals[f, 0] * normals[g, 0] + normals[f, 1] * normals[g, 1] + normals[f, 2] * normals[g, 2]
                    >= least
                ):
                    seen[g] = True
                    queue[tail] = g
                    tail += 1
    return queue[:tail]


def _patches(index: ScanIndex, seed: int, kind: str, exact: bool) -> list[np.ndarray]:
    """First looks around a place, by size: what a wide one mixes up, a narrow one may not."""
    cone = 12.0 if kind == "plane" else 60.0
    if not exact:
        return [_first_patch(index, seed, cone, n) for n in _SCAN_PATCHES]
    out = [_first_patch(index, seed, 1.0 if kind == "plane" else cone, n) for n in _EXACT_PATCHES]
    if kind == "plane":
        return out[:1]
    turned = [
        float((index.mesh.normals[p] @ index.mesh.normals[seed]).min()) < np.cos(np.radians(_TURNED_DEG)) for p in out
    ]
    return [p for p, t in zip(out, turned) if t]


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
    for kind in _BENDS:
        found = _grown(index, seed, kind, angle)
        if found is None:
            continue
        facets, e, sigma = found
        # Prefer the element that explains the most surface; an extra parameter must earn 3 % more.
        score = index.mesh.areas[facets].sum() * (1 - 0.03 * (FIT_KINDS[kind] - 4))
        if best is None or score > best[0]:
            best, element = (score, facets), e
        if kind == "cylinder" and len(facets) > 3 * _PATCH_FACETS:
            break
    if best is None:
        return gather(index, place, "same facing", min(angle, RULES["same facing"]), normal=normal)
    return Gathered(np.sort(best[1]), rule, angle, missed, element)


def gather_on(index: ScanIndex, place, kind: str, angle_deg: float | None = None, *, normal=None) -> Gathered:
    """Facets of the surface of one kind that passes through the place (running fit of that kind): a place (3,), or
    the facet there.
    """
    if kind in ("line", "circle"):
        raise BadArgument(
            f"A {kind} is a curve: it has no surface to spread over; fit it without a seed.", field="kind"
        )
    angle = RULES["same facing" if kind == "plane" else "same bend"] if angle_deg is None else float(angle_deg)
    seed, missed = (place, 0.0) if isinstance(place, int) else _seed(index, place, normal)
    found = _grown(index, seed, kind, angle)
    if found is None:
        raise BadInput(f"No {kind} passes through the place given; pick another place or another kind.")
    return Gathered(np.sort(found[0]), f"on one {kind}", angle, missed, found[1])


def _grown(index: ScanIndex, seed: int, kind: str, angle: float):
    """The best growth from several first looks: facets, element, scatter; None where there is none."""
    for exact in (True, False) if index.exact else (False,):
        best = None
        for patch in _patches(index, seed, kind, exact):
            try:
                found = _grow(index, seed, kind, angle, patch, exact)
            except BadInput:
                continue
            if found is None:
                continue
            if (
                best is None
                or found[2] < 0.6 * best[2]
                or (found[2] < 1.5 * best[2] and len(found[0]) > 1.2 * len(best[0]))
            ):
                best = found
            if exact or (len(found[0]) > 2 * len(patch) and found[2] < _CALM * index.mesh.median_edge):
                break
        if best is not None:
            return best
    return None


def _places(index: ScanIndex, facets: np.ndarray, middles: bool) -> tuple[np.ndarray, np.ndarray]:
    """Corners of facets with the mean normal of those of the facets that meet there; or their middles."""
    m = index.mesh
    if middles:
        return m.centroids[facets], index.calm_normals[facets]
    ids, inverse = np.unique(m.faces[facets], return_inverse=True)
    n = np.zeros((len(ids), 3))
    np.add.at(n, inverse.ravel(), np.repeat(index.calm_normals[facets] * m.areas[facets, None], 3, axis=0))
    return m.vertices[ids], n / np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]


def _grow(index: ScanIndex, seed: int, kind: str, angle: float, patch: np.ndarray, is_exact: bool):
    facets, last, known = patch, 0, None
    rng = np.random.default_rng(3)
    exact = _EXACT * float(np.linalg.norm(np.ptp(index.mesh.bounds, axis=0))) if is_exact else 0.0
    spread = 0.0
    for _ in range(6):
        use = facets if len(facets) <= _FIT_SAMPLE else rng.choice(facets, _FIT_SAMPLE, replace=False)
        middles = len(facets) > 150 and not is_exact  # they scatter less
        p, n = _places(index, use, middles)
        if len(p) < FIT_KINDS.get(kind, 3):
            return None
        f = fit(kind, p, normals=n, correlated=False, near=known)
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        keep = np.abs(f.residuals) <= max(3 * spread, exact, 1e-9)
        if keep.sum() > FIT_KINDS[kind] and keep.sum() < len(keep):
            f = fit(kind, p[keep], normals=n[keep], correlated=False, near=f.element)
            spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        if is_exact:
            if float(np.max(np.abs(f.residuals))) > exact:  # exact facets lie on their surface, or on another
                return None if last == 0 else (facets, known, spread)
            reach = exact
        else:
            reach = max(_REACH_SIGMAS * spread * (np.sqrt(3) if middles else 1.0), 0.002 * index.mesh.median_edge)
        found = flood_on(index, seed, f.element, reach, angle, facets)
        if len(found) < ((1 if kind == "plane" else 4) if is_exact else 12):
            return None if last == 0 else (facets, f.element, spread)
        known = f.element
        facets = found
        if abs(len(facets) - last) <= 0.005 * len(facets):
            break
        last = len(facets)
    return facets, known, spread


def fit_gathered(
    index: ScanIndex, gathered: Gathered, kind: str, *, keep_all: bool = False, **holds
) -> tuple[Fit, np.ndarray]:
    """Fit an element to a pick's vertices, leaving out what stands off the rest (dents, blends, specks) unless
    ``keep_all``.

    Returns the fit and the vertex numbers it used, at most 20 000 evenly taken ones. A narrow rounding that nothing
    holds is fitted as the ball tangent to its sides.
    """
    ids = gathered.vertices(index)
    if len(ids) > 20_000:
        ids = ids[:: int(np.ceil(len(ids) / 20_000))]
    p, n = index.mesh.vertices[ids], index.mesh.vertex_normals[ids]
    if gathered.between is not None and gathered.element is not None and not holds and not keep_all:
        ball = rolling_ball(p, *gathered.between, middle_of_tube(gathered.element, p[0]))
        surface = None if ball is None else ball.surface()
        if ball is not None and surface is not None and surface.kind == kind:
            return ball.as_fit(surface), ids[ball.inside]
    f = fit(kind, p, normals=n, correlated=False, near=gathered.element, **holds)
    for _ in range(0 if keep_all else 5):
        keep = np.abs(f.residuals) <= _far_off(f)
        if keep.all() or keep.sum() < max(FIT_KINDS[kind], 8):
            break
        ids, p, n = ids[keep], p[keep], n[keep]
        f = fit(kind, p, normals=n, correlated=False, near=f.element, **holds)
    return fit(kind, p, normals=n, near=f.element, **holds), ids


def _far_off(f: Fit) -> float:
    """How far (mm) off an element a place is one that does not belong to it."""
    return max(3.5 * 1.4826 * float(np.median(np.abs(f.residuals))), 1e-9)


def set_aside(index: ScanIndex, gathered: Gathered, f: Fit) -> np.ndarray:
    """The facets of a pick that its fit left out: all of their corners stand off the rest (numbers, rising)."""
    faces = index.mesh.faces[gathered.facets]
    ids, at = np.unique(faces, return_inverse=True)
    off = np.abs(f.element.distance(index.mesh.vertices[ids])) > _far_off(f)
    return gathered.facets[off[at.reshape(faces.shape)].all(axis=1)]
