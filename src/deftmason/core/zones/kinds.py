"""The last word on a zone: its element fitted to what surely belongs to it, of the simplest kind that leaves nothing.

What a kind leaves is tested against the waves that the scan's noise has everywhere: the quadric part of the residuals
by generalised least squares (Cressie 1993, *Statistics for Spatial Data*, §1.4), so that a long wave of noise does not
make a wall a sphere of two metres.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.spatial.distance import cdist

from ..elements import Cone, Element, Fit, fit
from ..elements.motion import perpendicular_pair
from ..elements.uncertainty import NoiseModel, noise_model
from ..errors import BadInput
from ..scan.index import ScanIndex
from .ground import Ground

__all__ = ["inner_vertices", "noise_of", "own_noise", "settled_fit"]

_POINTS, _KIND_POINTS, _SHAPE_POINTS = 20_000, 2000, 400
_INNER_SHARE = 0.6  # of a zone's vertices that must lie away from its border, to do without the others
_LARGEST = 60.0
_LEFT = 24.0  # chi squared of the six or so shapes a quadric has, that chance leaves at most
_GENTLE, _AS_GOOD = 3.0, 1.05  # radii to its extent, and scatter, of a crown that may as well be a ball
_BETTER = 0.8  # of the scatter: a rounder kind must leave less than this
_LARGE_ZONES = 5  # whose noise is that of the scan
#: Kinds in the order they are tried: what a zone of one kind could be more simply, and, if shape is left, what else.
_SIMPLER = {
    "plane": (),
    "cylinder": ("plane",),
    "cone": ("plane", "cylinder"),
    "sphere": ("plane", "cylinder", "cone"),
    "torus": ("plane", "sphere", "cylinder", "cone"),
}
_ROUNDER = {
    "plane": ("sphere", "cylinder"),
    "cylinder": ("cone", "torus"),
    "cone": ("torus",),
    "sphere": ("torus",),
    "torus": (),
}


class Settled(NamedTuple):
    """A zone's fit, and whether a shape is left in what it leaves."""

    fit: Fit
    shaped: bool


def inner_vertices(index: ScanIndex, labels: np.ndarray) -> np.ndarray:
    """How far inside its zone each vertex lies (n,): 0 at a border, 1 where all its facets are of one zone, 2 where
    those of its neighbours are too.
    """
    f = index.mesh.faces
    low = np.full(len(index.mesh.vertices), np.iinfo(np.int32).max, np.int32)
    high = np.full(len(index.mesh.vertices), -2, np.int32)
    for k in range(3):
        np.minimum.at(low, f[:, k], labels)
        np.maximum.at(high, f[:, k], labels)
    once = low == high
    twice = once.copy()
    for k in range(3):
        for j in range(3):
            np.logical_and.at(twice, f[:, k], once[f[:, j]])
    return once.astype(np.int8) + twice


def _deeper(ids: np.ndarray, inner: np.ndarray, rings: int) -> np.ndarray:
    """Those of a zone's vertices that lie so far inside, where enough do."""
    for deep in range(rings, 0, -1):
        own = ids[inner[ids] >= deep]
        if len(own) >= 30 and len(own) > _INNER_SHARE * len(ids):
            return own
    return ids


def _quadric(p: np.ndarray) -> np.ndarray:
    """Orthonormal quadric functions of places (n, 3), as many as they can tell apart: (n, k)."""
    q = p - p.mean(axis=0)
    x, y, z = (q / max(float(np.abs(q).max()), 1e-300)).T
    a = np.stack([np.ones_like(x), x, y, z, x * x, y * y, z * z, x * y, y * z, z * x], -1)
    u, s, _ = np.linalg.svd(a, full_matrices=False)
    return u[:, s > 3e-3 * s[0]]


def own_noise(feet: np.ndarray, r: np.ndarray) -> NoiseModel:
    """The noise in residuals (n,) mm at their feet (n, 3) on an element, without the shape they may have."""
    u = _quadric(feet)
    return noise_model(feet, r - u @ (u.T @ r), u)


def noise_of(ground: Ground, zones: list[tuple[np.ndarray, Element | None]], inner: np.ndarray) -> NoiseModel | None:
    """The waves of a scan's noise, as its largest zones show them; None on an exact mesh."""
    if ground.index.exact:
        return None
    m = ground.index.mesh
    found = []
    large = sorted((z for z in zones if z[1] is not None), key=lambda z: -len(z[0]))[:_LARGE_ZONES]
    for facets, element in large:
        ids = _deeper(np.unique(m.faces[facets]), inner, 2)
        if element is None or len(ids) < 200:
            continue
        p = m.vertices[ids[:: int(np.ceil(len(ids) / _POINTS))]]
        fitted = _perhaps(element.kind, p, None, element)
        if fitted is not None:
            found.append(own_noise(fitted.element.feet(p), fitted.element.distance(p)))
    found = [f for f in found if f.sigma2 > 0]
    if not found:
        return None
    # Of the middle variance, and as much alike as in the middle.
    reach = max((float(f.distances[-1]) for f in found if f.distances is not None), default=0.0)
    if reach == 0.0:
        return NoiseModel(float(np.median([f.sigma2 for f in found])))
    far = np.concatenate([[0.0], np.geomspace(1e-4 * reach, reach, 200)])
    return NoiseModel(
        float(np.median([f.sigma2 for f in found])), far, np.median([f.covariance(far) for f in found], axis=0)
    )


def _shape_left(p: np.ndarray, r: np.ndarray, noise: NoiseModel, element: Element) -> float:
    """Chi squared of the shape left in residuals (n,) mm at places (n, 3)."""
    some = np.random.default_rng(5).permutation(len(p))[:_SHAPE_POINTS]
    q, y = element.feet(p[some]), r[some]
    u = _quadric(q)
    c = u.T @ (y - y.mean())
    cov = u.T @ noise.covariance(cdist(q, q)) @ u + max(noise.sigma2 - noise.covariance(np.zeros(1))[0], 0.0) * np.eye(
        u.shape[1]
    )
    cov[np.diag_indices_from(cov)] += 1e-6 * noise.sigma2
    return float(c @ np.linalg.solve(cov, c))


def _cleaned(kind: str, p: np.ndarray, n: np.ndarray | None, near: Element | None) -> Fit:
    f = fit(kind, p, normals=n, correlated=False, near=near)
    for _ in range(3):  # what stands off the rest does not count
        r = np.abs(f.element.distance(p))
        keep = r <= 3.5 * 1.4826 * float(np.median(r)) + 1e-12
        if keep.all() or keep.sum() < 12:
            break
        f = fit(kind, p[keep], normals=None if n is None else n[keep], correlated=False, near=f.element)
    return f


def _perhaps(kind: str, p: np.ndarray, n: np.ndarray | None, near: Element | None) -> Fit | None:
    try:
        return _cleaned(kind, p, n, near)
    except BadInput:
        return None


def _real(f: Fit, extent: float) -> bool:
    radius = getattr(f.element, "radius", None) or getattr(f.element, "major_radius", None)
    if radius is not None and float(radius) > _LARGEST * extent:
        return False
    if f.kind == "torus" and f.element.minor_radius > f.element.major_radius:
        return False
    return f.kind != "cone" or 0.3 < f.element.half_angle_deg < 89.0  # type: ignore[attr-defined]


def _goes_round(e: Element, p: np.ndarray) -> bool:
    """Whether places (n, 3) go round a cylinder's or cone's axis by a right angle and more: a band, and bands are
    turned or bored far more often than they are slices of a ball.
    """
    d = p - (e.apex if isinstance(e, Cone) else e.point)  # type: ignore[attr-defined]
    u, v = perpendicular_pair(e.direction)  # type: ignore[attr-defined]
    angle = np.sort(np.arctan2(d @ v, d @ u))
    return float(np.diff(angle, append=angle[0] + 2 * np.pi).max()) < 1.5 * np.pi


def settled_fit(
    ground: Ground, facets: np.ndarray, inner: np.ndarray, element: Element | None, noise: NoiseModel | None
) -> Settled | None:
    """The element of a zone's vertices away from its border, of the simplest kind that leaves no shape; None for a
    free zone. ``inner`` (n,) as `inner_vertices` gives it, ``noise`` as `noise_of`.
    """
    if element is None:
        return None
    m = ground.index.mesh
    ids = np.unique(m.faces[facets])
    deep = _deeper(ids, inner, 2)
    ids = _deeper(ids, inner, 1)
    ids = ids[:: int(np.ceil(len(ids) / _POINTS))]
    p, n = m.vertices[ids], m.vertex_normals[ids]

    def told(kind: str, near: Element, shaped: bool) -> Settled | None:
        f = _perhaps(kind, p, n, near)
        return None if f is None else Settled(f, shaped)

    if noise is None or len(ids) < 40:
        return told(element.kind, element, False)
    deep = deep[:: int(np.ceil(len(deep) / _KIND_POINTS))]
    q, k = m.vertices[deep], m.vertex_normals[deep]
    extent = float(np.linalg.norm(np.ptp(q, axis=0)))

    def of(kind: str) -> Fit | None:
        f = _perhaps(kind, q, k, element if kind == element.kind else None)
        return f if f is None or kind == element.kind or _real(f, extent) else None

    def left(f: Fit) -> float:
        return _shape_left(q, f.element.distance(q), noise, f.element)

    own = of(element.kind)
    if own is None:
        return told(element.kind, element, True)
    best, shape = own, left(own)
    for kind in _SIMPLER[element.kind]:
        simpler = of(kind)
        if simpler is None or simpler.sigma > max(1.5 * own.sigma, own.sigma + ground.noise):
            continue
        if element.kind == "sphere" and kind != "plane" and not _goes_round(simpler.element, q):
            continue
        rest = left(simpler)
        if rest <= max(_LEFT, 1.1 * shape):
            best, shape = simpler, rest
            break
    if best is own and shape > _LEFT:
        for kind in _ROUNDER[element.kind]:
            rounder = of(kind)
            if rounder is None or rounder.sigma > _BETTER**0.5 * best.sigma:
                continue
            rest = left(rounder)
            if rest < 0.5 * shape:
                best, shape = rounder, rest
            if shape <= _LEFT:
                break
    if best.element.kind in ("cylinder", "cone"):
        # Of gentle crowns a ball says as much with fewer numbers.
        ball = of("sphere")
        if ball is not None and ball.element.radius > _GENTLE * extent and ball.sigma < _AS_GOOD * best.sigma:
            rest = left(ball)
            if rest < max(shape, 0.25 * _LEFT):
                best, shape = ball, rest
    return told(best.kind, best.element, shape > _LEFT)
