"""An axis told as straights and bends: where it turns and how much, then its numbers fitted, as few as will do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ..elements.uncertainty import correlation_inflation
from .bentfit import MOST_TURN, TIGHT, BentFit, along_axis, on_surface
from .bentpath import BentPath, cross
from .stations import Outside, Stations, turning_of

__all__ = ["bent"]

_POINTS = 12_000
_STATIONS = 400
_WEAK = np.radians(6)  # a bend that turns less may be none
_SHORT = 0.6  # radii of a straight between two bends that may be one
_DEAR = 1.03  # times the scatter that a bend less may cost: makers bend once
_ONE_PLANE = np.radians(25)
_FEWEST = 12.0  # free residuals that any tube is taken to have
_UNSURE = 16.0  # what a bend that is none gains at most, in variances: its five numbers, at one in a hundred

_RAMP = 1.4  # radii over which a bend's turning rises, as wide windows see it


class Part(NamedTuple):
    """Stations ``first`` to ``last`` along which the axis turns evenly, by ``turning`` (3,) rad per mm about its
    direction, and by ``angle`` in all (rad); a straight turns by nothing."""

    first: int
    last: int
    turning: np.ndarray
    angle: float

    @property
    def rate(self) -> float:
        return float(np.linalg.norm(self.turning))


def bent(outside: Outside, st: Stations, *, held: bool = False) -> BentFit | None:
    """The axis of stations as straights and bends, fitted to the surface points that are theirs.

    ``held`` keeps the radius. None where no such path is found.
    """
    tangents, turning, known = turning_of(st)
    if known.sum() < 3:
        return None
    d = np.append(0, np.cumsum(np.linalg.norm(np.diff(st.places, axis=0), axis=1)))
    here = np.nonzero(st.seen)[0]
    here = here[:: 1 + len(here) // _STATIONS]
    path = _begun(st, d, tangents, _parts(st, tangents, turning, known))
    path = _simpler_axis(path, st.places[here], d[here], st.radius)
    points = outside.points[st.of]
    if len(points) > _POINTS:
        points = points[np.linspace(0, len(points) - 1, _POINTS).astype(int)]
    found = on_surface(path, points, st.radius, held=held)
    return None if found is None else _simpler(found, points, held, 4.0 * st.seen.sum())


def _parted(turning: np.ndarray, at: np.ndarray, radius: float, step: float) -> list[Part]:
    """Stretches (from, to, turning) of even turning, straights with none, over the stations ``at``: the cheapest in all
    where a stretch costs what its numbers do (Jackson et al. 2005, *An algorithm for optimal partitioning of data on an
    interval*)."""
    x = turning[at] * radius
    k = len(x)
    if k < 4:
        return [Part(int(at[0]), int(at[-1]), np.zeros(3), 0.0)]
    smear = max(1.0, radius / step)
    lag = min(int(smear), k - 1)
    steps = np.linalg.norm(x[lag:] - x[:-lag], axis=1)
    sigma = max(float(np.quantile(steps, 0.3)) / 1.2, 1e-4)
    unit = sigma**2 * smear
    c1 = np.vstack([np.zeros(3), np.cumsum(x, axis=0)])
    c2 = np.append(0, np.cumsum((x**2).sum(axis=1)))
    fresh = 2.0 * np.log(k + 1)
    best, back, way = np.full(k + 1, np.inf), np.zeros(k + 1, int), np.zeros(k + 1, bool)
    best[0] = 0.0
    for j in range(1, k + 1):
        n = j - np.arange(j)
        s2 = c2[j] - c2[:j]
        s1 = ((c1[j] - c1[:j]) ** 2).sum(axis=1)
        straight = s2 / unit + fresh
        turned = (s2 - s1 / n) / unit + 2.5 * fresh + np.where(n < 3, 1e9, 0)
        both = best[:j] + np.minimum(straight, turned)
        m = int(np.argmin(both))
        best[j], back[j], way[j] = both[m], m, turned[m] < straight[m]
    out, j = [], k
    while j > 0:
        i = int(back[j])
        turn = (c1[j] - c1[i]) / (j - i) / radius if way[j] else np.zeros(3)
        out.append(Part(int(at[i]), int(at[j - 1]), turn, float(np.linalg.norm(turn)) * step * (j - i)))
        j = i
    return _without_ramps(out[::-1], radius / step)


def _without_ramps(parts: list[Part], many: float) -> list[Part]:
    """Short stretches before and after a bend, in which it turns less, given to it: its ends as wide windows smear
    them. ``many`` stations are a radius."""
    parts = list(parts)
    while True:
        for i, p in enumerate(parts):
            if not p.rate or p.last - p.first + 1 > _RAMP * many:
                continue
            beside = [j for j in (i - 1, i + 1) if 0 <= j < len(parts) and parts[j].rate > p.rate]
            beside = [j for j in beside if parts[j].turning @ p.turning > 0.9 * parts[j].rate * p.rate]
            if not beside:
                continue
            j = max(beside, key=lambda j: parts[j].rate)
            q = parts[j]
            parts[j] = Part(min(p.first, q.first), max(p.last, q.last), q.turning, p.angle + q.angle)
            del parts[i]
            break
        else:
            return parts


def _parts(st: Stations, tangents: np.ndarray, turning: np.ndarray, known: np.ndarray) -> list[Part]:
    """Stretches over all stations; where the scan has a gap, what must be in it: the bend on either side of it, a
    straight, or a bend that nobody saw."""
    at = np.nonzero(known)[0]
    out: list[Part] = []
    for group in np.split(at, np.nonzero(np.diff(at) > 2)[0] + 1):
        more = _parted(turning, group, st.radius, st.step)
        if out:
            a, b = out[-1], more[0]
            i, j = a.last, b.first
            axis = cross(tangents[i], tangents[j])
            turn = float(np.arctan2(np.linalg.norm(axis), tangents[i] @ tangents[j]))
            gap = float(np.linalg.norm(st.places[j] - st.places[i]))
            most = max(a.rate, b.rate)
            if min(a.rate, b.rate) > 0 and np.linalg.norm(a.turning - b.turning) < 0.35 * most:
                n = a.last - a.first + 1, b.last - b.first + 1
                mean = (a.turning * n[0] + b.turning * n[1]) / sum(n)
                out[-1] = Part(a.first, b.last, mean, a.angle + b.angle + float(np.linalg.norm(mean)) * gap)
                more = more[1:]
            elif turn > np.radians(1.5):
                out.append(Part(i, j, axis / max(float(np.linalg.norm(axis)), 1e-300) * turn / max(gap, 1e-300), turn))
            elif not most:
                out[-1] = Part(a.first, b.last, a.turning, 0.0)
                more = more[1:]
        out += more
    return out


def _begun(st: Stations, d: np.ndarray, tangents: np.ndarray, parts: list[Part]) -> BentPath:
    """A first path through the parts, by walking it."""
    first = parts[0]
    t = tangents[first.first] if first.rate else tangents[first.first : first.last + 1].mean(axis=0)
    t = t / np.linalg.norm(t)
    n = cross(t, np.eye(3)[np.argmin(np.abs(t))])
    n /= np.linalg.norm(n)
    start_t, start_n = t, None
    straights, bends = [0.0], []
    begin = 0.0
    for k, p in enumerate(parts):
        end = float(d[-1]) if k == len(parts) - 1 else 0.5 * float(d[p.last] + d[parts[k + 1].first])
        length = max(end - begin, 0.0)
        begin = end
        if not p.rate:
            straights[-1] += length
            continue
        angle = min(p.angle, MOST_TURN)
        spare = max(length - angle / p.rate, 0.0)
        straights[-1] += 0.5 * spare
        inward = cross(p.turning / p.rate, t)
        inward -= (inward @ t) * t
        inward /= max(float(np.linalg.norm(inward)), 1e-300)
        rotation = float(np.arctan2(inward @ cross(t, n), inward @ n))
        if start_n is None:
            start_n, rotation = inward, 0.0
        bends.append((rotation, angle, max(1 / p.rate, TIGHT * st.radius)))
        n = inward
        c, s = np.cos(angle), np.sin(angle)
        t, n = c * t + s * n, c * n - s * t
        straights.append(0.5 * spare)
    made = np.array(bends).reshape(-1, 3)
    return BentPath(st.places[0], start_t, n if start_n is None else start_n, np.array(straights), made)


def _simpler_axis(path: BentPath, places: np.ndarray, s: np.ndarray, radius: float) -> BentPath:
    """The path on the stations, with bends left out or made one while they lie on it as well without."""
    path, left = along_axis(path, places, s, radius)
    while True:
        for less in _with_less(path, radius):
            # A station's own place is uncertain by about what is left: a bend has to earn its numbers.
            allowed = max(1.08 * left, 3e-4 * radius)
            other, off = along_axis(less, places, s, radius, rounds=3)
            if off <= allowed:
                path, left = other, max(left, off)
                break
        else:
            return path


def _simpler(found: BentFit, points: np.ndarray, held: bool, worth: float) -> BentFit:
    """Bends that the points do not ask for left out, neighbours that are one made one. ``worth`` is how many points
    count as independent."""
    while len(found.path.bends):
        tried = None
        for path in _with_less(found.path, found.radius):
            other = on_surface(path, points, found.radius, held=held, rounds=5)
            if other is None or len(other.points) < 0.97 * len(found.points):
                continue
            # Of points that err alike from place to place, few count: on the simpler path they show how few.
            alike = correlation_inflation(other.points, other.residuals)
            free = min(worth, len(other.points) / alike - other.jacobian.shape[1])
            if other.rms <= found.rms * max(np.sqrt(1 + _UNSURE / max(free, _FEWEST)), _DEAR):
                tried = other
                break
        if tried is None:
            return found
        found = tried
    return found


def _with_less(path: BentPath, radius: float) -> Iterator[BentPath]:
    """Paths with a bend less: weak ones straightened, near ones in one plane made one."""
    turn = path.bends[:, 1]
    for b in range(len(path.bends)):
        if turn[b] < _WEAK:
            yield _without(path, b)
    one = np.abs((path.bends[1:, 0] + np.pi) % (2 * np.pi) - np.pi) < _ONE_PLANE
    one &= path.straights[1:-1] < _SHORT * radius
    for b in np.nonzero(one)[0]:
        last = int(b) + 1
        while last < len(one) and one[last]:
            last += 1
        for end in dict.fromkeys((last, int(b) + 1)):
            if turn[b : end + 1].sum() < MOST_TURN:
                yield _merged(path, int(b), end, radius)


def _merged(path: BentPath, first: int, last: int, radius: float) -> BentPath:
    """Bends from the first to the last as one that turns as far, as wide as the one among them that turns most; what is
    left of the length goes to the straights beside it, on the side where it was."""
    mine = path.bends[first : last + 1]
    most = int(np.argmax(mine[:, 1]))
    lengths = mine[:, 1] * mine[:, 2]
    total, wide = float(mine[:, 1].sum()), max(float(mine[most, 2]), TIGHT * radius)
    between = path.straights[first + 1 : last + 1]
    spare = float(lengths.sum() + between.sum()) - total * wide
    before = float(lengths[:most].sum() + between[:most].sum())
    after = float(lengths[most + 1 :].sum() + between[most:].sum())
    share = before / max(before + after, 1e-300)
    bends = np.delete(path.bends, np.s_[first + 1 : last + 1], axis=0)
    bends[first] = (path.bends[first, 0], total, wide)
    straights = np.delete(path.straights, np.s_[first + 1 : last + 1])
    straights[first] = max(straights[first] + share * spare, 0.0)
    straights[first + 1] = max(straights[first + 1] + (1 - share) * spare, 0.0)
    return replace(path, straights=straights, bends=bends)


def _without(path: BentPath, b: int) -> BentPath:
    """A bend straightened; the next one's plane stays where it was."""
    arc = path.bends[b, 1] * path.bends[b, 2]
    straights = np.delete(path.straights, b + 1)
    straights[b] = path.straights[b] + arc + path.straights[b + 1]
    bends = np.delete(path.bends, b, axis=0)
    inward = path.inward
    if b < len(bends):
        bends[b, 0] += path.bends[b, 0]
        if b == 0:
            c, s = np.cos(bends[0, 0]), np.sin(bends[0, 0])
            inward = c * inward + s * cross(path.direction, inward)
            bends[0, 0] = 0.0
    return replace(path, inward=inward, straights=straights, bends=bends)
