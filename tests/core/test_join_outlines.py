"""Looks that stand outside of what the others show of the whole part, and cut looks, which do not."""

from types import SimpleNamespace

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.join.outlines import standing_out

STILL = RigidMotion.identity()


def look(outline: float, reach: float | None = None, sure: bool = True, scale: float = 1.0):
    """A look that shows places up to ``reach`` from the middle, and saw nothing beyond its ``outline``."""
    rng = np.random.default_rng(5)
    p = rng.normal(size=(4000, 3))
    p *= scale * (outline if reach is None else reach) / np.linalg.norm(p, axis=1)[:, None]
    sample = SimpleNamespace(points=p, normals=p)
    unseen = lambda q, _: np.linalg.norm(q, axis=1) > scale * (outline + 0.01)  # noqa: E731
    return SimpleNamespace(witness=SimpleNamespace(sample=sample, unseen=unseen, sure=sure))


@pytest.mark.parametrize("scale", [0.05, 1.0, 300.0])
def test_one_moved_elsewhere_stands_out_and_none_that_lies_right(scale):
    looks = [look(10.0, scale=scale) for _ in range(5)]
    assert standing_out(looks, dict.fromkeys(range(5), STILL)) == []
    for u in range(5):
        placed = dict.fromkeys(range(5), STILL) | {u: RigidMotion.of(np.eye(3), np.array([2.0 * scale, 0, 0]))}
        assert standing_out(looks, placed) == [u]


def test_a_cut_look_and_those_beside_it_stay():
    looks = [look(6.0), *(look(10.0) for _ in range(4))]
    assert standing_out(looks, dict.fromkeys(range(5), STILL)) == []
    # Two that were cut alike: neither outline is the whole part's.
    looks = [look(6.0), look(6.0), *(look(10.0) for _ in range(3))]
    assert standing_out(looks, dict.fromkeys(range(5), STILL)) == []


def test_where_eyes_are_hardly_known_a_little_outside_says_nothing():
    for sure, expected in ((True, [4]), (False, [])):
        looks = [look(10.0, sure=sure) for _ in range(4)] + [look(9.0, 9.4, sure=sure)]
        placed = dict.fromkeys(range(4), STILL) | {4: RigidMotion.of(np.eye(3), np.array([0.63, 0, 0]))}
        assert standing_out(looks, placed) == expected
