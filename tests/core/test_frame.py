"""A frame puts datums on its axes whatever the scan's pose, and says what each misses."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.elements import Cylinder, Plane, RigidMotion, Sphere, unit
from deftmason.core.errors import BadInput
from deftmason.core.frame.align import set_frame

from .test_fits import random_motion


def datums(motion=None, off_square_deg=0.0):
    """Underside, long side and bore of a part standing on its own axes, moved."""
    a = np.radians(off_square_deg)
    side = np.array([0, -np.cos(a), np.sin(a)])
    out = [
        Plane(np.array([5.0, 3, 0]), np.array([0, 0, -1.0])),
        Plane(np.array([1.0, -30, 4]), side),
        Cylinder(np.array([0, 0, 7.0]), np.array([0, 0, 1.0]), 6.0),
    ]
    return [e.moved(motion) for e in out] if motion else out


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000))
def test_the_frame_undoes_any_pose(seed):
    pose = random_motion(np.random.default_rng(seed), 300)
    first, second, origin = datums(pose)
    f = set_frame(first, second, origin)
    assert np.allclose(f.motion.after(pose).matrix, np.eye(4), atol=1e-9)
    assert f.open_freedoms == 0 and all(abs(m["degrees"]) < 1e-6 for m in f.misses)


def test_the_first_datum_holds_exactly_and_the_second_says_what_it_misses():
    first, second, origin = datums(off_square_deg=0.4)
    f = set_frame(first, second, origin)
    assert np.allclose(f.motion.vectors(-first.normal), [0, 0, 1], atol=1e-12)
    assert next(m for m in f.misses if m["datum"] == "second")["degrees"] == pytest.approx(-0.4, abs=1e-9)
    # The other order holds the side instead: the underside then leans by as much.
    g = set_frame(second, first, origin, first_axis="y", second_axis="z")
    assert np.allclose(g.motion.vectors(-second.normal), [0, 1, 0], atol=1e-12)
    assert abs(next(m for m in g.misses if m["datum"] == "second")["degrees"]) == pytest.approx(0.4, abs=1e-9)


@pytest.mark.parametrize(
    "first_axis,second_axis", [("z", "y"), ("z", "x"), ("x", "y"), ("y", "z"), ("x", "z"), ("y", "x")]
)
@pytest.mark.parametrize("flips", [(False, False), (True, False), (False, True)])
def test_every_choice_of_axes_is_a_right_handed_rigid_motion(first_axis, second_axis, flips):
    first, second, origin = datums(random_motion(np.random.default_rng(3), 50))
    f = set_frame(
        first, second, origin, first_axis=first_axis, second_axis=second_axis, flip_first=flips[0], flip_second=flips[1]
    )
    r = f.motion.rotation
    assert np.allclose(r @ r.T, np.eye(3), atol=1e-12) and np.linalg.det(r) == pytest.approx(1)
    sign = -1 if flips[0] else 1
    assert f.motion.vectors(-first.normal)["xyz".index(first_axis)] == pytest.approx(sign)
    assert np.allclose(f.motion.points(origin.point)[["xyz".index(a) for a in "xyz" if a != first_axis]], 0, atol=1e-9)


def test_open_freedoms_are_counted():
    first, second, origin = datums()
    assert set_frame(first, None, None).open_freedoms == 3
    assert set_frame(first, second, None).open_freedoms == 1
    assert set_frame(first, None, origin).open_freedoms == 1
    assert set_frame(first, None, Sphere(np.zeros(3), 4.0)).open_freedoms == 1


def test_datums_that_point_the_same_way_are_refused():
    first, second, origin = datums()
    with pytest.raises(BadInput, match="same way"):
        set_frame(first, Plane(np.zeros(3), unit([0, 0.05, 1])), origin)
    with pytest.raises(BadInput, match="same axis"):
        set_frame(first, second, origin, first_axis="z", second_axis="z")


def test_motions_compose_and_invert():
    a, b = random_motion(np.random.default_rng(1), 10), random_motion(np.random.default_rng(2), 10)
    p = np.random.default_rng(3).normal(size=(5, 3))
    assert np.allclose(a.after(b).points(p), a.points(b.points(p)))
    assert np.allclose(a.inverse().points(a.points(p)), p)
    assert np.allclose(RigidMotion.identity().points(p), p)


def test_zero_lies_on_the_first_axis_wherever_the_face_was_read():
    """A face read at one side of the part, and a wall beside the axis, say nothing of where the axis is."""
    pose = random_motion(np.random.default_rng(5), 200)
    axis = Cylinder(np.array([3.0, -2, 31]), np.array([0, 0, 1.0]), 12.0)
    foot = Plane(np.array([40.0, 17, 0]), np.array([0, 0, -1.0]))
    keyway = Plane(np.array([3.0, 7, 9]), np.array([0, -1.0, 0]))
    first, second, origin = (e.moved(pose) for e in (axis, keyway, foot))
    for f in (set_frame(first, second, origin), set_frame(first, None, origin)):
        on_axis = f.motion.points(pose.points(np.array([3.0, -2, 0])))
        assert np.allclose(on_axis, 0, atol=1e-9)
    alone = set_frame(first, second, None)
    assert np.allclose(alone.motion.points(first.point)[:2], 0, atol=1e-9)
