"""What could be held of what is picked: every relation and size that fits, what it would cost, what the scan says.

A relation's cost is read from the solved drawing's covariance (the squares it would add: Nocedal, Wright 2006,
*Numerical Optimization*, §16.1), not by solving again for each.
"""

from __future__ import annotations

from itertools import permutations
from typing import Any

import numpy as np

from ..errors import BadInput
from .board import Board
from .drawing import PAPER, RELATION_KINDS, SIZE_KINDS, Drawing, Relation, Size, check_said
from .equations import relation_equations, size_value
from .settling import settled
from .sizes import suggestions
from .solver import Solution
from .states import verdict_of
from .trace import TraceLoop

__all__ = ["offered"]

_HOLDS = 1e-7  # of the drawing's span: what differs by less holds already
_BY_HAND = ("turned", "stepped", "offset")  # these come with a number: tools make them


def _fits(d: Drawing, kind: str, of: tuple[str, ...], *, size: bool) -> bool:
    try:
        check_said(d, [] if size else [Relation(kind, of)], [Size("s", kind, of)] if size else [])
        return True
    except (BadInput, KeyError):
        return False


def _orders(of: list[str]) -> list[tuple[str, ...]]:
    return list(permutations(of)) if len(of) <= 3 else [tuple(of)]


def _price(d: Drawing, s: Solution, rows) -> tuple[float, float, float, bool]:
    """How far off (mm), rise of rms, standard deviations, and whether nothing that may move could make it hold."""
    off = rise = pull = 0.0
    stuck = True
    sigma2 = s.sum_of_squares / max(s.samples - s.freedom + s.unseen, 1)
    for value, g in rows:
        row = np.zeros(len(s.x))
        row[list(g)] = list(g.values())
        off = max(off, abs(value))
        variance = float(row @ s.covariance @ row)
        loose = float(np.abs(row @ s.loose).max(initial=0.0)) > 1e-6 * max(float(np.abs(row).max()), 1e-300)
        if loose:
            stuck = False
            continue
        if variance > 1e-18 * max(sigma2, 1e-300):
            stuck = False
            pull = max(pull, abs(value) / np.sqrt(variance))
            rise += value**2 / variance * sigma2 * s.inflation / max(s.inflation, 1e-300)
    rms = float(np.sqrt((s.sum_of_squares + rise) / s.samples)) - s.rms if s.samples else 0.0
    return off, rms, pull, stuck


def offered(board: Board, loops: list[TraceLoop], reach: float, of: list[str]) -> dict[str, Any]:
    """Relations and sizes that the picked entities or places ``of`` allow: {"relations": [...], "sizes": [...]},
    cheapest first. Those that are held are not among them.
    """
    whole = settled(board, loops, reach)
    d, s = whole.drawing, whole.solution
    known = {(r.kind, frozenset(r.of)) for r in board.relations}
    relations, seen = [], set()
    stands = all(n.partition(".")[0] in board.references or n in PAPER for n in of)
    for kind in () if stands else RELATION_KINDS:
        if kind in _BY_HAND:
            continue
        for order in _orders(of):
            said = (kind, frozenset(order))
            if said in known or said in seen or not _fits(d, kind, order, size=False):
                continue
            r = Relation(kind, order)
            try:
                rows = relation_equations(d, r, s.x)
            except BadInput:
                continue
            seen.add(said)
            if not rows and kind != "fixed":
                continue
            off, rms, pull, stuck = _price(d, s, rows)
            if kind == "fixed":
                off = rms = pull = 0.0
            holds = off <= _HOLDS * d.span
            if stuck and not holds and kind != "fixed":
                verdict = "contradicts"
            else:
                verdict = "holds already" if holds and kind != "fixed" else verdict_of(pull) if s.samples else ""
            relations.append({"kind": kind, "of": list(order), "by": 0.0, "off": off, "cost": rms, "verdict": verdict})
    relations.sort(key=lambda r: (r["verdict"] == "contradicts", r["kind"] == "fixed", r["cost"], r["off"]))
    sizes = []
    taken = {(z.kind, frozenset(z.of)) for z in board.sizes}
    named: set[tuple[str, frozenset]] = set()
    for kind in SIZE_KINDS:
        for order in _orders(of):
            if (kind, frozenset(order)) in taken | named or not _fits(d, kind, order, size=True):
                continue
            named.add((kind, frozenset(order)))
            z = Size("s", kind, order)
            value, g = size_value(d, z, s.x)
            row = np.zeros(len(s.x))
            row[list(g)] = list(g.values())
            spread = float(np.sqrt(max(row @ s.covariance @ row, 0.0)))
            free = float(np.abs(row @ s.loose).max(initial=0.0)) > 1e-6
            told = {"value": value, "uncertainty": None if free or not s.samples else spread}
            sizes.append(
                {"kind": kind, "of": list(order), "unit": z.unit, **told, "suggestions": suggestions(value, spread)}
            )
    return {"relations": relations, "sizes": sizes}
