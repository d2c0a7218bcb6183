"""Fits that are held in place: through a point, about an axis, at an angle; against what is known to be there."""

import numpy as np
import pytest

from deftmason.core.elements import fit
from deftmason.core.errors import BadInput

A = np.array([0.36, -0.48, 0.8])
E1, E2 = np.array([0.8, 0.6, 0.0]), np.cross(A, [0.8, 0.6, 0.0])
AT = np.array([120.0, -45.0, 300.0])


def bore(n, rng, noise=0.0, radius=6.0, turn=2 * np.pi, lean=0.0):
    t, h = rng.uniform(0, turn, n), rng.uniform(0, 14, n)
    rho = radius + np.tan(np.radians(lean)) * h + noise * rng.standard_normal(n)
    return AT + h[:, None] * A + rho[:, None] * (np.cos(t)[:, None] * E1 + np.sin(t)[:, None] * E2)


def ball(n, rng, noise=0.0, radius=9.0):
    d = rng.standard_normal((n, 3))
    d[:, 2] = np.abs(d[:, 2])
    d /= np.linalg.norm(d, axis=1)[:, None]
    return AT + (radius + noise * rng.standard_normal(n))[:, None] * d


def ring(n, rng, noise=0.0, big=20.0, small=4.0):
    t, u = rng.uniform(0, 2, n), rng.uniform(-1, 1.5, n)
    rho = small + noise * rng.standard_normal(n)
    out = np.cos(t)[:, None] * E1 + np.sin(t)[:, None] * E2
    return AT + out * (big + rho * np.cos(u))[:, None] + (rho * np.sin(u))[:, None] * A


def flat(n, rng, noise=0.0):
    u = rng.uniform(-20, 20, (n, 2))
    return AT + u[:, :1] * E1 + u[:, 1:] * E2 + noise * rng.standard_normal((n, 1)) * A


@pytest.mark.parametrize(
    "points, kind, holds, expect",
    [
        (bore, "cylinder", {"axis": (AT + 3 * A, A)}, {"radius": 6}),
        (bore, "cylinder", {"through": AT + 40 * A}, {"radius": 6}),
        (bore, "cylinder", {"angle": (E1, 90.0)}, {"radius": 6}),
        (ball, "sphere", {"through": AT}, {"radius": 9}),
        (ball, "sphere", {"axis": (AT - 7 * E1, E1)}, {"radius": 9}),
        (ring, "torus", {"axis": (AT + 5 * A, -A)}, {"major_radius": 20, "minor_radius": 4}),
        (ring, "torus", {"through": AT - 8 * A}, {"major_radius": 20, "minor_radius": 4}),
        (flat, "plane", {"through": AT + 3 * E1}, {}),
        (flat, "plane", {"angle": (np.cos(0.5) * A + np.sin(0.5) * E1, np.degrees(0.5))}, {}),
    ],
)
def test_exact_points_give_what_is_there(points, kind, holds, expect):
    p = points(800, np.random.default_rng(3))
    for middle in (0.0, 1.0e4):  # ten metres from the origin too
        moved = {
            k: (v + middle if k == "through" else (v[0] + middle, v[1]) if k == "axis" else v) for k, v in holds.items()
        }
        f = fit(kind, p + middle, **moved)
        assert f.max_distance < 1e-6
        for key, value in expect.items():
            assert getattr(f.element, key) == pytest.approx(value, abs=1e-6)


def test_a_cone_about_an_axis():
    p = bore(900, np.random.default_rng(4), lean=7.0, turn=1.2)
    f = fit("cone", p, axis=(AT - 20 * A, A))
    assert f.max_distance < 1e-6
    assert f.element.half_angle_deg == pytest.approx(7, abs=1e-6)
    assert np.linalg.norm(np.cross(f.element.apex - AT, A)) < 1e-6


def test_what_is_held_is_held_and_costs():
    """Held beside where it lies it stays there, and scatters more than free."""
    rng = np.random.default_rng(5)
    p = bore(2000, rng, 0.01, turn=2.0)
    aside = AT + 0.05 * E1
    free, held = fit("cylinder", p), fit("cylinder", p, axis=(aside, A))
    assert np.linalg.norm(np.cross(held.element.direction, A)) < 1e-12
    assert np.linalg.norm(np.cross(held.element.point - aside, A)) < 1e-9
    assert held.sigma > free.sigma
    turned = fit("plane", flat(2000, rng, 0.01), angle=(A, 1.5))
    assert abs(turned.element.normal @ A) == pytest.approx(np.cos(np.radians(1.5)), abs=1e-9)
    assert turned.sigma > 0.2  # 20 mm to either side, turned by 1.5°


def test_the_deviation_is_honest():
    """Pulls of a coaxial bore's radius over 40 scans."""
    pulls = []
    for seed in range(40):
        f = fit("cylinder", bore(600, np.random.default_rng(seed), 0.02, turn=1.0), axis=(AT, A))
        pulls.append((f.element.radius - 6) / f.uncertainty["radius"])
    assert 0.7 < np.std(pulls) < 1.35 and abs(np.mean(pulls)) < 0.5
    free = fit("cylinder", bore(600, np.random.default_rng(1), 0.02, turn=1.0)).uncertainty["radius"]
    assert f.uncertainty["radius"] < 0.5 * free  # what is held makes the rest surer


def test_robust_and_contradictory_holds():
    rng = np.random.default_rng(6)
    p = bore(800, rng, 0.005)
    p[:60] += 3 * E1
    assert fit("cylinder", p, axis=(AT, A), robust=True).element.radius == pytest.approx(6, abs=0.003)
    with pytest.raises(BadInput, match="One direction is enough"):
        fit("cylinder", p, axis=(AT, A), perpendicular=E1)
    with pytest.raises(BadInput, match="no axis of its own"):
        fit("plane", flat(50, rng), axis=(AT, A))
    with pytest.raises(BadInput, match="cannot be held in place"):
        fit("circle", bore(50, rng)[:, :], through=AT)
