"""What makes a way sure: that it comes back when pushed aside, and fills the outlines that the others fill."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.join.bodies import single
from deftmason.core.join.candidates import get_ready
from deftmason.core.join.evidence import Evidence
from deftmason.core.join.seen import Seen
from deftmason.core.join.ways import Finder, Verdict, Way

STILL = RigidMotion.identity()
NOISE = 0.01


def flat(seed: int, turn: RigidMotion = STILL) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places on a square of 40, which way it faces, turned, and how far they lie from its border."""
    rng = np.random.default_rng(seed)
    k = np.arange(-0.5, 41)
    x, y = (g.ravel() + rng.uniform(-0.3, 0.3, g.size) for g in np.meshgrid(k, k))
    p = np.column_stack([x, y, NOISE * rng.normal(size=len(x))])
    n = np.column_stack([0.005 * rng.normal(size=(len(x), 2)), np.ones(len(x))])
    border = np.maximum(np.minimum.reduce([x, y, 40 - x, 40 - y]), 0)
    return turn.points(p), turn.vectors(n / np.linalg.norm(n, axis=1)[:, None]), np.minimum(border, 12)


def corner(seed: int) -> list[tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """Three flats that meet."""
    about = [Rotation.from_rotvec(v) for v in ([0, 0, 0], [0, -np.pi / 2, 0], [np.pi / 2, 0, 0])]
    return [flat(seed + k, RigidMotion.of(r.as_matrix(), np.zeros(3))) for k, r in enumerate(about)]


def look(flats, scale: float) -> Seen:
    """No eye: no ends, nothing seen through."""
    p, n, rim = (np.concatenate(k) for k in zip(*flats))
    rough = np.full(len(p), NOISE * scale)
    return Seen(p * scale, n, rough, rim * scale, scale, NOISE * scale, None, (), len(p) * scale**2)


@pytest.fixture
def finder_of():
    with ThreadPoolExecutor(2) as pool:

        def make(*looks):
            pitch = get_ready(list(looks))[0].pitch
            return Finder([single(i, s, s, pitch) for i, s in enumerate(looks)], None, pool)

        yield make


@pytest.mark.parametrize("scale", [0.05, 1.0, 300.0])
def test_three_flats_come_back_when_pushed_aside_and_fewer_do_not(finder_of, scale):
    for count, comes_back in ((3, True), (2, False), (1, False)):
        f = finder_of(look(corner(1)[:count], scale), look(corner(20)[:count], scale))
        assert f.stays(*f.singles, STILL) is comes_back


def test_where_nothing_is_near_nothing_stays(finder_of):
    f = finder_of(look(corner(1), 1.0), look(corner(20), 1.0))
    assert not f.stays(*f.singles, RigidMotion.of(np.eye(3), [500.0, 0, 0]))


def told(hold: float, **what) -> Verdict:
    e = Evidence(agree=500.0, against=0.0, missing=0.0, rms=0.01, least=1000.0, hold=hold, warp=0.4)
    return Verdict([Way(STILL, replace(e, **what))])


def test_jutting_out_refutes_only_where_the_surest_fill_their_outlines(finder_of):
    juts = replace(told(2.0).ways[0].evidence, unseen=0.06)
    looks = [look(corner(k), 1.0) for k in (1, 20, 40)]
    f = finder_of(*looks)
    assert not f.refutes(juts)
    f.learn_noise([told(5.0), told(4.0), told(2.0, unseen=0.06)])
    assert f.refutes(juts) and not f.refutes(replace(juts, unseen=0.015))
    # A close look at what holds firmly juts out too: the others show what lies beside it.
    assert not f.refutes(replace(juts, hold=20.0))
    # Where the surest jut out too, scans were cut, and outlines say nothing.
    f = finder_of(*looks)
    f.learn_noise([told(5.0, unseen=0.2), told(4.0, unseen=0.1), told(2.0)])
    assert not f.refutes(juts)


def test_how_bent_true_places_may_be_is_told_by_the_straightest_of_the_surest(finder_of):
    f = finder_of(*[look(corner(k), 1.0) for k in (1, 20, 40, 60, 80)])
    half_turned = [told(5.0, warp=2.6), told(4.0, warp=1.6)]
    f.learn_noise([*half_turned, told(3.0, warp=0.7), told(2.0, warp=0.7)])
    assert f.refutes(half_turned[1].ways[0].evidence)
    # A scanner whose noise is wide bends all of them.
    f = finder_of(*[look(corner(k), 1.0) for k in (1, 20, 40, 60, 80)])
    f.learn_noise([told(k, warp=1.3 + 0.1 * k) for k in (2.0, 3.0, 4.0, 5.0)])
    assert not f.refutes(told(2.0, warp=1.9).ways[0].evidence)


def test_a_stated_noise_stays_while_bends_are_learned(finder_of):
    f = finder_of(*[look(corner(k), 1.0) for k in (1, 20)])
    f.stated = True
    before = f.noise
    f.learn_noise([told(5.0)])
    assert f.noise == before and np.isfinite(f.most_warp)
