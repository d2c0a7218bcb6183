"""Which sizes pieces share: told apart from what measuring explains, whatever the size and the unit."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.recipe.pieces import Reading, apartness, size_of_pieces, sizes_of_pieces


def of(values, uncertainty=0.02, unit="mm"):
    return {f"p{k}": Reading(v, uncertainty, unit) for k, v in enumerate(values)}


@settings(max_examples=60, deadline=None)
@given(st.integers(2, 12), st.floats(1e-3, 1e4), st.floats(-1e5, 1e5), st.integers(0, 10**6))
def test_scale_and_place_change_no_verdict(count, scale, shift, seed):
    rng = np.random.default_rng(seed)
    x = rng.normal(0, 1, count) + rng.choice([0, 8], count)
    plain = size_of_pieces("a", of(x, 2.0))
    moved = size_of_pieces("a", of(x * scale + shift, 2.0 * scale))
    assert (plain.agreement, plain.apart) == (moved.agreement, moved.apart)
    assert moved.mean == pytest.approx(plain.mean * scale + shift, rel=1e-6, abs=1e-6 * scale)


def test_pieces_that_are_the_same_are_known_better_together():
    rng = np.random.default_rng(4)
    s = size_of_pieces("a", of(12 + rng.normal(0, 0.01, 9)))
    assert s.agreement == "same" and s.apart == () and abs(s.nominal - 12) < s.uncertainty
    assert s.uncertainty == pytest.approx(0.02 / 3, rel=1e-9) and s.rounded == 12.0


def test_one_piece_apart_is_named_and_does_not_move_the_nominal():
    s = size_of_pieces("a", of([12.004, 11.995, 12.001, 12.31, 12.003]))
    assert s.agreement == "most" and s.apart == ("p3",) and s.nominal == pytest.approx(12.0008, abs=1e-3)


def test_sizes_that_differ_on_all_pieces_have_no_nominal():
    s = size_of_pieces("a", of([12.06, 12.24, 12.12, 12.55, 12.38, 12.17]))
    assert s.agreement == "differs" and s.nominal is None and s.rounded is None
    assert (s.low, s.high) == (12.06, 12.55)


def test_two_pieces_apart_are_not_called_most():
    assert size_of_pieces("a", of([12.0, 12.4])).agreement == "differs"
    assert size_of_pieces("a", of([12.0])).agreement == "alone"


def test_how_well_sizes_repeat_is_read_from_all_of_them():
    """Heights from a frame that was set a little otherwise on each piece are no wear; a worn bore among them is."""
    rng = np.random.default_rng(8)
    frame = rng.normal(0, 0.02, 6)
    pieces = {f"p{k}": {f"h{j}": Reading(10.0 * j + frame[k], 0.008) for j in range(8)} for k in range(6)}
    for k in range(6):
        pieces[f"p{k}"]["bore"] = Reading(12 + 0.08 * k, 0.03)
    told = {s.name: s for s in sizes_of_pieces(pieces)}
    assert {told[f"h{j}"].agreement for j in range(8)} == {"same"} and told["bore"].agreement == "differs"
    far = apartness(pieces, list(told.values()))
    assert far["p5"][1] == "bore" and far["p0"][1] == "bore" and far["p5"][0] > far["p3"][0]


def test_readings_without_uncertainty_decide_by_their_own_spread():
    s = size_of_pieces("a", {f"p{k}": Reading(x, None) for k, x in enumerate((5.0, 5.1, 4.9))})
    assert s.agreement == "same" and s.nominal == pytest.approx(5.0)
