"""The turns by which something round repeats itself are found among all those that nearly agree."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.join.place import _Placing
from deftmason.core.join.seen import see
from deftmason.core.join.turns import round_axis, shared_axis
from tests.trials.cameras import Room, looks_around
from tests.trials.parts import as_body, random_part


def about(axis_at, direction, angle_deg, slide=0.0):
    r = Rotation.from_rotvec(np.radians(angle_deg) * np.asarray(direction)).as_matrix()
    return RigidMotion.of(r, axis_at - r @ axis_at + slide * np.asarray(direction))


def test_the_axis_that_most_turns_share_is_told():
    rng = np.random.default_rng(4)
    u = rng.normal(size=3)
    u /= np.linalg.norm(u)
    at = rng.normal(0, 30, 3)
    turns = [about(at + rng.normal(0, 0.05, 3), u * s, a) for s, a in ((1, 13), (-1, 41), (1, 90), (1, 150), (-1, 171))]
    others = [about(rng.normal(0, 30, 3), np.eye(3)[k], 60.0) for k in range(3)]
    slid = [about(at, u, 50.0, slide=9.0)]
    place, direction = shared_axis(others + turns + slid, np.zeros(3), 1.0)
    assert abs(direction @ u) > 1 - 1e-9
    across = (place - at) - ((place - at) @ u) * u
    assert np.linalg.norm(across) < 0.2
    assert shared_axis(others + slid, np.zeros(3), 1.0) is None and shared_axis([], np.zeros(3), 1.0) is None


def ring_of_places(rng, reach_deg, count=400):
    """Places (k, 3) and normals of a ring's outer wall, seen so far round, and of its flat top."""
    a = np.radians(rng.uniform(-reach_deg / 2, reach_deg / 2, count))
    wall = np.column_stack([20 * np.cos(a), 20 * np.sin(a), rng.uniform(0, 8, count)])
    top = np.column_stack([(r := rng.uniform(12, 20, count)) * np.cos(a), r * np.sin(a), np.full(count, 8.0)])
    out = np.column_stack([np.cos(a), np.sin(a), np.zeros(count)])
    return np.vstack([wall, top]), np.vstack([out, np.tile([0.0, 0, 1], (count, 1))])


@pytest.mark.parametrize("size", [0.05, 1.0, 300.0])
def test_the_axis_of_something_round_is_told_from_a_part_of_it(size):
    rng = np.random.default_rng(8)
    p, n = ring_of_places(rng, 150)
    # A boss beside the axis and a key across it are no part of what is round.
    q, m = ring_of_places(rng, 300, 60)
    p = np.vstack([p, 0.2 * q + [30, 4, 0], rng.uniform(-4, 4, (60, 3)) + [22, 0, 4]])
    n = np.vstack([n, m, np.tile([0.0, 1, 0], (60, 1))])
    r = Rotation.random(random_state=3)
    there = r.apply([7.0, -3, 40]) * size
    turned = r.apply(n + rng.normal(0, 0.01, n.shape))
    turned /= np.linalg.norm(turned, axis=1)[:, None]
    axis = round_axis(r.apply(p + [7, -3, 40]) * size + rng.normal(0, 0.02, p.shape) * size, turned, 0.8 * size)
    assert axis is not None
    u = r.apply([0.0, 0, 1])
    assert abs(axis[1] @ u) > np.cos(np.radians(1.0))
    across = (axis[0] - there) - ((axis[0] - there) @ u) * u
    assert np.linalg.norm(across) < 0.3 * size


def test_a_block_is_round_about_nothing():
    rng = np.random.default_rng(2)
    faces = []
    for k in range(3):
        for side in (0, 1):
            p = rng.uniform(0, 1, (150, 3))
            p[:, k] = side
            faces.append((p * [60, 40, 20], np.tile(np.eye(3)[k] * (2 * side - 1), (150, 1))))
    p, n = (np.vstack(x) for x in zip(*faces))
    assert round_axis(p, n, 0.8) is None


@pytest.fixture(scope="module")
def placing():
    """Three looks at a ring that repeats itself four times but for one small feature, and the poses they were taken
    in.
    """
    rng = np.random.default_rng([507, 6])
    _, part = random_part(rng, "broken_ring")
    room = Room(as_body(part))
    looks = [l for l in looks_around(rng, 5) if l[1] is not None][:3]
    shots = [room.shot(t, rng, up=up, pixels=220, noise=3e-4, scale=1.0, slab=1.4) for t, up in looks]
    with ThreadPoolExecutor(2) as pool:
        p = _Placing([see(s.mesh) for s in shots], {}, None, pool, lambda *_: None)
        for i in range(len(shots)):
            p.finder.find_selves(i)
        yield p, shots


def test_a_ring_repeats_itself_by_the_turns_of_its_features(placing):
    p, shots = placing
    found = 0
    for i, s in enumerate(shots):
        turns = []
        for m in p.finder.selves[i]:
            own = s.pose.inverse().after(m).after(s.pose)
            w = Rotation.from_matrix(own.rotation).as_rotvec(degrees=True)
            if np.linalg.norm(w[:2]) < 2:
                turns.append(abs(w[2]))
        found += any(abs(t - 90) < 3 for t in turns) and any(abs(t - 180) < 3 for t in turns)
    assert found >= 1  # of two looks nothing speaks against any turn


def test_a_way_is_turned_to_where_it_agrees_as_well(placing):
    """Of two looks that a quarter turn too many puts together, the true way is among those that are asked."""
    p, shots = placing
    f = p.finder
    g, h = p.singles[0], p.singles[1]
    true = shots[1].pose.after(shots[0].pose.inverse())
    assert f.axes
    quarter = shots[1].pose.after(about(np.zeros(3), [0, 0, 1.0], 90.0)).after(shots[1].pose.inverse())
    asked = f._screened(g, h, f._turned(g, h, quarter.after(true)), 8)
    assert any(f.same(g, m, true) for m in asked)
