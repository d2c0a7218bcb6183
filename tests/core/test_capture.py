"""What is captured live: touches told apart from the ball that took them, points kept within outlines and near planes,
coverage, sections, and a file that loses nothing.
"""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from deftmason.core.capture.coverage import Coverage
from deftmason.core.capture.keeping import Boundary, CuttingPlane, Region
from deftmason.core.capture.recorded import Recording, records_of
from deftmason.core.capture.sections import section_lines
from deftmason.core.capture.state import CaptureState
from deftmason.core.capture.touched import Touches, probed
from deftmason.core.capture.touched_curve import probed_curve
from deftmason.core.capture.words import packed
from deftmason.core.errors import BadInput

_SEEDS = st.integers(0, 10**6)


def turned(seed):
    rng = np.random.default_rng(seed)
    return rng, Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * 300


@settings(max_examples=40, deadline=None)
@given(_SEEDS, st.integers(4, 12), st.floats(0.2, 5))
def test_a_plane_lies_a_ball_farther_on_the_side_it_was_led_to(seed, count, ball):
    rng, r, c = turned(seed)
    flat = np.column_stack([rng.uniform(-40, 40, (count, 2)), np.zeros(count)])
    flat[:3, :2] = [[-30, 0], [30, 5], [0, 35]]
    along = np.array([0.2, 0.1, -1.0])  # led down, not straight
    found = probed("plane", Touches.of((flat + [0, 0, ball]) @ r.T + c, np.tile(along @ r.T, (count, 1)), ball))
    assert abs((found.element.point - c) @ (r @ [0, 0, 1])) < 1e-9
    assert found.element.normal @ (r @ [0, 0, 1]) == pytest.approx(1, abs=1e-9)


@settings(max_examples=40, deadline=None)
@given(_SEEDS, st.floats(4, 60), st.floats(0.2, 3), st.booleans())
def test_a_bore_and_a_boss_have_their_own_size_not_the_balls(seed, radius, ball, outside):
    rng, r, c = turned(seed)
    angles = np.linspace(0, 2 * np.pi, 7)[:-1] + rng.uniform(0, 0.3, 6)
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(6)])
    balls = out * (radius + ball if outside else radius - ball)
    led = -out if outside else out
    found = probed("circle", Touches.of(balls @ r.T + c, led @ r.T, ball))
    assert found.element.radius == pytest.approx(radius, rel=1e-9) and found.outside == outside
    assert np.linalg.norm(found.element.center - c) < 1e-7


def test_a_rounding_needs_touches_that_span_it():
    angles = np.radians([10, 30, 50, 70, 88])
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(5)])
    found = probed("rounding", Touches.of(out * (8 + 1.5), -out, 1.5))
    assert found.element.radius == pytest.approx(8, abs=1e-9) and found.outside
    few = np.radians([40, 42, 44, 46])
    near = np.column_stack([np.cos(few), np.sin(few), np.zeros(4)])
    with pytest.raises(BadInput, match="spread them over more"):
        probed("rounding", Touches.of(near * 9.5, -near, 1.5))


def test_a_line_lies_on_the_face_that_was_led_to():
    x = np.array([0, 10, 25, 40.0])
    balls = np.column_stack([x, np.full(4, 2.0), np.zeros(4)])
    found = probed("line", Touches.of(balls, np.tile([0.3, -1.0, 0], (4, 1)), 2.0))
    assert np.allclose(found.element.point[1:], 0, atol=1e-9)
    with pytest.raises(BadInput, match="along the line"):
        probed("line", Touches.of(balls, np.tile([1.0, 0, 0], (4, 1)), 2.0))


@pytest.mark.parametrize("kind,count", [("plane", 3), ("circle", 2), ("line", 1)])
def test_too_few_touches_or_both_sides_are_said(kind, count):
    with pytest.raises(BadInput, match="take another"):
        probed(kind, Touches.of(np.eye(3)[:count], np.tile([0, 0, -1.0], (count, 1)), 1.0))
    balls = np.array([[0, 0, 1.0], [9, 0, 1], [0, 9, 1], [9, 9, 1]])
    with pytest.raises(BadInput, match="both sides"):
        probed("plane", Touches.of(balls, [[0, 0, -1], [0, 0, 1], [0, 0, -1], [0, 0, 1]], 1.0))


@settings(max_examples=20, deadline=None)
@given(_SEEDS, st.integers(3, 5), st.floats(2, 20))
def test_a_rounding_is_read_of_several_rows_along_it(seed, rows, radius):
    rng, r, c = turned(seed)
    angles = np.radians(np.tile(np.linspace(8, 82, 4), rows) + rng.uniform(-4, 4, 4 * rows))
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(len(angles))])
    along = np.repeat(np.arange(rows) * radius * 0.8, 4)[:, None] * [0, 0, 1.0]
    balls = out * (radius + 1.5) + along + rng.normal(0, 0.003, (len(angles), 3))
    found = probed("rounding", Touches.of(balls @ r.T + c, -out @ r.T, 1.5))
    assert found.outside and abs(found.element.normal @ (r @ [0, 0, 1])) > 0.999
    off = abs(found.element.radius - radius)
    assert off < 0.05 and off < 4 * 2 * found.fit.uncertainty["radius"]


def test_one_row_across_a_rounding_stays_a_circle():
    rng = np.random.default_rng(8)
    angles = np.radians(np.linspace(10, 80, 9))
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(9)])
    found = probed("rounding", Touches.of(out * 9.5 + rng.normal(0, 0.004, (9, 3)), -out, 1.5))
    told = 2 * found.fit.uncertainty["radius"]
    assert found.fit.element.kind == "circle" and abs(found.element.radius - 8) < 1.5 * told < 0.3


@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_a_curve_runs_on_the_wall_that_was_touched(noise):
    rng = np.random.default_rng(4)
    angles = np.linspace(0, 2 * np.pi, 41)[:-1]
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(40)])
    balls = out * 31.5 + noise * rng.normal(size=out.shape)
    found = probed_curve(Touches.of(balls, -out, 1.5), [0, 0, 1], closed=True, noise=noise)
    off = np.linalg.norm(found.places[:, :2], axis=1) - 30
    assert len(found.places) == 80 and np.abs(off).max() < (2 * noise if noise else 1e-3)
    # smoothed, it lies nearer than the touches did, and says how far they lay off
    through = probed_curve(Touches.of(balls, -out, 1.5), [0, 0, 1], closed=True)
    raw = np.linalg.norm(through.places[:, :2], axis=1) - 30
    assert through.scatter == 0 and np.sqrt((off**2).mean()) < (0.9 if noise else 2) * np.sqrt((raw**2).mean())
    assert found.scatter == pytest.approx(noise, rel=0.35)


def test_a_wavy_wall_is_followed_though_touches_tremble():
    rng = np.random.default_rng(6)
    x = np.sort(rng.uniform(0, 120, 25))
    wave = lambda x: 6 * np.sin(x / 18)
    slope = np.column_stack([np.ones(25), np.cos(x / 18) / 3, np.zeros(25)])
    normal = np.column_stack([-slope[:, 1], slope[:, 0], np.zeros(25)]) / np.linalg.norm(slope, axis=1)[:, None]
    balls = np.column_stack([x, wave(x), np.full(25, 7.0)]) + 2.0 * normal + rng.normal(0, 0.004, (25, 3))
    found = probed_curve(Touches.of(balls, -normal, 2.0), [0, 0, 1], closed=False, noise=0.004)
    inner = found.places[2:-2]
    assert np.abs(inner[:, 1] - wave(inner[:, 0])).max() < 0.12 and abs(inner[:, 2] - 7).max() < 0.02


def test_a_curve_touched_from_both_sides_or_twice_at_a_place_is_refused():
    x = np.column_stack([np.arange(6) * 5.0, np.zeros(6), np.zeros(6)])
    both = np.where(np.arange(6)[:, None] % 2, [[0, 1.0, 0]], [[0, -1.0, 0]])
    with pytest.raises(BadInput, match="both sides"):
        probed_curve(Touches.of(x, both, 1.0), [0, 0, 1], closed=False)
    with pytest.raises(BadInput, match="at one place"):
        probed_curve(Touches.of(x[[0, 1, 1, 2]], both[[0] * 4], 1.0), [0, 0, 1], closed=False)


@settings(max_examples=30, deadline=None)
@given(_SEEDS)
def test_an_outline_keeps_what_is_seen_within_it_however_far_behind(seed):
    rng, r, c = turned(seed)
    star = np.array([[0, 0], [40, 0], [40, 40], [20, 15], [0, 40]], float)  # not convex
    corners = np.column_stack([star, np.zeros(5)]) @ r.T + c
    p = rng.uniform([-10, -10, -90], [50, 50, 90], (400, 3))
    from shapely import Polygon, points

    truth = Polygon(star).contains(points(p[:, :2]))
    inside = Boundary(corners, r @ [0, 0, 1]).inside(p @ r.T + c)
    assert (inside == truth).mean() > 0.995


def test_boundaries_of_two_views_and_planes_with_a_reach_go_together():
    square = np.array([[0, 0, 0], [20, 0, 0], [20, 20, 0], [0, 20, 0]], float)
    side = np.array([[0, 0, 0], [20, 0, 0], [20, 0, 10], [0, 0, 10]], float)
    plane = CuttingPlane(np.array([5.0, 0, 0]), np.array([1.0, 0, 0]), 1.0)
    region = Region((Boundary(square, np.array([0, 0, 1.0])), Boundary(side, np.array([0, -1.0, 0]))), (plane,))
    p = np.array([[5.5, 3, 4], [5.5, 3, 14], [5.5, 23, 4], [8, 3, 4], [4.2, 19, 9]])
    assert region.keeps(p).tolist() == [True, False, False, False, True]
    assert Region().keeps(p).all() and region.keeps(np.zeros((0, 3))).shape == (0,)


def test_coverage_grows_and_tells_what_is_unseen():
    square = np.array([[0, 0, 5], [20, 0, 5], [20, 20, 5], [0, 20, 5]], float)
    cover = Coverage.over(Boundary(square, np.array([0, 0, 1.0])), across=20)
    rng = np.random.default_rng(3)
    cover.add(rng.uniform([0, 0, 0], [10, 20, 9], (6000, 3)))
    assert cover.share == pytest.approx(0.5, abs=0.02)
    left = cover.unseen()
    assert (left[:, 0] > 9).all() and left[:, 2] == pytest.approx(5)
    cover.add(rng.uniform([10, 0, 0], [20, 20, 9], (6000, 3)))
    assert cover.share > 0.98 and len(cover.unseen()) < 10


def test_the_section_near_a_plane_is_a_closed_line_and_an_open_one():
    rng = np.random.default_rng(5)
    angles, x = rng.uniform(0, 2 * np.pi, 9000), rng.uniform(-60, 60, 6000)
    ring = np.column_stack([25 * np.cos(angles), rng.uniform(-0.5, 0.5, 9000), 25 * np.sin(angles)])
    wave = np.column_stack([x, rng.uniform(-0.5, 0.5, 6000), 50 + 4 * np.sin(x / 15)])
    p = np.concatenate([ring, wave]) + rng.normal(0, 0.02, (15000, 3)) * [1, 0, 1]
    lines = section_lines(p, CuttingPlane(np.zeros(3), np.array([0, 1.0, 0]), 0.5))
    assert len(lines) == 2
    closed = next(l for l, shut in lines if shut)
    opened = next(l for l, shut in lines if not shut)
    assert np.abs(np.linalg.norm(closed, axis=1) - 25).max() < 0.08
    assert np.ptp(opened[:, 0]) > 117 and np.abs(opened[:, 2] - 50 - 4 * np.sin(opened[:, 0] / 15)).max() < 0.1
    steps = np.diff(opened[:, 0])
    assert (steps > 0).all() or (steps < 0).all()


def test_a_recording_loses_nothing_that_was_written_whole(tmp_path):
    path = str(tmp_path / "one.capture")
    r = Recording(path)
    for k in range(5):
        r.add({"say": "points", "seq": k})
    r.close()
    with open(path, "ab") as f:
        f.write(b'{"say":"points","se')  # the plug was pulled
    assert [x["seq"] for x in records_of(path)] == [0, 1, 2, 3, 4]
    again = Recording(path)
    again.add({"say": "points", "seq": 5})
    again.close()
    assert [x["seq"] for x in records_of(path)] == [0, 1, 2, 3, 4, 5]
    (tmp_path / "other").write_text(json.dumps({"format": "other"}) + "\n")
    with pytest.raises(BadInput, match="is no capture"):
        list(records_of(str(tmp_path / "other")))


def _streamed(state, count, seq, at):
    places = np.random.default_rng(seq).uniform(0, 10, (count, 3)) + at
    state.take({"say": "points", "seq": seq, **packed(places, np.tile([0, 0, 1.0], (count, 1)))})


def test_points_after_some_are_those_of_the_whole_and_a_record_comes_once():
    state = CaptureState()
    for k, count in enumerate((7, 0, 5, 11)):
        _streamed(state, count, k + 1, [20 * (k % 2), 0, 0])
    _streamed(state, 9, 4, [0, 0, 0])  # sent again
    assert state.taken == state.count == 23
    corners = [[-1, -1, 0], [11, -1, 0], [11, 11, 0], [-1, 11, 0]]
    put = {"did": "put", "id": "t1", "as": "boundary", "name": "B", "corners": corners, "toward": [0, 0, 1]}
    for more in (None, put):
        if more:
            state.take(more)
        whole, sight = state.kept()
        assert len(whole) == len(sight) == state.count == (12 if more else 23)
        for after in range(len(whole) + 2):
            assert np.array_equal(state.kept(after)[0], whole[after:])


def test_what_lies_in_an_outline_within_a_boundary_is_left_out():
    square = [[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]]
    whole = Boundary(3.0 * np.array(square), np.array([0, 0, 1.0]))
    holed = Boundary(whole.corners, whole.toward, (np.array(square, float),))
    p = np.random.default_rng(4).uniform(-4, 4, (5000, 3))
    inner = np.abs(p[:, :2]).max(axis=1) < 1
    assert np.array_equal(holed.inside(p), whole.inside(p) & ~inner)


@pytest.mark.parametrize(
    "record",
    [
        {"id": "t2", "as": "boundary", "name": "B", "corners": [[0, 0, 0]], "toward": [0, 0, 1]},
        {"id": "t2", "as": "cut", "name": "C", "point": [0, 0], "normal": [0, 0, 1], "reach": 1},
        {"id": "t2", "as": "level", "name": "L", "touches": [0, 5]},
        {"id": "t2", "as": "mirrored", "name": "M", "of": ["gone"]},
        {"id": "t2", "as": "other", "name": "O"},
        {"id": "t2", "name": "N"},
        {"id": "two", "as": "cut", "name": "C", "point": [0, 0, 0], "normal": [0, 0, 1], "reach": 1},
        {"id": "t2", "as": "cut", "name": "C", "point": [0, 0, 0], "normal": [0, 0, 1], "reach": 1, "used": "x"},
    ],
)
def test_what_is_put_wrongly_leaves_a_capture_as_it_was(record):
    state = CaptureState()
    _streamed(state, 5, 1, [0, 0, 0])
    with pytest.raises((KeyError, IndexError, ValueError, BadInput)):
        state.take({"did": "put", **record})
    assert not state.things and state.count == 5


def test_a_mirror_goes_with_the_plane_it_stood_in():
    state = CaptureState()
    state.take(
        {"did": "put", "id": "t1", "as": "cut", "name": "C", "point": [0, 0, 0], "normal": [1, 0, 0], "reach": 50}
    )
    state.take({"did": "put", "id": "t2", "as": "mirrored", "name": "M", "of": ["t1"]})
    _streamed(state, 5, 1, [3, 0, 0])
    assert len(state.cloud()[0]) == 10
    state.take({"did": "drop", "id": "t1"})
    assert not state.things and len(state.cloud()[0]) == 5
