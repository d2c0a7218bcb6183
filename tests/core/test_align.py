"""The frame's zero: where a point, an axis or planes put it."""

import numpy as np
import pytest

from deftmason.core.elements import Cylinder, Plane, Point, RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.frame.align import farthest_move, set_frame

FLOOR = Plane(np.array([5.0, 3.0, -18.5]), np.array([0, 0, -1.0]))
BORE = Cylinder(np.array([40.0, 1.0, 2.0]), np.array([1.0, 0, 0]), 6.0)


def zero_of(frame):
    return -frame.motion.matrix[:3, :3].T @ frame.motion.matrix[:3, 3]


@pytest.mark.parametrize("first", ["plane", "axis"])
def test_a_point_says_where_zero_is_in_either_order(first):
    centre = Point(np.array([0.5, 1.0, 2.0]))
    pair = (FLOOR, BORE, "z", "x") if first == "plane" else (BORE, FLOOR, "x", "z")
    f = set_frame(pair[0], pair[1], centre, first_axis=pair[2], second_axis=pair[3])
    assert np.allclose(zero_of(f), centre.point) and f.open == []


def test_without_a_point_a_plane_holds_its_height():
    f = set_frame(FLOOR, BORE, BORE, first_axis="z", second_axis="x")
    assert zero_of(f)[2] == pytest.approx(-18.5) and zero_of(f)[1] == pytest.approx(1.0)
    assert "move along x" in f.open


@pytest.mark.parametrize("axes", [("x", "y"), ("y", "z"), ("z", "x"), ("y", "x"), ("z", "y"), ("x", "z")])
def test_every_pair_of_axes_gives_a_right_handed_frame(axes):
    f = set_frame(FLOOR, BORE, None, first_axis=axes[0], second_axis=axes[1])
    m = f.motion.matrix[:3, :3]
    assert np.allclose(m @ m.T, np.eye(3)) and np.linalg.det(m) == pytest.approx(1)
    assert np.allclose(m["xyz".index(axes[0])], -FLOOR.normal)
    assert np.allclose(m["xyz".index(axes[1])], BORE.direction)


def test_what_leans_is_said_and_flipping_turns_round():
    lean = np.radians(0.4)
    leaning = Cylinder(BORE.point, np.array([np.cos(lean), 0, np.sin(lean)]), 6.0)
    f = set_frame(FLOOR, leaning, None, second_axis="x")
    assert abs(f.misses[0]["degrees"]) == pytest.approx(0.4)
    g = set_frame(FLOOR, leaning, None, second_axis="x", flip_first=True, flip_second=True)
    assert np.allclose(f.motion.matrix[0, :3], -g.motion.matrix[0, :3])
    assert np.allclose(f.motion.matrix[2, :3], -g.motion.matrix[2, :3])


def test_datums_that_cannot_set_a_frame_are_refused():
    with pytest.raises(BadInput, match="cannot both set the same axis"):
        set_frame(FLOOR, BORE, None, first_axis="x", second_axis="x")
    with pytest.raises(BadInput, match="point the same way"):
        set_frame(FLOOR, Plane(np.zeros(3), np.array([0, 0, 1.0])), None)


def test_the_farthest_place_counts_not_a_box_around_it():
    turn = RigidMotion.of(np.array([[0, -1.0, 0], [1, 0, 0], [0, 0, 1]]), np.zeros(3))
    on_circle = np.array([[3.0, 0, 9], [0, 3, -9], [-2, -2, 0]])
    assert farthest_move(RigidMotion.identity(), turn, on_circle) == pytest.approx(3 * np.sqrt(2))
