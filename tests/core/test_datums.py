"""Datums read, made of one another and measured: the figures against what they must be."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.datums.constructing import WAYS, construct
from deftmason.core.datums.measuring import measure
from deftmason.core.datums.reading import readings, spread_held
from deftmason.core.datums.unsure import Datum, moved_each_way
from deftmason.core.elements import Cylinder, Line, Plane, Point, RigidMotion, Sphere, fit, unit
from deftmason.core.errors import BadInput
from deftmason.core.frame.align import farthest_move, set_frame
from deftmason.core.scan.index import ScanIndex

from ..bracket import rebuilt

Y, Z = np.array([0, 1.0, 0]), np.array([0, 0, 1.0])


def plane(point, normal, sigma=0.0):
    return Datum(Plane(np.array(point, float), unit(normal)), {"point": [sigma] * 3, "normal": [sigma / 50] * 3})


def axis(point, direction, sigma=0.0):
    return Datum(Line(np.array(point, float), unit(direction)), {"point": [sigma] * 3, "direction": [sigma / 50] * 3})


def point(*xyz, sigma=0.0):
    return Datum(Point(np.array(xyz, float)), {"point": [sigma] * 3})


FLOOR, WALL, END = plane((0, 0, 2), Z), plane((3, 0, 0), (1, 0, 0)), plane((0, 5, 0), (0, 1, 0))


@pytest.mark.parametrize(
    "way,parents,numbers,expected",
    [
        ("line of planes", [FLOOR, WALL], {}, Line(np.array([3, 0, 2.0]), np.array([0, 1.0, 0]))),
        ("point of planes", [FLOOR, WALL, END], {}, Point(np.array([3, 5, 2.0]))),
        ("point on plane", [axis((1, 1, 9), (0, 1, 1)), FLOOR], {}, Point(np.array([1, -6, 2.0]))),
        ("middle plane", [FLOOR, plane((0, 0, 8), -Z)], {}, Plane(np.array([0, 0, 5.0]), Z)),
        ("bisecting plane", [FLOOR, WALL], {}, Plane(np.array([3, 0, 2.0]), unit([1, 0, 1]))),
        ("bisecting plane", [FLOOR, WALL], {"flip": True}, Plane(np.array([3, 0, 2.0]), unit([-1, 0, 1]))),
        ("offset plane", [FLOOR], {"distance": 4.5}, Plane(np.array([0, 0, 6.5]), Z)),
        ("turned plane", [FLOOR, axis((0, 0, 2), (1, 0, 0))], {"angle_deg": 90}, Plane(np.array([0, 0, 2.0]), -Y)),
        ("axis through two", [point(0, 0, 0), point(0, 0, 8)], {}, Line(np.zeros(3), Z)),
        ("middle axis", [axis((0, 0, 0), Z), axis((4, 0, 1), -Z)], {}, Line(np.array([2.0, 0, 0]), Z)),
        ("crossing of axes", [axis((0, 0, 0), Z), axis((0.2, 0, 5), (0, 1, 0))], {}, Point(np.array([0.1, 0, 5.0]))),
        ("plane through three", [point(1, 0, 3), point(0, 1, 3), point(5, 5, 3)], {}, Plane(np.array([2, 2, 3.0]), Z)),
        ("plane of axis and point", [axis((0, 0, 0), Z), point(5, 0, 1)], {}, Plane(np.zeros(3), Y)),
        ("plane square to axis", [axis((0, 0, 0), Z), point(5, 0, 1)], {}, Plane(np.array([0, 0, 1.0]), Z)),
        ("axis square to plane", [FLOOR, point(5, 1, 9)], {}, Line(np.array([5, 1, 0.0]), Z)),
        ("axis on plane", [FLOOR, axis((0, 1, 7), (1, 0, 1))], {}, Line(np.array([0, 1, 2.0]), np.array([1.0, 0, 0]))),
        ("point dropped on plane", [FLOOR, point(4, 4, 4)], {}, Point(np.array([4, 4, 2.0]))),
        ("middle point", [point(0, 0, 0), point(4, 2, 0)], {}, Point(np.array([2, 1, 0.0]))),
    ],
)  # fmt: skip
@pytest.mark.parametrize("seed", [None, 3])
def test_each_way_gives_what_geometry_says_in_any_pose_and_order(way, parents, numbers, expected, seed):
    motion = RigidMotion.identity()
    if seed is not None:
        rng = np.random.default_rng(seed)
        q, _ = np.linalg.qr(rng.normal(size=(3, 3)))
        motion = RigidMotion.of(q * np.sign(np.linalg.det(q)), rng.normal(size=3) * 1000)
    moved = [Datum(p.element.moved(motion), p.uncertainty) for p in parents]
    symmetric = len(set(WAYS[way].takes)) > 1
    for given in (moved, moved[::-1]) if symmetric else (moved,):
        e = construct(way, given, **numbers).element
        want = expected.moved(motion)
        assert e.kind == want.kind
        if e.kind == "point":
            assert np.allclose(e.point, want.point, atol=1e-9)
            continue
        direction = "normal" if e.kind == "plane" else "direction"
        assert abs(getattr(e, direction) @ getattr(want, direction)) == pytest.approx(1, abs=1e-12)
        assert want.distance(e.point[None])[0] == pytest.approx(0, abs=1e-9)


def test_what_cannot_be_made_is_said_in_one_sentence():
    with pytest.raises(BadInput, match="parallel"):
        construct("line of planes", [FLOOR, plane((0, 0, 9), Z)])
    with pytest.raises(BadInput, match="needs 2 datums"):
        construct("line of planes", [FLOOR])
    with pytest.raises(BadInput, match="a plane"):
        construct("point on plane", [axis((0, 0, 0), Z), point(1, 1, 1)])
    with pytest.raises(BadInput, match="lean too far"):
        construct("middle plane", [FLOOR, WALL])


def test_uncertainty_of_a_made_datum_is_that_of_many_draws():
    """Of two points 10 apart, each known to 0.02: the middle to 0.02/√2, the axis's direction to 0.02·√2/10."""
    middle = construct("middle point", [point(0, 0, 0, sigma=0.02), point(10, 0, 0, sigma=0.02)])
    assert np.allclose(middle.uncertainty["point"], 0.02 / np.sqrt(2), rtol=0.15)
    through = construct("axis through two", [point(0, 0, 0, sigma=0.02), point(10, 0, 0, sigma=0.02)])
    assert np.allclose(through.uncertainty["direction"][1:], 0.02 * np.sqrt(2) / 10, rtol=0.2)


def strips(seed, turned):
    """Two long strips square to one another, scanned with noise and fitted."""
    rng = np.random.default_rng(seed)
    out = []
    for axes in ([0, 1, 2], [0, 2, 1]):
        p = np.column_stack([rng.uniform(-30, 30, 400), rng.uniform(-6, 6, 400), rng.normal(0, 0.02, 400)])
        f = fit("plane", p[:, axes] @ turned.T)
        out.append(Datum(f.element, f.uncertainty))
    return out


@pytest.mark.parametrize("seed", range(3))
def test_how_sure_a_made_datum_is_does_not_hang_on_the_pose(seed):
    square = Rotation.random(random_state=seed).as_matrix()
    a, b = (construct("line of planes", strips(seed, r)).uncertainty for r in (np.eye(3), square))
    for key in ("point", "direction"):
        assert np.linalg.norm(b[key]) == pytest.approx(np.linalg.norm(a[key]), rel=0.12)
    one, other = (measure(*strips(seed, r)).angle_uncertainty for r in (np.eye(3), square))
    assert other == pytest.approx(one, rel=0.12)


def test_a_plane_moves_along_its_normal_and_turns_about_two_axes():
    flat = strips(0, Rotation.random(random_state=8).as_matrix())[0]
    n, told = flat.element.normal, flat.uncertainty
    moved = moved_each_way(flat)
    assert len(moved) == 3
    assert moved[0].distance(flat.element.point[None])[0] ** 2 == pytest.approx(np.sum(np.square(told["point"])))
    turns = np.array([m.normal - n for m in moved[1:]])
    assert np.allclose(turns @ n, 0, atol=1e-6)
    assert np.sqrt((turns**2).sum(axis=0)) == pytest.approx(told["normal"], rel=1e-3)


def test_distance_and_angle_with_their_uncertainty():
    corner = measure(FLOOR, plane((3, 0, 0), (1, 0, np.tan(np.radians(0.04))), 0.01))
    assert corner.angle_deg == pytest.approx(89.96, abs=1e-9) and corner.distance is None
    assert corner.angle_uncertainty == pytest.approx(np.degrees(0.01 / 50), rel=0.25)
    apart = measure(FLOOR, plane((9, 9, 14.5), -Z, 0.01))
    assert apart.distance == pytest.approx(12.5) and apart.distance_uncertainty == pytest.approx(0.01, rel=0.25)
    bores = measure(axis((0, 0, 0), Z), axis((68, 0, 3), -Z))
    assert bores.distance == pytest.approx(68) and bores.angle_deg == pytest.approx(0, abs=1e-9)
    assert measure(point(0, 0, 0), point(3, 4, 0)).distance == pytest.approx(5)
    assert measure(point(0, 0, 9), FLOOR).distance == pytest.approx(7)
    assert measure(axis((0, 0, 0), (1, 0, 1)), FLOOR).angle_deg == pytest.approx(45)
    ball = Datum(Sphere(np.array([0, 3, 5.0]), 2.0), {})
    assert measure(ball, axis((0, 0, 0), Z)).distance == pytest.approx(3)


@pytest.mark.parametrize(
    "place,kind,size",
    [
        ((6.0, 0, 7), "cylinder", 6.0),
        ((38.25, 20, 6), "cylinder", 4.25),
        ((30, 5, 12), "plane", None),
        ((10, -30, 6), "plane", None),
        ((0, 19.2, 12.8), "cylinder", 2.5),
        ((-22.8, -15.9, 22.3), "cone", None),
    ],
)
def test_a_place_on_the_bracket_is_read_as_what_it_is(place, kind, size):
    mesh, pose = rebuilt().mesh, rebuilt().pose
    best = readings(ScanIndex(mesh), pose.points(np.array(place, float)))[0]
    assert best.gathered.element.kind == kind
    if size is not None:
        assert best.gathered.element.radius == pytest.approx(size, rel=0.04)


def test_a_tightened_spread_takes_fewer_facets_of_a_rough_flat():
    mesh, pose = rebuilt().mesh, rebuilt().pose
    index, seat = ScanIndex(mesh), pose.points(np.array([22.0, 9, 0]))

    def taken(angle_deg):
        return len(readings(index, seat, angle_deg=angle_deg)[0].gathered.facets)

    usual = taken(20.0)
    assert taken(30.0) > 0.95 * usual
    assert taken(3.0) < 0.8 * usual and taken(2.2) < 0.9 * usual


def test_a_crowned_top_is_read_as_a_ball_and_what_a_flat_would_cost_is_said():
    mesh, pose = rebuilt().mesh, rebuilt().pose
    best, *rest = readings(ScanIndex(mesh), pose.points(np.array([5.0, 10, 30])))
    assert best.gathered.element.kind == "sphere" and best.gathered.element.radius == pytest.approx(2604, rel=0.15)
    flat = next(r for r in rest if r.gathered.element.kind == "plane")
    assert flat.cost > 1.3 * best.scatter


def test_a_spread_follows_what_holds_it():
    mesh, pose = rebuilt().mesh, rebuilt().pose
    index = ScanIndex(mesh)
    best = readings(index, pose.points(np.array([6.0, 0, 7])))[0].gathered
    held = spread_held(index, best, "cylinder", radius=5.7)
    assert held.element.radius == pytest.approx(5.7) and 0 < len(held.facets) != len(best.facets)


def test_open_freedoms_are_named_and_orders_moved():
    floor = Plane(np.array([5.0, 3, 0]), -Z)
    assert set_frame(floor, None, None).open == ["turn about z", "move along x", "move along y"]
    side = Plane(np.array([1.0, -30, 4]), np.array([0, -1.0, 0]))
    assert set_frame(floor, side, None).open == ["move along x"]
    assert set_frame(floor, side, Point(np.zeros(3))).open == []
    bore = Cylinder(np.array([4.0, 0, 7]), Z, 3.0)
    assert set_frame(bore, None, None).open == ["turn about z", "move along z"]
    one, other = RigidMotion.identity(), RigidMotion.of(np.eye(3), [0, 3, 4])
    assert farthest_move(one, other, [[0, 0, 0], [1, 1, 1]]) == pytest.approx(5)
    with pytest.raises(BadInput, match="points nowhere"):
        set_frame(Sphere(np.zeros(3), 1.0), None, None)
