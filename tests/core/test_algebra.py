"""Whether points may lie on a kind of surface, told by linear algebra alone."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.zones.algebra import may_lie

KINDS = ("sphere", "cylinder", "cone", "torus")


def patch(kind: str, rng: np.random.Generator, count: int = 60) -> np.ndarray:
    """Places on a piece of a surface some 10 mm wide, of a radius by chance."""
    r = rng.uniform(4, 60)
    u, v = rng.uniform(0, 10 / r, count), rng.uniform(0, 10, count)
    if kind == "cylinder":
        return np.column_stack([r * np.cos(u), r * np.sin(u), v])
    if kind == "cone":
        k = r + v * np.tan(rng.uniform(0.1, 1.2))
        return np.column_stack([k * np.cos(u), k * np.sin(u), v])
    t = v / r + rng.uniform(0, 2 * np.pi)
    if kind == "sphere":
        t = v / r
        return r * np.column_stack([np.cos(u) * np.cos(t), np.sin(u) * np.cos(t), np.sin(t)])
    k = r * rng.uniform(1.3, 4) + r * np.cos(t)
    return np.column_stack([k * np.cos(u), k * np.sin(u), r * np.sin(t)])


def wavy(rng: np.random.Generator, count: int = 60) -> np.ndarray:
    x, y = rng.uniform(0, 10, (2, count))
    return np.column_stack([x, y, 0.3 * np.sin(x) + 0.02 * y * y + 0.2 * np.cos(0.9 * y + x)])


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("size", [0.02, 1.0, 300.0])
def test_a_surface_is_never_said_not_to_pass_its_own_points(kind, size):
    for seed in range(40):
        rng = np.random.default_rng([seed, 5])
        p = patch(kind, rng) + 3e-6 * 10 * rng.uniform(-0.5, 0.5, (60, 3))
        turn = Rotation.random(random_state=seed).as_matrix()
        assert may_lie(kind, size * (p @ turn.T + rng.uniform(-300, 300, 3)), 3e-6 * 10 * size)


def test_a_surface_that_waves_is_none_of_them():
    for seed in range(20):
        p = wavy(np.random.default_rng(seed))
        for kind in KINDS:
            assert not may_lie(kind, p, 1e-5), (seed, kind)
            assert may_lie(kind, p, 1.0)  # so far off they all may


def test_others_are_told_from_one_kind_and_few_points_tell_nothing():
    for seed in range(20):
        rng = np.random.default_rng([seed, 6])
        assert not may_lie("sphere", patch("cylinder", rng), 1e-6)
        assert not may_lie("cylinder", patch("torus", rng), 1e-6)
    assert all(may_lie(k, wavy(np.random.default_rng(1), 7), 1e-9) for k in KINDS)


def test_a_flat_patch_may_be_part_of_anything():
    flat = np.column_stack([np.random.default_rng(2).uniform(0, 10, (2, 50)).T, np.zeros(50)])
    assert all(may_lie(k, flat, 1e-6) for k in KINDS)
