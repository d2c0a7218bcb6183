"""How sure a least-squares result is: blocks of neighbours against one another, and outliers that must not count."""

import numpy as np
import pytest

from deftmason.core.elements import fit
from deftmason.core.elements.models import cross
from deftmason.core.elements.uncertainty import by_blocks, noise_model


def waves(points, length, rng, count=120):
    """Noise of unit variance that is alike over a length: a sum of waves in all directions."""
    k = rng.normal(size=(count, 3)) / length
    return np.sqrt(2 / count) * np.cos(points @ k.T + rng.uniform(0, 2 * np.pi, count)).sum(axis=1)


def test_blocks_tell_how_far_a_plane_in_correlated_noise_is_off():
    """The pulls of offset and slopes over 80 fits have a standard deviation near 1; taken as independent, far above."""
    rng = np.random.default_rng(8)
    pulls, naive = [], []
    for _ in range(80):
        p = np.column_stack([rng.uniform(-50, 50, (3000, 2)), np.zeros(3000)])
        j = np.column_stack([np.ones(len(p)), p[:, 0] / 50, p[:, 1] / 50])
        y = 0.03 * waves(p, 3.0, rng)
        x = np.linalg.lstsq(j, y, rcond=None)[0]
        r = y - j @ x
        pulls.append(x / np.sqrt(np.diag(by_blocks(p, j, j, r))))
        naive.append(x / np.sqrt(np.diag(np.linalg.inv(j.T @ j)) * (r @ r) / (len(r) - 3)))
    assert 0.75 < np.std(pulls) < 1.35
    assert np.std(naive) > 2.0


def test_weights_of_nothing_take_no_part():
    rng = np.random.default_rng(2)
    p = rng.uniform(-1, 1, (1000, 3))
    j = np.column_stack([np.ones(1000), p[:, 0]])
    r = rng.normal(size=1000)
    w = np.where(p[:, 1] > 0, 1.0, 0.0)
    there = w > 0
    whole = by_blocks(p, j * w[:, None], j, r)
    alone = by_blocks(p[there], j[there], j[there], r[there])
    assert np.sqrt(np.diag(whole)) == pytest.approx(np.sqrt(np.diag(alone)), rel=0.35)


def test_independent_noise_is_told_from_waves():
    rng = np.random.default_rng(4)
    p = np.column_stack([rng.uniform(-50, 50, (4000, 2)), np.zeros(4000)])
    j = np.column_stack([np.ones(len(p)), p[:, :2] / 50])

    def left(y):
        return y - j @ np.linalg.lstsq(j, y, rcond=None)[0]

    white = noise_model(p, left(0.03 * rng.normal(size=len(p))), j)
    alike = noise_model(p, left(0.03 * waves(p, 4.0, rng)), j)
    near = np.array([1.0])
    assert white.covariance(near)[0] < 0.1 * white.sigma2
    assert alike.covariance(near)[0] > 0.6 * alike.sigma2
    assert np.sqrt(alike.sigma2) == pytest.approx(0.03, rel=0.25)


@pytest.mark.parametrize("share", [0.1, 0.3])
@pytest.mark.parametrize("kind", ["plane", "cylinder", "sphere"])
def test_a_robust_fit_does_not_hear_what_does_not_belong(kind, share):
    rng = np.random.default_rng(int(share * 100))
    t, h = rng.uniform(0, 2 * np.pi, 1500), rng.uniform(-20, 20, 1500)
    if kind == "plane":
        p = np.column_stack([20 * np.cos(t), h, np.zeros_like(t)])
    elif kind == "cylinder":
        p = np.column_stack([10 * np.cos(t), 10 * np.sin(t), h])
    else:
        d = rng.normal(size=(1500, 3))
        p = 15 * d / np.linalg.norm(d, axis=1)[:, None]
    p = p + rng.normal(0, 0.01, p.shape)
    bad = rng.uniform(size=len(p)) < share
    p[bad] += rng.uniform(0.5, 4, (int(bad.sum()), 1)) * [0.6, 0.0, 0.8]
    f = fit(kind, p, robust=True, correlated=False)
    assert np.median(np.abs(f.element.distance(p[~bad]))) < 0.012
    if kind != "plane":
        assert f.element.radius == pytest.approx({"cylinder": 10, "sphere": 15}[kind], abs=0.01)


def test_the_quick_cross_product_is_the_cross_product():
    rng = np.random.default_rng(1)
    for a, b in rng.normal(size=(20, 2, 3)):
        assert np.allclose(cross(a, b), np.cross(a, b), rtol=0, atol=1e-15)
