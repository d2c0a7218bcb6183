"""The ball beside places, compiled: it touches both sides, and its slopes are those that small changes show."""

import numpy as np
import pytest

from deftmason.core.elements import Cone, Cylinder, Plane, Sphere, Torus
from deftmason.core.elements.feet import foot, packed
from deftmason.core.elements.touching import balls_beside

UP = np.array([0.0, 0.0, 1.0])
FLOOR = Plane(np.zeros(3), UP)
WALLS = [
    Plane(np.array([10.0, 0, 0]), np.array([1.0, 0, 0])),
    Cylinder(np.zeros(3), UP, 10.0),
    Cone(np.array([0.0, 0, 40.0]), -UP, 14.0),
    Sphere(np.array([0.0, 0, 3.0]), 10.5),
    Torus(np.array([0.0, 0, 4.0]), UP, 7.0, 4.5),
]
SIGNS, RADIUS = (1.0, 1.0), 1.5


def beside(wall, scale=1.0, radius=RADIUS, shifts=(0.0, 0.0)):
    """Places in the corner of a floor and a wall, about where the ball would lie, and the balls beside them."""
    rng = np.random.default_rng(8)
    turn = rng.uniform(-0.5, 0.5, 60)
    p = np.stack([11.5 * np.cos(turn), 11.5 * np.sin(turn), np.full(60, 1.5)], 1)
    p += rng.normal(0, 0.5, (60, 3))
    e = type(wall)(**{k: v * scale if k not in ("normal", "direction", "half_angle_deg") else v
                      for k, v in wall.__dict__.items()})  # fmt: skip
    return p * scale, e, balls_beside(p * scale, (FLOOR, e), SIGNS, radius * scale, np.array(shifts) * scale)


@pytest.mark.parametrize("scale", [0.02, 1.0, 500.0])
@pytest.mark.parametrize("wall", WALLS, ids=lambda w: w.kind)
def test_it_touches_both_sides_where_they_were_shifted_to(wall, scale):
    shifts = (0.05, -0.03)
    p, e, b = beside(wall, scale, shifts=shifts)
    assert np.allclose(FLOOR.distance(b.centres), (RADIUS + shifts[0]) * scale, atol=1e-7 * scale)
    assert np.allclose(e.distance(b.centres), (RADIUS + shifts[1]) * scale, atol=1e-7 * scale)
    assert np.allclose(b.far, np.linalg.norm(p - b.centres, axis=1))


@pytest.mark.parametrize("wall", WALLS, ids=lambda w: w.kind)
def test_its_slopes_are_those_that_small_changes_show(wall):
    h = 1e-5
    for k, (radius, shifts) in enumerate([(h, (0, 0)), (0, (h, 0)), (0, (0, h))]):
        more, less = (beside(wall, radius=RADIUS + s * radius, shifts=s * np.array(shifts)) for s in (1, -1))
        at = beside(wall)[2]
        shown = ((more[2].far - RADIUS - radius) - (less[2].far - RADIUS + radius)) / (2 * h)
        assert np.allclose(at.slopes[:, k], shown, atol=2e-3), k


@pytest.mark.parametrize("element", [FLOOR, *WALLS], ids=lambda w: w.kind)
def test_the_compiled_foot_is_that_of_the_element(element):
    p = np.random.default_rng(2).uniform([6, -4, -2], [16, 4, 6], (50, 3))
    code, numbers = packed(element)
    got = np.array([foot(code, numbers, *q) for q in p])
    assert np.allclose(got[:, 0], element.distance(p)) and np.allclose(got[:, 1:], element.normals(p))
