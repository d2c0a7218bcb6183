"""The ball that rolls between two surfaces, by which narrow roundings are told."""

import numpy as np
import pytest

from deftmason.core.elements import Cylinder, Plane, Side, Sphere, middle_of_tube, rolling_ball

AXIS = np.array([0.0, 0.0, 1.0])


def between_planes(turn_deg, radius, rng, noise=0.0, count=900, hollow=False):
    """Places on two planes and the rounding between them, with the planes; the ball's middle lies on the z axis."""
    half = np.radians(turn_deg) / 2
    angle = rng.uniform(-1.6 * half, 1.6 * half, count)
    n = np.stack([np.cos(np.clip(angle, -half, half)), np.sin(np.clip(angle, -half, half)), 0 * angle], 1)
    past = np.sign(angle) * np.maximum(np.abs(angle) - half, 0) * radius
    t = np.cross(AXIS, n)
    r = radius * n + past[:, None] * t
    p = r + np.outer(rng.uniform(-20, 20, count), AXIS) + noise * rng.normal(size=count)[:, None] * n
    planes = [Plane(radius * m, m * (-1 if hollow else 1)) for m in (
        np.array([np.cos(half), np.sin(half), 0]), np.array([np.cos(half), -np.sin(half), 0]))]  # fmt: skip
    return p, planes


@pytest.mark.parametrize("turn,hollow", [(30, False), (90, False), (90, True), (140, False)])
@pytest.mark.parametrize("scale,far", [(1.0, 0.0), (1e-2, 1e3), (1e3, 1e6)])
def test_without_noise_the_radius_is_exact(turn, hollow, scale, far):
    p, planes = between_planes(turn, 3.0, np.random.default_rng(1), hollow=hollow)
    move = far * np.array([1.0, -2.0, 0.5])
    sides = [Side(Plane(scale * e.point + move, e.normal)) for e in planes]
    near = (scale * np.array([0.3, 0.1, 0.0]) + move, scale * 3.5)
    ball = rolling_ball(scale * p + move, *sides, near)
    assert ball.radius == pytest.approx(3.0 * scale, rel=1e-9 + 1e-9 * far / scale)
    surface = ball.surface()
    assert surface.kind == "cylinder"
    assert abs(surface.direction @ AXIS) == pytest.approx(1, abs=1e-7)


def test_it_knows_which_places_lie_between_where_it_touches():
    p, planes = between_planes(80, 3.0, np.random.default_rng(2))
    ball = rolling_ball(p, Side(planes[0]), Side(planes[1]), (np.zeros(3), 3.0))
    on = np.abs(np.degrees(np.arctan2(p[:, 1], p[:, 0]))) < 40
    assert (ball.inside == on).mean() > 0.999
    assert (ball.holds(p) == on).mean() > 0.999


def test_the_foot_of_a_boss_is_a_ring():
    rng = np.random.default_rng(3)
    turn, down = rng.uniform(0, 2 * np.pi, 2000), rng.uniform(0, np.pi / 2, 2000)
    rho, z = 12.0 - 2.0 * np.cos(down), 2.0 - 2.0 * np.sin(down)
    p = np.stack([rho * np.cos(turn), rho * np.sin(turn), z], 1)
    boss, plate = Cylinder(np.zeros(3), AXIS, 10.0), Plane(np.zeros(3), AXIS)
    ball = rolling_ball(p, Side(boss), Side(plate), (np.array([12.5, 0, 2.2]), 2.4))
    ring = ball.surface()
    assert ring.kind == "torus"
    assert ring.minor_radius == pytest.approx(2.0, abs=1e-9)
    assert ring.major_radius == pytest.approx(12.0, abs=1e-6)
    middle, radius = middle_of_tube(ring, p[0])
    assert radius == pytest.approx(2.0) and np.hypot(*middle[:2]) == pytest.approx(12.0, abs=1e-6)


def test_sides_that_hardly_turn_or_run_side_by_side_tell_no_ball():
    rng = np.random.default_rng(4)
    p, planes = between_planes(6, 3.0, rng)
    assert rolling_ball(p, Side(planes[0]), Side(planes[1]), (np.zeros(3), 3.0)) is None
    p, planes = between_planes(179.9, 3.0, rng)
    assert rolling_ball(p, Side(planes[0]), Side(planes[1]), (np.zeros(3), 3.0)) is None


@pytest.mark.parametrize("turn,offset", [(60, 0.0), (90, 0.01), (120, 0.03)])
def test_pulls_are_honest_though_the_sides_are_not_where_they_are_told(turn, offset):
    pulls = []
    for seed in range(120):
        rng = np.random.default_rng([seed, 7])
        p, planes = between_planes(turn, 3.0, rng, noise=0.03, count=400)
        moved = [Plane(e.point + rng.normal() * offset * e.normal, e.normal) for e in planes]
        ball = rolling_ball(p, Side(moved[0], offset), Side(moved[1], offset), (np.array([0.1, 0, 0]), 2.8))
        pulls.append((ball.radius - 3.0) / ball.uncertainty)
    assert 0.75 < np.std(pulls) < 1.3
    assert abs(np.mean(pulls)) < 0.35


def test_where_a_side_is_not_there_nothing_is_believed():
    rng = np.random.default_rng(8)
    p, planes = between_planes(90, 3.0, rng, noise=0.005, count=4000)
    # Beyond z = 8 the rounding runs out into something else.
    p[p[:, 2] > 8, :2] *= 1 + 0.02 * (p[p[:, 2] > 8, 2:] - 8)
    off = p @ planes[0].normal - 3.0
    there = p[(np.abs(off) < 0.02) & (p[:, 2] < 8)]
    plain = rolling_ball(p, Side(planes[0]), Side(planes[1]), (np.zeros(3), 3.0))
    told = rolling_ball(p, Side(planes[0], places=there, reach=0.8), Side(planes[1]), (np.zeros(3), 3.0))
    assert abs(told.radius - 3.0) < 0.01 < abs(plain.radius - 3.0)


def test_the_middle_of_a_balls_own_tube_is_its_centre():
    middle, radius = middle_of_tube(Sphere(np.array([1.0, 2.0, 3.0]), 4.0), np.array([1.0, 2.0, 8.0]))
    assert middle == pytest.approx([1, 2, 3]) and radius == pytest.approx(4)
