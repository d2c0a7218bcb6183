"""The compiled likelihood of waves in noise: eigenvalues as they are known, costs as the matrix itself gives them."""

import numpy as np
import pytest

from deftmason.core.elements.restricted import restricted_costs, turned_to_eigenvectors


@pytest.mark.parametrize("k", [1, 2, 3, 8, 64])
@pytest.mark.parametrize("rank", [None, 2])
def test_columns_turn_with_the_eigenvectors(k, rank):
    rng = np.random.default_rng([k, rank or 0])
    half = rng.normal(size=(k, k if rank is None else min(rank, k)))
    a = half @ half.T if rank else half + half.T
    z = rng.normal(size=(k, 4))
    turned = z.copy()
    values = turned_to_eigenvectors(a.copy(), turned)
    known, vectors = np.linalg.eigh(a)
    size = max(float(np.abs(known).max()), 1e-300)
    assert np.sort(values) == pytest.approx(known, abs=1e-12 * size * k)
    # Where eigenvalues are alike the vectors are not told apart: what a function of the matrix says is.
    by_values = turned.T @ (np.exp(-values / size)[:, None] * turned)
    by_matrix = z.T @ (vectors * np.exp(-known / size)) @ vectors.T @ z
    assert by_values == pytest.approx(by_matrix, abs=1e-10 * float(np.abs(by_matrix).max()))


def test_a_diagonal_matrix_stays():
    z = np.eye(5)
    values = turned_to_eigenvectors(np.diag([3.0, 1.0, 2.0, 0.0, -1.0]), z)
    assert sorted(values) == [-1, 0, 1, 2, 3]
    assert np.abs(z).max(axis=0) == pytest.approx(1) and z.T @ z == pytest.approx(np.eye(5))


def _by_matrix(rho, x, y, share, white, within, inside):
    """The definition (Patterson, Thompson 1971), by the whole matrix."""
    k, p = x.shape
    v = share * rho + (1 - share) * white * np.eye(k)
    inverse = np.linalg.inv(v)
    m = x.T @ inverse @ x
    left = y - x @ np.linalg.solve(m, x.T @ inverse @ y)
    square = float(left @ inverse @ left)
    sigma2 = square / (k - p) if within < 0 else within / (1 - share * inside)
    return (k - p) * np.log(sigma2) + square / sigma2 + np.linalg.slogdet(v)[1] + np.linalg.slogdet(m)[1], sigma2


@pytest.mark.parametrize(("white", "within", "inside"), [(1.0, -1.0, 0.0), (0.1, 0.7, 0.6)])
@pytest.mark.parametrize("p", [1, 3, 6])
def test_costs_are_those_of_the_matrix(white, within, inside, p):
    rng = np.random.default_rng([p, 4])
    places = rng.uniform(0, 10, (40, 2))
    rho = np.exp(-np.linalg.norm(places[:, None] - places[None], axis=2) / 2.0)
    x = np.linalg.qr(rng.normal(size=(40, p)))[0]
    y = np.linalg.cholesky(rho) @ rng.normal(size=40)
    shares = np.array([0.0, 0.3, 0.9, 0.998])
    costs, variances = restricted_costs(rho, x, y, shares, white, within, inside, 1e-9)
    for share, cost, variance in zip(shares, costs, variances):
        known = _by_matrix(rho, x, y, share, white, within, inside)
        assert cost == pytest.approx(known[0], rel=1e-9) and variance == pytest.approx(known[1], rel=1e-9)


def test_ways_without_variance_do_not_end_it():
    """Cells' mean correlation is not quite a correlation: some of its eigenvalues are below zero."""
    rho = np.ones((12, 12))
    np.fill_diagonal(rho, 0.9)
    x = np.linalg.qr(np.random.default_rng(1).normal(size=(12, 2)))[0]
    costs, variances = restricted_costs(rho, x, np.arange(12.0), np.array([0.5, 0.998]), 0.02, 0.5, 0.9, 1e-9)
    assert np.isfinite(costs).all() and (variances > 0).all()
