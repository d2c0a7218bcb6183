"""Where does a trace change from line to arc to line? Dynamic programming over break points, then corners that facets
cut off.

Each piece is a line or an arc; its price is its squared residuals against the trace's noise plus the parameters it
needs, so pieces are only as many as the noise can tell apart (Rissanen 1978, description length). Residual sums come
from running moments in constant time: exact for lines, Pratt's algebraic circle for arcs. Break points that no later
piece can win
from are dropped as the search goes (Killick, Fearnhead, Eckley 2012, *Optimal detection of changepoints*), so its time
grows with the trace.

Pratt 1987, "Direct least-squares fitting of algebraic surfaces", SIGGRAPH.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from .piececurve import PieceCurve, fit_circle_2d, meeting_of
from .told import FACET_CHORD
from .trace import TraceLoop

__all__ = [
    "PRICE_ARC",
    "PRICE_LINE",
    "Piece",
    "residuals",
    "round_samples",
    "samples_of",
    "split_loop",
    "spread_of",
]

PRICE_LINE, PRICE_ARC = 14.0, 18.0  # natural units
_LEAST_SPREAD = (
    1e-4  # of the loop's size: nothing finer is told apart in a scan; waves of its noise may be as long as teeth
)
_LEAST_EXACT = 3e-5  # the same on exact, CAD-like facets
_FLAT = 4.0, 0.15  # in scatters, in facets: an arc that rises less over its chord is a line with noise on it
_KINK = 0.7, 0.03  # likewise: the rms by which two neighbours may rise and still be one
_KINK_GROWTH = 1.5  # and the times by which
_BOW = 0.35  # of a facet's bow over its chord that lifted crossings may still lie off
_FEW, _MOST_ROUND, _ROUND_OFF = 4, 0.7, 3.5  # pieces that may be one circle; share of its one arc; in its rms
_BARELY = 8  # samples of a line that may be the end of an arc it runs into
_LAGS = 30  # samples over which noise may be alike
_COARSE_TURN = 0.07  # rad between neighbouring crossings
_CHORD_TURN = 0.64  # rad one chord of a round piece may turn: a polygon of fewer than ten sides is no circle
_CHORD_UNEVEN = 3.2  # times the mean chord of an arc that one of its chords may be
_CHORD_ALONE = 2.0  # times the next longest chord that one may be whose bow the samples' scatter does not hide
_BOW_HIDDEN = 9.0  # such bows, squared, in the variances of a sample
_CORNER_FACETS = 0.55  # facets about a corner within which what a facet cut off may lie
_CORNER_SAMPLES = 3  # such samples at a corner, at most
_CORNER_SIDES = 4  # samples that each side of such a corner has
_CORNER_LONGEST = 1.5  # facets that a gap between such samples is long at most
_ROUND_SAMPLES = 6  # samples of a rounding that is told from what a facet cuts off, at least
_ROUND_SURE = 0.15  # facets that its samples may lie off, at most: more hides what it is
_ROUND_TURN = 0.25  # rad that it turns where it goes over into its sides, at most
_GAPS = 2.2  # a facet, in median gaps between crossings
_ROUNDED_ENDS = 1.2  # facets at either end of a line that its corners may round
_ROUNDED_LONGEST = 20  # facets that such a line is long at most
_ROUNDED_PIECES = 4  # pieces that a rounded corner may have become
_ROUNDED_SIDES = 2.0  # times as long as such a piece its sides are
_ROUNDED_SIDES_ALIKE = 0.95  # the same where the scan rounds all corners
_ROUNDED_MANY, _ROUNDED_MOST = 6, 0.8  # rounded corners that say so: how many, and how many for each sharp one
_ROUNDED_WITHIN = 2.2  # facets about the corner that they all lie within
_ROUNDED_OFF = 0.85  # facets that the scan may miss the corner by
_CORNER_TURN = 0.12  # rad that two pieces turn at a corner, at least


class _Grain(NamedTuple):
    """The size of a loop's facets, mm, that size in gaps between its samples, and whether they are exact."""

    facet: float
    gaps: float
    exact: bool

    def here(self, *gaps: float) -> float:
        """The facets' size where samples lie ``gaps`` mm apart: coarse, exact facets say nothing of their corners."""
        return min(self.facet, self.gaps * max(gaps))


class Piece(tuple):
    """(kind, first, last): samples first…last of the loop, cyclic where last < first; kind 0 line, 1 arc, 2 circle."""


@njit(cache=True)
def _line_cost(n, sx, sy, sxx, sxy, syy):  # pragma: no cover - compiled
    mx, my = sx / n, sy / n
    a, b, c = sxx / n - mx * mx, sxy / n - mx * my, syy / n - my * my
    return max(n * 0.5 * ((a + c) - np.sqrt((a - c) ** 2 + 4 * b * b)), 0.0)


@njit(cache=True)
def _arc_cost(n, m):  # pragma: no cover - compiled
    """Sum of squared distances to the Pratt-like circle from moments (x y xx xy yy xz yz zz), z = x² + y², and its
    radius.
    """
    mx, my = m[0] / n, m[1] / n
    cxx, cxy, cyy = m[2] / n - mx * mx, m[3] / n - mx * my, m[4] / n - my * my
    mz = (m[2] + m[4]) / n
    cxz, cyz, czz = m[5] / n - mx * mz, m[6] / n - my * mz, m[7] / n - mz * mz
    det = cxx * cyy - cxy * cxy
    if det <= 1e-14 * (cxx + cyy) ** 2:
        return 1e300, 0.0
    p, q = (cyy * cxz - cxy * cyz) / det, (cxx * cyz - cxy * cxz) / det
    x, y = p / 2, q / 2
    c0 = mz - p * mx - q * my
    r2 = c0 + x * x + y * y
    if r2 <= 0:
        return 1e300, 0.0
    ss = n * max(czz - p * cxz - q * cyz, 0.0)
    return ss / (4 * r2), np.sqrt(r2)


@njit(cache=True)
def _best_splits(
    pts, inv2s, bow, price_line, price_arc, longest_radius, chord_turn, uneven, alone
):  # pragma: no cover - compiled
    """The cheapest pieces of an open run of samples; each begins at the sample where the one before ends. ``bow`` over
    a
    round piece's radius is what its samples may lie off."""
    n = pts.shape[0]
    acc = np.zeros((n + 1, 8))
    seg = np.zeros(n)
    for i in range(n):
        x, y = pts[i, 0], pts[i, 1]
        z = x * x + y * y
        acc[i + 1, 0] = acc[i, 0] + x
        acc[i + 1, 1] = acc[i, 1] + y
        acc[i + 1, 2] = acc[i, 2] + x * x
        acc[i + 1, 3] = acc[i, 3] + x * y
        acc[i + 1, 4] = acc[i, 4] + y * y
        acc[i + 1, 5] = acc[i, 5] + x * z
        acc[i + 1, 6] = acc[i, 6] + y * z
        acc[i + 1, 7] = acc[i, 7] + z * z
        if i:
            seg[i] = np.hypot(x - pts[i - 1, 0], y - pts[i - 1, 1])
    way = np.cumsum(seg)
    best = np.full(n, 1e300)
    back = np.zeros(n, np.int64)
    kind = np.zeros(n, np.int64)
    best[0] = 0.0
    live = np.zeros(n, np.int64)
    longest, second = np.zeros(n), np.zeros(n)
    hidden = _BOW_HIDDEN * 0.5 / inv2s
    count = 1
    cost = np.zeros(n)
    for j in range(1, n):
        for q in range(count):
            i = live[q]
            second[i] = max(second[i], min(longest[i], seg[j]))
            longest[i] = max(longest[i], seg[j])
            m = acc[j + 1] - acc[i]
            k = j + 1 - i
            line = _line_cost(k, m[0], m[1], m[2], m[3], m[4]) * inv2s
            c = line + price_line
            t = 0
            least = line if k >= 4 else 0.0  # three places always lie on a circle
            if k >= 4 and c > price_arc:
                a, r = _arc_cost(k, m)
                # On a round piece crossings lie up to a share of their chords' bow off.
                a *= inv2s / (1 + 2 * inv2s * (bow / r) ** 2) if r > 0 else 1.0
                least = min(least, a)
                if (
                    a + price_arc < c
                    and r < longest_radius
                    and longest[i] < chord_turn * r
                    and longest[i] * (j - i) < uneven * (way[j] - way[i])
                    and (longest[i] < alone * second[i] or (longest[i] ** 2 / (8 * r)) ** 2 < hidden)
                ):
                    c, t = a + price_arc, 1
            cost[i] = least
            if best[i] + c < best[j]:
                best[j], back[j], kind[j] = best[i] + c, i, t
        # Whoever is dearer already without a price for a further piece never wins again.
        keep = 0
        for q in range(count):
            i = live[q]
            if best[i] + cost[i] <= best[j]:
                live[keep] = i
                keep += 1
        live[keep] = j
        longest[j] = second[j] = 0.0
        count = keep + 1
    return best[n - 1], back, kind


def round_samples(p: np.ndarray, vertex: np.ndarray) -> np.ndarray:
    """Of a round piece's samples those that lie on it: fillers lie on its chords."""
    return p[vertex] if vertex.sum() >= 3 else p


def _shared_noise(p: np.ndarray, pieces) -> float:
    """Variance of the pieces' residuals times the number of samples that move together (mm²); what lies far off counts
    as little more than the rest.
    """
    rest = [residuals(p[i : j + 1], kind) for i, j, kind in pieces if j - i >= 7]
    if not rest:
        return 0.0
    most = 6 * 1.4826 * float(np.median(np.abs(np.concatenate(rest))))
    rest = [np.clip(r, -most, most) for r in rest]
    var = float(np.mean(np.concatenate(rest) ** 2))
    together = 1.0
    for lag in range(1, _LAGS + 1):
        pairs = [r[:-lag] * r[lag:] for r in rest if len(r) > 2 * lag]
        rho = float(np.mean(np.concatenate(pairs))) / max(var, 1e-300) if pairs else 0.0
        if rho < 0.1:
            break
        together += 2 * rho
    return var * together


def _is_circle(p: np.ndarray, noise: float, floor: float, bow: float) -> bool:
    if len(p) < 9:
        return False
    _, r, rms = fit_circle_2d(p)
    chord = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
    return rms < 1.5 * noise + floor + bow / max(r, 1e-300) and r > 3 * noise and chord.max() < _CHORD_TURN * r


def split_loop(loop: TraceLoop, noise: float, thrift: float = 1.0) -> list[Piece]:
    """Pieces of one loop in order. ``noise`` is the scatter of a sample in mm; ``thrift`` how many times as dear a
    piece is as the noise alone would have it.
    """
    ids = np.nonzero(loop.vertex)[0]
    p = loop.points[ids]
    n = len(p)
    if n < 2:
        return []
    size = float(np.ptp(p, axis=0).max())
    floor = (_LEAST_EXACT if loop.exact else _LEAST_SPREAD) * size
    whole = [Piece((2, 0, len(loop.points) - 1))]
    grain = _Grain(loop.facet, _GAPS * loop.crowd, loop.exact)
    cornered = loop.exact and _coarse(p)  # its facets end at corners and cut none off
    bow = 0.0 if cornered else _BOW * grain.here(_gap(p)) ** 2 / 8
    if loop.closed and _is_circle(p, noise, floor, bow):
        return whole
    spread = max(1.6 * noise, floor)  # samples are not independent: count their noise higher

    def run(shift: int, inv2s: float):
        q = np.roll(p, -shift, axis=0)
        if loop.closed:
            q = np.vstack([q, q[:1]])
        q = (q - q.mean(axis=0)) / size
        _, back, kind = _best_splits(
            np.ascontiguousarray(q),
            inv2s * size**2,
            bow / size**2,
            thrift * PRICE_LINE,
            thrift * PRICE_ARC,
            20.0,
            _CHORD_TURN,
            _CHORD_UNEVEN,
            _CHORD_ALONE,
        )
        out, j = [], len(q) - 1
        while j > 0:
            i = int(back[j])
            out.append((i, j, int(kind[j])))
            j = i
        return out[::-1]

    def rolled(shift: int) -> np.ndarray:
        q = np.roll(p, -shift, axis=0)
        return np.vstack([q, q[:1]]) if loop.closed else q

    shift = 0
    found = run(shift, 1.0 / (2 * spread**2))
    # Neighbouring samples share their noise: count each for less, by the correlation of what the pieces left over.
    inv2s = 1.0 / (2 * max(min(_shared_noise(p=rolled(shift), pieces=found), (12 * spread) ** 2), spread**2))
    found = run(shift, inv2s)
    if loop.closed and len(found) > 1:
        # Start again at a true break, so that the loop's arbitrary first sample is not one.
        shift = found[len(found) // 2][0] % n
        found = run(shift, inv2s)
    q = rolled(shift)
    # Waves of a scan's noise are some facets long, and no look at the trace alone tells them from slight bends.
    here = 0.0 if loop.exact else min(grain.facet or np.inf, grain.gaps * _gap(p))
    flat = thrift * max(_FLAT[0] * spread / 1.6, _FLAT[1] * here, floor)
    kink = thrift * max(_KINK[0] * spread / 1.6, _KINK[1] * here, 0.3 * floor)
    split = found
    found = _melted(q, found, loop.closed, flat, kink)
    if not cornered:
        found = _with_corners(q, found, loop.closed, spread / 1.6, grain)
    if not loop.exact and _rounds_corners(q, found, loop.closed, grain):
        found = _melted(q, _straightened(q, split, spread / 1.6, grain), loop.closed, flat, kink)
        found = _straightened(q, found, spread / 1.6, grain)
        found = _with_corners(q, found, loop.closed, spread / 1.6, grain)
        found = _sharpened(q, found, loop.closed, grain, _ROUNDED_SIDES_ALIKE)
    elif not loop.exact:
        found = _sharpened(q, found, loop.closed, grain, _ROUNDED_SIDES)
    found = _melted(q, found, loop.closed, flat, kink)
    if loop.closed and (len(found) == 1 or (len(found) == 2 and found[0][2] == found[1][2] == 1)):
        apart = max(float(np.sqrt(np.mean(residuals(_span(q, f), f[2]) ** 2))) for f in found)
        if _is_circle(p, max(noise, _KINK_GROWTH * apart), floor, bow):
            return whole
    if loop.closed and 1 < len(found) <= _FEW and _all_but_round(q, found):
        return whole
    at = lambda k: int(ids[(k + shift) % n])  # noqa: E731
    return [Piece((k, at(i), at(j))) for i, j, k in found]


def _all_but_round(p: np.ndarray, found) -> bool:
    """Whether a few pieces are one circle: most of them one arc, and what else there is no farther off its circle than
    the arc's own samples scatter.
    """
    k = max(range(len(found)), key=lambda k: len(_span(p, found[k])))
    long = _span(p, found[k])
    if found[k][2] != 1 or len(long) < _MOST_ROUND * len(p):
        return False
    c, r, rms = fit_circle_2d(long)
    rest = np.vstack([_span(p, f) for m, f in enumerate(found) if m != k])
    return float(np.abs(np.linalg.norm(rest - c, axis=1) - r).max()) < _ROUND_OFF * rms


def _coarse(p: np.ndarray) -> bool:
    """Whether most crossings of a loop turn by more than a scan's facets do on what is round."""
    d = np.diff(p, axis=0)
    turn = np.abs(np.arctan2(d[:-1, 0] * d[1:, 1] - d[:-1, 1] * d[1:, 0], np.einsum("ij,ij->i", d[:-1], d[1:])))
    return len(turn) == 0 or float(np.median(turn)) > _COARSE_TURN


def residuals(q: np.ndarray, kind: int) -> np.ndarray:
    if kind == 1 and len(q) > 2:
        c, r, _ = fit_circle_2d(q)
        return np.linalg.norm(q - c, axis=1) - r
    d = q - q.mean(axis=0)
    return d @ np.linalg.svd(d, full_matrices=False)[2][1]


def _sagitta(q: np.ndarray) -> float:
    chord = q[-1] - q[0]
    if np.linalg.norm(np.diff(q, axis=0), axis=1).sum() > 1.2 * float(np.hypot(*chord)):  # far round: no line
        return np.inf
    n = np.array([-chord[1], chord[0]]) / max(float(np.hypot(*chord)), 1e-300)
    _, r, _ = fit_circle_2d(q)
    return float(max(min(np.ptp((q - q[0]) @ n), np.hypot(*chord) ** 2 / (8 * r)), 0.0))


def _span(p: np.ndarray, piece) -> np.ndarray:
    """Samples of a piece of the rolled loop; one that was made of the last and the first runs on past the end."""
    i, j, _ = piece
    n = len(p) - 1
    return p[i : j + 1] if j <= n else np.vstack([p[i:], p[1 : j - n + 1]])


def _melted(p, found, closed: bool, flat: float, kink: float):
    """Neighbours that lie on one line or circle as well as apart, made one: no maker means such a kink. ``flat``,
    ``kink`` mm.
    """
    found = [(i, j, 0 if kind == 1 and _sagitta(_span(p, (i, j, kind))) < flat else kind) for i, j, kind in found]
    k = 0
    while len(found) > 2 and k < len(found):
        nxt = (k + 1) % len(found)
        if nxt == 0 and not closed:
            break
        (i, j, kind), (a, b, other) = found[k], found[nxt]
        one, two = _span(p, found[k]), _span(p, found[nxt])
        apart = np.concatenate([residuals(one, kind), residuals(two, other)])
        both = np.vstack([one, two])
        least = _KINK_GROWTH * np.sqrt(np.mean(apart**2)) + kink
        whole = next((t for t in sorted({kind, other}) if np.sqrt(np.mean(residuals(both, t) ** 2)) <= least), None)
        if whole is None or (kind != other and whole == 1 and min(len(one), len(two)) > _BARELY):
            k += 1
            continue
        found[k] = (i, j + (b - a), whole)
        found.pop(nxt)
        if nxt == 0:
            k -= 1
        k = max(k - 2, 0)
    return found


def _gap(q: np.ndarray) -> float:
    return float(np.median(np.linalg.norm(np.diff(q, axis=0), axis=1)))


def _longest(q: np.ndarray) -> float:
    return float(np.linalg.norm(np.diff(q, axis=0), axis=1).max(initial=0.0))


def _with_corners(p, found, closed: bool, noise: float, grain: _Grain):
    """Short pieces that a facet straddling a corner feigned, given to the pieces that meet there; the likeliest first.

    Such a piece goes only where its samples, but for three in a row at most, lie on the two it parts extended, where
    these truly meet at an
    angle, and where what is left out lies within about half a facet of that corner. True small chamfers and rounds lie
    farther from theirs.
    """
    if not grain.facet > 0:
        return found
    known: dict[tuple, tuple[int, int] | None] = {}
    while len(found) > 3:
        best, choice = 0, None
        for k in range(len(found)):
            if not closed and k in (0, len(found) - 1):
                continue
            here = (found[k - 1], found[k], found[(k + 1) % len(found)])
            if here not in known:
                known[here] = _cut_off(p, *here, noise, grain)
            worth = known[here]
            if worth and worth[0] > best:
                best, choice = worth[0], (k, worth[1])
        if choice is None:
            return found
        k, cut = choice
        i, j, _ = found[k]
        before, after = (k - 1) % len(found), (k + 1) % len(found)
        b, a = found[before], found[after]
        n = len(p) - 1
        found[before] = (b[0], b[1] + cut, b[2])
        found[after] = (a[0] - (j - i - cut), a[1], a[2])
        if found[after][0] < 0:
            found[after] = (found[after][0] + n, found[after][1] + n, a[2])
        found.pop(k)
    return found


def _cut_off(p, before, piece, after, noise: float, grain: _Grain) -> tuple[int, int] | None:
    """How many samples are saved if a piece goes to those beside it, and how many of them to the one before; None
    where it is one by right.
    """
    sure = 3.5 * noise + 1e-9
    q = _span(p, piece)
    one, two = _span(p, before), _span(p, after)
    if len(q) > 12 or min(len(one), len(two)) < _CORNER_SIDES or len(q) > min(len(one), len(two)) + 3:
        return None
    # The facets' size here: between corners of coarse, exact facets there is nothing to cut off.
    here = grain.here(_gap(one), _gap(two))
    near = _CORNER_FACETS * here + 2 * noise
    long = here if grain.exact else grain.facet
    if _longest(q) > _CORNER_LONGEST * long + 2 * noise:
        return None
    a, b = PieceCurve(one, before[2]), PieceCurve(two, after[2])
    corner = meeting_of(a, b, q.mean(axis=0))
    if corner is None or np.linalg.norm(q - corner, axis=1).min() > 2 * _CORNER_FACETS * long + 4 * noise:
        return None
    turn = a.direction(corner, one[-1] - one[max(len(one) - 4, 0)]) @ b.direction(
        corner, two[min(3, len(two) - 1)] - two[0]
    )
    if turn > np.cos(_CORNER_TURN):
        return None
    if piece[2] == 1 and sure < _ROUND_SURE * grain.facet and _goes_over(q, a, b, sure):
        return None
    off_a, off_b = a.off(q), b.off(q)
    left = np.minimum(off_a, off_b) > sure
    if left.sum() > _CORNER_SAMPLES or (left.any() and np.ptp(np.nonzero(left)[0]) + 1 > _CORNER_SAMPLES):
        return None
    if left.any() and np.linalg.norm(q[left] - corner, axis=1).max() > near and not _one_chord(q, left, sure, grain):
        return None
    # Where along the piece the corner lies: what comes before belongs to the one, the rest to the other.
    cut = int(np.argmin([off_a[:m].sum() + off_b[m:].sum() for m in range(len(q) + 1)]))
    return len(q) - int(left.sum()) + 1, min(cut, len(q) - 1)


def _goes_over(q: np.ndarray, a: PieceCurve, b: PieceCurve, sure: float) -> bool:
    """Whether samples lie on an arc that goes over into both its sides without a corner, as a facet hardly feigns."""
    if len(q) < _ROUND_SAMPLES:
        return False
    c, r, _ = fit_circle_2d(q)
    if np.abs(np.linalg.norm(q - c, axis=1) - r).max() > sure:
        return False
    bends = [
        abs(np.dot(side.direction(x, along), x - c)) / r for side, x, along in ((a, q[0], q[1]), (b, q[-1], q[-1]))
    ]
    return max(bends) < np.sin(_ROUND_TURN)


def _one_chord(q: np.ndarray, left: np.ndarray, sure: float, grain: _Grain) -> bool:
    """Whether what is left out lies on one straight line that a single facet of a scan can have cut."""
    k = np.nonzero(left)[0]
    if grain.exact or k[0] == 0 or k[-1] == len(q) - 1:
        return False
    part = q[k[0] - 1 : k[-1] + 2]
    straight = np.abs(residuals(part, 0)).max() < sure
    return bool(straight and np.linalg.norm(part[-1] - part[0]) < FACET_CHORD * grain.facet + sure)


def _straightened(p, found, noise: float, grain: _Grain):
    """Short arcs that are a line with its rounded corners: straight within, and as a whole no arc."""
    if not grain.facet > 0:
        return found
    out = []
    for i, j, kind in found:
        q = _span(p, (i, j, kind))
        if kind == 1 and len(q) > 6:
            along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
            aside = _ROUNDED_ENDS * grain.here(_gap(q))
            inner = q[(along > aside) & (along < along[-1] - aside)]
            short = along[-1] < _ROUNDED_LONGEST * grain.facet
            if short and len(inner) > 4 and along[-1] > 3 * aside:
                as_arc = float(np.sqrt(np.mean(residuals(q, 1) ** 2)))
                as_line = float(np.sqrt(np.mean(residuals(inner, 0) ** 2)))
                if as_arc > 2 * noise and as_line < 2 * noise:
                    kind = 0
        out.append((i, j, kind))
    return out


def _rounds_corners(p, found, closed: bool, grain: _Grain) -> bool:
    """Whether the scan rounds corners everywhere: as good as none of this loop's corners is sharp."""
    sharp = 0
    for k in range(len(found) if closed else len(found) - 1):
        one, two = _span(p, found[k]), _span(p, found[(k + 1) % len(found)])
        if min(len(one), len(two)) < _CORNER_SIDES:
            continue
        u, v = one[-1] - one[-_CORNER_SIDES], two[_CORNER_SIDES - 1] - two[0]
        sharp += abs(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v)) > 3 * _CORNER_TURN
    fewer = len(found) - len(_sharpened(p, list(found), closed, grain, _ROUNDED_SIDES_ALIKE))
    return fewer >= max(_ROUNDED_MANY, _ROUNDED_MOST * sharp)


def _sharpened(p, found, closed: bool, grain: _Grain, sides: float):
    """Corners that the scan rounds made corners again: short pieces between two long ones that meet at an angle, all
    so near to where these meet that no scan with such facets could tell a round or a chamfer from a corner.
    """
    if not grain.facet > 0:
        return found
    k = 0
    while len(found) > 3 and k < len(found):
        done = False
        for many in range(1, min(_ROUNDED_PIECES, len(found) - 3) + 1):
            if not closed and (k == 0 or k + many >= len(found)):
                break
            run = [(k + m) % len(found) for m in range(many)]
            before, after = (k - 1) % len(found), (k + many) % len(found)
            if before in run or after in run or before == after:
                break
            one, two = _span(p, found[before]), _span(p, found[after])
            parts = [_span(p, found[r]) for r in run]
            q = np.vstack(parts)
            here = grain.here(_gap(one), _gap(two), _gap(q)) if len(q) > 1 else grain.facet
            if min(_way(one), _way(two)) < sides * max(_way(part) for part in parts):
                continue
            a, b = PieceCurve(one, found[before][2]), PieceCurve(two, found[after][2])
            corner = meeting_of(a, b, q.mean(axis=0))
            if corner is None:
                continue
            away = np.linalg.norm(q - corner, axis=1)
            if away.max() > _ROUNDED_WITHIN * here or away.min() > _ROUNDED_OFF * here:
                continue
            turn = a.direction(corner, one[-1] - one[max(len(one) - 4, 0)]) @ b.direction(
                corner, two[min(3, len(two) - 1)] - two[0]
            )
            if turn > np.cos(_CORNER_TURN):
                continue
            n = len(p) - 1
            cut = int(np.argmin(np.linalg.norm(_span(p, (found[run[0]][0], _end_of(found, run), 0)) - corner, axis=1)))
            i, j = found[run[0]][0], _end_of(found, run)
            f, g = found[before], found[after]
            found[before] = (f[0], f[1] + cut, f[2])
            found[after] = (g[0] - (j - i - cut), g[1], g[2])
            if found[after][0] < 0:
                found[after] = (found[after][0] + n, found[after][1] + n, g[2])
            found = [f for m, f in enumerate(found) if m not in run]
            done = True
            break
        k = max(k - 1, 0) if done else k + 1
    return found


def _way(q: np.ndarray) -> float:
    return float(np.linalg.norm(np.diff(q, axis=0), axis=1).sum())


def _end_of(found, run: list[int]) -> int:
    """The last sample of a run of pieces, counted on past the loop's end where it runs over it."""
    j = found[run[0]][1]
    for r in run[1:]:
        j += found[r][1] - found[r][0]
    return j


def spread_of(loop: TraceLoop, pieces: list[Piece], noise: float) -> float:
    """Scatter of a loop's samples about its pieces, counted higher where neighbours share it, mm."""
    size = float(np.ptp(loop.points, axis=0).max())
    least = max(1.6 * noise, (_LEAST_EXACT if loop.exact else _LEAST_SPREAD) * size)
    rest = [r for p in pieces if len(r := samples_of(loop, p)) > 7]
    spans = np.cumsum([0, *(len(r) for r in rest)])
    if not rest:
        return least
    kinds = [p[0] for p in pieces if len(samples_of(loop, p)) > 7]
    shared = _shared_noise(np.vstack(rest), [(a, b - 1, k) for a, b, k in zip(spans[:-1], spans[1:], kinds)])
    return float(np.sqrt(max(min(shared, (12 * least) ** 2), least**2)))


def samples_of(loop: TraceLoop, piece: Piece) -> np.ndarray:
    """All samples of a piece; of a round one those that lie on it."""
    kind, i, j = piece
    k = np.arange(i, j + 1) if i <= j else np.concatenate([np.arange(i, len(loop.points)), np.arange(j + 1)])
    return round_samples(loop.points[k], loop.vertex[k]) if kind else loop.points[k]
