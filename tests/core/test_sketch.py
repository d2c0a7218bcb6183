"""Traces become drawings that carry the maker's numbers; relations are found, priced and kept exactly."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionCutter, SectionPlane
from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.distances import trace_residuals
from deftmason.core.sketch.drawing import Relation, Size
from deftmason.core.sketch.equations import relation_equations, size_value
from deftmason.core.sketch.loops import closed_loops
from deftmason.core.sketch.outlined import outlined
from deftmason.core.sketch.relations import propose_relations
from deftmason.core.sketch.sizes import measure_sizes, propose_sizes, round_value
from deftmason.core.sketch.sketcher import draw, stroke_from_brush
from deftmason.core.sketch.solver import solve
from deftmason.core.sketch.trace import TraceLoop, step_for, trace_noise, trace_of


def outline(w, h, r, step=0.4, tilt=0.0, shift=(0, 0), noise=0.0, seed=0):
    """Samples of a rounded rectangle, anticlockwise."""
    parts = []
    for (cx, cy), a in (
        ((w / 2 - r, -h / 2 + r), -90),
        ((w / 2 - r, h / 2 - r), 0),
        ((-w / 2 + r, h / 2 - r), 90),
        ((-w / 2 + r, -h / 2 + r), 180),
    ):
        t = np.radians(a + np.linspace(0, 90, 200))
        parts.append(np.column_stack([cx + r * np.cos(t), cy + r * np.sin(t)]))
    p = np.vstack(parts)
    q = np.vstack([p, p[:1]])
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    at = np.arange(0, s[-1], step)
    p = np.column_stack([np.interp(at, s, q[:, k]) for k in range(2)])
    c, n = np.cos(tilt), np.sin(tilt)
    rng = np.random.default_rng(seed)
    return TraceLoop(p @ np.array([[c, n], [-n, c]]) + shift + rng.normal(0, noise, p.shape), True, float(s[-1]))


def ring(x, y, r, step=0.4, noise=0.0, seed=0):
    t = np.arange(0, 2 * np.pi, step / r)
    rng = np.random.default_rng(seed)
    p = np.column_stack([x + r * np.cos(t), y + r * np.sin(t)])
    return TraceLoop(p + rng.normal(0, noise, p.shape), True, 2 * np.pi * r)


def plate(noise=0.03, seed=0):
    return [outline(90, 60, 6, noise=noise, seed=seed)] + [
        ring(sx * 34, sy * 20, 4.25, noise=noise, seed=seed + 9 + k)
        for k, (sx, sy) in enumerate([(1, 1), (-1, 1), (-1, -1), (1, -1)])
    ]


def sketch(loops):
    d = draw(loops, outlined(loops, trace_noise(loops)).strokes, 1.5)
    relations, refused, s = propose_relations(d)
    return d, relations, refused, s


def test_whole_outline_is_found_with_its_relations_and_sizes():
    d, relations, _, s = sketch(plate())
    kinds = [e.kind for e in d.entities.values()]
    assert kinds.count("line") == 4 and kinds.count("arc") == 4 and kinds.count("circle") == 4
    found = [r.kind for r in relations]
    assert found.count("tangent") == 8 and found.count("equal") == 6
    assert found.count("horizontal") + found.count("vertical") >= 6
    assert s.broken < 1e-9 and s.rms < 0.035
    sizes = {x.label: x for x in propose_sizes(d, relations, s)}
    assert sizes["width"].chosen == 90 and sizes["depth"].chosen == 60
    assert sizes["4 × R"].chosen == 6 and sizes["4 × ⌀"].chosen == 8.5
    assert sizes["spacing x"].chosen == 68 and sizes["spacing y"].chosen == 40
    for x in sizes.values():
        assert abs(x.measured - x.chosen) < 4 * x.uncertainty + 0.005


def test_exact_trace_gives_exact_sizes():
    d, relations, _, s = sketch(plate(noise=0.0))
    sizes = {x.label: x for x in propose_sizes(d, relations, s)}
    assert sizes["4 × ⌀"].measured == pytest.approx(8.5, abs=1e-6)
    assert sizes["width"].measured == pytest.approx(90, abs=2e-3)  # samples are chords of the corner arcs


def test_pulls_of_measured_sizes_are_honest():
    pulls = []
    for seed in range(25):
        loops = plate(seed=100 * seed)
        d, relations, _, s = sketch(loops)
        for x in propose_sizes(d, relations, s):
            true = {"width": 90, "depth": 60, "4 × R": 6, "4 × ⌀": 8.5, "spacing x": 68, "spacing y": 40}.get(x.label)
            if true:
                pulls.append((x.measured - true) / x.uncertainty)
    assert len(pulls) > 100 and 0.6 < np.std(pulls) < 1.5


def test_a_crooked_outline_is_not_called_horizontal():
    _, relations, refused, s = sketch([outline(90, 60, 6, tilt=np.radians(1.0), noise=0.03)])
    assert not [r for r in relations if r.kind in ("horizontal", "vertical")]
    assert len([r for r in refused if r.kind in ("horizontal", "vertical")]) == 4
    assert all(r.cost > 0.01 for r in refused if r.kind in ("horizontal", "vertical"))
    assert [r.kind for r in relations].count("tangent") == 8 and s.rms < 0.035


def test_chosen_sizes_are_held_exactly_and_cost_is_seen():
    d, relations, _, s = sketch(plate())
    sizes = propose_sizes(d, relations, s)
    dia = next(x for x in sizes if x.kind == "diameter")
    dia.chosen, dia.source = 9.0, "typed"
    held = solve(d, relations, sizes)
    assert size_value(d, dia, held.x)[0] == pytest.approx(9.0, abs=1e-10)
    assert held.rms > s.rms + 0.02 and held.broken < 1e-9
    measure_sizes(d, sizes, s)
    assert dia.measured == pytest.approx(8.5, abs=0.02)


def test_gradients_agree_with_differences():
    d, relations, _, s = sketch(plate())
    rng = np.random.default_rng(1)
    x = s.x + rng.normal(0, 0.2, len(s.x))
    lines = [e.id for e in d.entities.values() if e.kind == "line"]
    arcs = [e.id for e in d.entities.values() if e.kind == "arc"]
    circles = [e.id for e in d.entities.values() if e.kind == "circle"]
    rows = [
        lambda x, r=r: relation_equations(d, r, x)[0]
        for r in [
            *relations,
            Relation("parallel", (lines[0], lines[2])),
            Relation("perpendicular", (lines[0], lines[1])),
            Relation("tangent", (lines[0], circles[0])),
            Relation("tangent", (circles[0], circles[1])),
            Relation("equal", (lines[0], lines[1])),
            Relation("collinear", (lines[0], lines[1])),
            Relation("concentric", (arcs[0], circles[0])),
        ]
    ]
    rows += [
        lambda x, k=k, of=of: size_value(d, Size("s", k, of), x)
        for k, of in [
            ("radius", (arcs[0],)),
            ("width", (lines[0], lines[2])),
            ("spacing_x", (circles[0], circles[1])),
            ("place_y", (circles[2],)),
        ]
    ]
    for row in rows:
        value, g = row(x)
        grad = np.zeros(len(x))
        for k, v in g.items():
            grad[k] = v
        for k in np.nonzero(grad)[0][:6]:
            e = np.zeros(len(x))
            e[k] = 1e-6
            assert (row(x + e)[0] - row(x - e)[0]) / 2e-6 == pytest.approx(grad[k], abs=1e-5)
    r, j = trace_residuals(d, x)
    for k in rng.integers(0, len(x), 8):
        e = np.zeros(len(x))
        e[k] = 1e-6
        assert np.allclose((trace_residuals(d, x + e)[0] - trace_residuals(d, x - e)[0]) / 2e-6, j[:, k], atol=1e-5)


def test_brushed_stretches_resolve_again_on_another_trace():
    loops = plate()
    bottom = stroke_from_brush(loops, np.array([[-30, -30.4], [30, -29.6]]), 1.0, "line", "a")
    hole = stroke_from_brush(
        loops,
        np.array([[34 + 4.25 * np.cos(t), 20 + 4.25 * np.sin(t)] for t in np.linspace(0, 3, 9)]),
        0.8,
        "circle",
        "b",
    )
    d = draw(plate(seed=50), [bottom, hole], 1.5)
    s = solve(d, [], [])
    g = {e["id"]: e for e in d.geometry(s.x)}
    assert g["b"]["radius"] == pytest.approx(4.25, abs=0.02) and g["a"]["start"][1] == pytest.approx(-30, abs=0.02)
    with pytest.raises(BadInput, match="touched no trace"):
        stroke_from_brush(loops, np.array([[0, 0], [1, 1.0]]), 1.0, "line", "c")
    with pytest.raises(BadInput, match="no trace within"):
        draw([ring(0, 0, 3)], [bottom], 1.5)


def test_loops_are_nested():
    d, _, _, s = sketch(plate())
    loops = closed_loops(d.geometry(s.x))
    assert len(loops) == 5 and loops[0]["inside"] is None and all(l["inside"] == 0 for l in loops[1:])
    assert loops[0]["area"] == pytest.approx(90 * 60 - (4 - np.pi) * 36, rel=2e-3)


@pytest.mark.parametrize(
    "value,u,chosen", [(24.993, 0.006, 25), (8.487, 0.011, 8.5), (11.473, 0.006, 11.473), (6.02, 0.02, 6)]
)
def test_round_numbers_are_chosen_only_where_the_measurement_allows(value, u, chosen):
    assert round_value(value, u)[0] == chosen


def test_concentric_rings_and_aligned_bores_are_found():
    loops = [ring(3, 4, 12, noise=0.02), ring(3, 4, 5, noise=0.02, seed=2), ring(33, 4, 5, noise=0.02, seed=3)]
    d, relations, _, s = sketch(loops)
    kinds = {(r.kind, tuple(sorted(r.of))) for r in relations}
    ids = list(d.entities)
    assert ("concentric", tuple(sorted(ids[:2]))) in kinds or ("concentric", tuple(sorted((ids[0], ids[2])))) in kinds
    assert any(k == "horizontal" for k, _ in kinds) and any(k == "equal" for k, _ in kinds)
    radii = sorted(e["radius"] for e in d.geometry(s.x))
    assert radii == pytest.approx([5, 5, 12], abs=0.02)


def test_a_gap_a_hole_tore_is_bridged_and_a_wide_one_is_not():
    from deftmason.core.sketch.trace import _bridged

    whole = outline(90, 60, 6, noise=0.02)
    cut = TraceLoop(np.vstack([whole.points[40:], whole.points[:25]]), False, whole.length - 6)
    closed = _bridged([cut])
    assert len(closed) == 1 and closed[0].closed
    d, relations, _, s = sketch(closed)
    assert [e.kind for e in d.entities.values()].count("line") == 4 and s.rms < 0.03
    halves = [TraceLoop(whole.points[3:300], False, 118.0), TraceLoop(whole.points[310:-2], False, 160.0)]
    assert [t.closed for t in _bridged(halves)] == [True]
    far = TraceLoop(whole.points[:300], False, 118.0)
    assert [t.closed for t in _bridged([far])] == [False]


def test_brushed_ends_that_meet_are_joined():
    from deftmason.core.sketch.sketcher import join_ends

    loops = [outline(40, 20, 4, noise=0.01)]
    strokes = [
        stroke_from_brush(loops, np.array([[-15, -10], [15, -10.0]]), 0.6, "line", "a"),
        stroke_from_brush(loops, np.array([[16.5, -9.8], [19, -8.5], [20, -6.5]]), 0.6, "arc", "b"),
        stroke_from_brush(loops, np.array([[20, -5], [20, 5.0]]), 0.6, "line", "c"),
    ]
    joined = {s.id: s.joins for s in join_ends(strokes, 3.0)}
    assert joined == {"a": "b", "b": "c", "c": None}
    d = draw(loops, join_ends(strokes, 3.0), 1.5)
    relations, _, s = propose_relations(d)
    assert [r.kind for r in relations].count("tangent") == 2 and s.broken < 1e-8


@pytest.mark.parametrize("noise", [0.005, 0.03, 0.06])
def test_pieces_do_not_multiply_with_noise(noise):
    rng = np.random.default_rng(5)
    loop = outline(90, 60, 6, step=0.35)
    # Noise shared by neighbours over 2.5 mm, as a scanner's is.
    n = len(loop.points)
    kernel = np.exp(-0.5 * (np.arange(-20, 21) * 0.35 / 2.5) ** 2)
    wave = np.stack([np.convolve(np.tile(rng.normal(size=n), 3), kernel, "same")[n : 2 * n] for _ in range(2)], 1)
    wave *= noise / wave.std()
    loops = [TraceLoop(loop.points + wave, True, loop.length)]
    strokes = outlined(loops, trace_noise(loops)).strokes
    assert [s.kind for s in strokes].count("line") == 4 and len(strokes) <= 10


@pytest.mark.parametrize("cells", [6, 8, 14, 20])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_cut_through_a_row_of_noisy_corners_is_no_exact_trace(cells, seed):
    """Crossings crowd round corners that lie in the plane; that they lie on lines through each other says nothing of
    noise.
    """
    from .test_scan import box_mesh

    mesh = box_mesh(cells)
    mesh = TriMesh(mesh.vertices + np.random.default_rng(seed).normal(0, 0.01, mesh.vertices.shape), mesh.faces)
    index, plane = (
        ScanIndex(mesh),
        SectionPlane.at(np.array([0, 0, 10.0]), np.array([0, 0, 1.0]), np.array([1.0, 0, 0])),
    )
    cut, step = SectionCutter(index, plane.normal).at(10.0), step_for(mesh.median_edge)
    drawn = automatic_sketch(trace_of(cut, plane, step, cut.lifted(index)), step)
    assert [s.kind for s in drawn.strokes] == ["line"] * 4 and not drawn.warnings
