"""Which zones mirror each other, on elements whose every place is known."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.elements import Cylinder, Plane, RigidMotion, Sphere
from deftmason.core.zones.mirrored import mirrored_pairs

Z = np.array([0.0, 0, 1])
FLIP = np.array([-1.0, 1, 1])


def bore(x, y, r, area=300.0):
    at = np.array([x, y, 4.0])
    return Cylinder(at, Z, r), area, at


def wall(x, y, lean_deg, area=900.0):
    a = np.radians(lean_deg)
    at = np.array([x, y, 10.0])
    return Plane(at, np.array([np.cos(a), np.sin(a), 0.1]) / np.hypot(1, 0.1)), area, at


def image(zone):
    e, area, at = zone
    values = {k: v * FLIP if isinstance(v, np.ndarray) else v for k, v in e.__dict__.items()}
    return type(e)(**values), area, at * FLIP


def moved(zones, size, seed=2):
    motion = RigidMotion.of(Rotation.random(random_state=seed).as_matrix(), np.array([300.0, -80, 40]))
    out = []
    for e, area, at in zones:
        e = e.moved(motion)
        e = type(e)(**{
            k: v * size if k in ("point", "center", "radius") else v for k, v in e.__dict__.items()
        })  # fmt: skip
        out.append((e, area * size * size, motion.points(at[None])[0] * size))
    return out


@pytest.mark.parametrize("size", [0.02, 1.0, 200.0])
def test_pairs_about_one_plane_are_found_in_any_pose_and_size(size):
    own = [bore(20, 12, 4.0), bore(31, -9, 6.0), wall(40, 3, 25.0), wall(25, 30, 70.0)]
    ball = (Sphere(np.array([12.0, 5, 9]), 3.0), 110.0, np.array([12.0, 5, 12]))
    alone = [bore(5, 22, 2.5), wall(44, -20, -12.0, 500.0)]
    zones = moved([*own, ball, *map(image, [*own, ball]), *alone], size)
    got = mirrored_pairs(zones, 100 * size)
    assert {(p.a, p.b) for p in got} == {(i, i + 5) for i in range(5)}
    assert max(p.misfit for p in got) < 1e-6 * size


def test_how_far_a_pair_is_off_is_told_and_what_is_too_far_off_is_none():
    own = [bore(20, 12, 4.0), bore(31, -9, 6.0), wall(40, 3, 25.0)]
    other = [image(own[0]), image(own[1]), image(own[2])]
    e, area, at = other[1]
    other[1] = Cylinder(e.point + [0, 0.15, 0], e.direction, e.radius), area, at + [0, 0.15, 0]
    got = {(p.a, p.b): p.misfit for p in mirrored_pairs(moved([*own, *other], 1.0), 100.0)}
    assert got[1, 4] == pytest.approx(0.15, abs=0.02)
    other[1] = Cylinder(e.point + [0, 1.5, 0], e.direction, e.radius), area, at + [0, 1.5, 0]
    got = {(p.a, p.b) for p in mirrored_pairs(moved([*own, *other], 1.0), 100.0)}
    assert got == {(0, 3), (2, 5)}


def test_two_walls_alone_and_unlike_sizes_tell_nothing():
    pair = [wall(40, 3, 0.0), image(wall(40, 3, 0.0))]
    assert not mirrored_pairs(moved(pair, 1.0), 100.0)
    e, area, at = image(bore(20, 12, 4.0))
    other = Cylinder(e.point, e.direction, 4.3), area, at
    assert not mirrored_pairs(moved([*pair, bore(20, 12, 4.0), other], 1.0), 100.0)


def test_of_two_planes_both_are_found():
    four = [bore(x, y, 3.0) for x, y in ((30, 18), (-30, 18), (30, -18), (-30, -18))]
    got = {(p.a, p.b) for p in mirrored_pairs(moved(four, 1.0), 80.0)}
    assert got >= {(0, 1), (2, 3), (0, 2), (1, 3)}
