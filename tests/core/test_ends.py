"""Where faces end: found at outlines and creases, not at shadows and contours, and what they hold."""

from dataclasses import replace

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.join.ends import END_SCATTER, ends_of, ends_on, going_on
from deftmason.core.join.evidence import Witness, weigh
from deftmason.core.join.eye import Eye
from deftmason.core.join.nearest import Nearest
from deftmason.core.join.seen import Seen
from deftmason.core.join.settle import settle_onto

STILL = RigidMotion.identity()
NONE = np.zeros((0, 3))


def above(height: float = 100.0) -> Eye:
    return Eye(np.array([20.0, 15.0, height]), np.array([0.0, 0.0, 1.0]), 0.01)


def ends(points, normals, spacing=1.0, eye=None):
    p = np.ascontiguousarray(points, float)
    return ends_of(p, np.ascontiguousarray(normals, float), spacing, Nearest.of(p, spacing), eye or above())


def sheet(seed: int, turn: float = 0.0, step: float = 1.0, noise: float = 0.01) -> np.ndarray:
    """Places on a flat of 40 by 30, on a grid turned by so many radians and shifted by chance."""
    rng = np.random.default_rng(seed)
    k = np.arange(-60, 60) * step
    x, y = (g.ravel() + rng.uniform(0, step) for g in np.meshgrid(k, k))
    p = np.column_stack([x * np.cos(turn) - y * np.sin(turn), x * np.sin(turn) + y * np.cos(turn)])
    p = p[(p >= 0).all(axis=1) & (p[:, 0] <= 40) & (p[:, 1] <= 30)]
    return np.column_stack([p, noise * rng.normal(size=len(p))])


def up(points) -> np.ndarray:
    return np.tile([0.0, 0.0, 1.0], (len(points), 1))


def look(points: np.ndarray, normals: np.ndarray, spacing=1.0, noise=0.01, scale=1.0) -> Seen:
    n = len(points)
    eye = replace(above(), place=scale * above().place)
    area = n * (spacing * scale) ** 2
    rim = np.full(n, 12 * spacing * scale)
    return Seen(scale * points, normals, np.full(n, noise * scale), rim, spacing * scale, noise * scale, eye, (), area)


def test_a_flat_ends_at_its_outline_outward():
    p = sheet(1)
    e = ends(p, up(p))
    aside = np.minimum.reduce([e.points[:, 0], 40 - e.points[:, 0], e.points[:, 1], 30 - e.points[:, 1]])
    assert aside.max() < 1.3 and 100 < len(e.points) < 190  # 140 mm around
    outward = np.einsum("ij,ij->i", e.out, e.points - [20, 15, 0])
    assert (outward > 0).all() and np.allclose(e.out[:, 2], 0, atol=0.02)


@pytest.mark.parametrize("step", [0.7, 1.0, 1.6])
def test_ends_lie_where_the_flat_ends_whatever_the_spacing(step):
    beyond = []
    for seed in range(8):
        p = sheet(seed, 0.17 * seed, step)
        e = ends(p, up(p), step)
        x, y = e.points[:, 0], e.points[:, 1]
        beyond.append(-np.minimum.reduce([x, 40 - x, y, 30 - y]))
    assert abs(np.concatenate(beyond).mean()) < 0.3 * step


def test_a_crease_is_an_end_of_both_its_faces():
    p = sheet(2)
    wall = np.column_stack([np.full(len(p), 40.0), 0.75 * p[:, 0], -p[:, 1]])
    wall = wall[wall[:, 2] < -0.4]
    n = np.vstack([up(p), np.tile([1.0, 0, 0], (len(wall), 1))])
    e = ends(np.vstack([p, wall]), n, eye=Eye(np.array([100.0, 15.0, 100.0]), np.array([0.71, 0.0, 0.71]), 0.01))
    at = (np.abs(e.points[:, 0] - 40) < 1.2) & (np.abs(e.points[:, 1] - 15) < 10) & (e.points[:, 2] > -1.6)
    top, side = at & (e.normals[:, 2] > 0.9), at & (e.normals[:, 0] > 0.9)
    assert top.sum() > 10 and (e.out[top, 0] > 0.9).all()
    assert side.sum() > 10 and (e.out[side, 2] > 0.9).all()


def test_a_shadow_makes_no_end():
    p = sheet(3)
    lit = p[p[:, 0] < 25]
    # Nearer to the eye something stands before the rest.
    roof = p[(p[:, 0] > 24.5) & (p[:, 0] < 38)] * [0.9, 0.9, 1] + [2.7, 1.5, 10]
    e = ends(np.vstack([lit, roof]), up(np.vstack([lit, roof])))
    low = e.points[:, 2] < 5
    assert low.sum() > 60 and e.points[low, 0].max() < 23.9
    assert ends(lit, up(lit)).points[:, 0].max() > 23.9


def test_a_contour_is_no_end():
    u, v = np.meshgrid(np.linspace(0.05, np.pi - 0.05, 60), np.arange(0, 40))
    n = np.column_stack([np.cos(u.ravel()), np.zeros(u.size), np.sin(u.ravel())])
    p = 15 * n + np.column_stack([np.full(u.size, 20.0), v.ravel(), np.zeros(u.size)])
    e = ends(p, n)
    assert len(e.points) > 40 and (np.abs(e.out[:, 1]) > 0.9).all()  # only its two round ends


def test_without_an_eye_nothing_is_said():
    p = sheet(4)
    assert not len(ends_of(p, up(p), 1.0, Nearest.of(p, 1.0), None).points)
    assert all(not len(x) for x in ends_on(ends(p, up(p)), ends(p[:3], up(p[:3])), STILL, STILL, 1.0))


def test_ends_that_another_look_goes_past_are_told():
    p = sheet(5)
    half = p[p[:, 0] < 20]
    e = ends(half, up(half))
    past = going_on(e, Nearest.of(p, 1.0), up(p), 1.0)
    inner = (e.points[:, 0] > 18.5) & (np.abs(e.points[:, 1] - 15) < 12)
    assert past[inner].all() and not past[e.points[:, 0] < 2].any()


@pytest.mark.parametrize("scale", [0.05, 1.0, 300.0])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_two_looks_at_one_flat_are_held_by_its_ends(scale, seed):
    a, b = sheet(seed, 0.3 * seed), sheet(seed + 10, -0.2)
    x, y = (look(p, up(p), scale=scale) for p in (a, b))
    rng = np.random.default_rng(seed)
    off = RigidMotion.of(np.eye(3), scale * np.array([*rng.uniform(-1.0, 1.0, 2), 0.02]))
    m, _, rms = settle_onto(x, off, [(y, STILL)], reach=2.0 * scale)
    moved = np.abs(m.points(x.points) - x.points).max() / scale
    assert moved < END_SCATTER and rms < 0.03 * scale
    with_ends = weigh(Witness.of(x, 2 * scale), Witness.of(y, 2 * scale), m).hold
    bare = [replace(s, told_ends=ends_of(s.points, s.normals, s.spacing, s.nearest, None)) for s in (x, y)]
    without = weigh(*(Witness.of(s, 2 * scale) for s in bare), m).hold
    assert with_ends > 3e-4 * x.area > without


@pytest.mark.parametrize("scale", [0.05, 1.0, 300.0])
def test_noise_in_normals_draws_nothing_along_a_flat(scale):
    """What noise feigns to hold has no bottom: it would draw the look on and on."""
    none = ends_of(*(np.zeros((0, 3)),) * 2, scale, Nearest.of(np.zeros((1, 3)), scale), None)
    rng = np.random.default_rng(7)

    def looked(seed):
        p = sheet(seed, 0.3 * seed)
        n = up(p) + 0.1 * rng.normal(size=p.shape)
        return replace(look(p, n / np.linalg.norm(n, axis=1)[:, None], scale=scale), told_ends=none)

    x, y = looked(1), looked(12)
    off = RigidMotion.of(np.eye(3), scale * np.array([0.6, -0.5, 0.05]))
    m, information, _ = settle_onto(x, off, [(y, STILL)], reach=2.0 * scale)
    moved = m.points(x.points) - off.points(x.points)
    assert np.abs(moved[:, :2]).max() < 0.02 * scale  # not drawn along
    assert np.median(m.points(x.points)[:, 2]) == pytest.approx(0, abs=0.01 * scale)  # but onto the other
    values = np.linalg.eigvalsh(information[3:, 3:])
    assert values[1] < 1e-3 * values[2]


def test_the_outline_of_a_cut_look_holds_nothing():
    """The border of what was cut lies where the whole's ends, and looks like an end; but the whole juts out of it."""
    p, q = sheet(1), sheet(11, -0.2)
    x, y = look(p, up(p)), look(q[q[:, 0] < 28], up(q[q[:, 0] < 28]))
    for shift in (0.0, 12.0):
        e = weigh(Witness.of(y, 2.0), Witness.of(x, 2.0), RigidMotion.of(np.eye(3), np.array([shift, 0.0, 0.0])))
        assert e.unseen > 0.2 and e.overlap > 0.9 and e.hold < 3e-5 * y.area
    whole = weigh(Witness.of(look(q, up(q)), 2.0), Witness.of(x, 2.0), STILL)
    assert whole.unseen < 0.03 and whole.hold > 3e-4 * x.area
