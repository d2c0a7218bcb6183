"""Traces of every kind against known parts, fits of several stretches, drawing files there and back."""

import numpy as np
import pytest

from deftmason.core.deliver.drawing_files import read_dxf, write_dxf, write_svg
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionPlane
from deftmason.core.sketch.beginning import clean_height
from deftmason.core.sketch.board import Board
from deftmason.core.sketch.curve import curve_of, interpolated
from deftmason.core.sketch.fitting import fit_brushed, fit_stretches, read_ahead
from deftmason.core.sketch.loops import closed_loops
from deftmason.core.sketch.settling import settled
from deftmason.core.sketch.silhouette import silhouette
from deftmason.core.sketch.trace import TraceLoop
from deftmason.core.sketch.turned import turned

from .test_sketch import outline, ring

UP = SectionPlane.at([0, 0, 0], [0, 0, 1], [1, 0, 0])


def tube(inner, outer, height, n=180, rings=40, noise=0.0, seed=0):
    """A ring-shaped wall standing on z = 0, closed, of even facets."""
    w = 2 * np.pi * np.arange(n) / n
    around = np.column_stack([np.cos(w), np.sin(w)])
    profile = [(outer, z) for z in np.linspace(0, height, rings)]
    profile += [(r, height) for r in np.linspace(outer, inner, 8)[1:]]
    profile += [(inner, z) for z in np.linspace(height, 0, rings)[1:]]
    profile += [(r, 0.0) for r in np.linspace(inner, outer, 8)[1:-1]]
    p = np.vstack([np.column_stack([r * around, np.full(n, z)]) for r, z in profile])
    m = len(profile)
    k, i = np.divmod(np.arange(m * n), n)
    a, b = k * n + i, k * n + (i + 1) % n
    c, d = ((k + 1) % m) * n + i, ((k + 1) % m) * n + (i + 1) % n
    faces = np.vstack([np.column_stack([a, b, d]), np.column_stack([a, d, c])]).astype(np.int32)
    return TriMesh(p + np.random.default_rng(seed).normal(0, noise, p.shape), faces), profile


@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_the_silhouette_of_a_ring_is_two_circles(noise):
    mesh, _ = tube(8.0, 15.0, 6.0, noise=noise)
    loops = silhouette(mesh, UP, 0.3, noise=noise)
    assert [l.closed for l in loops] == [True, True]
    for loop, r in zip(loops, (15.0, 8.0)):
        off = np.linalg.norm(loop.points, axis=1) - r
        # A polygon of 180 sides lies up to 0.0023 mm within; with noise the walls' mean counts, not their farthest.
        assert abs(off.mean()) < (0.003 if noise == 0 else 0.006) and np.abs(off).max() < 0.004 + 3 * noise


def test_a_few_large_facets_have_exact_corners_in_their_silhouette():
    p = np.array([[0, 0, 0], [10, 0, 1], [10, 5, 0], [0, 5, 2], [4, 2, 9.0]])
    mesh = TriMesh(p, np.array([[0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]], np.int32))
    (loop,) = silhouette(mesh, UP, 0.2)
    for corner in p[:4, :2]:
        assert np.linalg.norm(loop.points - corner, axis=1).min() < 1e-6
    with pytest.raises(BadInput, match="is a line"):
        flat = TriMesh(np.array([[0, 0, 0], [1, 0, 0], [0.5, 0, 1.0]]), np.array([[0, 1, 2]], np.int32))
        silhouette(flat, UP, 0.2)


def test_turned_into_one_half_plane_noise_averages_out():
    mesh, profile = tube(8.0, 15.0, 9.0, noise=0.02)
    paper = SectionPlane.at([0, 0, 0], [0, -1, 0], [1, 0, 0])
    loops = turned(ScanIndex(mesh), paper)
    assert len(loops) == 1 and loops[0].closed
    p = loops[0].points
    wall = p[(np.abs(p[:, 0] - 15) < 0.5) & (p[:, 1] > 1.5) & (p[:, 1] < 7.5)]
    assert len(wall) > 10 and np.abs(wall[:, 0] - 15).max() < 0.012  # one cut scatters by 0.02
    with pytest.raises(BadInput, match="round this axis"):
        turned(ScanIndex(mesh), SectionPlane.at([400, 0, 0], [0, -1, 0], [1, 0, 0]))


def plate():
    return [outline(60, 40, 5, noise=0.01), ring(15, 0, 4, noise=0.01, seed=4)]


def test_the_trace_is_read_ahead_with_its_sizes():
    found = read_ahead(plate())
    assert [s.kind for s in found].count("line") == 4 and [s.kind for s in found].count("arc") == 4
    (hole,) = [s for s in found if s.kind == "circle"]
    assert hole.size == pytest.approx(4, abs=0.01)


def solved(board, loops):
    return settled(board, loops, 1.5)


def test_a_rectangle_of_four_flats_runs_on_through_rounded_corners():
    loops = plate()
    board = Board([])
    names = fit_stretches(board, loops, "rectangle", [(0, -20), (30, 0), (0, 20), (-30, 0)])
    s = solved(board, loops)
    (loop,) = closed_loops(s.drawing.geometry(s.solution.x))
    assert len(names) == 4 and loop["area"] == pytest.approx(2400, rel=5e-4) and s.solution.broken < 1e-9


def test_rounded_rectangle_slot_corner_and_circle_by_one_click():
    loops = plate()
    board = Board([])
    fit_stretches(board, loops, "rounded rectangle", [(30, 0)])
    fit_stretches(board, loops, "circle", [(19, 0)])
    s = solved(board, loops)
    outer, hole = closed_loops(s.drawing.geometry(s.solution.x))
    assert outer["area"] == pytest.approx(2400 - (4 - np.pi) * 25, rel=5e-4)
    assert hole["area"] == pytest.approx(np.pi * 16, rel=2e-3)
    slot = [outline(20, 6, 2.999, noise=0.01)]
    board = Board([])
    fit_stretches(board, slot, "slot", [(0, 3)], along="x")
    s = solved(board, slot)
    arcs = [e for e in s.drawing.geometry(s.solution.x) if e["kind"] == "arc"]
    assert [e["radius"] for e in arcs] == pytest.approx([3, 3], abs=0.02)
    board = Board([])
    fit_stretches(board, plate(), "corner", [(0, -20), (30, 0)])
    s = solved(board, loops)
    lines = {e["id"]: e for e in s.drawing.geometry(s.solution.x)}
    assert lines["e1"]["end"] == pytest.approx([30, -20], abs=0.03)
    with pytest.raises(BadInput, match="reads as"):
        fit_stretches(Board([]), loops, "slot", [(30, 0)])
    with pytest.raises(BadInput, match="four straight sides"):
        fit_stretches(Board([]), loops, "rectangle", [(19, 0)])


def test_brushed_splines_follow_and_lines_join():
    x = np.linspace(0, 30, 150)
    wave = TraceLoop(np.column_stack([x, 2 * np.sin(x / 5)]), False, 33.0)
    board = Board([])
    fit_brushed(board, [wave], np.column_stack([x, 2 * np.sin(x / 5)])[::10], 0.6, "spline", 2.0)
    s = solved(board, [wave])
    c = curve_of(s.drawing.geometry(s.solution.x)[0])
    assert c.distance(wave.points[3:138]).max() < 0.02  # as far as it was brushed
    loops = plate()
    board = Board([])
    for path in ([(t, -20) for t in range(-20, 21, 4)], [(30, t) for t in range(-12, 13, 4)]):
        fit_brushed(board, loops, np.array(path, float), 1.0, "line", 14.0)
    assert board.strokes[0].joins == "e2"


def test_a_clean_height_is_found_and_said():
    def cut(h):
        if h < 0.3:  # in a face: a web of scraps
            return [(2.0, False)] * 40
        return [(100.0 + h, True)]

    found = clean_height(cut, 0.0, 10.0, 0.0, 0.2)
    assert 0.5 < found["height"] < 2 and "face of the scan" in found["says"]
    assert clean_height(cut, 0.0, 10.0, 5.0, 0.2) == {"height": 5.0, "says": ""}
    assert "No height" in clean_height(lambda h: [], 0.0, 10.0, 5.0, 0.2)["says"]


def test_drawing_files_there_and_back(tmp_path):
    wave = interpolated(np.array([[0, 0], [3, 2], [6, -1], [9, 4], [12, 0.0]]), "s")
    drawn = [
        {"id": "a", "kind": "line", "start": [0, 0], "end": [10, 2]},
        {"id": "b", "kind": "arc", "center": [0, 0], "radius": 5, "start": [5, 0], "end": [0, -5], "ccw": False},
        {"id": "c", "kind": "circle", "center": [3, 4], "radius": 2.5, "construction": True},
        {"id": "d", "kind": "ellipse", "center": [1, 1], "major": [4, 3], "minor_radius": 1.5},
        {"id": "e", "kind": "ellipse", "center": [1, 1], "major": [2, 1], "minor_radius": 3.5},
        {"id": "f", "kind": "point", "at": [7, 8]},
        {**wave, "id": "g"},
    ]
    path = str(tmp_path / "drawn.dxf")
    write_dxf(path, drawn, [[(0, 0), (1, 1)]])
    back = read_dxf(path)
    assert [e["kind"] for e in back] == [e["kind"] for e in drawn]  # and nothing of the trace
    assert [bool(e.get("construction")) for e in back] == [bool(e.get("construction")) for e in drawn]
    for one, two in zip(drawn, back):
        p = curve_of(one).at(np.linspace(0, 1, 50))
        assert curve_of(two).distance(p).max() < 1e-6
    write_svg(str(tmp_path / "drawn.svg"), drawn)
    text = (tmp_path / "drawn.svg").read_text()
    assert all(t in text for t in ("<line", "<circle", "<ellipse", "<path", "dasharray", " C"))
    (tmp_path / "no.dxf").write_text("nothing of the kind")
    with pytest.raises(BadInput, match="no DXF"):
        read_dxf(str(tmp_path / "no.dxf"))
