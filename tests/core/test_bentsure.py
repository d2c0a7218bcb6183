"""How sure a bent tube's numbers are, against tubes whose numbers are known."""

import numpy as np
import pytest

from deftmason.core.curves.tubes import read_tubes
from deftmason.core.scan.index import ScanIndex
from tests.trials.tubes import random_tube

SEEDS = (700, 704, 706, 710, 714, 716, 720, 721)


@pytest.fixture(scope="module")
def pulls():
    """Of every bend's numbers, how far each is off in the standard deviations that were told, by what it is."""
    out: dict[str, list[float]] = {"rotation": [], "angle": [], "radius": [], "straight": []}
    for seed in SEEDS:
        mesh, truths, *_ = random_tube(seed)
        path, radius = truths[0]
        tube = min(read_tubes(ScanIndex(mesh)).tubes, key=lambda t: abs(t.diameter - 2 * radius))
        bends, straights = path.bends.copy(), path.straights
        if np.linalg.norm(tube.path.start - path.start) > np.linalg.norm(tube.path.at([tube.path.length]) - path.start):
            bends, straights = bends[::-1].copy(), straights[::-1]
            bends[1:, 0] = path.bends[1:, 0][::-1]
        off = tube.path.bends - bends
        off[:, 0] = (off[:, 0] + np.pi) % (2 * np.pi) - np.pi
        out["rotation"] += list(off[1:, 0] / tube.sigma.bends[1:, 0])
        out["angle"] += list(off[:, 1] / tube.sigma.bends[:, 1])
        out["radius"] += list(off[:, 2] / tube.sigma.bends[:, 2])
        out["straight"] += list((tube.path.straights - straights)[1:-1] / tube.sigma.straights[1:-1])
    return out


@pytest.mark.parametrize("what", ["rotation", "angle", "radius", "straight"])
def test_bends_lie_as_far_off_as_they_are_told_to(pulls, what):
    p = np.array(pulls[what])
    assert len(p) > 10 and 0.5 < np.sqrt(np.mean(p**2)) < 1.6 and np.abs(p).max() < 4.5


def test_what_is_given_is_sure_and_what_ends_with_the_scan_is_not_told():
    mesh, truths, *_ = random_tube(715)
    path, radius = truths[0]
    free = read_tubes(ScanIndex(mesh)).tubes[0]
    held = read_tubes(ScanIndex(mesh), diameter=2 * radius).tubes[0]
    assert held.sigma.diameter == 0 < free.sigma.diameter < 0.01 * radius
    told = free.sigma.told()
    assert len(told) == len(path.bends) and told[0]["length"] is None and told[0]["rotation_deg"] == 0
    assert all(0 < t["radius"] < 0.05 * path.bends[:, 2].max() for t in told)
    assert 0 < told[1]["length"] < 0.1 * radius
