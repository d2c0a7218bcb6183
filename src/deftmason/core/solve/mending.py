"""Which number of a model, changed alone, would take most of what a scan lies off.

Each number's best change follows from how the faces move with it (least squares on the places as they lie); the best
few are built and measured, so that what is told of them is no promise of a linear model.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import BadInput, MasonError
from ..progress import Progress, part, silent
from ..recipe.ledger import ledger
from ..recipe.parse import parse_step
from ..recipe.replay import Replay
from ..recipe.store import ResultStore
from .whole import At, Trial, below, jacobian, last_body, may_move, moved_surfaces, places_of

__all__ = ["Mend", "Mends", "mends"]

_BUILT = 6  # best changes that are built
_LEAST = 0.01  # share of the mean square: less is nothing to tell


@dataclass(frozen=True)
class Mend:
    """A number, the change that mends most, and the share of the mean square that vanishes when it is built so."""

    name: str
    label: str
    by: float
    to: float
    share: float
    unit: str


@dataclass(frozen=True)
class Mends:
    """``rms`` in mm of the places that answer, as the model is; what would mend it, best first."""

    rms: float
    mends: list[Mend]


def mends(
    steps: list[dict[str, Any]],
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    progress: Progress = silent,
) -> Mends:
    """Raises `BadInput` where there is no body, no scan or no number to change."""
    replay = Replay([parse_step(s) for s in steps], store, scan_file)
    ran = replay.run(part(progress, 0.0, 0.1))
    body = last_body(ran)
    under = {s.id for s in below(replay, body)}
    lines = [l for l in ledger(ran) if may_move(l) and l[1].step.id in under]
    if not lines:
        raise BadInput("The model has no number that could be changed.", field="values")
    scan = places_of(ran, replay)
    trial = Trial(steps, lines, body, store, scan_file)
    x = np.array([v.chosen for _, _, v in lines])
    at = At(replay.output(body, "body"), scan)
    j = jacobian(at, at.surfaces, moved_surfaces(trial, x, scan, [], part(progress, 0.1, 0.8)))
    a = np.einsum("i,ij,ij->j", at.weights, j, j)
    b = np.einsum("i,ij,i->j", at.weights, j, at.residuals)
    total = float(at.weights @ at.residuals**2)
    share = np.where(a > 0, b**2 / np.maximum(a, 1e-300), 0.0) / max(total, 1e-300)
    before = _mean_square(at)
    out = []
    for n, k in enumerate(np.argsort(-share)[:_BUILT]):
        progress(0.8 + 0.2 * n / _BUILT, f"Trying {lines[k][0]}")
        if share[k] < _LEAST:
            break
        there = x.copy()
        there[k] -= b[k] / a[k]
        try:
            after = _mean_square(At(trial.built(there), scan))
        except MasonError:
            continue
        gained = 1 - after / before if before > 0 else 0.0
        if gained > _LEAST:
            name, _, v = lines[k]
            out.append(Mend(name, v.label, float(there[k] - x[k]), float(there[k]), float(gained), v.unit))
    return Mends(at.rms, sorted(out, key=lambda m: -m.share))


def _mean_square(at: At) -> float:
    return at.rms**2
