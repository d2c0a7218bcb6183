"""Trial: as `join`, with as many points as scanners give: 250 to 450 pixels across each look instead of 150."""

from __future__ import annotations

import numpy as np

from . import join
from .report import Outcome

MEASURE = join.MEASURE


def case(seed: int) -> list[Outcome]:
    pixels = int(np.random.default_rng([seed, 61]).integers(250, 451))
    return join.case(seed, pixels)
