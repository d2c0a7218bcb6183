"""A straight or round edge read from one place beside it: where the surfaces on either side of it meet.

The facets at a sharp edge of a scan are the worst it has: they straddle it and cut it off. So the edge is not fitted to
them. Both sides are read as a datum would be, the places along the edge are brought onto both by Newton's method (the
shortest step that closes both gaps), and the line or the circle is laid through these. A rounded edge is read likewise,
as the sharp one it was before. How sure it is follows from both sides, moved by one standard deviation in each way they
may be off (JCGM 100:2008, 5.1).
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..elements import Circle, Element, Line, perpendicular_pair
from ..errors import BadInput
from ..scan.growing import with_rings
from ..scan.index import ScanIndex
from ..scan.picking import fit_gathered
from ..zones.noise import face_noise
from .reading import Reading, readings
from .unsure import Datum, moved_each_way

__all__ = ["ReadEdge", "edge_at"]

_LOOKS = (4.0, 8.0, 16.0, 32.0)  # facets about the place within which both sides are looked for
_NEAREST = 0.4  # of a look: nearer the edge, facets straddle it
_FEWEST = 4  # facets of a side
_TURN_DEG = 10.0  # what turns less is no edge
_CREASE_DEG = 18.0  # the same between facets without noise
_SAME = 0.3  # of the smaller side's facets that both may share
_FREE = 2.5  # noises: what scatters more is no surface of any kind
_ON = 5e-4  # of an edge's extent, and noises: how far its places may lie off a line or a circle
_USUAL, _BEGINS = 0.75, 1.3  # of the places along it, and times as far as sides begin beside these
_ROUNDS = 12
_MOST = 60  # places that tell how sure an edge is
_LEAD = 3  # steps that bring them onto sides moved so little
_PAIRED = 3000  # places along an edge whose hanging together tells as much as all
_WHOLE_GAP = np.radians(12.0)  # a round edge with no wider gap goes all the way round


@dataclass(frozen=True)
class ReadEdge:
    """``element`` a line or a circle, its parameters' standard deviations; ``length`` mm that is seen of it and the
    angle it spans (degrees; None of a line); ``off`` mm that its places lie off it at most; ``turn_deg`` at which the
    surfaces meet there (0 to 90, as *Measure* tells it); the ``kinds`` of both sides, the ``places`` (k, 3) along it
    and the ``facets`` beside it.
    """

    element: Element
    uncertainty: dict
    length: float
    span_deg: float | None
    off: float
    turn_deg: float
    kinds: tuple[str, str]
    places: np.ndarray
    facets: np.ndarray


@dataclass(frozen=True)
class _Side:
    datum: Datum
    facets: np.ndarray


def edge_at(index: ScanIndex, place, *, normal=None) -> ReadEdge:
    """The edge nearest to a place (3,) mm; ``normal`` (3,) tells which side of a thin wall was meant.

    Raises
    ------
    BadInput : where no edge is near, a side of it is no flat or round surface, or it is neither straight nor round.
    """
    at = np.asarray(place, float)
    seed, _ = index.nearest_facet(at, None if normal is None else np.asarray(normal, float))
    one, other, reach = _sides(index, seed, at)
    foot = _met(one.datum.element, other.datum.element, at[None])[0]
    places = _along(index, one, other, foot, reach)
    elements = one.datum.element, other.datum.element
    noise = face_noise(index)
    e, off = _laid(places, max(noise, _ON * float(np.linalg.norm(np.ptp(places, axis=0)))))
    n, m = (s.normals(foot[None])[0] for s in elements)
    turn = float(np.degrees(np.arccos(np.clip(abs(n @ m), 0, 1))))
    sure = _sure(one, other, places, e)
    places, length, span = _extent(e, places)
    beside = np.nonzero(np.isin(index.mesh.faces, _near(index, places)).any(axis=1))[0]
    kinds = elements[0].kind, elements[1].kind
    return ReadEdge(e, sure, length, span, off, turn, kinds, places, beside)


def _near(index: ScanIndex, places: np.ndarray) -> np.ndarray:
    """The corners nearest to places along the edge."""
    return np.unique(index.vertex_tree.query(places)[1])


def _sides(index: ScanIndex, seed: int, at: np.ndarray) -> tuple[_Side, _Side, float]:
    """Both sides of the edge nearest to a facet, and how far (mm) from the place it may lie."""
    pairs = _creases(index, at) if index.exact else _leaning(index, seed, at)
    said = "There is no edge near this place: the surface goes on smoothly; click closer to an edge."
    for a, b, reach in pairs:
        with ThreadPoolExecutor(2) as both:
            one, other = both.map(lambda facet: _read(index, facet), (a, b))
        if one is None or other is None:
            said = "What lies beside the edge here is no flat or round surface, so that its line cannot be told."
            continue
        shared = len(np.intersect1d(one.facets, other.facets))
        if shared > _SAME * min(len(one.facets), len(other.facets)):
            continue
        elements = one.datum.element, other.datum.element
        foot = _met(*elements, at[None])[0]
        if not np.isfinite(foot).all() or np.linalg.norm(foot - at) > 1.5 * reach:
            continue
        n, m = (e.normals(foot[None])[0] for e in elements)
        if abs(n @ m) > np.cos(np.radians(_TURN_DEG)):
            continue
        return one, other, max(reach, float(np.linalg.norm(foot - at)))
    raise BadInput(said, field="pick")


def _leaning(index: ScanIndex, seed: int, at: np.ndarray):
    """Facets on either side of an edge about a place of a scan, from ever farther off, and how far that is (mm)."""
    m, h = index.mesh, index.mesh.median_edge
    for look in _LOOKS:
        about = with_rings(index, np.array([seed], np.int32), int(1.5 * look))
        away = np.linalg.norm(m.centroids[about] - at, axis=1)
        about, away = about[away <= look * h], away[away <= look * h]
        if len(about) < 3 * _FEWEST:
            continue
        n, a = m.normals[about], m.areas[about]
        # Two faces' normals span the plane square to their edge.
        along = np.linalg.eigh((n * a[:, None]).T @ n)[1][:, 0]
        mean = (n * a[:, None]).sum(axis=0)
        across = np.cross(along, mean)
        if not np.linalg.norm(across) > 0:
            continue
        lean = n @ (across / np.linalg.norm(across))
        far = away > _NEAREST * look * h
        most = float(np.quantile(np.abs(lean[far]), 0.8)) if far.any() else 0.0
        found = []
        for way in (1.0, -1.0):
            mine = np.nonzero(far & (way * lean > 0.5 * most))[0]
            if len(mine) < _FEWEST:
                break
            usual = np.median(n[mine], axis=0)
            found.append(int(about[mine[np.argmax(n[mine] @ usual)]]))
        if len(found) == 2 and m.normals[found[0]] @ m.normals[found[1]] < np.cos(np.radians(_TURN_DEG)):
            yield found[0], found[1], look * h


def _creases(index: ScanIndex, at: np.ndarray):
    """The facets on either side of the creases of an exact mesh nearest to a place, and how far that is (mm)."""
    m = index.mesh
    f = np.repeat(np.arange(len(m.faces)), 3)
    g = index.neighbours.ravel()
    on = (g > f) & (np.einsum("ij,ij->i", m.normals[f], m.normals[np.maximum(g, 0)]) < np.cos(np.radians(_CREASE_DEG)))
    rows = np.nonzero(on)[0]
    a = m.vertices[m.faces[f[rows], rows % 3]]
    b = m.vertices[m.faces[f[rows], (rows + 1) % 3]]
    t = np.clip(np.einsum("ij,ij->i", at - a, b - a) / np.maximum(np.einsum("ij,ij->i", b - a, b - a), 1e-300), 0, 1)
    away = np.linalg.norm(a + t[:, None] * (b - a) - at, axis=1)
    for k in np.argsort(away, kind="stable")[:6]:
        if away[k] > 0.25 * index.size:
            return
        yield int(f[rows[k]]), int(g[rows[k]]), max(float(away[k]), 1e-6 * index.size)


def _read(index: ScanIndex, facet: int) -> _Side | None:
    m = index.mesh
    try:
        best: Reading = readings(index, m.centroids[facet], normal=m.normals[facet])[0]
        g = best.gathered
        if g.element is None or (not index.exact and best.scatter > _FREE * face_noise(index)):
            return None
        f = fit_gathered(index, g, g.element.kind)[0]
    except BadInput:
        return None
    return _Side(Datum(f.element, f.uncertainty), g.facets)


def _met(a: Element, b: Element, places: np.ndarray, rounds: int = _ROUNDS) -> np.ndarray:
    """Places (k, 3) brought onto both surfaces by the shortest steps; what does not arrive is not finite."""
    p = places.copy()
    scale = float(np.linalg.norm(np.ptp(places, axis=0))) + float(np.abs(a.distance(p)).max(initial=0.0))
    scale += float(np.abs(b.distance(p)).max(initial=0.0))
    for _ in range(rounds):
        d, e = a.distance(p), b.distance(p)
        n, m = a.normals(p), b.normals(p)
        c = np.einsum("ij,ij->i", n, m)
        square = np.maximum(1 - c * c, 1e-6)
        x, y = (c * e - d) / square, (c * d - e) / square
        p = p + x[:, None] * n + y[:, None] * m
    missed = np.maximum(np.abs(a.distance(p)), np.abs(b.distance(p)))
    p[~(missed <= 1e-7 * scale + 1e-12)] = np.nan
    return p


def _along(index: ScanIndex, one: _Side, other: _Side, foot: np.ndarray, reach: float) -> np.ndarray:
    """Places (k, 3) on both surfaces along the edge that passes a place, as far as the scan has it."""
    m, h = index.mesh, index.mesh.median_edge
    a, b = one.datum.element, other.datum.element
    p = _between(index, one, other) if index.exact else np.zeros((0, 3))
    if len(p):
        near, link = np.inf, 0.0
        on = _met(a, b, p)
    else:
        corners = [m.vertices[index.corners(s.facets)] for s in (one, other)]
        trees = [cKDTree(p) for p in corners]
        # As far from the edge as both sides begin beside it: what lies farther is no part of it.
        first = max(float(t.query(foot)[0]) for t in trees)
        near = 1.5 * first + (reach if index.exact else 1.5 * h)
        link = index.size if index.exact else max(4 * h, 2 * reach)
        p = np.concatenate(corners)
        p = p[(np.abs(a.distance(p)) < near) & (np.abs(b.distance(p)) < near)]
        on = _met(a, b, p)
        on = on[np.isfinite(on).all(axis=1)]
        beside = np.column_stack([t.query(on)[0] for t in trees])
        close = (beside < near).all(axis=1)
        if close.any() and not index.exact:
            close = (beside < np.hypot(_BEGINS * np.quantile(beside[close], _USUAL, axis=0), h)).all(axis=1)
        on = on[close]
    on = on[np.isfinite(on).all(axis=1)]
    if len(on) < 2:
        raise BadInput("Too little of the edge is seen here to tell its line; click where more of it is.", field="pick")
    if link == 0.0:  # sampled edge by edge of the mesh, twice as close as the longest step
        link = 2 * float(cKDTree(on).query(on, k=2)[0][:, 1].max())
    every = max(1, len(on) // _PAIRED)
    on = on[::every]
    pairs = cKDTree(on).query_pairs(link * every, output_type="ndarray")
    links = coo_matrix((np.ones(len(pairs), bool), (pairs[:, 0], pairs[:, 1])), shape=(len(on), len(on)))
    piece = connected_components(links, directed=False)[1]
    mine = on[piece == piece[int(np.argmin(np.linalg.norm(on - foot, axis=1)))]]
    return mine[:: max(1, len(mine) // (4 * _MOST))]


def _between(index: ScanIndex, one: _Side, other: _Side) -> np.ndarray:
    """Places along the mesh's own edges between two sides."""
    m = index.mesh
    in_a, in_b = (np.isin(np.arange(len(m.faces)), s.facets) for s in (one, other))
    g = index.neighbours
    on = in_a[:, None] & (g >= 0) & in_b[np.maximum(g, 0)]
    f, k = np.nonzero(on)
    a, b = m.vertices[m.faces[f, k]], m.vertices[m.faces[f, (k + 1) % 3]]
    if not len(a):
        return a
    step = np.linalg.norm(b - a, axis=1)
    parts = np.clip(np.ceil(step / max(float(np.median(step)), 1e-300) * 4), 4, 400).astype(int)
    return np.concatenate([p + np.linspace(0, 1, n + 1)[:, None] * (q - p) for p, q, n in zip(a, b, parts)])


def _line(p: np.ndarray) -> Line:
    c = p.mean(axis=0)
    return Line(c, np.linalg.svd(p - c, full_matrices=False)[2][0])


def _circle(p: np.ndarray) -> Circle:
    """The circle through places (k, 3) that lie on one but for rounding (Kåsa 1976), upright on their plane."""
    c = p.mean(axis=0)
    scale = float(np.linalg.norm(np.ptp(p, axis=0)))
    n = np.linalg.svd(p - c, full_matrices=False)[2][2]
    u, v = perpendicular_pair(n)
    x, y = (p - c) @ u / scale, (p - c) @ v / scale
    s = np.linalg.lstsq(np.column_stack([x, y, np.ones(len(x))]), x * x + y * y, rcond=None)[0]
    r = float(np.sqrt(max(s[2] + (s[0] ** 2 + s[1] ** 2) / 4, 0.0)))
    return Circle(c + scale * 0.5 * (s[0] * u + s[1] * v), n, r * scale)


def _laid(p: np.ndarray, within: float) -> tuple[Element, float]:
    """The line or the circle that places lie on, and how far off they lie at most (mm)."""
    line = _line(p)
    off = float(np.abs(line.distance(p)).max())
    if off <= within:
        return line, off
    if len(p) >= 6:
        circle = _circle(p)
        off = float(np.abs(circle.distance(p)).max())
        if off <= within:
            return circle, off
    raise BadInput(
        f"This edge is neither straight nor round: it lies up to {off:.3g} mm off a circle. Take it as a curve.",
        field="pick",
    )


def _extent(e: Element, p: np.ndarray) -> tuple[np.ndarray, float, float | None]:
    """Places in order along it, how much of it is seen, mm, and the angle that spans (degrees)."""
    if isinstance(e, Line):
        t = (p - e.point) @ e.direction
        return p[np.argsort(t)], float(np.ptp(t)), None
    u, v = perpendicular_pair(e.normal)
    angle = np.arctan2((p - e.center) @ v, (p - e.center) @ u)
    order = np.argsort(angle)
    gaps = np.diff(np.concatenate([angle[order], angle[order[:1]] + 2 * np.pi]))
    widest = float(gaps.max())
    whole = widest < max(4 * float(np.median(gaps)), _WHOLE_GAP)
    span = 2 * np.pi if whole else 2 * np.pi - widest
    order = np.roll(order, -int(np.argmax(gaps)) - 1)
    return p[[*order, order[0]] if whole else order], span * e.radius, float(np.degrees(span))


def _sure(one: _Side, other: _Side, places: np.ndarray, e: Element) -> dict:
    """The standard deviations of the edge's parameters, from those of both sides."""
    some = places[:: max(1, len(places) // _MOST)]
    a, b = one.datum.element, other.datum.element

    def laid(first: Element, second: Element) -> Element:
        p = _met(first, second, some, _LEAD)
        p = p[np.isfinite(p).all(axis=1)]
        if len(p) < (2 if isinstance(e, Line) else 6):
            raise BadInput(
                "The sides of this edge are too unsure to tell where they meet; click elsewhere.", field="pick"
            )
        return _line(p) if isinstance(e, Line) else _circle(p)

    here = laid(a, b)
    moved = [laid(m, b) for m in moved_each_way(one.datum)] + [laid(a, m) for m in moved_each_way(other.datum)]
    told = {}
    for key, value in here.__dict__.items():
        got = np.array([getattr(m, key) for m in moved or [here]])
        if key in ("direction", "normal"):
            got = got * np.sign(got @ value)[:, None]
        off = got - value
        if key == "point":
            off = off - np.outer(off @ here.direction, here.direction)
        sigma = np.sqrt((off.reshape(len(off), -1) ** 2).sum(axis=0))
        told[key] = sigma.tolist() if np.ndim(value) else float(sigma[0])
    return told
