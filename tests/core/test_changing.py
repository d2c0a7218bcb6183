"""Shapes drawn by hand and what is done to them: each keeps its promise after solving, and stays when sizes change."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.sketch import changing, copying, corners
from deftmason.core.sketch.board import Board, geometry_of
from deftmason.core.sketch.loops import closed_loops
from deftmason.core.sketch.settling import settled
from deftmason.core.sketch.shapes import SHAPES, draw_shape
from deftmason.core.sketch.states import conflicts, entity_states


def drawn(*shapes, **more):
    board = Board([])
    for shape, places in shapes:
        draw_shape(board, shape, places, reach=0.5, **more)
    return solved(board)


def solved(board):
    s = settled(board, [], 1.0)
    assert s.solution.broken < 1e-8
    return s.board


def shown(board):
    return {s.id: geometry_of(s) for s in board.strokes}


def area(board):
    loops = closed_loops([geometry_of(s) for s in board.strokes])
    return sum(l["area"] * (1 if l["inside"] is None else -1) for l in loops)


PLACES = {
    "point": [(1, 1)],
    "line": [(1, 2), (8, 5)],
    "centre line": [(0, -9), (0, 9)],
    "polyline": [(1, 1), (9, 2), (11, 8), (3, 9), (1.2, 1.1)],
    "arc": [(5, 1), (1, 6), (4, 5)],
    "arc about a centre": [(2, 2), (8, 2), (3, 9)],
    "circle": [(4, 4), (7, 8)],
    "circle through three": [(5, 0.9), (0.8, 5), (-5, 1)],
    "ellipse": [(3, 3), (9, 5), (2, 6)],
    "rectangle": [(1, 1), (9, 6)],
    "rounded rectangle": [(1, 1), (12, 8)],
    "slot": [(2, 2), (10, 2.1), (3, 4)],
    "polygon": [(5, 5), (9, 6)],
    "spline": [(1, 1), (4, 5), (8, 2), (12, 6)],
    "spline by poles": [(1, 1), (4, 5), (8, 2), (12, 6), (15, 1)],
}


@pytest.mark.parametrize("shape", [s for s in SHAPES if s in PLACES])
def test_a_shape_stands_as_it_was_drawn(shape):
    board = Board([])
    names = draw_shape(board, shape, PLACES[shape], reach=0.4)
    before = shown(board)
    after = shown(solved(board))
    assert set(names) == set(after)
    for n in names:  # drawn right away as it will stand: nothing jumps
        for key in ("start", "end", "center", "at", "major"):
            if key in before[n]:
                assert np.linalg.norm(np.subtract(before[n][key], after[n][key])) < 0.12
    with pytest.raises(BadInput):
        draw_shape(Board([]), shape, [(1, 1)] * (7 if "…" not in SHAPES[shape] else 1))


def test_what_a_shape_touches_it_keeps():
    board = drawn(("line", [(0.1, 0.1), (10, 0.1)]), ("line", [(10.1, 0.2), (10.2, 7)]), ("circle", [(10, 7), (12, 7)]))
    said = {(r.kind, frozenset(r.of)) for r in board.relations}
    assert ("coincident", frozenset(("e1.start", "origin"))) in said
    assert ("coincident", frozenset(("e2.start", "e1.end"))) in said and ("vertical", frozenset(("e2",))) in said
    assert ("coincident", frozenset(("e3.center", "e2.end"))) in said
    at = shown(board)
    assert at["e1"]["start"] == pytest.approx([0, 0], abs=1e-9) and at["e2"]["start"] == at["e1"]["end"]


def test_an_arc_that_runs_on_is_tangent():
    board = drawn(("line", [(0, 0), (10, 0)]), ("arc that runs on", [(10, 0), (14, 4)]))
    e = shown(board)["e2"]
    assert e["center"] == pytest.approx([10, 4], abs=1e-6) and e["radius"] == pytest.approx(4) and e["ccw"]
    with pytest.raises(BadInput, match="begins at an end"):
        draw_shape(board, "arc that runs on", [(5, 9), (6, 6)], reach=0.5)


def test_rectangle_and_circle_trimmed_against_each_other():
    board = drawn(("rectangle", [(0, 0), (20, 10)]), ("circle", [(20, 5), (23, 5)]))
    changing.trim(board, "e2", (20, 5))  # the side within the circle
    changing.trim(board, "e5", (17, 5))  # the half of the circle within the rectangle
    board = solved(board)
    at = shown(board)
    assert at["e5"]["kind"] == "arc" and area(board) == pytest.approx(20 * 10 + np.pi * 9 / 2, rel=2e-3)
    board.size("radius", "e5", chosen=2.0)
    assert area(solved(board)) == pytest.approx(20 * 10 + np.pi * 4 / 2, rel=2e-3)


def test_trimming_where_nothing_crosses_takes_all():
    board = drawn(("circle", [(0, 0), (3, 0)]), ("line", [(9, 9), (12, 9)]))
    changing.trim(board, "e1", (3, 0))
    assert set(shown(board)) == {"e2"} and not board.relations[1:]
    changing.trim(board, "e2", (10, 9))
    assert not board.strokes


@pytest.mark.parametrize("place,left", [((1, 0), 1), ((5, 0), 2), ((9.5, 0), 1)])
def test_a_line_trimmed_between_two_others(place, left):
    board = drawn(("line", [(0, 0), (10, 0)]), ("line", [(3, -2), (3, 2)]), ("line", [(7, -2), (7, 2)]))
    changing.trim(board, "e1", place)
    board = solved(board)
    assert len([s for s in board.strokes if s.id not in ("e2", "e3")]) == left


def test_extend_reaches_and_stays():
    board = drawn(("line", [(1, 0.5), (6, 0.5)]), ("line", [(10, -4), (10, 8)]))
    changing.extend(board, "e1", (6, 0.5))
    board = solved(board)
    assert shown(board)["e1"]["end"][0] == pytest.approx(10)
    board.hold("fixed", "e1.start")
    board.size("angle", "e1", "e2", chosen=80.0)
    s = settled(board, [], 1.0)  # level, upright and 80° apart: told, not thrown
    assert len(conflicts(s.drawing, board.relations, board.sizes, s.solution)) == 3
    board.relations = [r for r in board.relations if r.kind != "vertical"]
    assert solved(board)
    with pytest.raises(BadInput, match="meets nothing"):
        changing.extend(drawn(("line", [(1, 3), (6, 3)])), "e1", (6, 3))


def test_an_arc_extends_along_its_circle():
    board = drawn(("arc", [(5, 1), (1, 6), (4, 5)]), ("line", [(-9, 3), (0.9, 3.1)]))
    centre = np.array(shown(board)["e1"]["center"])
    changing.extend(board, "e1", (1, 6))
    at = shown(board)["e1"]
    assert abs(np.linalg.norm(np.subtract(at["end"], centre)) - at["radius"]) < 1e-9
    assert at["end"][1] == pytest.approx(3.05, abs=0.1)


def test_split_and_join():
    board = drawn(("line", [(0.6, 2), (10, 2)]), ("circle", [(5, 9), (8, 9)]))
    changing.split(board, "e1", (4, 2))
    changing.split(board, "e2", (8, 9))
    board = solved(board)
    at = shown(board)
    assert len(at) == 4 and at["e1"]["end"] == pytest.approx([4, 2])
    two = drawn(("line", [(1, 1), (8, 1)]), ("line", [(9.5, 2.5), (9.5, 9)]))
    changing.join_ends_of(two, "e1", "e2")
    assert shown(solved(two))["e1"]["end"] == pytest.approx([9.5, 1])


def test_small_gaps_are_closed():
    board = Board([])
    for a, b in (((0, 1), (10, 1)), ((10.05, 1.02), (10, 6)), ((9.9, 6.1), (1, 6)), ((1, 5.95), (0.02, 1.1))):
        draw_shape(board, "line", [a, b])
    assert changing.close_gaps(board, 0.3) == 4
    assert len(closed_loops([geometry_of(s) for s in solved(board).strokes])) == 1


@pytest.mark.parametrize("other", [(15, 6), (10, 8), (4, 9)])
def test_a_rounded_corner_is_tangent_to_both(other):
    board = drawn(("polyline", [(1, 1), (10, 1), other]))
    name = corners.round_corner(board, "e1", "e2", 1.2)
    board = solved(board)
    at = shown(board)
    c, r = np.array(at[name]["center"]), at[name]["radius"]
    assert r == pytest.approx(1.2) and at["e1"]["end"] == pytest.approx(at[name]["start"], abs=1e-9)
    for n in ("e1", "e2"):
        a, b = np.array(at[n]["start"]), np.array(at[n]["end"])
        u = (b - a) / np.linalg.norm(b - a)
        assert abs((c - a)[0] * u[1] - (c - a)[1] * u[0]) == pytest.approx(1.2, abs=1e-8)
    next(s for s in board.sizes if s.kind == "radius").chosen = 0.6
    assert shown(solved(board))[name]["radius"] == pytest.approx(0.6)
    with pytest.raises(BadInput, match="does not fit"):
        corners.round_corner(drawn(("polyline", [(1, 1), (10, 1), other])), "e1", "e2", 60.0)


def test_a_bevelled_corner():
    board = drawn(("rectangle", [(0.7, 0.7), (20.7, 10.7)]))
    corners.bevel_corner(board, "e1", "e2", 2.0)
    assert area(solved(board)) == pytest.approx(200 - 2)
    with pytest.raises(BadInput, match="does not fit"):
        corners.bevel_corner(drawn(("rectangle", [(0.7, 0.7), (20.7, 10.7)])), "e1", "e2", 30.0)


@pytest.mark.parametrize("by", [2.0, -2.0])
def test_offset_of_an_outline(by):
    board = drawn(("rounded rectangle", [(1, 1), (31, 21)]), radius=4.0)
    names = copying.offset(board, "e1", by)
    board = solved(board)
    outer = [geometry_of(s) for s in board.strokes if s.id in names]
    w, h, r = 30 + 2 * by, 20 + 2 * by, 4 + by
    assert closed_loops(outer)[0]["area"] == pytest.approx(w * h - (4 - np.pi) * r * r, rel=2e-3)
    board.relations = [
        r if r.kind != "offset" else r.__class__(r.kind, r.of, by=r.by * 0.5) for r in board.relations
    ]  # fmt: skip
    for s in board.strokes:
        if s.id not in names:
            board.hold("fixed", s.id)
    told = settled(board, [], 1.0)
    assert set(entity_states(told.drawing, told.solution).values()) == {"fixed"}
    outer = [geometry_of(s) for s in solved(board).strokes if s.id in names]
    w, h, r = 30 + by, 20 + by, 4 + by / 2
    assert closed_loops(outer)[0]["area"] == pytest.approx(w * h - (4 - np.pi) * r * r, rel=2e-3)


def test_offset_of_sharp_corners_and_circles():
    board = drawn(("rectangle", [(1, 1), (21, 11)]), ("circle", [(10, 6), (13, 6)]))
    names = copying.offset(board, "e2", 1.5) + copying.offset(board, "e5", -1.0)
    board = solved(board)
    loops = closed_loops([geometry_of(s) for s in board.strokes if s.id in names])
    assert [l["area"] for l in loops] == pytest.approx([23 * 13, np.pi * 4], rel=2e-3)
    with pytest.raises(BadInput, match="too small"):
        copying.offset(board, "e5", -9.0)


def test_mirror_images_follow():
    board = drawn(("arc", [(5, 1), (4, 6), (6, 4)]), ("line", [(5, 1), (9, 1)]))
    made = copying.mirror(board, ["e1", "e2"], "axis_y")
    board.size("radius", "e1", chosen=4.0)
    board = solved(board)
    at = shown(board)
    for old, new in zip(("e1", "e2"), made):
        assert np.multiply(at[old]["start"], [-1, 1]) == pytest.approx(at[new]["start"], abs=1e-8)
    assert at[made[0]]["radius"] == pytest.approx(4.0) and at[made[0]]["ccw"] != at["e1"]["ccw"]


def test_a_row_and_a_ring_follow_the_first():
    board = drawn(("circle", [(0.9, 3), (2.9, 3)]))
    copying.repeat_in_row(board, ["e1"], 4, (7.0, 0.0))
    board = solved(board)
    board.hold("fixed", "e1.center")
    step = next(s for s in board.sizes if s.label == "step")
    step.chosen, step.source = 8.0, "typed"
    board.size("diameter", "e1", chosen=5.0)
    at = shown(solved(board))
    assert [round(e["center"][0] - at["e1"]["center"][0], 6) for e in at.values()] == [0, 8, 16, 24]
    assert {round(e["radius"], 6) for e in at.values()} == {2.5}
    ring = drawn(("rectangle", [(9, -1), (12, 1)]))
    copying.repeat_in_ring(ring, ["e1", "e2", "e3", "e4"], 12, "origin")
    ring = solved(ring)
    ring.size("length", "e1", chosen=4.0)
    ring = solved(ring)
    loops = closed_loops([geometry_of(s) for s in ring.strokes])
    assert len(loops) == 12 and [l["area"] for l in loops] == pytest.approx([8.0] * 12, rel=1e-6)


def test_moving_leaves_what_it_was_joined_to():
    board = drawn(("polyline", [(1, 1), (10, 1), (10, 8)]))
    changing.move(board, ["e2"], (5.0, 0.0))
    at = shown(solved(board))
    assert at["e2"]["start"] == pytest.approx([15, 1]) and at["e1"]["end"] == pytest.approx([10, 1])


def test_construction_lines_close_no_loop():
    board = drawn(("rectangle", [(1, 1), (9, 6)]))
    changing.to_construction(board, ["e1"])
    assert not closed_loops([geometry_of(s) for s in board.strokes])
    changing.to_construction(board, ["e1"])
    assert len(closed_loops([geometry_of(s) for s in board.strokes])) == 1


def test_removing_takes_what_spoke_of_it():
    board = drawn(("rectangle", [(1, 1), (9, 6)]))
    board.size("length", "e1")
    changing.remove(board, ["e1"])
    assert not board.sizes and all("e1" not in n for r in board.relations for n in r.of)
