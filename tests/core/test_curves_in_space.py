"""Curves in space: by length, through places, with round corners, two views combined, moved aside, joined, parted."""

import numpy as np
import pytest
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from deftmason.core.curves.derived import combined_views, moved_aside, onto_plane, plane_of
from deftmason.core.curves.drawn import rounded, through, through_points
from deftmason.core.curves.frames import moving_frames
from deftmason.core.curves.screws import ScrewLine, settled_three
from deftmason.core.curves.spatial import SpaceCurve, arc_through, joined, line
from deftmason.core.errors import BadInput

PLACES = np.array([[0, 0, 0], [30, 0, 4], [40, 20, 5], [60, 30, 0.0]])
QUARTER = SpaceCurve((arc_through([10, 0, 0], [10 / np.sqrt(2), 10 / np.sqrt(2), 0], [0, 10, 0]),))


def near(curve: SpaceCurve, points) -> float:
    return float(cKDTree(curve.at(np.linspace(0, curve.length, 8000))).query(points)[0].max())


@pytest.mark.parametrize("scale", [0.02, 1.0, 200.0])
def test_a_spline_passes_its_places_and_is_walked_by_length(scale):
    c = through(PLACES * scale)
    assert near(c, PLACES * scale) < 2e-2 * scale
    s = np.linspace(0, c.length, 400)
    steps = np.linalg.norm(np.diff(c.at(s), axis=0), axis=1)
    assert steps.sum() == pytest.approx(c.length, rel=1e-4) and steps.std() < 1e-3 * steps.mean()
    d = c.direction(s)
    assert np.abs(np.linalg.norm(d, axis=1) - 1).max() < 1e-12
    assert np.linalg.norm(np.diff(d, axis=0), axis=1).max() < 0.1  # no corner


def test_tension_straightens_and_handles_turn_it():
    straight = np.linalg.norm(np.diff(PLACES, axis=0), axis=1).sum()
    lengths = [through(PLACES, tension=t).length for t in (0.0, 0.5, 1.0)]
    assert lengths[0] > lengths[1] > lengths[2] == pytest.approx(straight, rel=1e-9)
    c = through(PLACES, handles={0: np.array([0, 9.0, 0]), 2: np.array([0, 0, 5.0])})
    assert c.direction([0.0])[0] == pytest.approx([0, 1, 0], abs=1e-9)
    s = np.linspace(0, c.length, 20000)
    k = int(np.argmin(np.linalg.norm(c.at(s) - PLACES[2], axis=1)))
    assert c.direction(s[k : k + 1])[0] == pytest.approx([0, 0, 1], abs=0.01)


def test_a_ring_is_smooth_where_it_closes():
    turn = np.arange(8) / 8 * 2 * np.pi
    ring = through(np.column_stack([10 * np.cos(turn), 10 * np.sin(turn), 0 * turn]), closed=True)
    assert ring.closed and ring.length == pytest.approx(20 * np.pi, rel=2e-3)
    ends = ring.direction([0.0, ring.length])
    assert ends[0] == pytest.approx(ends[1], abs=1e-4)
    assert np.abs(np.linalg.norm(ring.at(np.linspace(0, ring.length, 200)), axis=1) - 10).max() < 0.05


def test_corners_are_rounded_exactly_and_overlaps_told():
    c = rounded([[0, 0, 0], [30, 0, 0], [30, 40, 0]], 5.0)
    assert [p.kind for p in c.pieces] == ["line", "arc", "line"]
    assert c.length == pytest.approx(25 + 35 + 2.5 * np.pi, abs=1e-9)
    middle = np.array([25, 5, 0])
    on_arc = c.at(np.linspace(25, 25 + 2.5 * np.pi, 20))
    assert np.linalg.norm(on_arc - middle, axis=1) == pytest.approx(np.full(20, 5.0), abs=1e-9)
    with pytest.raises(BadInput, match="places 2 and 3 need 50 mm of the 40 mm"):
        rounded([[0, 0, 0], [30, 0, 0], [30, 40, 0], [0, 40, 0]], 25.0)
    with pytest.raises(BadInput, match="turns straight back"):
        rounded([[0, 0, 0], [30, 0, 0], [10, 0, 0]], 2.0)
    assert rounded([[0, 0, 0], [30, 0, 0], [30, 40, 0], [0, 40, 0]], 5.0, closed=True).length == pytest.approx(
        2 * (20 + 30) + 10 * np.pi
    )
    with pytest.raises(BadInput, match="same"):
        through([[0, 0, 0], [0, 0, 0], [1, 0, 0]])


@pytest.mark.parametrize("seed", range(6))
def test_two_views_give_the_curve_that_has_both(seed):
    rng = np.random.default_rng(seed)
    t = np.linspace(0, 2.2, 90)
    a, b, c = rng.uniform(0.4, 1.4, 3)
    x = 10.0 ** rng.uniform(-0.5, 2) * np.column_stack([3 * np.sin(a * t), 5 * t, 2 * np.cos(b * t) + 0.4 * c * t**2])
    size = float(np.linalg.norm(np.ptp(x, axis=0)))
    turn = Rotation.random(random_state=seed)
    flat = [through_points(x * [1, 1, 0], 0), through_points(x * [0, 1, 1], 0)]
    views = [f.mapped(turn.apply) for f in flat]
    n, m = turn.apply([0, 0, 1]), turn.apply([1, 0, 0])
    if seed % 2:
        views[1] = views[1].reversed()
    found = combined_views(views[0], n, views[1], m)
    assert near(found, turn.apply(x)) < 3e-4 * size
    assert near(onto_plane(found, turn.apply([0, 0, 0]), n), turn.apply(x * [1, 1, 0])) < 3e-4 * size


def test_views_that_do_not_belong_together_are_refused():
    t = np.linspace(0, 1, 40)
    a = through_points(np.column_stack([t**2, 5 * t, 0 * t]), 0)
    b = through_points(np.column_stack([0 * t, 3 * t, t]), 0)
    with pytest.raises(BadInput, match="apart along the line they share"):
        combined_views(a, [0, 0, 1], b, [1, 0, 0])
    with pytest.raises(BadInput, match="same way"):
        combined_views(a, [0, 0, 1], a, [0, 0, 1])
    back = through_points(np.column_stack([0 * t, np.sin(3 * t), t]), 0)
    with pytest.raises(BadInput, match="turn back"):
        combined_views(a, [0, 0, 1], back, [1, 0, 0])


def test_moved_aside_stays_at_its_distance():
    c = moved_aside(QUARTER, 2.0)
    r = np.linalg.norm(c.at(np.linspace(0, c.length, 30)), axis=1)
    assert np.ptp(r) < 1e-9 and abs(r[0] - 10) == pytest.approx(2.0)
    spline = onto_plane(through(PLACES), [0, 0, 0], [0, 0, 1])
    beside = moved_aside(spline, 3.0)
    gaps = cKDTree(spline.at(np.linspace(0, spline.length, 6000))).query(beside.at(np.linspace(0, beside.length, 200)))
    assert gaps[0] == pytest.approx(np.full(200, 3.0), abs=0.01)
    with pytest.raises(BadInput, match="tighter"):
        moved_aside(QUARTER, 14.0 if abs(r[0] - 8) < 1 else -14.0)
    with pytest.raises(BadInput, match="lies in no plane"):
        plane_of(through(PLACES))


def test_curves_are_joined_turned_round_and_parted():
    parts = [line([0, 0, 0], [10, 0, 0]), line([30, 10, 0], [10, 0, 0]), line([0, 0, 0], [0, -5, 0])]
    c = joined([SpaceCurve((p,)) for p in parts])
    assert len(c.pieces) == 3 and c.length == pytest.approx(15 + np.hypot(20, 10))
    with pytest.raises(BadInput, match="2 mm apart"):
        joined([SpaceCurve((parts[0],)), SpaceCurve((line([12, 0, 0], [20, 0, 0]),))])
    bridged = joined([SpaceCurve((parts[0],)), SpaceCurve((line([12, 0, 0], [20, 0, 0]),))], reach=3.0)
    assert bridged.length == pytest.approx(20)
    whole = SpaceCurve((*through(PLACES).pieces, *through(PLACES + [60, 30, 0]).pieces))
    some = whole.part(10.0, whole.length - 20)
    assert some.length == pytest.approx(whole.length - 30, rel=1e-4)
    assert some.at([0.0])[0] == pytest.approx(whole.at([10.0])[0], abs=1e-3)
    assert SpaceCurve.from_told(some.told()).length == pytest.approx(some.length, rel=1e-12)
    back = whole.reversed()
    assert back.at([0.0, 25.0]) == pytest.approx(whole.at([whole.length, whole.length - 25]), abs=1e-3)


def test_frames_are_carried_without_turning():
    # On a circle the vector square to its plane stays what it is.
    circle = SpaceCurve((arc_through([10, 0, 0], [0, 10, 0], [-10, 0, 0]),))
    _, u, v = moving_frames(circle, np.linspace(0, circle.length, 100), [0, 0, 1])
    assert u == pytest.approx(np.tile([0, 0, 1.0], (100, 1)), abs=1e-9)
    assert np.abs(np.einsum("ij,ij->i", v, circle.direction(np.linspace(0, circle.length, 100)))).max() < 1e-9


def test_a_screw_line_is_what_its_numbers_say():
    z, x = np.array([0, 0, 1.0]), np.array([1.0, 0, 0])
    s = ScrewLine(np.zeros(3), z, x, True, 2.0, 0.25, 25.0, 10.0, (8.0, 8.0))
    c = s.curve()
    assert c.length == pytest.approx(10 * np.hypot(16 * np.pi, 2.5), rel=1e-6)
    assert c.at([0.0])[0] == pytest.approx([0, 8, 2], abs=1e-9)
    p = c.at(np.linspace(0, c.length, 999))
    assert np.abs(np.hypot(p[:, 0], p[:, 1]) - 8).max() < 1e-5
    left = ScrewLine(np.zeros(3), z, x, False, 0, 0, 25.0, 10.0, (8.0, 4.0), run_out=(0, 1.0), depth=1.5)
    turn, height, radius = left.at(np.array([0.0, 0.5, 0.9, 1.0]))
    assert turn == pytest.approx([0, -5, -9, -10]) and height == pytest.approx([0, 12.5, 22.5, 25])
    assert radius == pytest.approx([8, 6, 4.4, 2.5])
    bent = ScrewLine(np.zeros(3), z, x, True, 0, 0, 20.0, 8.0, (8.0, 8.0), pins=np.array([[0.5, 0.7]]))
    assert bent.at(np.array([0.0, 0.5, 1.0]))[1] == pytest.approx([0, 10.7, 20])
    assert settled_three("pitch", None, 4.0, 10.0) == (2.5, 4.0, 10.0)
    assert settled_three("turns", 2.0, None, 10.0) == (2.0, 5.0, 10.0)
    assert settled_three("height", 2.0, 4.0, None) == (2.0, 4.0, 8.0)


def test_where_a_curve_passes_through_a_plane():
    c = through(PLACES)
    n = np.array([1, 2, 0.5]) / np.linalg.norm([1, 2, 0.5])
    for share in (0.13, 0.5, 0.77):
        at = c.at([share * c.length])[0]
        found = c.crossings(at, n)
        assert np.linalg.norm(found - at, axis=1).min() < 1e-9 * c.length
        assert np.abs((found - at) @ n).max() < 1e-9 * c.length
    # A quarter of a circle that begins on the plane passes there; one that only touches it does not.
    assert QUARTER.crossings([0, 0, 0], [0, 1, 0]) == pytest.approx(np.array([[10, 0, 0]]), abs=1e-9)
    half = SpaceCurve((arc_through([10, 0, 0], [0, 10, 0], [-10, 0, 0]),))
    assert len(half.crossings([0, 10, 0], [0, 1, 0])) == 0 and len(half.crossings([0, 11, 0], [0, 1, 0])) == 0
    two = half.crossings([0, 6, 0], [0, 1, 0])
    assert two == pytest.approx(np.array([[8, 6, 0], [-8, 6, 0]]), abs=1e-8)
    bent = SpaceCurve((line([0, 0, 0], [5, 0, 0]), line([5, 0, 0], [9, 0, 3])))
    assert bent.crossings([5, 0, 0], [1, 0, 0]) == pytest.approx(np.array([[5, 0, 0]]), abs=1e-12)
    assert len(bent.crossings([0, 0, 0], [0, 1, 0])) == 0  # it lies in the plane
