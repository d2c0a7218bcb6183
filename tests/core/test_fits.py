"""Fits end at the orthogonal least-squares minimum, whatever the pose, and promise honest uncertainty."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.elements import RigidMotion, element_from, fit, unit
from deftmason.core.errors import BadArgument, BadInput
from tests.trials.scanning import wavy

RNG = np.random.default_rng


def random_motion(rng, reach=10_000.0):
    q, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    if np.linalg.det(q) < 0:
        q[:, 0] = -q[:, 0]
    return RigidMotion.of(q, unit(rng.normal(size=3)) * reach)


def patch(kind, rng, n, arc=2 * np.pi):
    """Exact points on a standard element of each kind, with its true size values."""
    t, s = rng.uniform(0, arc, n), rng.uniform(0, 1, n)
    if kind == "plane":
        return np.column_stack([80 * s, 40 * rng.uniform(size=n), 0 * s]), {}
    if kind == "line":
        return np.column_stack([80 * s, 0 * s, 0 * s]), {}
    if kind == "circle":
        return np.column_stack([12 * np.cos(t), 12 * np.sin(t), 0 * t]), {"radius": 12}
    if kind == "cylinder":
        return np.column_stack([6 * np.cos(t), 6 * np.sin(t), 30 * s]), {"radius": 6}
    if kind == "cone":
        r = 5 + 30 * s * np.tan(np.radians(11))
        return np.column_stack([r * np.cos(t), r * np.sin(t), 30 * s]), {"half_angle_deg": 11}
    if kind == "sphere":
        z = rng.uniform(-0.2, 1, n)
        r = np.sqrt(1 - z * z)
        return 25 * np.column_stack([r * np.cos(t), r * np.sin(t), z]), {"radius": 25}
    v = rng.uniform(0, arc, n)
    rho = 30 + 8 * np.cos(v)
    return np.column_stack([rho * np.cos(t), rho * np.sin(t), 8 * np.sin(v)]), {"major_radius": 30, "minor_radius": 8}


KINDS = ["plane", "line", "circle", "cylinder", "cone", "sphere", "torus"]


@pytest.mark.parametrize("kind", KINDS)
def test_exact_points_come_back_exactly_ten_metres_from_the_origin(kind):
    rng = RNG(3)
    p, sizes = patch(kind, rng, 200)
    f = fit(kind, random_motion(rng).points(p))
    assert f.max_distance < 1e-8
    for key, value in sizes.items():
        assert f.element.parameters()[key] == pytest.approx(value, abs=1e-7)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("arc", [2 * np.pi, 0.6])
def test_fit_is_a_stationary_minimum_and_moves_with_the_points(kind, arc):
    rng = RNG(5)
    p, _ = patch(kind, rng, 120, arc)
    p = p + rng.normal(0, 0.02, p.shape)
    here = fit(kind, p)
    motion = random_motion(rng)
    there = fit(kind, motion.points(p))
    assert there.sigma == pytest.approx(here.sigma, rel=1e-9)
    for key, value in here.element.parameters().items():
        if not isinstance(value, list):
            assert there.element.parameters()[key] == pytest.approx(value, abs=1e-6)
    # No small change of any parameter makes the sum of squares smaller.
    best = np.sum(here.element.distance(p) ** 2)
    base = here.element.parameters()
    for key, value in base.items():
        for i in range(np.size(value)):
            for step in (1e-4, -1e-4):
                moved = {k: np.array(v, float) if isinstance(v, list) else v for k, v in base.items()}
                if isinstance(value, list):
                    moved[key][i] += step
                    if key in ("normal", "direction"):
                        moved[key] = unit(moved[key])
                else:
                    moved[key] += step
                other = element_from(kind, {k: np.asarray(v).tolist() for k, v in moved.items()})
                assert np.sum(other.distance(p) ** 2) >= best * (1 - 1e-12)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.08, 6.28), st.floats(2, 300))
def test_cylinders_of_any_arc_and_radius_are_recovered(seed, arc, radius):
    rng = RNG(seed)
    t = rng.uniform(0, arc, 60)
    p = np.column_stack([radius * np.cos(t), radius * np.sin(t), rng.uniform(0, radius, 60)])
    f = fit("cylinder", random_motion(rng, 500).points(p))
    assert f.element.radius == pytest.approx(radius, rel=1e-5)


@pytest.mark.parametrize("kind,count", [("circle", 4), ("sphere", 6), ("cylinder", 8), ("cone", 9), ("torus", 14)])
def test_few_points_suffice(kind, count):
    for seed in range(6):
        p, sizes = patch(kind, RNG(seed), count)
        assert fit(kind, p).max_distance < 1e-6


@pytest.mark.parametrize("kind,key", [("circle", "radius"), ("cylinder", "radius"), ("sphere", "radius")])
def test_stated_uncertainty_has_unit_pulls(kind, key):
    pulls = []
    for seed in range(120):
        rng = RNG(seed)
        p, sizes = patch(kind, rng, 150, 2.0)
        f = fit(kind, p + rng.normal(0, 0.03, p.shape))
        pulls.append((f.element.parameters()[key] - sizes[key]) / f.uncertainty[key])
    assert 0.8 < np.std(pulls) < 1.25


def test_uncertainty_grows_when_noise_is_correlated():
    rng = RNG(1)
    p, _ = patch("plane", rng, 4000)
    centres, amp = rng.uniform([0, 0], [80, 40], (120, 2)), rng.normal(size=120)
    pulls = []
    for seed in range(40):
        rng = RNG(100 + seed)
        centres, amp = rng.uniform([-6, -6], [86, 46], (300, 2)), rng.normal(size=300) * 0.03
        d2 = ((p[:, None, :2] - centres[None]) ** 2).sum(-1)
        noisy = p.copy()
        noisy[:, 2] += np.exp(-d2 / (2 * 3.0**2)) @ amp
        f = fit("plane", noisy)
        height = f.element.point[2] - noisy[:, 2].mean() * 0
        pulls.append(height / f.uncertainty["point"][2])
    assert 0.7 < np.sqrt(np.mean(np.square(pulls))) < 1.4, pulls


@pytest.mark.parametrize("length,alike", [(1.0, 0.5), (5.0, 0.5)])
def test_pulls_stay_honest_where_noise_is_alike_from_place_to_place(length, alike):
    pulls = []
    for seed in range(45):
        rng = RNG(seed)
        t, z = rng.uniform(-np.pi / 2, np.pi / 2, 700), rng.uniform(-10, 10, 700)
        normals = np.column_stack([np.cos(t), np.sin(t), 0 * t])
        p = 6 * normals + np.outer(z, [0, 0, 1])
        noise = np.sqrt(1 - alike) * rng.normal(size=700) + np.sqrt(alike) * wavy(p, length, rng)
        f = fit("cylinder", p + 0.03 * noise[:, None] * normals, normals=normals)
        e = f.element
        across = e.point - e.direction * e.point[2] / e.direction[2]
        lean = e.direction * np.sign(e.direction[2])
        off = [(e.radius - 6, f.uncertainty["radius"]), (across[0], f.uncertainty["point"][0])]
        pulls.append([value / sigma for value, sigma in [*off, (lean[0], f.uncertainty["direction"][0])]])
    assert np.all((np.std(pulls, axis=0) > 0.75) & (np.std(pulls, axis=0) < 1.35)), np.std(pulls, axis=0)


def test_holds_are_kept():
    rng = RNG(2)
    p, _ = patch("cylinder", rng, 200)
    p += rng.normal(0, 0.05, p.shape)
    f = fit("cylinder", p, parallel=(0, 0, 1))
    assert abs(f.element.direction[2]) == pytest.approx(1, abs=1e-12)
    g = fit("cylinder", p, perpendicular=(1, 0.01, 0))
    assert abs(g.element.direction @ unit((1, 0.01, 0))) < 1e-12
    assert fit("cylinder", p, radius=6.2).element.radius == pytest.approx(6.2, abs=1e-12)
    plane = np.column_stack([rng.uniform(size=(50, 2)) * 20, rng.normal(0, 0.01, 50)])
    assert fit("plane", plane, perpendicular=(1, 0, 0.3)).element.normal @ unit((1, 0, 0.3)) == pytest.approx(
        0, abs=1e-12
    )


def test_robust_fit_ignores_a_fifth_of_outliers():
    rng = RNG(4)
    p, _ = patch("cylinder", rng, 400)
    p += rng.normal(0, 0.01, p.shape)
    p[:80] += rng.uniform(1, 6, (80, 3))
    assert fit("cylinder", p, robust=True).element.radius == pytest.approx(6, abs=0.01)


def test_bad_requests_are_refused_in_words():
    with pytest.raises(BadArgument, match="no element"):
        fit("blob", np.zeros((9, 3)))
    with pytest.raises(BadInput, match="at least 5"):
        fit("cylinder", np.zeros((4, 3)))
    with pytest.raises(BadInput, match="one place"):
        fit("plane", np.ones((9, 3)))
    with pytest.raises(BadInput, match="straight line"):
        fit("circle", np.outer(np.arange(9.0), [1, 2, 3]))


def test_places_that_lie_exactly_on_a_line_or_circle_are_no_division_by_nothing():
    x = np.array([0.0, 10, 25, 40])
    line = fit("line", np.column_stack([x, np.full(4, 2.0), np.zeros(4)]))
    assert line.sigma == 0 and np.allclose(np.abs(line.element.direction), [1, 0, 0])
    a = np.radians([0, 60, 130, 200, 290])
    circle = fit("circle", np.column_stack([7 * np.cos(a), 7 * np.sin(a), np.zeros(5)]))
    assert circle.element.radius == pytest.approx(7, abs=1e-12)
