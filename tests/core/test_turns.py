"""The turns by which something round repeats itself are found among all those that nearly agree."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.join.place import _Placing
from deftmason.core.join.seen import see
from deftmason.core.join.turns import shared_axis
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
