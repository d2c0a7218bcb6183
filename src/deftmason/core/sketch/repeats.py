"""Does an outline repeat round a centre, and what is its repeated part, folded from all places onto one?

An outline that repeats n times round a centre has, run along by its length, no Fourier coefficients but those of order
1 + k·n (Zahn, Roskies 1972, *Fourier descriptors for plane closed curves*). That names candidates; each is verified by
turning the samples onto the outline itself, part by part, so that a broken tooth or two do not hide the rest. Folded,
the samples of all parts lie on one, as dense as parts are many, and their noise averages out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .drawing import Drawing, Relation
from .trace import TraceLoop

__all__ = ["Course", "Ring", "between_entities", "find_ring", "folded", "turning"]

_SAMPLES = 4096  # along a loop
_MOST = 240  # repeats
_FEWEST = 3
_TRIED = 5  # candidates verified
_ALIKE = 0.5  # of what is not round that the orders of a candidate hold
_TURNS = 8  # other parts that each part is compared with
_AGREE = 0.6  # of the parts that repeat, at least
_WITHIN = 4.0, 0.12, 2e-5  # in scatters, facets, sizes: a part's rms about the others
_CORNER_SHARE = 85  # per cent of a part's samples: the rest lie at corners, which facets cut anywhere
_FARTHEST = 1.2, 6.0  # in facets, in scatters: what no sample of a part that repeats lies off
_SHORTEST = 5.0  # facets that a part is long at least
_BIN = 0.1, 4  # of a facet, and samples, that a folded place stands for at least


@dataclass(frozen=True)
class Ring:
    """``count`` parts about ``centre`` (2,) mm; ``begins`` (count,) the way along the loop at which each begins, mm;
    ``alike`` (count,) which of them repeat."""

    count: int
    centre: np.ndarray
    begins: np.ndarray
    alike: np.ndarray

    def turn(self, k: int) -> np.ndarray:
        """The matrix (2, 2) that leads from the first part to part k."""
        return turning(2 * np.pi * k / self.count)


class Course:
    """A closed loop's segments, for the nearest places on them."""

    def __init__(self, loop: TraceLoop):
        import shapely

        self.ring = np.vstack([loop.points, loop.points[:1]])
        self.along = np.diff(self.ring, axis=0)
        gap = np.linalg.norm(self.along, axis=1)
        self.way = np.concatenate([[0], np.cumsum(gap)])
        self.length = float(self.way[-1])
        self._tree = shapely.STRtree(shapely.linestrings(np.stack([self.ring[:-1], self.ring[1:]], axis=1)))
        self._square = np.maximum(gap**2, 1e-300)
        self._gap = gap

    def nearest(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The nearest place (k, 2) on the loop of each of ``q`` (k, 2), and the way (k,) along it to there, mm."""
        import shapely

        rows, found = self._tree.query_nearest(shapely.points(q), all_matches=False)
        k = np.zeros(len(q), np.int64)
        k[rows] = found
        t = np.clip(np.einsum("ij,ij->i", q - self.ring[k], self.along[k]) / self._square[k], 0, 1)
        return self.ring[k] + t[:, None] * self.along[k], self.way[k] + t * self._gap[k]

    def part(self, begins: np.ndarray, way: np.ndarray) -> np.ndarray:
        """The part (k,) that places at ``way`` are of, where parts begin at ``begins``."""
        ahead = (begins - begins[0]) % self.length
        return np.searchsorted(ahead, (way - begins[0]) % self.length, side="right") - 1

    def within(self, start: float, end: float) -> np.ndarray:
        """Ways (k,) along the loop of its samples between two places, in order."""
        ahead = (self.way[:-1] - start) % self.length
        inside = np.flatnonzero(ahead <= (end - start) % self.length)
        return self.way[:-1][inside[np.argsort(ahead[inside])]]

    def stretch(self, loop: TraceLoop, start: float, end: float) -> TraceLoop:
        """What lies between two places of a loop, as an open run of its samples."""
        k = np.searchsorted(self.way, self.within(start, end))
        return TraceLoop(loop.points[k], False, (end - start) % self.length, loop.vertex[k], loop.facet, loop.exact)


def _evenly(loop: TraceLoop) -> np.ndarray:
    q = np.vstack([loop.points, loop.points[:1]])
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    t = np.arange(_SAMPLES) * s[-1] / _SAMPLES
    return np.column_stack([np.interp(t, s, q[:, k]) for k in range(2)])


def _candidates(loop: TraceLoop, p: np.ndarray) -> list[int]:
    """Counts whose orders hold most of what makes the loop no circle, the likeliest first; of alike ones the most."""
    z = p[:, 0] + 1j * p[:, 1]
    power = np.abs(np.fft.fft(z - z.mean())) ** 2
    order = np.fft.fftfreq(len(z), 1 / len(z)).round().astype(int)
    power[(order == 1) | (order == 0)] = 0
    total = float(power.sum())
    most = int(min(_MOST, loop.length / max(_SHORTEST * loop.facet, 1e-9 * loop.length)))
    if total <= 0:
        return []
    share = {n: float(power[(order - 1) % n == 0].sum()) / total for n in range(_FEWEST, most + 1)}
    good = [n for n in share if share[n] > _ALIKE]
    # A multiple explains less by its very nature; where it explains nearly as much, it is the count.
    good.sort(key=lambda n: -(share[n] - 1.0 / n + 1e-3 * n / most))
    return good[:_TRIED]


def turning(w: float) -> np.ndarray:
    """The matrix (2, 2) that turns by ``w`` rad."""
    return np.array([[np.cos(w), -np.sin(w)], [np.sin(w), np.cos(w)]])


def _centred(p: np.ndarray, course: Course, centre: np.ndarray, n: int) -> np.ndarray:
    """The centre about which the samples, turned by one part, lie best on the loop; robust to parts that do not."""
    m = turning(2 * np.pi / n)
    lever = np.eye(2) - m
    for _ in range(6):
        off = (p - centre) @ m.T + centre
        off = off - course.nearest(off)[0]
        dist = np.linalg.norm(off, axis=1)
        scale = max(3 * float(np.median(dist)), 1e-12 * course.length)
        weight = np.minimum(1.0, scale / np.maximum(dist, 1e-300))
        weight[dist > 4 * scale] = 0
        normal = off / np.maximum(dist, 1e-300)[:, None]
        step = np.linalg.lstsq(normal @ lever * weight[:, None], -dist * weight, rcond=None)[0]
        centre = centre + step
        if np.hypot(*step) < 1e-7 * course.length:
            break
    return centre


def _begins(course: Course, n: int, centre: np.ndarray, start: np.ndarray) -> np.ndarray | None:
    """Where along the loop each part begins (n,), the first at ``start``; None where they do not follow one another."""
    places = np.array([centre + turning(2 * np.pi * k / n) @ (start - centre) for k in range(n)])
    begins = course.nearest(places)[1]
    ahead = (begins - begins[0]) % course.length
    return None if (np.diff(ahead) <= 0).any() else begins


def find_ring(loop: TraceLoop, noise: float) -> Ring | None:
    """The ring of parts that a closed loop repeats, with the most parts that hold; None where there is none.

    ``noise`` : scatter of a sample, mm.
    """
    if not loop.closed or len(loop.points) < 3 * _FEWEST:
        return None
    even = _evenly(loop)
    candidates = _candidates(loop, even)
    if not candidates:
        return None
    import shapely

    course = Course(loop)
    size = float(np.ptp(loop.points, axis=0).max())
    middle = shapely.get_coordinates(shapely.Polygon(loop.points).centroid)[0]
    facet = 0.0 if loop.exact else loop.facet
    limit = max(_WITHIN[0] * noise, _WITHIN[1] * facet, _WITHIN[2] * size)
    far = max(_FARTHEST[0] * facet, _FARTHEST[1] * noise, 10 * _WITHIN[2] * size)
    for n in sorted(candidates, reverse=True):
        ring = _verified(loop, course, even, n, middle, limit, far)
        if ring is not None:
            return ring
    return None


def _verified(loop, course: Course, even, n: int, middle: np.ndarray, limit: float, far: float) -> Ring | None:
    centre = _centred(even[::4], course, middle, n)
    begins = _begins(course, n, centre, _calm_place(loop, centre))
    if begins is None:
        return None
    part = course.part(begins, course.way[:-1])
    turns = np.unique(np.linspace(1, n - 1, min(_TURNS, n - 1)).round().astype(int))
    table = np.full((n, len(turns)), np.inf)
    for column, k in enumerate(turns):
        q = (loop.points - centre) @ turning(2 * np.pi * k / n).T + centre
        off = np.linalg.norm(q - course.nearest(q)[0], axis=1)
        for i in range(n):
            mine = np.sort(off[part == i])
            if len(mine) >= 3 and mine[-1] < far:
                table[i, column] = float(np.sqrt(np.mean(mine[: max(len(mine) * _CORNER_SHARE // 100, 2)] ** 2)))
    alike = np.median(table, axis=1) < limit
    if alike.sum() < max(_AGREE * n, _FEWEST):
        return None
    return Ring(n, centre, begins, alike)


def _calm_place(loop: TraceLoop, centre: np.ndarray) -> np.ndarray:
    """A place in the middle of the longest stretch that hardly turns: there parts are told apart best."""
    p = loop.points
    half = max(min(len(p) // 50, 4), 1)
    to, fro = p - np.roll(p, half, axis=0), np.roll(p, -half, axis=0) - p
    turn = np.abs(np.arctan2(to[:, 0] * fro[:, 1] - to[:, 1] * fro[:, 0], np.einsum("ij,ij->i", to, fro)))
    # Square to the way from the centre, so that a turned place lies on one stretch only.
    t = fro + to
    u = p - centre
    across = np.abs(np.einsum("ij,ij->i", t, u)) / np.maximum(
        np.linalg.norm(t, axis=1) * np.linalg.norm(u, axis=1), 1e-300
    )
    return p[int(np.argmin(turn + across))]


def folded(loop: TraceLoop, ring: Ring, periods: int = 3) -> TraceLoop:
    """All parts that repeat laid onto the first and averaged along it; and it again, turned, ``periods`` times in all:
    an open run.
    """
    course = Course(loop)
    part = course.part(ring.begins, course.way[:-1])
    first = int(np.nonzero(ring.alike)[0][0])
    laid = np.vstack(
        [
            (loop.points[part == k] - ring.centre) @ ring.turn(first - k).T + ring.centre
            for k in np.nonzero(ring.alike)[0]
        ]
    )
    ends = float((ring.begins[(first + 1) % ring.count] - ring.begins[first]) % course.length)
    along = (course.nearest(laid)[1] - ring.begins[first]) % course.length
    keep = along < ends
    laid, along = laid[keep], along[keep]
    step = max(_BIN[0] * loop.facet, ends * _BIN[1] / max(len(laid), 1))
    cells = max(int(ends / step), 8)
    cell = np.minimum((along / ends * cells).astype(int), cells - 1)
    many = np.bincount(cell, minlength=cells)
    sums = np.column_stack([np.bincount(cell, laid[:, k], minlength=cells) for k in range(2)])
    mean = sums[many > 0] / np.maximum(many[many > 0], 1)[:, None]
    base = (mean - ring.centre) @ ring.turn(-first).T + ring.centre
    p = loop.points[loop.vertex]
    gap = float(np.median(np.linalg.norm(np.diff(p, axis=0), axis=1)))
    run = np.vstack([(base - ring.centre) @ ring.turn(k).T + ring.centre for k in range(periods)])
    return TraceLoop(
        run,
        False,
        periods * ends,
        facet=loop.facet,
        exact=loop.exact,
        crowd=max(gap / np.median(np.linalg.norm(np.diff(base, axis=0), axis=1)), 1.0),
    )


def between_entities(d: Drawing, relations: list[Relation]) -> list[Relation]:
    """Relations told of entities alone: what repeats another is its equal; what speaks of places is left out."""
    out = []
    for r in relations:
        if r.kind == "turned":
            owners = tuple(n.partition(".")[0] for n in r.of[:2])
            again = Relation("equal", owners, r.cost)
            if all(n in d.entities and d.entities[n].kind in ("line", "arc", "circle") for n in owners):
                out += [] if again in out else [again]
        elif not any("." in n or d.kind_of(n) == "place" for n in r.of):
            out.append(r)
    return out
