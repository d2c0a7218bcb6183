"""One recipe on several pieces of the same part: which sizes are the design, which the wear.

A size that all pieces share, as far as it can be measured, is the part's own: its mean over the pieces is known better
than from any one of them. A size that differs by more than the measurement explains was changed in use, or never held.
Whether pieces agree is asked with Cochran's Q, the sum of squared differences from the weighted mean over their
variances, which is χ² of one less than the pieces where they do (Cochran 1954, *The combination of estimates from
different experiments*). A reading's own uncertainty knows nothing of the frame it is told in nor of how a scanner sees
one piece and another, so how well the pieces' sizes repeat is read from all of them: a third repeat no worse.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..sketch.sizes import round_value

__all__ = ["Agreement", "Reading", "SizeOfPieces", "apartness", "size_of_pieces", "sizes_of_pieces"]

_DOUBT = 1e-3  # chance below which pieces that are the same are not taken to differ so much
_DOUBT_OF_MOST = 0.05  # the same for those that are left when others were set apart: chosen to agree, they agree well
_REPEATING = 1 / 3  # share of the sizes that are taken to be worn on no piece
_LEAST_SHARE = 0.005  # of what readings are usually told to be uncertain by: none is surer than that
_MOST = 2_000
_ENOUGH = 5  # values of one unit from which on their spreads say how well sizes repeat
_MOST_REPEAT = 5.0  # times what readings are usually uncertain by: more is wear, however many sizes show it

Agreement = Literal["same", "most", "differs", "alone"]


@dataclass(frozen=True)
class Reading:
    """A value of one piece: what was measured and ± two sigma of it, both in ``unit``."""

    measured: float
    uncertainty: float | None
    unit: str = "mm"


@dataclass(frozen=True)
class SizeOfPieces:
    """A value over the pieces, mm or degrees.

    Attributes
    ----------
    mean, spread, low, high : of what was measured; ``spread`` is the standard deviation (n − 1), 0 of one piece.
    count : pieces that have it.
    expected : the spread that measuring explains: the readings' own uncertainty, and how well sizes repeat.
    agreement : 'same' on all pieces, the same on 'most', 'differs', or 'alone' where one piece has it.
    apart : names of the pieces that do not agree with most.
    nominal, uncertainty : of the pieces that agree, weighted, ± two sigma; None where nothing says what was meant.
    rounded, why : the number its maker probably meant, and why, as far as the nominal allows.
    """

    name: str
    unit: str
    mean: float
    spread: float
    low: float
    high: float
    count: int
    expected: float
    agreement: Agreement
    apart: tuple[str, ...]
    nominal: float | None
    uncertainty: float | None
    rounded: float | None
    why: str


def _chance(x: np.ndarray, sigma: np.ndarray) -> float:
    """How often pieces that are the same are read as far apart as these."""
    from scipy.stats import chi2

    if len(x) < 2:
        return 1.0
    w = 1 / sigma**2
    q = float((w * (x - (w @ x) / w.sum()) ** 2).sum())
    return float(chi2.sf(q, len(x) - 1))


def _largest_agreeing(x: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """Indices of the most pieces, next to each other in size, that agree; of equally many those that agree best."""
    order = np.argsort(x)
    for count in range(len(x), 0, -1):
        runs = [order[i : i + count] for i in range(len(x) - count + 1)]
        chances = [_chance(x[r], sigma[r]) for r in runs]
        best = int(np.argmax(chances))
        if chances[best] >= (_DOUBT if count == len(x) else _DOUBT_OF_MOST):
            return np.sort(runs[best])
    return order[:1]


def _sigmas(readings: Mapping[str, Reading]) -> np.ndarray:
    """One standard deviation of each reading; those without are taken to be as good as the others, else as their
    spread.
    """
    x = np.array([r.measured for r in readings.values()], float)
    known = np.array([r.uncertainty or np.nan for r in readings.values()], float) / 2
    good = np.isfinite(known) & (known > 0)
    spread = float(x.std(ddof=1)) if len(x) > 1 else 0.0
    usual = float(np.median(known[good])) if good.any() else max(spread, 1e-9)
    least = max(_LEAST_SHARE * usual, 1e-12 * max(1.0, float(np.abs(x).max())))
    return np.maximum(np.where(good, known, usual), least)


def size_of_pieces(name: str, readings: Mapping[str, Reading], repeats: float = 0.0) -> SizeOfPieces:
    """What the pieces say of one value; ``readings`` by the pieces' names, at least one; ``repeats``: one standard
    deviation of sizes between pieces that are the same, besides the readings' own uncertainty.
    """
    pieces = list(readings)
    x = np.array([readings[p].measured for p in pieces], float)
    sigma = np.hypot(_sigmas(readings), repeats)
    agree = _largest_agreeing(x, sigma)
    among = set(agree.tolist())
    apart = tuple(p for k, p in enumerate(pieces) if k not in among)
    if len(x) == 1:
        agreement: Agreement = "alone"
    elif not apart:
        agreement = "same"
    elif len(agree) >= 3 and len(agree) > len(x) / 2:
        agreement = "most"
    else:
        agreement, apart = "differs", ()
    nominal = uncertainty = rounded = None
    why = ""
    if agreement != "differs":
        w = 1 / sigma[agree] ** 2
        nominal, uncertainty = float((w @ x[agree]) / w.sum()), float(2 / np.sqrt(w.sum()))
        rounded, why = round_value(nominal, uncertainty)
    return SizeOfPieces(
        name=name,
        unit=readings[pieces[0]].unit,
        mean=float(x.mean()),
        spread=float(x.std(ddof=1)) if len(x) > 1 else 0.0,
        low=float(x.min()),
        high=float(x.max()),
        count=len(x),
        expected=float(np.sqrt((sigma**2).mean())),
        agreement=agreement,
        apart=apart,
        nominal=nominal,
        uncertainty=uncertainty,
        rounded=rounded,
        why=why,
    )


def _repeats(values: Sequence[Mapping[str, Reading]]) -> float:
    """How well values of one unit repeat from piece to piece, as one standard deviation: the spread of the
    third that repeat best, at most some times what their readings are uncertain by. 0 where too few say so.
    """
    several = [v for v in values if len(v) > 1]
    if len(several) < _ENOUGH:
        return 0.0
    spreads = [float(np.std([r.measured for r in v.values()], ddof=1)) for v in several]
    own = [float(np.median(_sigmas(v))) for v in several]
    return min(float(np.quantile(spreads, _REPEATING)), _MOST_REPEAT * float(np.median(own)))


def sizes_of_pieces(pieces: Mapping[str, Mapping[str, Reading]]) -> list[SizeOfPieces]:
    """Every value that some piece has, in the order in which they first come; by pieces' names, then values' names."""
    names = list(dict.fromkeys(n for values in pieces.values() for n in values))[:_MOST]
    read = {n: {p: v[n] for p, v in pieces.items() if n in v} for n in names}
    units = {n: next(iter(r.values())).unit for n, r in read.items()}
    repeats = {u: _repeats([read[n] for n in names if units[n] == u]) for u in set(units.values())}
    return [size_of_pieces(n, read[n], repeats[units[n]]) for n in names]


def apartness(
    pieces: Mapping[str, Mapping[str, Reading]], sizes: Sequence[SizeOfPieces]
) -> dict[str, tuple[float, str]]:
    """How far each piece is from the others: its farthest value's distance from their median over what the measurement
    explains, and that value's name. A piece without values has (0, '').
    """
    out: dict[str, tuple[float, str]] = dict.fromkeys(pieces, (0.0, ""))
    for s in sizes:
        having = {p: v[s.name].measured for p, v in pieces.items() if s.name in v}
        if len(having) < 3:
            continue
        middle = float(np.median(list(having.values())))
        for p, x in having.items():
            off = abs(x - middle) / s.expected
            if off > out[p][0]:
                out[p] = (off, s.name)
    return out
