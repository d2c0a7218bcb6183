"""Circles, slots and rectangles read from the wall that stands along them: one click on it, on a plane given or found.

The wall is what runs on from the place and faces square to the plane's normal. Where no plane is given, the ways that
flats about the place face are tried: round a closed outline the wall's facets, as vectors, sum to nothing (the
divergence theorem), which tells the right way. The shapes are fitted to the wall's corners, seen along the normal, by
orthogonal least squares on their signed distances (Quilez's closed form for a rounded box), what stands off left out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Circle, Element, Plane, Rectangle, Slot, perpendicular_pair, unit
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import flood

__all__ = ["OUTLINES", "Outline", "outlines"]

#: The shapes an outline may have, simplest first.
OUTLINES = ("circle", "slot", "rectangle")

_LEAN = np.sin(np.radians(15.0))  # how far a wall may lean and be one
_OPEN = 0.12  # of a wall's area: what its facets sum to where the outline is not closed
_REACHES = (0.04, 0.1, 0.25, 0.6)  # of the scan's size: where flats that may carry the outline are looked for
_WAYS, _BINS = 3, 90
_FEWEST = 24
_MOST = 8000
_ALIKE = 1.08  # times the least scatter: a simpler shape within that is the one
_OFF = 3.5
_FINE = 1e-4  # of the outline's size: what is off by less is not off
_LEANS = np.radians(0.4)
_FEW = 1500  # places that tell how a wall runs
_ROUGHLY = 400  # facets that tell whether a wall is nearly one of the shapes
_STEP = 1e-6
_TIGHT = {"xtol": 1e-12, "ftol": 1e-12, "gtol": 1e-12}
_TRUE = 0.02  # of the width: what scatters more is none of these shapes


@dataclass(frozen=True)
class Outline:
    """``element`` on the plane, its parameters' standard deviations; ``scatter`` mm; the wall's ``facets``; how far
    it leans (degrees); ``aside``: places left out; ``found``: whether the plane was.
    """

    element: Element
    uncertainty: dict
    scatter: float
    facets: np.ndarray
    lean_deg: float
    aside: int
    residuals: np.ndarray
    found: bool


def _wall(index: ScanIndex, seed: int, up: np.ndarray) -> np.ndarray:
    n = index.mesh.normals if index.exact else index.calm_normals
    allowed = np.abs(n @ up) < _LEAN
    allowed[seed] = True
    return flood(index, seed, allowed)


def _openness(index: ScanIndex, facets: np.ndarray, up: np.ndarray) -> float:
    """0 for a wall that goes all round, 1 for one that faces one way."""
    v = index.mesh.normals[facets] * index.mesh.areas[facets, None]
    v = v - np.outer(v @ up, up)
    return float(np.linalg.norm(v.sum(axis=0)) / max(np.linalg.norm(v, axis=1).sum(), 1e-300))


def _square_to_all(index: ScanIndex, facets: np.ndarray, near: np.ndarray) -> np.ndarray:
    """The direction that a wall's facets are most square to."""
    n, a = index.mesh.normals[facets], index.mesh.areas[facets]
    d = np.linalg.eigh((n * a[:, None]).T @ n)[1][:, 0]
    return d if d @ near >= 0 else -d


def _ways_up(index: ScanIndex, seed: int, place: np.ndarray) -> list[np.ndarray]:
    """Directions square to the place's facet that flats about it face, those with the most area first."""
    calm = index.mesh.normals if index.exact else index.calm_normals
    facing = calm[seed]
    e, f = perpendicular_pair(unit(facing))
    away = np.linalg.norm(index.mesh.centroids - place, axis=1)
    out: list[np.ndarray] = []
    for reach in _REACHES:
        near = np.nonzero((away < reach * index.size) & (np.abs(calm @ facing) < _LEAN))[0]
        if len(near) < _FEWEST:
            continue
        x, y, a = calm[near] @ e, calm[near] @ f, index.mesh.areas[near]
        turn = np.mod(np.arctan2(y, x), np.pi)
        whole = np.bincount((turn * _BINS / np.pi).astype(int) % _BINS, a, _BINS)
        whole = whole + 0.5 * (np.roll(whole, 1) + np.roll(whole, -1))
        for k in np.argsort(-whole)[: 2 * _WAYS]:
            t = (k + 0.5) * np.pi / _BINS
            d = np.cos(t) * e + np.sin(t) * f
            if all(abs(d @ o) < 0.99 for o in out):
                out.append(d)
    return out[: 4 * _WAYS]


def _found_wall(index: ScanIndex, seed: int, place: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The closed wall about a place that is most nearly one of the shapes, and the way it runs; of several that are,
    the smallest.
    """
    best: tuple[float, float, np.ndarray, np.ndarray] | None = None
    for up in _ways_up(index, seed, place):
        facets = _wall(index, seed, up)
        if len(facets) < _FEWEST or _openness(index, facets, up) > 2 * _OPEN:
            continue
        up = _square_to_all(index, facets, up)
        facets = _wall(index, seed, up)
        if _openness(index, facets, up) > _OPEN:
            continue
        off = max(_roughly_off(index, facets, up), _TRUE)
        area = float(index.mesh.areas[facets].sum())
        if best is None or (off, area) < best[:2]:
            best = off, area, facets, up
    if best is None:
        raise BadInput(
            "No closed outline stands about this place; click the wall of a hole, a pocket or a boss, or give the "
            "plane it lies on.",
            field="pick",
        )
    return best[2], best[3]


def _roughly_off(index: ScanIndex, facets: np.ndarray, up: np.ndarray) -> float:
    """How far a wall is from the nearest of the shapes, of its size."""
    some = np.random.default_rng(6).permutation(len(facets))[:_ROUGHLY]
    c, n, a = index.mesh.centroids[facets[some]], index.mesh.normals[facets[some]], index.mesh.areas[facets[some]]
    q, e, f = _seen(c, c.mean(axis=0), up)
    q = q / float(np.sqrt(np.mean(q**2) * 2))
    turn = _long_way(q, np.column_stack([n @ e, n @ f]), a)
    return min(f[0] if f[2].mean() > 0.6 else np.inf for f in (_fitted(k, q, turn, False) for k in OUTLINES))


def _seen(p: np.ndarray, middle: np.ndarray, up: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    e, f = perpendicular_pair(up)
    return np.column_stack([(p - middle) @ e, (p - middle) @ f]), e, f


def _long_way(q: np.ndarray, n: np.ndarray, a: np.ndarray) -> float:
    """The turn (radians) of the long axis, from the ways that the wall's flats face."""
    four = float(np.angle(np.sum(a * np.exp(4j * np.arctan2(n[:, 1], n[:, 0]))))) / 4
    spans = []
    for t in (four, four + np.pi / 2):
        spans.append(float(np.ptp(q @ [np.cos(t), np.sin(t)])))
    return four if spans[0] >= spans[1] else four + np.pi / 2


def _shape(kind: str, x: np.ndarray, turn: float | None) -> Element:
    """A shape on the paper from its few numbers; ``turn`` where the long axis is held."""
    up = np.array([0.0, 0.0, 1.0])
    centre = np.array([x[0], x[1], 0.0])
    if kind == "circle":
        return Circle(centre, up, abs(x[2]))
    sizes = x[2:] if turn is not None else x[3:]
    t = x[2] if turn is None else turn
    along = np.array([np.cos(t), np.sin(t), 0.0])
    if kind == "slot":
        length, width = abs(sizes[0]), abs(sizes[1])
        return Slot(centre, up, along, max(length, width), width)
    length, width = abs(sizes[0]), abs(sizes[1])
    return Rectangle(centre, up, along, length, width, float(np.clip(sizes[2], 0.0, 0.5 * min(length, width))))


def _off(kind: str, q: np.ndarray, x: np.ndarray, turn: float | None) -> np.ndarray:
    """Signed distances (n,) of places (n, 2) from a shape, positive outside."""
    return _evaluated(kind, q, x, turn)[0]


def _evaluated(
    kind: str, q: np.ndarray, x: np.ndarray, turn: float | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Distances (n,), their slopes by the shape's numbers (n, k) and by the places (n, 2)."""
    d = q - x[:2]
    if kind == "circle":
        far = np.maximum(np.hypot(d[:, 0], d[:, 1]), 1e-12)
        g = d / far[:, None]
        return far - x[2], np.column_stack([-g, -np.ones(len(q))]), g
    t = x[2] if turn is None else turn
    c, s = np.cos(t), np.sin(t)
    along, across = d[:, 0] * c + d[:, 1] * s, d[:, 1] * c - d[:, 0] * s
    length, width = x[2 if turn is not None else 3], x[3 if turn is not None else 4]
    sx, sy = np.sign(along), np.sign(across)
    if kind == "slot":
        u = np.maximum(np.abs(along) - 0.5 * (length - width), 0.0)
        far = np.maximum(np.hypot(u, across), 1e-12)
        r, gu, gv = far - 0.5 * width, u / far, np.abs(across) / far
        sizes = [-0.5 * gu, 0.5 * gu - 0.5]
    else:
        corner = x[-1]
        u, v = np.abs(along) - 0.5 * length + corner, np.abs(across) - 0.5 * width + corner
        pu, pv = np.maximum(u, 0), np.maximum(v, 0)
        far = np.hypot(pu, pv)
        inside = far == 0
        r = far + np.minimum(np.maximum(u, v), 0) - corner
        far = np.where(inside, 1.0, far)
        gu = np.where(inside, (u >= v).astype(float), pu / far)
        gv = np.where(inside, (u < v).astype(float), pv / far)
        sizes = [-0.5 * gu, -0.5 * gv, gu + gv - 1.0]
    gu, gv = gu * sx, gv * sy
    g = np.column_stack([gu * c - gv * s, gu * s + gv * c])
    turns = [] if turn is not None else [gu * across - gv * along]
    return r, np.column_stack([-g, *turns, *sizes]), g


def _starts(kind: str, q: np.ndarray, turn: float, held: bool) -> list[np.ndarray]:
    r = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    low, high = np.quantile(q @ r.T, [0.005, 0.995], axis=0)
    centre, (length, width) = r.T @ ((low + high) / 2), high - low
    at = [*centre] if held else [*centre, turn]
    if kind == "circle":
        return [np.array([*centre, 0.25 * (length + width)])]
    if kind == "slot":
        return [np.array([*at, length, width])]
    return [np.array([*at, length, width, c * min(length, width)]) for c in (0.05, 0.3)]


def _slopes(of, x: np.ndarray, step: float) -> np.ndarray:
    return np.column_stack([(of(x + step * e) - of(x - step * e)) / (2 * step) for e in np.eye(len(x))])


def _fitted(kind: str, q: np.ndarray, turn: float, held: bool, starts=None):
    """What one shape costs (scatter by the share kept), its numbers, what it kept, and its scatter (scaled places)."""
    from scipy.optimize import least_squares

    best = None
    fixed = turn if held else None
    for x in _starts(kind, q, turn, held) if starts is None else starts:
        keep = np.ones(len(q), bool)
        for _ in range(6):
            some = q[keep]
            x = least_squares(
                lambda x, q=some: _evaluated(kind, q, x, fixed)[0],
                x,
                jac=lambda x, q=some: _evaluated(kind, q, x, fixed)[1],
                method="lm",
                **_TIGHT,
            ).x
            x = _sane(kind, x, held)
            new = _kept(np.abs(_off(kind, q, x, fixed)))
            if (new == keep).all() or new.sum() < _FEWEST:
                break
            keep = new
        scatter = float(np.sqrt(np.mean(_off(kind, q[keep], x, fixed) ** 2)))
        cost = scatter * len(q) / keep.sum()
        if best is None or cost < best[0]:
            best = cost, x, keep, scatter
    return best


def _sane(kind: str, x: np.ndarray, held: bool) -> np.ndarray:
    """Sizes as an outline has them: above nothing, the length not below the width of a slot, corners that fit in."""
    x = x.copy()
    first = 2 if held or kind == "circle" else 3
    x[first:] = np.abs(x[first:])
    if kind == "slot":
        x[first] = max(x[first], x[first + 1])
    if kind == "rectangle":
        x[-1] = min(x[-1], 0.5 * min(x[first], x[first + 1]))
    return x


def _kept(r: np.ndarray) -> np.ndarray:
    return r <= max(_OFF * 1.4826 * float(np.median(r)), _FINE)


def _best_kind(fits: dict) -> str:
    """The simplest shape that scatters as little as the best, or nearly."""
    least = min(f[0] for f in fits.values())
    return next(k for k in fits if fits[k][0] <= _ALIKE * least + _FINE)


def _tipped(p: np.ndarray, up: np.ndarray, turn_of, held: bool) -> np.ndarray:
    """The way a wall that stands upright runs (3,): the shape's numbers and two small turns of it, fitted together."""
    from scipy.optimize import least_squares

    kind, starts = None, None
    for _ in range(4):
        q, e, f = _seen(p, np.zeros(3), up)
        h, turn = p @ up, turn_of(q, e, f)
        if kind is None:
            fits = {k: _fitted(k, q, turn, held) for k in OUTLINES}
            kind = _best_kind(fits)
            fit = fits[kind]
        else:
            fit = _fitted(kind, q, turn, held, starts)
        x, keep, fixed = fit[1], fit[2], turn if held else None

        def evaluated(y, kind=kind, q=q[keep], h=h[keep], fixed=fixed):
            r, j, g = _evaluated(kind, q - np.outer(h, y[-2:]), y[:-2], fixed)
            return r, np.column_stack([j, -g * h[:, None]])

        y = np.concatenate([x, [0.0, 0.0]])
        t = least_squares(
            lambda y, of=evaluated: of(y)[0], y, jac=lambda y, of=evaluated: of(y)[1], method="lm", **_TIGHT
        ).x[-2:]
        up = unit(up + t[0] * e + t[1] * f)
        if np.linalg.norm(t) < 1e-6:
            break
    return up


def outlines(
    index: ScanIndex, place, *, normal=None, plane: Plane | None = None, along=None, kind: str | None = None
) -> list[Outline]:
    """What the outline of the wall at a place (3,) mm could be, the likeliest first; of one ``kind`` where asked.

    ``plane`` : the plane it lies on; without one it lies at the place, and the wall tells the way. ``along`` (3,) : the
    way its long axis runs.

    Raises
    ------
    BadInput : where no closed wall stands about the place, or it is none of the shapes.
    """
    at = np.asarray(place, float)
    seed, _ = index.nearest_facet(at, None if normal is None else np.asarray(normal, float))
    if plane is None:
        facets, up = _found_wall(index, seed, at)
        on = at
    else:
        up, on = plane.normal, plane.point
        facets = _wall(index, seed, up)
        if len(facets) < _FEWEST or _openness(index, facets, up) > _OPEN:
            raise BadInput(
                "The wall at this place does not go all the way round, seen along the plane's normal; click another "
                "wall, or give another plane.",
                field="pick",
            )
    return _told(index, facets, at, up, on, along, kind, plane is None)


def _told(index, facets, at, up, on, along, kind, found) -> list[Outline]:
    m = index.mesh
    n, a = m.normals[facets], m.areas[facets]
    lean = float(np.arcsin(np.clip(np.sum(a * (n @ up)) / a.sum(), -1, 1)))
    inner = _inner(index, facets)
    if abs(lean) > _LEANS:  # the outline is another at another height: as it is at the place
        height = np.abs((m.centroids[inner] - at) @ up)
        inner = inner[height < max(0.1 * float(np.ptp((m.centroids[facets] - at) @ up)), 2 * m.median_edge)]
    ids = index.corners(inner)
    ids = ids[:: max(1, len(ids) // _MOST)]
    if len(ids) < _FEWEST:
        raise BadInput("Too few facets stand about this place to tell an outline; scan it finer.", field="pick")
    middle = m.vertices[ids].mean(axis=0)
    p = m.vertices[ids] - middle
    scale = float(np.sqrt(np.mean(p**2) * 3))
    held = along is not None

    def turn_of(q, e, f):
        if along is not None:
            return float(np.arctan2(np.asarray(along) @ f, np.asarray(along) @ e))
        return _long_way(q, np.column_stack([n @ e, n @ f]), a)

    if found and abs(lean) <= _LEANS:
        few = np.random.default_rng(4).permutation(len(p))[:_FEW]
        up = _tipped(p[few] / scale, up, turn_of, held)
    q, e, f = _seen(p / scale, np.zeros(3), up)
    turn = turn_of(q, e, f)
    few = np.random.default_rng(4).permutation(len(q))[:_FEW]
    fits = {}
    for k in OUTLINES if kind is None else (kind,):
        begun = _fitted(k, q[few], turn, held)
        fits[k] = begun if len(few) == len(q) else _fitted(k, q, turn, held, [begun[1]])
    first = _best_kind(fits)
    order = [first, *sorted((k for k in fits if k != first), key=lambda k: fits[k][0])]
    out = []
    for k in order:
        _, x, keep, scatter = fits[k]
        fixed = turn if held else None
        space = _Space(k, fixed, scale, middle, up, e, f, on)
        element, sigmas = space.placed(x, p[keep] / scale)
        r = _off(k, q, x, fixed) * scale
        aside = int((~keep).sum())
        out.append(Outline(element, sigmas, scatter * scale, facets, float(np.degrees(lean)), aside, r, found))
    wide = getattr(out[0].element, "width", 2 * getattr(out[0].element, "radius", 0.0))
    if out[0].scatter > _TRUE * wide and kind is None:
        raise BadInput(
            f"The outline is no circle, slot or rectangle: the nearest, a {out[0].element.kind}, scatters by "
            f"{out[0].scatter:.3g} mm. Cut it in a sketch instead.",
            field="pick",
        )
    return out


def _inner(index: ScanIndex, facets: np.ndarray) -> np.ndarray:
    """A wall's facets without those at its rims, which a scan rounds off; all where nothing would be left."""
    inside = np.zeros(len(index.mesh.faces) + 1, bool)
    inside[facets] = True
    if index.exact:
        return facets
    inner = facets
    for _ in range(2):
        kept = inner[inside[index.neighbours[inner]].all(axis=1)]
        if len(kept) < max(_FEWEST, 0.3 * len(facets)):
            break
        inner = kept
        inside[:] = False
        inside[inner] = True
    return inner


@dataclass(frozen=True)
class _Space:
    """Where the paper that a shape was fitted on lies: ``scale`` mm about ``middle``, seen along ``up``; ``on``: a
    place on the outline's plane; ``turn``: of the long axis, where it is held.
    """

    kind: str
    turn: float | None
    scale: float
    middle: np.ndarray
    up: np.ndarray
    e: np.ndarray
    f: np.ndarray
    on: np.ndarray

    def element(self, x: np.ndarray) -> Element:
        s = _shape(self.kind, x, self.turn)
        c = self.middle + self.scale * (s.center[0] * self.e + s.center[1] * self.f)
        c = c - self.up * float((c - self.on) @ self.up)
        if isinstance(s, Circle):
            return Circle(c, self.up, s.radius * self.scale)
        d = s.direction[0] * self.e + s.direction[1] * self.f
        length, width = s.length * self.scale, s.width * self.scale  # type: ignore[attr-defined]
        if isinstance(s, Rectangle):
            return Rectangle(c, self.up, d, length, width, s.corner * self.scale)
        return Slot(c, self.up, d, length, width)

    def placed(self, x: np.ndarray, p: np.ndarray) -> tuple[Element, dict]:
        """The shape in space, and its parameters' standard deviations from the places it kept (scaled, n × 3)."""
        from ..elements.uncertainty import correlated_covariance, noise_model

        q = np.column_stack([p @ self.e, p @ self.f])

        def off(x):
            return _off(self.kind, q, x, self.turn)

        def flat(x):
            values = self.element(x).parameters().values()
            return np.concatenate([np.atleast_1d(np.asarray(v, float)) for v in values])

        j = _evaluated(self.kind, q, x, self.turn)[1]
        moving = np.linalg.norm(j, axis=0) > 1e-9  # a corner as sharp as can be moves nothing
        j, grad = j[:, moving], _slopes(flat, x, _STEP)[:, moving]
        covariance = correlated_covariance(p, j, noise_model(p, off(x), j))[0]
        left = list(np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", grad, covariance, grad), 0)))
        element, told = self.element(x), {}
        for key, value in element.parameters().items():
            told[key] = [left.pop(0) for _ in value] if isinstance(value, list) else left.pop(0)
        return element, told
