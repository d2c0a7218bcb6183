"""A pick on a narrow rounding, read by the ball that rolls between what lies on either side of it.

A few facets across tell a radius badly, and those at its rim lie half on the sides: a free cylinder or ring spreads
into them and comes out a tenth to a third too large. The sides are found by walking across, read, and the ball that
touches both is fitted to the places between where it touches.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..elements import Element, RollingBall, Side, fit, middle_of_tube, rolling_ball
from ..errors import BadInput
from ..scan.growing import with_rings
from ..scan.index import ScanIndex
from ..scan.picking import Gathered, gather_on
from ..zones.ground import Ground
from ..zones.growing import KINDS, grow_each
from ..zones.roundings import NARROW, THERE, as_well

__all__ = ["as_rounding"]

_KINDS = ("cylinder", "cone", "torus", "sphere")
_WIDE, _TURNS_DEG = 24.0, 200.0  # facets across, and how far round: a wider one tells itself
_PATCH = 60  # facets that tell which way a rounding runs
_STRIP = 3.0  # facets to either side of the walk across
_BEYOND = 2.0, 9.0  # facets past the rim, between which a side is looked for
_BAND = 30.0  # facets about a rounding within which a side is fitted
_SAMPLE, _FEWEST = 3000, 12
_AS_NOISE = 1.5  # of the noise: what scatters less lies on its element
_RINGS = 3
_REACH = 5.0  # of the noise: how far off the ball a facet's middle may lie


def _strip(index: ScanIndex, seed: int, along: np.ndarray, rings: int) -> np.ndarray:
    """Facets about one, breadth first, within a strip square to ``along``."""
    m = index.mesh
    near = np.abs((m.centroids - m.centroids[seed]) @ along) <= _STRIP * m.median_edge
    return with_rings(index, np.array([seed]), rings, near)


def _along(ground: Ground, seed: int, gathered: np.ndarray) -> np.ndarray:
    """Which way a rounding runs beside a facet: as the facets about it turn the least."""
    c = ground.index.mesh.centroids
    near = gathered[np.argsort(np.linalg.norm(c[gathered] - c[seed], axis=1))[:_PATCH]]
    return np.linalg.svd(ground.normals[near], full_matrices=False)[2][2]


def _beyond(ground: Ground, seed: int, gathered: np.ndarray, e: Element, wide: float) -> list[int] | None:
    """A facet well inside what lies on either side of a narrow rounding; None where it is ``wide`` facets across, or
    nothing lies there.
    """
    index = ground.index
    m, edge = index.mesh, index.mesh.median_edge
    place = m.centroids[seed]
    middle, radius = middle_of_tube(e, place)
    along = _along(ground, seed, gathered)
    out = (place - middle) / max(float(np.linalg.norm(place - middle)), 1e-300)
    across = np.cross(along, out)
    if radius * np.radians(_TURNS_DEG) > 4 * wide * edge:
        return None
    strip = _strip(index, seed, along, int(2.5 * wide))
    inside = np.isin(strip, gathered)
    if not inside.any():
        return None
    c = m.centroids[strip] - middle
    angle = np.arctan2(c @ across, c @ out)
    width = float(np.ptp(angle[inside]))
    if np.degrees(width) > _TURNS_DEG or width * radius > wide * edge:
        return None
    s = (m.centroids[strip] - place) @ across
    away = np.linalg.norm(m.centroids[strip] - place, axis=1)
    found = []
    for way in (1, -1):
        mine = way * s > 0
        rim = float(away[inside & mine].max(initial=0.0))
        beyond = mine & ~inside & (away > rim + _BEYOND[0] * edge) & (away < rim + _BEYOND[1] * edge)
        if beyond.sum() < 4:
            return None
        n = ground.normals[strip[beyond]]
        usual = np.median(n, axis=0)
        found.append(int(strip[beyond][np.argmax(n @ usual)]))
    return found


def _side(ground: Ground, seed: int, rounding: cKDTree) -> Side | None:
    """What lies about a facet beside a rounding, fitted to its places near that: flat where it is so within the noise,
    else of the kind that explains the most.
    """
    index = ground.index
    m = index.mesh

    def fitted(element: Element, facets: np.ndarray) -> Side | None:
        band = _BAND * m.median_edge
        ids = index.corners(facets)
        low, high = rounding.mins - band, rounding.maxes + band
        ids = ids[((m.vertices[ids] >= low) & (m.vertices[ids] <= high)).all(axis=1)]
        away = rounding.query(m.vertices[ids], distance_upper_bound=band)[0]
        places = m.vertices[ids[np.isfinite(away)]]
        ids = ids[np.isfinite(away) & (away > m.median_edge)]
        ids = ids[:: int(np.ceil(len(ids) / _SAMPLE))]
        if len(ids) < 2 * _FEWEST:
            return None
        p, n = m.vertices[ids], m.vertex_normals[ids]
        f = fit(element.kind, p, normals=n, correlated=False, near=element)
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        if spread > _AS_NOISE * ground.noise:
            return None
        keep = np.abs(f.residuals) <= 3.5 * spread + 1e-12
        return Side.of(fit(element.kind, p[keep], normals=n[keep], near=f.element), places, THERE * m.median_edge)

    try:
        flat = gather_on(index, seed, "plane")
        assert flat.element is not None
        side = fitted(flat.element, flat.facets)
        if side is not None:
            return side
    except BadInput:
        pass
    for grown in grow_each(ground, seed, KINDS[1:])[:1]:
        try:
            return fitted(grown.element, grown.facets)
        except BadInput:
            continue
    return None


def _ball(ground: Ground, seed: int, gathered: np.ndarray, e: Element, wide: float) -> RollingBall | None:
    index = ground.index
    seeds = _beyond(ground, seed, gathered, e, wide)
    if seeds is None:
        return None
    m = index.mesh
    some = gathered[:: int(np.ceil(len(gathered) / _SAMPLE))]
    tree = cKDTree(m.centroids[some])
    with ThreadPoolExecutor(2) as both:
        sides = list(both.map(lambda s: _side(ground, s, tree), seeds))
    if sides[0] is None or sides[1] is None:
        return None
    ids = index.corners(with_rings(index, gathered, _RINGS))
    ids = ids[:: int(np.ceil(len(ids) / (2 * _SAMPLE)))]
    p = m.vertices[ids]
    ball = rolling_ball(p, sides[0], sides[1], middle_of_tube(e, m.centroids[seed]), sure=False)
    surface = None if ball is None else ball.surface()
    if ball is None or surface is None or not as_well(ball, surface, p, e.kind, e, None, m.median_edge):
        return None
    return ball


def _about_place(index: ScanIndex, facets: np.ndarray, place: np.ndarray) -> np.ndarray:
    """Those of some facets (k,) that hang together with the one nearest to a place."""
    if not len(facets):
        return facets
    mine = np.searchsorted(facets, index.neighbours[facets])
    mine[mine == len(facets)] = 0
    beside = facets[mine] == index.neighbours[facets]
    rows = np.repeat(np.arange(len(facets)), 3)[beside.ravel()]
    links = coo_matrix((np.ones(len(rows), bool), (rows, mine[beside])), shape=(len(facets), len(facets)))
    piece = connected_components(links, directed=False)[1]
    nearest = int(np.argmin(np.linalg.norm(index.mesh.centroids[facets] - place, axis=1)))
    return facets[piece == piece[nearest]]


def as_rounding(index: ScanIndex, ground: Ground, seed: int, here, spread: list[Gathered]) -> Gathered | None:
    """What lies at a place as the narrow rounding it is, told by its two sides; None where it is none, or wide enough
    to tell itself.

    Parameters
    ----------
    index : the whole scan.  spread : what spreads from the place, the likeliest first.
    ground, seed : what was read about the place, and the facet of the place there; ``here`` gives the facets of the
        whole scan as numbers there.
    """
    if index.exact:
        return None
    for g in spread:
        mine = here(g.facets)
        if g.element is None or g.element.kind not in _KINDS or len(mine) < _FEWEST:
            continue
        ball = _ball(ground, seed, mine, g.element, _WIDE if g is spread[0] else NARROW)
        surface = None if ball is None else ball.surface()
        if ball is None or surface is None or not ball.holds(ground.index.mesh.centroids[[seed]])[0]:
            continue
        about = with_rings(index, g.facets, _RINGS)
        c = index.mesh.centroids[about]
        off = np.abs(surface.distance(c)) <= _REACH * ground.noise + index.mesh.median_edge**2 / (4 * ball.radius)
        facets = _about_place(index, about[ball.holds(c) & off], ground.index.mesh.centroids[seed])
        if len(facets) >= _FEWEST:
            return replace(g, facets=facets.astype(np.int32), element=surface, between=ball.sides)
    return None
