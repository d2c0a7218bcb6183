"""Edges read from one place near them, against the rims and corners they were made as."""

import numpy as np
import pytest

from deftmason.core.datums.edges import edge_at
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .test_outlines import pose_of, walled


def draped(height, nx=70, ny=50, step=1.0, noise=0.0, seed=0):
    """A mesh over a grid (mm) whose heights a function of x and y gives."""
    x, y = np.meshgrid(np.arange(nx) * step, np.arange(ny) * step, indexing="ij")
    rng = np.random.default_rng(seed)
    v = np.column_stack([x.ravel(), y.ravel(), height(x, y).ravel()]) + rng.normal(0, noise, (nx * ny, 3))
    k = np.arange(nx * ny).reshape(nx, ny)
    a, b, c, d = k[:-1, :-1].ravel(), k[1:, :-1].ravel(), k[1:, 1:].ravel(), k[:-1, 1:].ravel()
    return ScanIndex(TriMesh(v, np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)))


@pytest.mark.parametrize(("size", "reach"), [(1.0, 0.0), (0.05, 5.0), (400.0, 2e6)])
def test_the_rim_of_a_hole_is_a_circle(size, reach):
    pose = pose_of(3, reach)
    index, _ = walled("circle", 24.0, 24.0, noise=0.012, seed=4, scale=size, pose=pose)
    got = edge_at(index, pose.points(np.array([[12.1, 0.3, 8.0]]) * size)[0])
    assert got.element.kind == "circle" and sorted(got.kinds) == ["cylinder", "plane"]
    assert got.span_deg == pytest.approx(360)
    assert got.element.radius == pytest.approx(12 * size, abs=0.01 * size)
    middle = pose.points(np.array([[0.0, 0, 8]]) * size)[0]
    assert np.linalg.norm(got.element.center - middle) < 0.05 * size
    assert got.turn_deg == pytest.approx(90, abs=1.0)
    # The places go round once, in order, and close.
    steps = np.linalg.norm(np.diff(got.places, axis=0), axis=1)
    assert np.allclose(got.places[0], got.places[-1]) and steps.max() < 3 * size


def test_the_straight_rim_of_a_pocket_is_a_line_as_long_as_it_is_straight():
    index, _ = walled("rectangle", 40.0, 24.0, corner=5.0, noise=0.01, seed=1, n=260)
    got = edge_at(index, [3.0, 12.2, 8.0])
    assert got.element.kind == "line" and got.span_deg is None
    assert abs(got.element.direction[0]) == pytest.approx(1, abs=1e-5)
    assert np.allclose(got.element.point[1:], [12, 8], atol=0.01)
    assert got.length == pytest.approx(30, abs=2.5)
    lean = np.linalg.norm(got.uncertainty["direction"])
    assert 0 < lean < 0.002 and 0 < np.linalg.norm(got.uncertainty["point"]) < 0.02


@pytest.mark.parametrize("turn_deg", [25, 60, 110])
def test_a_fold_is_found_from_either_side_of_it(turn_deg):
    slope = np.tan(np.radians(turn_deg / 2))
    index = draped(lambda x, y: -slope * np.abs(x - 34.6), noise=0.008, seed=turn_deg)
    for off in (-1.5, 0.4, 2.0):
        got = edge_at(index, [34.6 + off, 20.0, -slope * abs(off)])
        assert got.element.kind == "line" and got.kinds == ("plane", "plane")
        assert abs(got.element.point[0] - 34.6) < 0.01 and abs(got.element.point[2]) < 0.02
        assert got.turn_deg == pytest.approx(turn_deg if turn_deg <= 90 else 180 - turn_deg, abs=0.1)


def test_a_rounded_fold_is_read_as_the_sharp_one_it_was():
    r = 3.0

    def height(x, y):
        u = np.abs(x - 35)
        return -np.where(u < r / np.sqrt(2), r * np.sqrt(2) - np.sqrt(np.maximum(r * r - u * u, 0)), u)

    got = edge_at(draped(height, noise=0.006), [35.3, 20.0, -r * (np.sqrt(2) - 1)])
    assert got.element.kind == "line"
    assert abs(got.element.point[0] - 35) < 0.01 and abs(got.element.point[2]) < 0.015


def pulls(seeds):
    off = []
    for seed in seeds:
        index, _ = walled("circle", 24.0, 24.0, noise=0.015, seed=seed, n=110)
        got = edge_at(index, [12.1, 0.3, 8.0])
        u = got.uncertainty
        off.append([(got.element.radius - 12) / u["radius"], (got.element.center[2] - 8) / u["center"][2]])
    return np.array(off).std(axis=0)


def test_how_sure_it_says_it_is_holds():
    few = pulls(range(16))
    assert ((few > 0.5) & (few < 1.6)).all()


@pytest.mark.long
def test_how_sure_it_says_it_is_holds_over_many():
    many = pulls(range(200))
    assert ((many > 0.8) & (many < 1.25)).all()


def test_where_no_edge_is_and_where_it_is_a_free_curve_it_says_so():
    flat = draped(lambda x, y: 0 * x, noise=0.01)
    with pytest.raises(BadInput, match="no edge near"):
        edge_at(flat, [30.0, 20.0, 0.0])
    # Two round ridges that cross meet along a curve in space.
    ridges = draped(
        lambda x, y: np.maximum(np.sqrt(400 - (x - 35) ** 2 * 0.3), np.sqrt(400 - (y - 25) ** 2 * 0.5)), noise=0.004
    )
    with pytest.raises(BadInput):
        edge_at(ridges, [35.0 + 12.9, 25.0 + 10.0, np.sqrt(400 - 0.3 * 12.9**2)])
