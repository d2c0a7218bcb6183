"""Long waves between two scans: left by what is bent otherwise, and not by noise."""

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.join.evidence import Witness, weigh
from deftmason.core.join.seen import see
from deftmason.core.scan.mesh import TriMesh

STILL = RigidMotion.identity()


def shell(flat: float, noise: float, seed: int, size: float = 1.0, n: int = 60) -> TriMesh:
    """A look at a tube 40 long and 20 wide, times ``size``; its section is an ellipse, ``flat`` less high than wide."""
    rng = np.random.default_rng(seed)
    u, v = np.meshgrid(np.linspace(0.2, np.pi - 0.2, n) + rng.uniform(0, 0.02), np.linspace(0, 40, 2 * n))
    p = np.stack([10 * np.cos(u), (10 - flat) * np.sin(u), v], -1).reshape(-1, 3)
    out = np.stack([np.cos(u), np.sin(u), 0 * u], -1).reshape(-1, 3)
    p += noise * rng.normal(size=len(p))[:, None] * out
    i = np.arange(len(p)).reshape(u.shape)
    a, b, c, d = (x.ravel() for x in (i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]))
    return TriMesh(size * p, np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])]))


def told(a: TriMesh, b: TriMesh, motion=STILL) -> float:
    seen = [see(m, keep_slab=True) for m in (a, b)]
    return weigh(*(Witness.of(s, 2 * s.spacing) for s in seen), motion).warp


@pytest.mark.parametrize("size", [0.02, 1.0, 300.0])
def test_two_looks_at_one_tube_differ_in_short_waves_only(size):
    assert 0.05 < told(shell(0, 0.02, 1, size), shell(0, 0.02, 2, size)) < 0.6


@pytest.mark.parametrize("size", [0.02, 1.0, 300.0])
def test_a_tube_less_round_by_three_scatters_is_told(size):
    assert told(shell(0, 0.02, 1, size), shell(0.12, 0.02, 2, size)) > 1.2


def test_the_more_they_differ_the_more_is_told():
    by = [told(shell(0, 0.02, 1), shell(flat, 0.02, 2)) for flat in (0.0, 0.03, 0.06, 0.12)]
    assert by == sorted(by) and by[-1] > 3 * by[0]


def test_what_shares_too_little_says_nothing():
    away = RigidMotion.of(np.eye(3), np.array([0.0, 0.0, 39.0]))
    assert told(shell(0, 0.02, 1), shell(0, 0.02, 2), away) == 0.0
