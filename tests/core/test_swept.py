"""How far a scan lies off what a drawing sweeps: known plates, a turned part, what is asked and what is not."""

import numpy as np
import pytest

from deftmason.core.scan.section import SectionPlane
from deftmason.core.sketch.swept import off_swept

SQUARE = [
    {"id": f"e{k}", "kind": "line", "start": a, "end": b}
    for k, (a, b) in enumerate(zip([[0, 0], [40, 0], [40, 30], [0, 30]], [[40, 0], [40, 30], [0, 30], [0, 0]]))
]
HOLE = {"id": "h", "kind": "circle", "center": [15, 12], "radius": 6.0}


def walls(scale: float, seed=0):
    """Places on the plate's walls, its hole's and its top, with normals; mm."""
    rng = np.random.default_rng(seed)
    z = rng.uniform(0, 10, 400)
    w = rng.uniform(0, 2 * np.pi, 400)
    x = rng.uniform(2, 38, 400)
    front = np.column_stack([x, np.zeros(400), z]), np.tile([0, -1.0, 0], (400, 1))
    round_ = np.column_stack([np.cos(w), np.sin(w), 0 * w])
    hole = np.column_stack([15 + 6 * np.cos(w), 12 + 6 * np.sin(w), z]), -round_
    top = np.column_stack([x, rng.uniform(0, 30, 400), np.full(400, 10.0)]), np.tile([0, 0, 1.0], (400, 1))
    p, n = (np.vstack(q) for q in zip(front, hole, top))
    return p * scale, n


def grown(e: dict, scale: float) -> dict:
    keys = ("start", "end", "center", "radius")
    return {k: (np.asarray(v) * scale).tolist() if k in keys else v for k, v in e.items()}


@pytest.mark.parametrize("scale", [0.02, 1.0, 300.0])
def test_walls_tell_how_far_they_lie_outside_and_tops_say_nothing(scale):
    p, n = walls(scale)
    drawn = [grown(e, scale) for e in (*SQUARE, HOLE)]
    paper = SectionPlane.at([0, 0, 3.0 * scale], [0, 0, 1], [1, 0, 0])
    off = off_swept(p + 0.2 * scale * n, n, paper, drawn, 1.0 * scale)
    assert off[:800] == pytest.approx(np.full(800, 0.2 * scale), abs=1e-6 * scale) and np.isnan(off[800:]).all()
    far = off_swept(p + 1.5 * scale * n, n, paper, drawn, 1.0 * scale)
    assert np.isnan(far).all()
    guides = [{**e, "construction": True} for e in drawn]
    assert np.isnan(off_swept(p, n, paper, guides, scale)).all()


def test_in_any_pose_and_what_looks_along_the_outline_is_another_wall():
    turn = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))
    p, n = walls(1.0)
    paper = SectionPlane.at(turn @ [7, -3, 2.0] + [900, 80, -5], turn @ [0, 0, 1], turn @ [1, 0, 0])
    moved = [
        {**e, **{k: (np.asarray(e[k]) - [7, -3]).tolist() for k in ("start", "end", "center") if k in e}}
        for e in (*SQUARE, HOLE)
    ]
    off = off_swept((p - 0.1 * n) @ turn.T + [900, 80, -5], n @ turn.T, paper, moved, 1.0)
    assert off[:800] == pytest.approx(np.full(800, -0.1), abs=1e-9)
    sideways = np.tile([1.0, 0, 0], (400, 1))
    assert np.isnan(off_swept(p[:400], sideways, SectionPlane.at([0, 0, 0], [0, 0, 1], [1, 0, 0]), SQUARE, 1.0)).all()


def test_turned_about_the_papers_upright():
    rng = np.random.default_rng(2)
    w, z = rng.uniform(0, 2 * np.pi, 500), rng.uniform(1, 9, 500)
    out = np.column_stack([np.cos(w), np.sin(w), 0 * w])
    barrel = 12.3 * out + np.column_stack([0 * w, 0 * w, z])
    profile = [{"id": "e1", "kind": "line", "start": [12, 0], "end": [12, 10]}]
    paper = SectionPlane.at([0, 0, 0], [0, -1, 0], [1, 0, 0])
    off = off_swept(barrel, out, paper, profile, 1.0, turned=True)
    assert off == pytest.approx(np.full(500, 0.3), abs=1e-9)
    # A keyway's side looks past the axis: no part of what is turned.
    past = np.cross([0, 0, 1.0], out)
    assert np.isnan(off_swept(barrel, past, paper, profile, 1.0, turned=True)).all()
