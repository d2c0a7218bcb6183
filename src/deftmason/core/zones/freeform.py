"""Which zones only follow a free surface for a while: where they end, the surface bends on as they do.

A zone stops on a free surface where the change of bend has carried it a few noises away from its element; at a true
border the bend changes by far more than that. Where it does not (a pipe that bends gently), the pattern tells: pieces
of a free surface lie about each other like cobbles, true faces that run on gently follow one another in a row, and at
least some of them went on far longer than a steady change of bend would have let them.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.sparse.csgraph import connected_components

from ..elements import Cone, Cylinder, Element, Plane, Sphere, Torus
from .borders import thin_pieces
from .ground import Ground, pieces_of
from .merging import Borders, borders_of
from .pipes import is_pipe_joint

__all__ = ["free_pieces", "normal_curvature", "typical_piece", "with_free"]

_RUNS_ON_DEG = 12.0  # neighbouring facets that turn less are not parted by an edge
_CREASE_DEG = 24.0
_ALIKE = 0.4  # of the stronger: bends that differ by less are one
_UNSEEN = 40.0  # of the noise: a change of bend times the zone's width squared that growing cannot see
_MILD, _SEEN_BEND, _CHAIN = 0.6, 20.0, 5  # of the stronger bend; of the noise, a bend times width squared; zones
_PIPE = 0.01  # of their lengths: a straight and a bend that fit one another so well are of one tube, and no cobbles
_ROW = 3  # zones: two that run on are a straight and its bend
_GOES_ON = 8.0  # of the noise: how far off one another's element the parts of one zone lie
_PART = 0.3  # of a chain's area, or of what is free: what is larger stands for itself
_SHARE, _AMONG, _INTO_FREE = 0.3, 0.15, 0.5  # of a zone's border over which it runs on; among cobbles; into free ones
_SOLID = 400.0  # of the noise: a change of bend times the zone's own width squared that growing surely had seen
_ABSORB_SHARE = 0.55  # of a zone's border that runs on into a larger free one: then it is part of that
_MOST_PIECES, _OWN = 0.9, 2.5  # of the area of free pieces; of such a piece: what is larger is no part of them
_EDGE_WEIGHT = 0.4  # of a border along an edge, against one that runs on
_PLACES = 60  # of a border
_SCRAP = 0.04  # of the largest zone's area: a scrap between two faces makes no cobble of them
_COMPANY = 8  # zones of a region without creases that may all be pieces of one free surface
_FREE_REGION = 0.35  # of such a region's area that must be free already
_SMALL_AMONG = 0.1  # of such a region's area: what is larger stands for itself
_ALL = 0.8  # of a zone's border without a crease: what runs on into free ones alone, and bends as they do, is free
_RUNS_ON = 0.5  # of a zone's border without a crease
_TOUCH = 0.1  # of the shorter of two borders: less is a chance meeting


def normal_curvature(e: Element, points: np.ndarray, along: np.ndarray) -> np.ndarray:
    """Curvature (n,) of an element's surface at the feet of points (n, 3) in unit tangent directions (n, 3), 1/mm,
    positive where it bends away from its positive side (do Carmo 1976, §3.2).
    """
    if isinstance(e, Plane):
        return np.zeros(len(points))
    if isinstance(e, Sphere):
        return np.full(len(points), 1 / e.radius)
    base = e.apex if isinstance(e, Cone) else e.center if isinstance(e, Torus) else e.point
    d = points - base
    t = d @ e.direction
    radial = d - t[:, None] * e.direction
    rho = np.maximum(np.linalg.norm(radial, axis=1), 1e-300)
    round_ = np.cross(e.direction, radial / rho[:, None])
    turn = np.einsum("ij,ij->i", round_, along) ** 2
    if isinstance(e, Cylinder):
        return turn / e.radius
    if isinstance(e, Cone):
        return turn * np.cos(np.radians(e.half_angle_deg)) / rho
    assert isinstance(e, Torus)
    u = rho - e.major_radius
    lean = u / np.maximum(np.hypot(u, t), 1e-300)
    return turn * lean / rho + (1 - turn) / e.minor_radius


def _seen(ground: Ground, element: Element, facets: np.ndarray) -> float:
    """+1 where a zone's facets look along its element's positive side, −1 where against."""
    some = facets[:: max(1, len(facets) // 200)]
    along = np.einsum("ij,ij->i", element.normals(ground.index.mesh.centroids[some]), ground.normals[some])
    return 1.0 if float(along.sum()) >= 0 else -1.0


def free_pieces(ground: Ground, labels: np.ndarray, elements: list[Element]) -> np.ndarray:
    """Whether each zone (z,) is only a piece of a free surface: where it ends the surface runs on as it bends, or into
    pieces that are free.
    """
    count = len(elements)
    if ground.index.exact or not count:
        return np.zeros(count, bool)
    whole, alike, mild, smooth, solid = _meetings(ground, labels, elements)
    area = np.bincount(labels[labels >= 0], ground.index.mesh.areas[labels >= 0], count)
    share = alike.sum(axis=1) / np.maximum(whole, 1)
    free = np.zeros(count, bool)
    for own, cobbled in _patterns(alike, area):
        if cobbled:
            free[own] = (share[own] > _AMONG) & ~solid[own]
        elif len(own) >= _ROW and area[own][solid[own]].sum() < 0.5 * area[own].sum():
            free[own] = share[own] > _SHARE
    for own in _chains(mild, area):
        free[own] |= (share[own] > _AMONG) & (area[own] < _PART * area[own].sum())
    while True:
        more = free | (smooth[:, free].sum(axis=1) > _INTO_FREE * np.maximum(whole, 1)) & ~solid
        among = (smooth[:, free].sum(axis=1) > _ALL * smooth.sum(axis=1)) & (area < _PART * area[free].sum())
        more |= among & (mild[:, free].sum(axis=1) > _AMONG * whole)
        more |= _among_free(more, area, whole, smooth)
        if more.sum() == free.sum():
            return free
        free = more


def _among_free(free: np.ndarray, area: np.ndarray, whole: np.ndarray, smooth: np.ndarray) -> np.ndarray:
    """Small zones (z,) of a region without creases of which a good part is free: that they fit an element where they
    lie says less than the company they keep.
    """
    out = np.zeros(len(free), bool)
    runs_on = smooth > _TOUCH * np.minimum(np.maximum(whole, 1)[:, None], np.maximum(whole, 1)[None])
    pieces, of = connected_components(runs_on | runs_on.T, directed=False)
    for piece in range(pieces):
        own = np.nonzero(of == piece)[0]
        if len(own) < _COMPANY:
            continue
        total = area[own].sum()
        if area[own][free[own]].sum() > _FREE_REGION * total:
            small = area[own] < _SMALL_AMONG * total
            out[own] = small & (smooth[own].sum(axis=1) > _RUNS_ON * np.maximum(whole[own], 1))
    return out


def _patterns(alike: np.ndarray, area: np.ndarray) -> Iterator[tuple[np.ndarray, bool]]:
    """Zones (k,) that run on into one another, and whether they, but for scraps between them, lie about each other and
    not in a row or ring.
    """
    graph = alike > 0
    graph |= graph.T
    pieces, of = connected_components(graph, directed=False)
    for piece in range(pieces):
        own = np.nonzero(of == piece)[0]
        if len(own) > 1:
            large = own[area[own] > _SCRAP * area[own].max()]
            yield own, np.triu(graph[np.ix_(large, large)]).sum() > len(large)


def _chains(mild: np.ndarray, area: np.ndarray) -> Iterator[np.ndarray]:
    """Zones (k,) that follow one another, each bent nearly as the one before: makers' arcs change their bend at once,
    and so often nobody chains them.
    """
    graph = mild > 0
    pieces, of = connected_components(graph | graph.T, directed=False)
    for piece in range(pieces):
        own = np.nonzero(of == piece)[0]
        if (area[own] > _SCRAP * area[own].max()).sum() >= _CHAIN:
            yield own


def _meetings(ground: Ground, labels: np.ndarray, elements: list[Element]):
    """How many border edges each zone has (z,); with each other (z, z) how many across which the bend changes by no
    more than growing could have seen, by little though there is a bend, and how many without a crease; and
    whether it went on far longer than a steady change of bend to its neighbours would have let it (z,).
    """
    count = len(elements)
    order = np.argsort(labels, kind="stable")
    cut = np.searchsorted(labels[order], np.arange(count + 1))
    facets = [order[cut[i] : cut[i + 1]] for i in range(count)]
    area = [float(ground.index.mesh.areas[f].sum()) for f in facets]
    side = [_seen(ground, e, f) for e, f in zip(elements, facets)]
    c = ground.index.mesh.centroids
    least = np.cos(np.radians(_RUNS_ON_DEG))
    whole = np.zeros(count)
    alike, mild, smooth = (np.zeros((count, count)) for _ in range(3))
    solid = np.zeros(count, bool)
    for i in range(count):
        f, g = _across(ground, labels, facets[i], i)
        whole[i] = len(f)
        calm = np.einsum("ij,ij->i", ground.normals[f], ground.normals[g]) > least
        f, g = f[calm], g[calm]
        seen = []
        for j in np.unique(labels[g]):
            if j < 0:
                continue
            mine = labels[g] == j
            smooth[i, j] = mine.sum()
            if is_pipe_joint(elements[i], elements[j], _PIPE) or _goes_on(ground, elements, facets, i, j):
                continue
            a, b = f[mine][:_PLACES], g[mine][:_PLACES]
            step = c[b] - c[a]
            step -= np.einsum("ij,ij->i", step, ground.normals[a])[:, None] * ground.normals[a]
            step /= np.maximum(np.linalg.norm(step, axis=1), 1e-300)[:, None]
            own = side[i] * normal_curvature(elements[i], c[a], step)
            other = side[j] * normal_curvature(elements[j], c[b], step)
            # Place by place: what bends in here and out there, as a bend of a pipe, is not straight for it.
            change = float(np.median(np.abs(own - other)))
            strong = max(float(np.median(np.abs(own))), float(np.median(np.abs(other))))
            length = float(np.linalg.norm(c[g[mine]] - c[f[mine]], axis=1).sum())
            wide = min(area[i], area[j]) / max(length, 1e-300)
            if change < max(_ALIKE * strong, _UNSEEN * ground.noise / wide**2):
                alike[i, j] = mine.sum()
                if change < _MILD * strong and strong * wide**2 > _SEEN_BEND * ground.noise:
                    mild[i, j] = alike[i, j]
                seen.append((change * (area[i] / max(length, 1e-300)) ** 2, float(mine.sum())))
        solid[i] = bool(seen) and _lower_third(seen) > _SOLID * ground.noise
    return whole, alike, mild, smooth, solid


def _goes_on(ground: Ground, elements: list[Element], facets: list[np.ndarray], i: int, j: int) -> bool:
    """Whether two zones are one that a long wave of the noise parted: each lies about the other's element, where the
    next piece of a free surface is far off it.
    """
    if elements[i].kind != elements[j].kind:
        return False
    c = ground.index.mesh.centroids
    for e, f in ((elements[i], facets[j]), (elements[j], facets[i])):
        if float(np.median(np.abs(e.distance(c[f[:: max(1, len(f) // 200)]])))) > _GOES_ON * ground.noise:
            return False
    return True


def _lower_third(seen: list[tuple[float, float]]) -> float:
    """The value below which a third of the weight of (value, weight) pairs lies: a scrap beside a zone says little."""
    value, weight = np.array(sorted(seen)).T
    return float(value[np.searchsorted(np.cumsum(weight), weight.sum() / 3)])


def _across(ground: Ground, labels: np.ndarray, facets: np.ndarray, label: int) -> tuple[np.ndarray, np.ndarray]:
    """Facets of a zone and those beyond its border, a pair an edge."""
    near = ground.index.neighbours[facets]
    beyond = (near >= 0) & (labels[np.maximum(near, 0)] != label)
    row, column = np.nonzero(beyond)
    return facets[row], near[row, column]


def with_free(ground: Ground, labels: np.ndarray, elements: list[Element], least: float, piece: float = np.inf):
    """Labels (m,) and elements with free zones added (None) for connected pieces of no element that are large and wide
    enough; small elements that run on into them are theirs, where no far larger than a ``piece`` of them, mm².
    """
    labels = labels.copy()
    told: list[Element | None] = list(elements)
    areas = ground.index.mesh.areas
    smooth = _by_creases(ground)
    pieces = pieces_of(ground.index.neighbours, np.where(labels < 0, smooth, -1 - labels))
    area = np.bincount(pieces, np.where(labels < 0, areas, 0.0))
    thin = thin_pieces(ground, np.where(labels < 0, pieces, -1), least)
    wide = (area >= least) & (np.bincount(pieces, thin & (labels < 0)) == 0)
    new = np.full(len(area), -1, np.int32)
    new[wide] = len(told) + np.arange(int(wide.sum()))
    labels = np.where((labels < 0) & wide[pieces], new[pieces], labels).astype(np.int32)
    told += [None] * int(wide.sum())
    return (_absorbed(ground, labels, told, _OWN * piece), told) if wide.any() else (labels, told)


def typical_piece(ground: Ground, labels: np.ndarray, left: np.ndarray) -> float:
    """The area, mm², that most pieces (z,) of free surfaces that are ``left`` do not reach; infinite without any."""
    area = np.bincount(labels[labels >= 0], ground.index.mesh.areas[labels >= 0], len(left))[left]
    if not len(area):
        return np.inf
    area = np.sort(area)
    return float(area[np.searchsorted(np.cumsum(area), _MOST_PIECES * area.sum())])


def _absorbed(ground: Ground, labels: np.ndarray, told: list[Element | None], most: float) -> np.ndarray:
    """Elements of at ``most`` an area, mm², most of whose border runs on into larger free zones given to these, until
    none is left.
    """
    while True:
        area = np.bincount(labels[labels >= 0], ground.index.mesh.areas[labels >= 0], len(told))
        border: Borders = borders_of(ground, labels)
        whole, into = np.zeros(len(told)), np.zeros(len(told))
        to = np.arange(len(told) + 1, dtype=np.int32)
        to[-1] = -1
        for (a, b), n, turn in zip(border.pairs.tolist(), border.edges.tolist(), border.turn_deg.tolist()):
            whole[[a, b]] += n if turn < _RUNS_ON_DEG else n * _EDGE_WEIGHT
            for own, other in ((a, b), (b, a)):
                if (
                    told[own] is not None
                    and told[other] is None
                    and turn < _RUNS_ON_DEG
                    and area[own] < min(area[other] / 2, most)
                ):
                    into[own] += n
                    to[own] = other
        given = into > _ABSORB_SHARE * np.maximum(whole, 1)
        if not given.any():
            return labels
        to[:-1] = np.where(given, to[:-1], np.arange(len(told)))
        labels = to[labels]


def _by_creases(ground: Ground) -> np.ndarray:
    """Regions (m,) that no crease runs through, numbered from 0."""
    n, g = ground.normals, ground.index.neighbours.copy()
    least = np.cos(np.radians(_CREASE_DEG))
    for k in range(3):
        g[np.einsum("ij,ij->i", n, n[np.maximum(g[:, k], 0)]) < least, k] = -1
    return pieces_of(g, np.zeros(len(n), np.int32))
