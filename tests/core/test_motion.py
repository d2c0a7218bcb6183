"""Rigid motions: groups as they should be, exact far from the origin, for parts of any size."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.elements import RigidMotion
from deftmason.core.elements.motion import perpendicular_pair, unit
from deftmason.core.errors import MasonError

SEEDS = st.integers(0, 10_000)
SIZES = st.sampled_from([2e-3, 1.0, 100.0, 2e4])


def some_motion(seed: int, size: float = 100.0) -> RigidMotion:
    """A turn drawn evenly and a shift of a few sizes."""
    rng = np.random.default_rng(seed)
    q = rng.normal(size=4)
    w, x, y, z = q / np.linalg.norm(q)
    turn = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
    return RigidMotion.of(turn, rng.normal(size=3) * 3 * size)


def places(seed: int, size: float, n: int = 40) -> np.ndarray:
    return np.random.default_rng(seed + 1).normal(size=(n, 3)) * size


@given(SEEDS, SIZES)
@settings(max_examples=60, deadline=None)
def test_distances_stay_and_the_way_back_is_the_way_back(seed, size):
    m, p = some_motion(seed, size), places(seed, size)
    q = m.points(p)
    before = np.linalg.norm(p[:, None] - p[None], axis=-1)
    after = np.linalg.norm(q[:, None] - q[None], axis=-1)
    assert np.abs(before - after).max() < 1e-12 * size * 20
    assert np.abs(m.inverse().points(q) - p).max() < 1e-12 * size * 20
    assert np.linalg.det(m.rotation) == pytest.approx(1, abs=1e-12)


@given(SEEDS, SEEDS, SEEDS, SIZES)
@settings(max_examples=60, deadline=None)
def test_motions_compose_and_the_order_is_said(a, b, c, size):
    m, n, o = (some_motion(k, size) for k in (a, b, c))
    p = places(a, size)
    assert np.allclose(n.after(m).points(p), n.points(m.points(p)), atol=1e-11 * size * 20)
    assert np.allclose(o.after(n).after(m).matrix, o.after(n.after(m)).matrix, atol=1e-9 * max(size, 1))
    still = m.inverse().after(m)
    assert np.allclose(still.matrix, np.eye(4), atol=1e-11 * max(size, 1) * 20)
    assert np.allclose(RigidMotion.identity().after(m).matrix, m.matrix)


@given(SEEDS, SIZES)
@settings(max_examples=40, deadline=None)
def test_directions_turn_and_are_not_shifted(seed, size):
    m = some_motion(seed, size)
    d = places(seed, 1.0, 5)
    assert np.allclose(np.linalg.norm(m.vectors(d), axis=1), np.linalg.norm(d, axis=1))
    assert np.allclose(m.vectors(d), m.points(d) - m.points(np.zeros((1, 3))), atol=1e-10 * max(size, 1))


def test_one_place_or_many_are_moved_alike():
    m, p = some_motion(3), places(3, 10.0)
    assert np.allclose(np.array([m.points(q) for q in p]), m.points(p))
    assert np.allclose(m.vectors(p[0]), m.vectors(p)[0])


def test_a_million_metres_from_the_origin_a_thousandth_is_still_one():
    far = np.array([1e9, -7e8, 3e8])
    m = RigidMotion.of(some_motion(5).rotation, far)
    p = np.array([[0, 0, 0], [0.001, 0, 0]])
    q = m.points(p)
    assert np.linalg.norm(q[1] - q[0]) == pytest.approx(0.001, abs=3e-7)  # half a step of a double out there


@given(st.tuples(*[st.floats(-1e6, 1e6) for _ in range(3)]))
@settings(max_examples=80, deadline=None)
def test_a_pair_is_square_to_its_direction_whatever_that_is(direction):
    n = np.array(direction)
    if np.linalg.norm(n) < 1e-6:
        return
    n = unit(n)
    u, v = perpendicular_pair(n)
    frame = np.stack([u, v, n])
    assert np.allclose(frame @ frame.T, np.eye(3), atol=1e-9)
    assert np.linalg.det(frame) == pytest.approx(1, abs=1e-9)


def test_nothing_points_nowhere():
    for nowhere in ([0, 0, 0], [np.nan, 0, 1], [np.inf, 0, 0]):
        with pytest.raises(MasonError):
            unit(nowhere)
