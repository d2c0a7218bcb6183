"""A bend table in round numbers with what it costs, and how wide a tube is where."""

import numpy as np
import pytest

from deftmason.core.curves.bentpath import BentPath
from deftmason.core.curves.maker import in_round_numbers, off_diameter

TRUE = BentPath(
    np.array([5.0, -3, 2]),
    np.array([0, 0, 1.0]),
    np.array([1.0, 0, 0]),
    np.array([150.0, 120.0, 90.0]),
    np.array([[0.0, np.radians(50), 80.0], [np.radians(40), np.radians(30), 80.0]]),
)


@pytest.mark.parametrize("scale", [0.02, 1.0, 40.0])
def test_read_numbers_come_back_round_and_lie_where_they_were(scale):
    off = np.array([[0.0, np.radians(0.06), 0.3 * scale], [np.radians(-0.1), np.radians(-0.05), -0.4 * scale]])
    near = np.array([0.09, -0.07, 0.05]) * scale
    bends = TRUE.bends * [1, 1, scale] + off
    read = BentPath(TRUE.start * scale, TRUE.direction, TRUE.inward, TRUE.straights * scale + near, bends)
    got, costs = in_round_numbers(read, 34.0 * scale)
    assert got.bends[:, 1] == pytest.approx(TRUE.bends[:, 1], abs=1e-9)
    assert got.bends[:, 0] == pytest.approx(TRUE.bends[:, 0], abs=1e-9)
    assert got.bends[:, 2] == pytest.approx(TRUE.bends[:, 2] * scale, rel=1e-9)
    assert got.straights == pytest.approx(TRUE.straights * scale, rel=1e-9)
    share = np.linspace(0, 1, 50)
    apart = np.linalg.norm(got.at(share * got.length) - read.at(share * read.length), axis=1)
    assert np.sqrt(np.mean(apart**2)) == pytest.approx(costs, rel=0.1) and 0 < costs < 0.6 * scale


def test_what_is_near_no_round_number_stays():
    odd = BentPath(TRUE.start, TRUE.direction, TRUE.inward, TRUE.straights, TRUE.bends + np.radians([0, 0.22, 0]))
    got, _ = in_round_numbers(odd, 34.0)
    assert np.degrees(got.bends[:, 1]) == pytest.approx([50.22, 30.22], abs=1e-9)
    straight = BentPath(TRUE.start, TRUE.direction, TRUE.inward, np.array([200.0]))
    assert in_round_numbers(straight, 34.0)[1] < 1e-9


def test_a_tube_is_as_wide_as_it_is():
    s = np.linspace(1, TRUE.length - 1, 300)
    axis = TRUE.at(s)
    d = np.gradient(axis, axis=0)
    side = np.cross(d, [0.3, 0.5, 0.8])
    side /= np.linalg.norm(side, axis=1)[:, None]
    points = axis + side * (17.0 + 0.1 * np.sin(s / 30))[:, None]
    wider = off_diameter(TRUE, 34.0, points)
    assert wider == pytest.approx(0.2 * np.sin(s / 30), abs=0.02)
    assert off_diameter(TRUE, 34.0, axis + 3 * side).max() == 0  # within it, not of its outside
