"""What repeats is drawn once and followed, what only seems to repeat is not; free curves are splines, true arcs never;
other drawings of a trace.
"""

import numpy as np
import pytest

from deftmason.core.sketch.automatic import automatic_sketch, other_sketch
from deftmason.core.sketch.curve import curve_of
from deftmason.core.sketch.patterns import find_patterns
from deftmason.core.sketch.repeats import between_entities, find_ring, folded
from deftmason.core.sketch.sizes import propose_sizes
from deftmason.core.sketch.trace import sampled_loop

STEP, NOISE = 0.35, 0.01


def loop_of(points, noise=NOISE, seed=0):
    """A closed loop along a fine outline (n, 2), evenly sampled, with noise."""
    q = np.vstack([points, points[:1]])
    s = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(q, axis=0).T))])
    t = np.arange(0, s[-1] - STEP / 2, STEP)
    p = np.column_stack([np.interp(t, s, q[:, k]) for k in range(2)])
    return sampled_loop(p + np.random.default_rng(seed).normal(0, noise, p.shape), STEP)


def toothed(n=12, root=20.0, tip=24.0, lean=0.0, at=(3.0, -2.0), shift=None):
    """Corners of n teeth about a middle; ``shift`` = (tooth, rad) moves one along."""
    out = []
    for k in range(n):
        w = 2 * np.pi * k / n + (shift[1] if shift and shift[0] == k else 0.0)
        for r, a in ((root, -0.6), (tip, -0.3 + lean), (tip, 0.3 + lean), (root, 0.6)):
            v = w + a * np.pi / n
            out.append((at[0] + r * np.cos(v), at[1] + r * np.sin(v)))
    return np.array(out)


def circle(c, r):
    w = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    return np.column_stack([c[0] + r * np.cos(w), c[1] + r * np.sin(w)])


@pytest.mark.parametrize("lean", [0.0, 0.2])
def test_equal_teeth_are_one_and_follow(lean):
    s = automatic_sketch([loop_of(toothed(lean=lean))], STEP)
    lines = [e for e in s.geometry if e["kind"] == "line"]
    assert len(lines) == 48 and sum(r.kind == "turned" for r in s.relations) == 44
    ends = np.array([e["start"] for e in lines])
    off = np.linalg.norm(toothed(lean=lean)[:, None] - ends[None], axis=2).min(axis=1)
    assert off.max() < 0.03
    sizes = propose_sizes(s.drawing, s.relations, s.solution)
    radii = sorted(z.measured for z in sizes if z.kind == "distance")
    assert radii == pytest.approx([20, 24], abs=0.02)


def test_a_tooth_that_is_moved_along_is_drawn_where_it_is():
    corners = toothed(shift=(5, 0.05))
    s = automatic_sketch([loop_of(corners)], STEP)
    ends = np.array([e["start"] for e in s.geometry if e["kind"] == "line"])
    assert len(ends) == 48
    assert np.linalg.norm(corners[:, None] - ends[None], axis=2).min(axis=1).max() < 0.06
    assert "differ" in s.seen[0]


@pytest.mark.parametrize("outline", [toothed(n=3)[::4], toothed(n=4)[::4], circle((0, 0), 20)])
def test_no_triangle_square_or_circle_is_a_ring(outline):
    s = automatic_sketch([loop_of(outline)], STEP)
    assert not any(r.kind == "turned" for r in s.relations) and not s.seen


def test_a_ring_is_found_about_its_middle_and_folded_onto_one_part():
    loop = loop_of(toothed(n=17))
    ring = find_ring(loop, NOISE)
    assert ring.count == 17 and ring.alike.all()
    assert ring.centre == pytest.approx([3, -2], abs=0.01)
    run = folded(loop, ring, 2)
    n = len(run.points) // 2
    again = (run.points[:n] - ring.centre) @ ring.turn(1).T + ring.centre
    assert np.abs(again - run.points[n:]).max() < 1e-9


def test_a_broken_symmetry_is_not_held():
    uneven = np.array(
        [
            (3 + r * np.cos(w), -2 + r * np.sin(w))
            for w, r in zip(
                np.linspace(0, 2 * np.pi, 24, endpoint=False),
                np.where(np.arange(24) % 2, 20, 24) + np.linspace(0, 3, 24),
            )
        ]
    )
    assert find_ring(loop_of(uneven), NOISE) is None


def test_equal_holes_in_a_ring_and_a_row():
    ring = [circle((30 * np.cos(w), 30 * np.sin(w)), 4) for w in 0.3 + 2 * np.pi * np.arange(7) / 7]
    row = [circle((-20 + 12 * k, -60), 2.5) for k in (0, 1, 3)]  # one place left out
    loops = [loop_of(p, seed=k) for k, p in enumerate([circle((0, 0), 50), *ring, *row])]
    found = find_patterns(loops, NOISE)
    assert sorted(len(p.members) for p in found) == [3, 7]
    assert next(p for p in found if p.step is not None).steps in ((0, 1, 3), (0, 2, 3))
    s = automatic_sketch(loops, STEP)
    sizes = propose_sizes(s.drawing, s.relations, s.solution)
    assert next(z.measured for z in sizes if z.kind == "distance") == pytest.approx(30, abs=0.01)
    # Told of entities alone, what follows is equal.
    told = between_entities(s.drawing, s.relations)
    assert sum(r.kind == "equal" for r in told) >= 8 and not any("." in n for r in told for n in r.of)


def test_holes_that_lie_unevenly_are_no_ring():
    w = 2 * np.pi * np.arange(6) / 6
    w[2] += 0.02  # 0.6 mm
    loops = [loop_of(circle((30 * np.cos(a), 30 * np.sin(a)), 4)) for a in w]
    assert find_patterns(loops, NOISE) == []


def test_a_free_curve_is_splines_and_a_rounded_window_is_none():
    w = np.linspace(0, 2 * np.pi, 3000, endpoint=False)
    r = 30 + 4 * np.cos(2 * w) + 3 * np.sin(3 * w)
    kidney = np.column_stack([r * np.cos(w), r * np.sin(w)])
    s = automatic_sketch([loop_of(kidney, 0.005)], STEP)
    assert {e["kind"] for e in s.geometry} == {"spline"} and len(s.geometry) == 3
    assert sum(r.kind == "tangent" for r in s.relations) == 3
    curves = [curve_of(e) for e in s.geometry]
    assert np.min([c.distance(kidney[::20]) for c in curves], axis=0).max() < 0.02
    a = np.linspace(0, np.pi / 2, 60)
    corner = np.column_stack([22 + 8 * np.cos(a), 12 + 8 * np.sin(a)])
    window = np.vstack([corner, (corner * [-1, 1])[::-1], corner * [-1, -1], (corner * [1, -1])[::-1]])
    s = automatic_sketch([loop_of(window, 0.005)], STEP)
    assert sorted(e["kind"] for e in s.geometry) == ["arc"] * 4 + ["line"] * 4


def test_other_drawings_of_a_trace_are_stepped_through():
    def sides(sag):
        corners = np.array([[0, 0], [60, 0], [60, 30], [30, 30 + sag], [0, 30]], float)
        return np.vstack(
            [
                a + np.linspace(0, 1, 200, endpoint=False)[:, None] * (b - a)
                for a, b in zip(corners, np.roll(corners, -1, axis=0))
            ]
        )

    bent = [loop_of(sides(0.12), 0.02)]
    drawings = [other_sketch(bent, STEP, k) for k in range(3)]
    counts = [len(s.geometry) for s in drawings]
    assert set(counts[:2]) == {4, 5} and counts[2] == counts[0]
    assert "Another drawing" in drawings[1].seen[-1] and "again" in drawings[2].seen[-1]
    plain = other_sketch([loop_of(sides(8.0))], STEP, 1)
    assert len(plain.geometry) == 5 and "No other" in plain.seen[-1]
