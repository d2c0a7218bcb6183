"""The last word on a zone: its element fitted to what surely belongs to it, of the kind that says it in the fewest
words.

Two kinds that both lie within the noise are weighed by description length: what an added parameter saves in residuals
against what it costs (Schwarz 1978, *Estimating the dimension of a model*), on the count of places whose noise is its
own.
"""

from __future__ import annotations

import numpy as np

from ..elements import FIT_KINDS, Element, Fit, fit
from ..elements.uncertainty import correlation_inflation
from ..errors import BadInput
from ..scan.index import ScanIndex
from .ground import Ground

__all__ = ["inner_vertices", "settled_fit", "weighed"]

_POINTS, _KIND_POINTS = 20_000, 3000
_INNER_SHARE = 0.6  # of a zone's vertices that must lie away from its border, to do without the others
_PRICE = 3.0  # times the log of the count, for each parameter more
_LARGEST = 60.0
#: What else a zone of one kind could be.
_OTHERS = {
    "plane": ("cylinder", "sphere"),
    "cylinder": ("plane", "cone", "torus"),
    "cone": ("cylinder", "plane", "sphere", "torus"),
    "sphere": ("plane", "cylinder", "torus"),
    "torus": ("cylinder", "sphere", "cone"),
}


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


def weighed(f: Fit, count: float) -> float:
    """The length of a description by this fit, up to a constant, of ``count`` places whose noise is their own."""
    n = max(count, 2.0)
    return n * float(np.log(max(f.sigma, 1e-300) ** 2)) + _PRICE * FIT_KINDS[f.kind] * float(np.log(n))


def _cleaned(kind: str, p: np.ndarray, n: np.ndarray, near: Element | None) -> Fit:
    f = fit(kind, p, normals=n, correlated=False, near=near)
    for _ in range(3):  # what stands off the rest does not count
        r = np.abs(f.element.distance(p))
        keep = r <= 3.5 * 1.4826 * float(np.median(r)) + 1e-12
        if keep.all() or keep.sum() < 12:
            break
        f = fit(kind, p[keep], normals=n[keep], correlated=False, near=f.element)
    return f


def _real(f: Fit, extent: float) -> bool:
    radius = getattr(f.element, "radius", None) or getattr(f.element, "major_radius", None)
    if radius is not None and float(radius) > _LARGEST * extent:
        return False
    if f.kind == "torus" and f.element.minor_radius > f.element.major_radius:
        return False
    return f.kind != "cone" or 0.3 < f.element.half_angle_deg < 89.0  # type: ignore[attr-defined]


def settled_fit(ground: Ground, facets: np.ndarray, inner: np.ndarray, element: Element | None) -> Fit | None:
    """The element of a zone's vertices away from its border, of the kind that describes them shortest; None for a free
    zone. ``inner`` (n,) as `inner_vertices` gives it.
    """
    if element is None:
        return None
    m = ground.index.mesh
    ids = np.unique(m.faces[facets])
    deep = _deeper(ids, inner, 2)
    ids = _deeper(ids, inner, 1)
    ids = ids[:: int(np.ceil(len(ids) / _POINTS))]
    p, n = m.vertices[ids], m.vertex_normals[ids]
    f = _cleaned(element.kind, p, n, element)
    if ground.index.exact or len(ids) < 40:
        return f
    deep = deep[:: int(np.ceil(len(deep) / _KIND_POINTS))]
    q, k = m.vertices[deep], m.vertex_normals[deep]
    extent = float(np.linalg.norm(np.ptp(q, axis=0)))
    first = _cleaned(f.kind, q, k, f.element)
    count = len(q) / correlation_inflation(q, first.element.distance(q))
    best, length = f, weighed(first, count)
    for kind in _OTHERS[f.kind]:
        try:
            other = _cleaned(kind, q, k, None)
        except BadInput:
            continue
        if _real(other, extent) and weighed(other, count) < length:
            best, length = other, weighed(other, count)
    return f if best is f else _cleaned(best.kind, p, n, best.element)
