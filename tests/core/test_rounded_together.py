"""Sizes that hang together are rounded together; arcs are fitted clear of corners that facets straddle."""

from __future__ import annotations

import numpy as np
import pytest

from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.piececurve import fit_circle_2d
from deftmason.core.sketch.sizes import propose_sizes
from deftmason.core.sketch.sketcher import Stroke, draw, reach_for, thin
from deftmason.core.sketch.solver import solve
from deftmason.core.sketch.trace import TraceLoop

INNER, OUTER = 342.48, 396.77


def sector(seed=0, noise=0.02, cut=0.0, facet=12.0):
    """Two arcs about one middle, from −75° to −15°, and the lines between them; corners cut off by ``cut`` mm."""
    a, b = np.radians([-75, -15])
    step = facet / 3
    t = np.linspace(a, b, int(OUTER * (b - a) / step))
    u = np.linspace(b, a, int(INNER * (b - a) / step))
    r = np.linspace(OUTER, INNER, int((OUTER - INNER) / step))[1:-1]
    ring = lambda radius, w: radius * np.column_stack([np.cos(w), np.sin(w)])  # noqa: E731
    p = np.vstack([
        ring(OUTER, t), r[:, None] * [np.cos(b), np.sin(b)], ring(INNER, u), r[::-1, None] * [np.cos(a), np.sin(a)]
    ])  # fmt: skip
    for corner in (ring(OUTER, np.array([a, b])), ring(INNER, np.array([a, b]))):
        for c in corner:
            away = np.linalg.norm(p - c, axis=1)
            into = 0.5 * (INNER + OUTER) * ring(1, np.array([-np.pi / 4])) - c
            pull = cut * np.clip(1 - away / facet, 0, 1)
            p = p + pull[:, None] * into / np.linalg.norm(into)
    p = p + np.random.default_rng(seed).normal(0, noise, p.shape)
    length = float(np.linalg.norm(np.diff(np.vstack([p, p[:1]]), axis=0), axis=1).sum())
    return TraceLoop(p, True, length, facet=facet, crowd=3.0)


@pytest.mark.parametrize("seed", range(6))
def test_two_radii_about_one_middle_are_rounded_as_the_scan_leaves_them(seed):
    s = automatic_sketch([sector(seed)], 4.0)
    assert [e["kind"] for e in s.geometry].count("arc") == 2
    assert any(r.kind == "concentric" for r in s.relations)
    free = s.solution
    sizes = propose_sizes(s.drawing, s.relations, free)
    assert any(z.source == "rounded" for z in sizes)
    held = solve(s.drawing, s.relations, [z for z in sizes if z.source == "rounded"], start=free.x)
    # All of them held at once cost no more than one of them may: four squares of its own uncertainty.
    chi2 = (held.sum_of_squares - free.sum_of_squares) / (free.sum_of_squares / free.samples) / free.inflation
    assert chi2 < 4.0 * sum(z.source == "rounded" for z in sizes)


def test_arcs_keep_clear_of_corners_that_facets_cut_off():
    loop = sector(1, noise=0.005, cut=1.5)
    r = np.linalg.norm(loop.points, axis=1)
    runs = [loop.points[np.abs(r - radius) < 2.0] for radius in (OUTER, INNER)]
    outer, inner = ([q[0], *q[3:-3], q[-1]] for q in runs)
    lines = [np.linspace(outer[-1], inner[0], 8), np.linspace(inner[-1], outer[0], 8)]
    strokes = [
        Stroke(f"e{k}", kind, thin(np.array(p)), f"e{(k + 1) % 4}")
        for k, (kind, p) in enumerate(zip(("arc", "line", "arc", "line"), (outer, lines[0], inner, lines[1])))
    ]
    d = draw([loop], strokes, reach_for([loop], 4.0))
    for name, radius in (("e0", OUTER), ("e2", INNER)):
        centre, found, rms = fit_circle_2d(d.stretches[name])
        assert found == pytest.approx(radius, abs=0.05) and rms < 0.02 and np.linalg.norm(centre) < 0.06
