"""Where lines and arcs only imitate a curve: runs of pieces that go over into one another smoothly, told as one spline
where that is the shorter description (Rissanen 1978).

A run of true lines and arcs stays what it is: a cubic that follows a jump of curvature needs many poles near it.
"""

from __future__ import annotations

import numpy as np

from .pieces import PRICE_ARC, PRICE_LINE, Piece, samples_of, spread_of
from .splines import spline_through
from .trace import TraceLoop

__all__ = ["SPLINE", "with_splines"]

SPLINE = 3  # the kind of piece that is a spline
_FEWEST = 5  # pieces that a spline replaces: fewer are as likely what they seem
_SMOOTH = 0.07  # rad that two pieces turn where they go over into one another, at most
_LINES = 0.3  # of the pieces of a curve that may look straight
_PRICE_POLE = 7.0
_LOOKED = 5  # samples beside a joint that tell the direction there
_FEWEST_SAMPLES = 24


def _direction(q: np.ndarray) -> np.ndarray:
    """Direction at the end of a run of samples, bent as its last ones are."""
    n = min(len(q), 2 * _LOOKED + 1)
    t = q[-1] - q[-n]
    if n < 5:
        return t
    half = q[-1] - q[-(n // 2) - 1]
    return 2 * half * (n - 1) / (n // 2) / 2 - t / 2 if n > 6 else t


def _joint_turn(before: np.ndarray, after: np.ndarray) -> float:
    u, v = _direction(before), -_direction(after[::-1])
    return float(abs(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v)))


def _span(loop: TraceLoop, run: list[Piece]) -> Piece:
    return Piece((SPLINE, run[0][1], run[-1][2]))


def _price(loop: TraceLoop, run: list[Piece], spread: float) -> float:
    """What a run of pieces costs as it is, in natural units of length."""
    from .pieces import residuals

    squares = sum(float(np.sum(residuals(samples_of(loop, p), p[0]) ** 2)) for p in run)
    return squares / (2 * spread**2) + sum(PRICE_ARC if p[0] else PRICE_LINE for p in run)


def _as_spline(loop: TraceLoop, run: list[Piece], spread: float) -> bool:
    """Whether one spline tells a run of pieces in fewer words."""
    price = _price(loop, run, spread)
    poles = int(sum(PRICE_ARC if p[0] else PRICE_LINE for p in run) / _PRICE_POLE) - 1
    q = samples_of(loop, _span(loop, run))
    if poles < 4 or len(q) < max(_FEWEST_SAMPLES, 3 * poles):
        return False
    for count in dict.fromkeys((poles, max(4, 2 * poles // 3))):
        squares = spline_through(q, count)[2]
        if squares / (2 * spread**2) + _PRICE_POLE * count < price:
            return True
    return False


def _mostly_arcs(run: list[Piece]) -> bool:
    """Whether pieces bend nearly everywhere, as those that imitate a curve do."""
    return sum(p[0] == 0 for p in run) <= _LINES * len(run)


def _best_run(loop: TraceLoop, chain: list[Piece], spread: float) -> tuple[int, int] | None:
    """The longest run of a smooth chain that is a spline: first and last piece."""
    for many in range(len(chain), _FEWEST - 1, -1):
        for k in range(len(chain) - many + 1):
            run = chain[k : k + many]
            if _mostly_arcs(run) and _as_spline(loop, run, spread):
                return k, k + many - 1
            if many < len(chain) - 2:
                return None  # what only shorter runs would be, lines and arcs tell as well
    return None


def with_splines(loop: TraceLoop, pieces: list[Piece], noise: float) -> list[Piece]:
    """The pieces of a loop, runs of them replaced by splines where these tell it shorter. ``noise`` : mm."""
    if len(pieces) < _FEWEST or loop.exact:
        return pieces
    q = [samples_of(loop, p) for p in pieces]
    n = len(pieces)
    smooth = [
        (k + 1 < n or loop.closed) and _joint_turn(q[k], q[(k + 1) % n]) < _SMOOTH for k in range(n)
    ]  # at the end of each piece
    spread = spread_of(loop, pieces, noise)
    if all(smooth):
        # A loop that is smooth all round: three splines, so that no two meet twice.
        parts = [pieces[k * n // 3 : (k + 1) * n // 3] for k in range(3)]
        if (
            n >= 2 * _FEWEST - 1
            and _as_spline(loop, pieces[: n // 2], spread)
            and _as_spline(loop, pieces[n // 2 :], spread)
        ):
            return [_span(loop, part) for part in parts]
        return pieces
    first = (smooth.index(False) + 1) % n if loop.closed else 0
    turned = [pieces[(first + k) % n] for k in range(n)]
    breaks = [k for k in range(n) if not smooth[(first + k) % n]]
    out: list[Piece] = []
    begin = 0
    for end in [*breaks, n - 1] if not breaks or breaks[-1] != n - 1 else breaks:
        chain = turned[begin : end + 1]
        found = _best_run(loop, chain, spread) if len(chain) >= _FEWEST else None
        if found is None:
            out += chain
        else:
            a, b = found
            out += [*chain[:a], _span(loop, chain[a : b + 1]), *chain[b + 1 :]]
        begin = end + 1
    return out
