"""The compiled steps against the whole models: the same residuals, the same slopes, the same places they lead to."""

import numpy as np
import pytest

from deftmason.core.elements import searching, starts
from deftmason.core.elements.models import DirectionHold, RoundModel
from deftmason.core.elements.steering import _moved, _normal_equations, followed

KINDS = ("cylinder", "sphere", "cone", "torus")


def places(kind: str, rng: np.random.Generator, scatter: float) -> tuple[np.ndarray, np.ndarray]:
    """Places (400, 3) of part of such a surface, centred and scaled as fits do it, and their normals."""
    a, b = rng.uniform(0, rng.uniform(0.5, 5), 400), rng.uniform(-1, 1, 400)
    round_about = np.column_stack([np.cos(a), np.sin(a), 0 * a])
    up = np.array([0, 0, 1.0])
    if kind == "cylinder":
        n, p = round_about, 3 * round_about + 2 * b[:, None] * up
    elif kind == "cone":
        p = (3 + 0.6 * b)[:, None] * round_about + 2 * b[:, None] * up
        n = 0.957 * round_about - 0.287 * up
    elif kind == "sphere":
        n = np.cos(b)[:, None] * round_about + np.sin(b)[:, None] * up
        p = 4 * n
    else:
        n = np.cos(b)[:, None] * round_about + np.sin(b)[:, None] * up
        p = 6 * round_about + 2 * n
    p = p + rng.normal(0, scatter, p.shape)
    p = p - p.mean(axis=0)
    return p / np.sqrt(np.mean(p**2) * 3), n


def begun(kind: str, p: np.ndarray, n: np.ndarray):
    return searching.starts_of(kind, p, n, None, None, p, True)


@pytest.mark.parametrize("kind", KINDS)
def test_residuals_and_slopes_are_the_models(kind):
    rng = np.random.default_rng(KINDS.index(kind))
    p, n = places(kind, rng, 0.02)
    sw = rng.uniform(0.3, 2, len(p))
    for model in begun(kind, p, n):
        code, state = model.state()
        r, j = searching.weighed(model, p, sw)
        k = j.shape[1]
        h, g = np.empty((k, k)), np.empty(k)
        cost = _normal_equations(code, state, p, sw * sw, h, g)
        assert cost == pytest.approx(r @ r, rel=1e-10)
        # The bases across an axis may differ: only the rest of a slope is told alike.
        alike = slice(4, None) if kind in ("cone", "torus") else slice(2, None)
        assert np.allclose(g[alike], (j.T @ r)[alike], rtol=1e-7, atol=1e-9 * np.abs(j.T @ r).max())
        step = rng.normal(0, 1e-6, k)
        ahead, back = (
            _normal_equations(code, _moved(code, state, d), p, sw * sw, np.empty((k, k)), np.empty(k))
            for d in (step, -step)
        )
        assert ahead - back == pytest.approx(4 * g @ step, rel=1e-4, abs=1e-10 * cost)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(6))
def test_steps_end_where_the_models_own_do(kind, seed):
    rng = np.random.default_rng([seed, KINDS.index(kind)])
    p, n = places(kind, rng, float(rng.choice([0.0, 1e-3, 0.02])))
    sw = np.ones(len(p))
    start = begun(kind, p, n)[0]
    plain, cost = searching.levenberg(start, p, sw, 60)
    code, state = start.state()
    state, steered = followed(code, state, p, sw, 60, 1e-13, 1e-3)
    assert steered == pytest.approx(cost, rel=1e-6, abs=1e-18)
    assert np.abs(start.at(state).element().distance(p) - plain.element().distance(p)).max() < 1e-6


def test_what_is_held_goes_the_plain_way():
    p, n = places("cylinder", np.random.default_rng(1), 0.01)
    up = np.array([0, 0, 1.0])
    held = starts.round_starts(p, n, DirectionHold(up, True), None, circle=False)[0]
    assert isinstance(held, RoundModel) and held.state() is None
    model, _ = searching.steered(held, p, np.ones(len(p)), 40)
    assert np.allclose(np.abs(model.element().direction), up)


def test_places_all_in_one_line_end_the_steps_not_the_program():
    p = np.linspace(-1, 1, 50)[:, None] * np.array([[0.0, 0, 1.0]])
    state = np.array([1.0, 0, 0, 0, 0, 1, -1, 0, 0, 0.0, 1.0])
    _, cost = followed(0, state, p, np.ones(50), 20, 1e-13, 1e-3)
    assert np.isfinite(cost)
