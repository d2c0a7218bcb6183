"""A few seeds of each trial: nothing wrong, and what is right stays right."""

import pytest

from . import (
    again,
    castings,
    chamfers,
    checks,
    clean,
    clicks,
    dense,
    deviation,
    draft,
    edges,
    fits,
    helices,
    holes,
    join,
    led,
    nets,
    outlines,
    picks,
    pieces,
    repeats,
    replaced,
    ridges,
    roundings,
    sections,
    surfaces,
    symmetry,
    touches,
    traces,
    tubes,
    workshop,
    worn,
    zones,
)
from .report import RIGHT, WRONG

SEEDS = [
    (deviation, [0, 1, 2, 3, 4, 5, 7, 9]),
    (fits, [0, 1, 2, 3]),
    (checks, [0, 1, 5, 11]),
    (tubes, [0, 5, 14]),
    (helices, [10, 18]),
    (ridges, [2, 6, 20]),
    (surfaces, [7, 8]),
    (nets, [0, 2, 10]),
    (sections, [0, 5, 9, 16, 1019]),
    (worn, [0, 10, 15]),
    (led, [3]),
    (roundings, [4, 5, 10, 114]),
    (chamfers, [0, 1, 2, 3, 5]),
    (replaced, [1, 107, 135]),
    (picks, [13]),
    (clicks, [2, 20, 47]),
    (clean, [0, 1, 3, 7]),
    (join, [17]),
    (dense, [424]),
    (zones, [2, 7, 266, 703]),
    (symmetry, [0, 1, 2]),
    (traces, [0, 1, 2, 3]),
    (repeats, [0, 5, 8, 12]),
    (draft, [2, 5]),
    (workshop, [7, 101]),
    (castings, [1]),
    (holes, [5, 8, 33, 134]),
    (outlines, [0, 4, 6, 8]),
    (edges, [3, 7, 9, 12]),
    (pieces, [0, 1, 2, 3, 4]),
    (again, [2]),
    (touches, [0, 1, 7, 28]),
]


@pytest.mark.parametrize(
    "area,seed",
    [(a, s) for a, seeds in SEEDS for s in seeds],
    ids=lambda x: getattr(x, "__name__", str(x)).rsplit(".", 1)[-1],
)
def test_trial(area, seed):
    found = area.case(seed)
    assert found
    bad = [r for r in found if r.verdict == WRONG]
    assert not bad, bad
    share = sum(r.verdict == RIGHT for r in found) / len(found)
    assert share >= (0.6 if area in (picks, clicks) else 1.0), found
