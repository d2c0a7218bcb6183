"""A board solved against its trace: everything put where relations, sizes and scan have it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from .board import Board, as_stroke
from .drawing import Drawing, check_said, said_once
from .sketcher import draw
from .solver import Solution, solve
from .trace import TraceLoop

__all__ = ["Settled", "settled"]

_BROKEN = 1e-6  # of the span: an equation left so far off is not held


@dataclass(frozen=True)
class Settled:
    """``board`` with every stroke where it was solved, the ``drawing`` and its ``solution``."""

    board: Board
    drawing: Drawing
    solution: Solution


def placed(board: Board, d: Drawing, x: np.ndarray) -> Board:
    """The board with its strokes where ``x`` has them."""
    out = board.copy()
    out.fresh = list(board.fresh)
    at = {e["id"]: e for e in d.geometry(x)}
    out.strokes = [
        replace(as_stroke(at[s.id]), places=s.places, joins=s.joins) if s.id in at else s for s in board.strokes
    ]
    return out


def settled(
    board: Board,
    loops: list[TraceLoop],
    reach: float,
    *,
    drawn_to: Mapping[str, tuple[float, float]] | None = None,
    tells: bool = True,
) -> Settled:
    """Solve a board. ``drawn_to`` : places by name that a hand draws to somewhere, mm. Raises `BadInput`."""
    relations = said_once(board.relations)
    d = draw(loops, board.strokes, reach, relations=relations, references=board.references)
    check_said(d, relations, board.sizes)
    hand = {d.place(n): to for n, to in (drawn_to or {}).items()}
    s = solve(d, relations, board.sizes, drawn_to=hand, tells=tells)
    if s.broken > _BROKEN * d.span and not hand:
        # From where nothing but the equations leads first, the trace is come to by what is left free.
        bare = solve(replace(d, stretches={}), relations, board.sizes, tells=False)
        if bare.broken < _BROKEN * d.span:
            s = solve(d, relations, board.sizes, start=bare.x, tells=tells)
    return Settled(placed(board, d, s.x), d, s)
