"""How fast holes are read, features proposed, numbers solved, a size changed. Figures: docs/performance.md."""

import copy

import numpy as np
import pytest
from tests.bracket import rebuilt
from tests.core.test_proposals import BOLT, PLATE, SIDE, UNDER, Proposer

from deftmason.core.features.hole import read_hole
from deftmason.core.recipe.ledger import ledger, set_value
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.scan.picking import gather_on
from deftmason.core.solve import solve_whole


@pytest.fixture(scope="module")
def proposer():
    p = Proposer()
    p.ask(SIDE, UNDER, PLATE)
    return p


def test_click_to_hole(benchmark, proposer):
    back = proposer.motion.inverse()
    at, n = back.points(np.array([-34, -15.75, 6.0])), back.vectors(np.array([0, -1.0, 0]))
    benchmark.pedantic(lambda: read_hole(proposer.index, gather_on(proposer.index, at, "cylinder", normal=n)), rounds=3)
    print(f"\na hole from one click, 106 k facets: {benchmark.stats['min']:.2f} s (aim ≤ 0.3)")


def test_zones_to_a_push(benchmark, proposer):
    benchmark.pedantic(lambda: proposer.ask(SIDE, UNDER, PLATE), rounds=2)
    print(f"\na base proposed of three zones: {benchmark.stats['min']:.2f} s (aim ≤ 5)")


def test_zones_to_a_set_of_holes(benchmark, proposer):
    grown = copy.copy(proposer)
    grown.take(SIDE, UNDER, PLATE)
    benchmark.pedantic(lambda: grown.ask(BOLT), rounds=2)
    print(f"\nfour holes proposed of one bore: {benchmark.stats['min']:.2f} s (aim ≤ 3)")


def test_twelve_numbers_against_the_scan(benchmark):
    b = rebuilt()
    lines = ledger(Replay([parse_step(s) for s in b.steps], b.store, b.file).run())
    could = [(n, q, v) for n, q, v in lines if v.path and v.chosen and q.step.produces in ("sketch", "body")][:12]
    rng, steps = np.random.default_rng(1), copy.deepcopy(b.steps)
    for _, q, v in could:
        set_value(steps, q.step.id, v.path, v.chosen * (1 + 0.02 * rng.choice([-1, 1])))
    names = [n for n, *_ in could]
    benchmark.pedantic(lambda: solve_whole(steps, b.store, b.file, names), rounds=1)
    print(f"\ntwelve numbers solved against 106 k facets: {benchmark.stats['min']:.1f} s (aim ≤ 30)")


def test_one_size_changed(benchmark):
    b = rebuilt()
    turn = iter(np.linspace(8.0, 9.0, 40))

    def change():
        steps = copy.deepcopy(b.steps)
        outline = next(s for s in steps if s["name"] == "Base outline")
        size = next(s for s in outline["sizes"] if s["kind"] == "diameter")
        size |= {"chosen": float(next(turn)), "source": "typed"}
        Replay([parse_step(s) for s in steps], b.store, b.file).run()

    change()
    benchmark.pedantic(change, rounds=4)
    print(f"\none size of the bracket changed, all that rests on it run: {benchmark.stats['min']:.2f} s (aim ≤ 2)")
