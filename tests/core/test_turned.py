"""Placements that some of the scans could be turned out of without a word of the others."""

from types import SimpleNamespace

import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.join import turned

STILL = RigidMotion.identity()


@pytest.fixture
def told(monkeypatch):
    """Which scans are left out of four, where (a, b) says that ``a`` moved is contradicted by ``b``."""

    def ask(edges, count=4, fixed=frozenset(), same=frozenset()):
        scans = [SimpleNamespace(name=i) for i in range(count)]
        monkeypatch.setattr(turned, "_motions", lambda finder, main: [STILL])
        monkeypatch.setattr(turned, "_contradicts", lambda finder, g, h, motion, placed: (g.name, h.name) in edges)
        monkeypatch.setattr(turned, "_shares_most", lambda g, h, motion: (g.name, h.name) in same)
        return turned.untold(
            SimpleNamespace(singles=scans), SimpleNamespace(members=dict.fromkeys(range(count), STILL)), set(fixed)
        )

    return ask


def both(*pairs):
    return {p for a, b in pairs for p in ((a, b), (b, a))}


def test_scans_that_all_contradict_a_turn_stay(told):
    assert told(both((0, 1), (1, 2), (2, 3))) == set()


def test_of_two_groups_that_nothing_tells_apart_one_goes(told):
    assert told(both((0, 1), (0, 2), (1, 2))) == {3}
    assert told(both((1, 2), (1, 3), (2, 3))) == {0}


def test_what_was_fixed_stays_whatever_its_group(told):
    assert told(both((1, 2), (1, 3), (2, 3)), fixed={0}) == {1, 2, 3}


def test_a_scan_whose_turn_nobody_minds_goes_though_it_minds_the_others(told):
    # 3 moved is seen through by none; the others moved are contradicted by it.
    assert told(both((0, 1), (1, 2)) | {(0, 3)}) == {3}


def test_without_a_word_against_it_only_one_is_left(told):
    assert len(told(set())) == 3


def test_a_scan_that_contradicts_itself_is_held_by_one_that_shows_the_same(told):
    edges = both((0, 1), (1, 2)) | {(3, 3), (2, 3)}
    assert told(edges) == {3}
    assert told(edges, same={(3, 2)}) == set()
