"""Worn stretches of an outline: bridged where a side is worn, left alone where the shape is meant."""

from __future__ import annotations

import numpy as np
import pytest

from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.pieces import Piece, samples_of, split_loop
from deftmason.core.sketch.trace import TraceLoop
from deftmason.core.sketch.worn import bridged

from .test_sketch import outline as rounded_plate


def outline(k=1.0, noise=0.01, seed=0, deform=None, reverse=False):
    """A plate of 90 × 60 mm, its corners rounded by 6, times ``k``; ``deform`` (n,) → (n,) mm inward of its right
    side by the height along it; as an opening in a bigger plate with ``reverse``.
    """
    step = 0.35
    whole = rounded_plate(90, 60, 6, step=step, noise=0.0)
    p = whole.points.copy()
    if deform is not None:
        hit = (np.abs(p[:, 0] - 45) < 1e-6) & (np.abs(p[:, 1]) < 24)
        p[hit, 0] -= deform(p[hit, 1]) * (-1 if reverse else 1)
    p = k * (p + np.random.default_rng(seed).normal(0, noise, p.shape))
    return TraceLoop(p, True, k * whole.length, facet=k * step)


def frame(k=1.0):
    """A far bigger outline, so that the plate's is an opening."""
    t = np.linspace(0, 2 * np.pi, 900, endpoint=False)
    return TraceLoop(k * 120 * np.column_stack([np.cos(t), np.sin(t)]), True, k * 240 * np.pi, facet=k * 0.8)


def dent(centre=-4.0, half=8.0, depth=0.25):
    return lambda y: np.where(np.abs(y - centre) < half, depth * np.cos(0.5 * np.pi * (y - centre) / half) ** 2, 0.0)


def drawn(loops, k=1.0):
    s = automatic_sketch(loops, 0.35 * k)
    guides = [e for e in s.geometry if e.get("construction")]
    return s, [e for e in s.geometry if not e.get("construction")], guides


@pytest.mark.parametrize("k", [0.02, 1.0, 150.0])
def test_a_worn_side_runs_on_and_its_wear_is_told(k):
    s, solid, guides = drawn([outline(k, deform=dent())], k)
    assert sorted(e["kind"] for e in solid) == ["arc"] * 4 + ["line"] * 4
    sides = [e for e in solid if e["kind"] == "line" and min(e["start"][0], e["end"][0]) > 40 * k]
    assert len(sides) == 1
    assert np.allclose([sides[0]["start"][0], sides[0]["end"][0]], 45 * k, atol=0.012 * k)
    assert abs(abs(sides[0]["start"][1] - sides[0]["end"][1]) - 48 * k) < 0.3 * k
    assert guides and any("worn" in w for w in s.warnings)
    assert 0.2 * k < s.told.max_distance < 0.32 * k  # the error that is told is the outline's own


def test_an_opening_is_worn_outward():
    _, solid, guides = drawn([frame(), outline(deform=dent(), reverse=True)])
    assert guides and sum(e["kind"] == "line" for e in solid) == 4


@pytest.mark.parametrize(
    "deform",
    [
        lambda y: -dent()(y),  # material put on, not worn away
        lambda y: np.where(np.abs(y) < 8, 0.25, 0.0),  # a shallow recess with steps
        lambda y: 0.25 * np.abs(y) / 24,  # a ridge of two straight slopes
        lambda y: 0.5 * (y / 24) ** 2,  # a crowned side
        lambda y: 1.5 * np.where(np.abs(y) < 8, np.cos(np.pi * y / 16) ** 2, 0),  # a scallop
    ],
    ids=["proud", "recess", "ridge", "crown", "scallop"],
)
def test_what_is_meant_is_not_called_worn(deform):
    s, _, guides = drawn([outline(deform=deform)])
    assert not guides and not any("worn" in w for w in s.warnings)


def test_a_sound_outline_has_no_guides():
    for seed in range(4):
        assert not drawn([outline(noise=0.03, seed=seed)])[2]


@pytest.mark.parametrize("centre", [-4.0, 8.0])
def test_wear_that_a_split_hides_in_one_straight_piece_is_found(centre):
    loop = outline(deform=dent(centre, half=5.0, depth=0.12))
    pieces = split_loop(loop, 0.01)
    mine = [k for k, p in enumerate(pieces) if np.median(samples_of(loop, p)[:, 0]) > 44.5 and p[0] < 2]
    side = Piece((0, pieces[mine[0]][1], pieces[mine[-1]][2]))  # all of the right side as one
    others = [p for k, p in enumerate(pieces) if k not in mine]
    parted, worn = bridged(loop, [side, *others], 0.01, True)
    assert len(worn) == 1 and len(parted) > 1 + len(others)
    assert np.abs(np.vstack(worn[0].run)[:, 1] - centre).max() < 8
    # Of a sound side nothing is parted.
    sound = outline()
    whole = split_loop(sound, 0.01)
    assert bridged(sound, whole, 0.01, True) == (whole, [])
