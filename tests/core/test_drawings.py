"""Every relation and size has exact derivatives and, once held, holds; what a drawing says of itself is true."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.sketch.curve import curve_of, meetings
from deftmason.core.sketch.distances import trace_residuals
from deftmason.core.sketch.drawing import Relation, Size, check_said
from deftmason.core.sketch.equations import relation_equations, size_value
from deftmason.core.sketch.sketcher import Stroke, draw
from deftmason.core.sketch.solver import solve
from deftmason.core.sketch.states import conflicts, costs, entity_states, repeated
from deftmason.core.sketch.trace import TraceLoop


def line(name, a, b, **more):
    return Stroke(name, "line", at=np.array([a, b], float), **more)


def circle(name, c, r, **more):
    return Stroke(name, "circle", at=np.array([c], float), radius=r, **more)


def arc(name, c, r, a, b, ccw=True):
    at = [np.add(c, r * np.array([np.cos(t), np.sin(t)])) for t in np.radians([a, b])]
    return Stroke(name, "arc", at=np.array([*at, c], float), radius=r, ccw=ccw)


def board():
    """A little of everything, nothing quite right."""
    return [
        line("a", (0.3, 0.2), (21, 1.1)),
        line("b", (21.3, 0.7), (20, 14)),
        line("c", (0, 15), (19, 15.6)),
        circle("d", (8, 7), 3.1),
        circle("e", (15, 8), 2.6),
        arc("f", (2, 9), 4, 20, 130),
        Stroke("g", "ellipse", at=np.array([[30, 5], [36, 6]], float), radius=3.2),
        Stroke("h", "spline", at=np.array([[0, 20], [4, 24], [9, 19], [14, 25], [20, 21]], float)),
        Stroke("p", "point", at=np.array([[5, 5]], float)),
        Stroke("q", "point", at=np.array([[10, 26]], float)),
        line("m", (10, -4), (11, 30), construction=True),
    ]


RELATIONS = [
    Relation("horizontal", ("a",)),
    Relation("vertical", ("b",)),
    Relation("vertical", ("d", "e")),
    Relation("horizontal", ("a.start", "f.center")),
    Relation("parallel", ("a", "c")),
    Relation("perpendicular", ("a", "b")),
    Relation("tangent", ("a", "d")),
    Relation("tangent", ("d", "e")),
    Relation("equal", ("a", "c")),
    Relation("equal", ("d", "f")),
    Relation("concentric", ("d", "g")),
    Relation("collinear", ("a", "c")),
    Relation("coincident", ("a.end", "b.start")),
    Relation("coincident", ("p", "origin")),
    Relation("on_curve", ("p", "axis_x")),
    Relation("on_curve", ("p", "d")),
    Relation("on_curve", ("p", "g")),
    Relation("on_curve", ("q", "h")),
    Relation("symmetric", ("a.start", "b.end", "m")),
    Relation("symmetric", ("d", "e", "m")),
    Relation("symmetric", ("d", "e", "axis_y")),
    Relation("midpoint", ("p", "c")),
    Relation("turned", ("a.start", "b.end", "d.center"), by=40.0),
    Relation("stepped", ("a.start", "p", "b.start", "b.end"), by=3.0),
    Relation("stepped", ("a.start", "p", "a.start", "b.end"), by=2.0),
    Relation("offset", ("a", "c"), by=14.0),
    Relation("offset", ("d", "e"), by=2.5),
]
SIZES = [
    Size("s", "radius", ("d",)),
    Size("s", "diameter", ("f",)),
    Size("s", "major_radius", ("g",)),
    Size("s", "minor_radius", ("g",)),
    Size("s", "length", ("b",)),
    Size("s", "distance", ("p", "a.end")),
    Size("s", "distance", ("p", "c")),
    Size("s", "angle", ("a", "b")),
    Size("s", "angle", ("a", "m")),
    Size("s", "width", ("a", "c")),
    Size("s", "spacing", ("d", "e")),
    Size("s", "spacing_x", ("d", "p")),
    Size("s", "place_y", ("h.p2",)),
]


def gradient_of(row, x):
    _, g = row(x)
    exact = np.zeros(len(x))
    for k, v in g.items():
        exact[k] = v
    h = 1e-6
    found = np.array([(row(x + h * e)[0] - row(x - h * e)[0]) / (2 * h) for e in np.eye(len(x))])
    return exact, found


@pytest.mark.parametrize("r", RELATIONS, ids=lambda r: f"{r.kind} {' '.join(r.of)}")
def test_gradients_of_relations(r):
    d = draw([], board(), 1.0)
    check_said(d, [r], [])
    moves = np.ones(len(d.x), bool) if d.still is None else ~d.still
    for k in range(len(relation_equations(d, r, d.x))):
        exact, found = gradient_of(lambda x, k=k: relation_equations(d, r, x)[k], d.x)
        assert np.allclose(exact[moves], found[moves], atol=2e-5)


@pytest.mark.parametrize("s", SIZES, ids=lambda s: f"{s.kind} {' '.join(s.of)}")
def test_gradients_of_sizes(s):
    d = draw([], board(), 1.0)
    check_said(d, [], [s])
    moves = ~d.still
    exact, found = gradient_of(lambda x: size_value(d, s, x), d.x)
    assert np.allclose(exact[moves], found[moves], atol=2e-5)


def test_tangency_at_shared_ends_of_every_kind():
    strokes = [
        line("a", (0, 0), (10, 1), joins="s"),
        Stroke("s", "spline", at=np.array([[10, 1], [13, 3], [15, 8], [14, 12]], float), joins="f"),
        arc("f", (9, 12), 5, 0, 100),
    ]
    d = draw([], strokes, 1.0)
    for of in (("s", "a"), ("s", "f"), ("a", "s")):
        r = Relation("tangent", of)
        exact, found = gradient_of(lambda x, r=r: relation_equations(d, r, x)[0], d.x)
        assert np.allclose(exact[~d.still], found[~d.still], atol=2e-5)
    s = solve(d, [Relation("tangent", ("s", "a")), Relation("tangent", ("s", "f"))], [])
    g = {e["id"]: e for e in d.geometry(s.x)}
    leg, flat = np.subtract(g["s"]["poles"][1], g["s"]["poles"][0]), np.subtract(g["a"]["end"], g["a"]["start"])
    assert abs(np.cross(leg, flat)) < 1e-8 * np.linalg.norm(leg) * np.linalg.norm(flat)
    out, spoke = np.subtract(g["s"]["poles"][-1], g["s"]["poles"][-2]), np.subtract(g["f"]["start"], g["f"]["center"])
    assert abs(out @ spoke) < 1e-8 * np.linalg.norm(out) * np.linalg.norm(spoke)


@pytest.mark.parametrize("r", [r for r in RELATIONS], ids=lambda r: f"{r.kind} {' '.join(r.of)}")
def test_without_a_trace_every_relation_comes_to_hold(r):
    d = draw([], board(), 1.0)
    s = solve(d, [r], [])
    assert s.broken < 1e-9 and np.array_equal(s.x[d.still], d.x[d.still])


@pytest.mark.parametrize("s", SIZES, ids=lambda s: f"{s.kind} {' '.join(s.of)}")
def test_without_a_trace_every_size_comes_to_hold(s):
    d = draw([], board(), 1.0)
    s = Size("s", s.kind, s.of, chosen=1.13 * abs(size_value(d, s, d.x)[0]), source="typed")
    held = solve(d, [], [s])
    assert size_value(d, s, held.x)[0] == pytest.approx(s.chosen, abs=1e-8)


def test_a_fixed_line_stays_and_others_come_to_it():
    d = draw([], board(), 1.0)
    s = solve(d, [Relation("fixed", ("a",)), Relation("coincident", ("a.end", "b.start"))], [])
    g = {e["id"]: e for e in d.geometry(s.x)}
    assert g["a"]["end"] == [21, 1.1] and g["b"]["start"] == pytest.approx([21, 1.1], abs=1e-9)


def rectangle(w=20.0, h=10.0):
    a, b, c, e = (0, 0), (w, 0.2), (w + 0.1, h), (0.2, h)
    return [
        line("l1", a, b, joins="l2"),
        line("l2", b, c, joins="l3"),
        line("l3", c, e, joins="l4"),
        line("l4", e, a, joins="l1"),
    ]


SQUARE = [Relation("horizontal", ("l1",)), Relation("vertical", ("l2",)), Relation("horizontal", ("l3",))]
SQUARE.append(Relation("vertical", ("l4",)))


def test_states_by_what_holds_them():
    d = draw([], rectangle(), 1.0)
    free = solve(d, SQUARE, [])
    assert set(entity_states(d, free).values()) == {"free"} and free.freedom == free.unseen == 4
    sizes = [Size("w", "length", ("l1",), chosen=20, source="typed"), Size("h", "length", ("l2",), chosen=10)]
    sizes[1].source = "typed"
    pinned = [*SQUARE, Relation("coincident", ("l1.start", "origin"))]
    held = solve(d, pinned, sizes)
    assert set(entity_states(d, held).values()) == {"fixed"} and held.freedom == 0
    g = {e["id"]: e for e in d.geometry(held.x)}
    assert g["l3"]["start"] == pytest.approx([20, 10], abs=1e-9)


def side(a, b, n=60, noise=0.0, seed=0):
    t = np.linspace(0, 1, n)[:, None]
    return np.asarray(a, float) + t * np.subtract(b, a) + np.random.default_rng(seed).normal(0, noise, (n, 2))


def test_held_by_the_scan_and_what_it_costs():
    lower, upper = side((0, 0), (20, 0), noise=0.02), side((0, 10), (20, 10.4), noise=0.02, seed=1)
    loops = [TraceLoop(p, False, 20.0) for p in (lower, upper)]
    strokes = [Stroke("a", "line", lower[::6]), Stroke("b", "line", upper[::6])]
    d = draw(loops, strokes, 1.0)
    alone = solve(d, [], [])
    assert entity_states(d, alone) == {"a": "free", "b": "free"}  # along themselves they may slide
    level = [Relation("horizontal", ("a",))]
    told = costs(d, level, [], solve(d, level, []))
    assert told[("relation", 0)].rms < 0.002 and told[("relation", 0)].pull < 3
    wrong = [Relation("parallel", ("a", "b"))]
    held = solve(d, wrong, [])
    told = costs(d, wrong, [], held)[("relation", 0)]
    assert told.pull > 6 and told.rms == pytest.approx(held.rms - alone.rms, rel=0.05)


def test_what_follows_from_the_rest_is_told():
    d = draw([], rectangle(), 1.0)
    s = solve(d, [*SQUARE, Relation("parallel", ("l1", "l3"))], [])
    found = repeated(d, [*SQUARE, Relation("parallel", ("l1", "l3"))], [], s.x)
    assert ("relation", 4) in found and ("relation", 1) not in found
    assert repeated(d, SQUARE, [], solve(d, SQUARE, []).x) == []
    assert conflicts(d, [*SQUARE, Relation("parallel", ("l1", "l3"))], [], s) == []


def test_a_contradiction_names_the_smallest_set():
    d = draw([], rectangle(), 1.0)
    sizes = [
        Size("w", "length", ("l1",), chosen=20, source="typed"),
        Size("v", "length", ("l3",), chosen=22, source="typed"),
        Size("h", "length", ("l2",), chosen=10, source="typed"),
    ]
    s = solve(d, SQUARE, sizes)
    assert s.broken > 0.1
    found = conflicts(d, SQUARE, sizes, s)
    # Both lengths, and of the four directions the two upright sides and the level ones that make them equal.
    assert ("size", 0) in found and ("size", 1) in found and ("size", 2) not in found
    for name in found:  # each is needed: without it the rest holds
        relations = [r for k, r in enumerate(SQUARE) if ("relation", k) != name]
        rest = [z for k, z in enumerate(sizes) if ("size", k) != name]
        assert solve(d, relations, rest).broken < 1e-8


def test_a_point_drawn_by_hand_follows_and_keeps_relations():
    d = draw([], rectangle(), 1.0)
    p = d.place("l2.end")
    s = solve(d, SQUARE, [], drawn_to={p: (27.0, 13.0)}, tells=False)
    g = {e["id"]: e for e in d.geometry(s.x)}
    assert g["l2"]["end"] == pytest.approx([27, 13], abs=0.05) and s.broken < 1e-8
    assert g["l1"]["end"][0] == pytest.approx(27, abs=0.05)


def test_ellipses_and_splines_follow_their_trace():
    t = np.linspace(0, 2 * np.pi, 240, endpoint=False)
    w = np.radians(25)
    turn = np.array([[np.cos(w), -np.sin(w)], [np.sin(w), np.cos(w)]])
    oval = np.column_stack([12 * np.cos(t), 5 * np.sin(t)]) @ turn.T + [3, 4]
    oval += np.random.default_rng(0).normal(0, 0.02, oval.shape)
    x = np.linspace(0, 40, 200)
    wave = np.column_stack([x, 30 + 2.5 * np.sin(x / 7)]) + np.random.default_rng(1).normal(0, 0.02, (200, 2))
    loops = [TraceLoop(oval, True, 56.0), TraceLoop(wave, False, 42.0)]
    d = draw(loops, [Stroke("g", "ellipse", oval[::8]), Stroke("h", "spline", wave[::8])], 1.0)
    s = solve(d, [], [])
    g = {e["id"]: e for e in d.geometry(s.x)}
    major = np.subtract(g["g"]["major"], g["g"]["center"])
    assert np.hypot(*major) == pytest.approx(12, abs=0.01) and g["g"]["minor_radius"] == pytest.approx(5, abs=0.01)
    assert np.degrees(np.arctan2(major[1], major[0])) % 180 == pytest.approx(25, abs=0.1)
    c = curve_of(g["h"])
    at = c.at(np.linspace(0.02, 0.98, 80))
    assert np.abs(at[:, 1] - 30 - 2.5 * np.sin(at[:, 0] / 7)).max() < 0.03 and len(g["h"]["poles"]) < 14
    assert s.rms == pytest.approx(0.02, rel=0.2)
    rng = np.random.default_rng(2)
    start = s.x + rng.normal(0, 0.05, len(s.x)) * ~d.still
    r, j = trace_residuals(d, start)
    for k in rng.choice(np.flatnonzero(~d.still), 12):
        e = np.zeros(len(start))
        e[k] = 1e-6
        slope = (trace_residuals(d, start + e)[0] - trace_residuals(d, start - e)[0]) / 2e-6
        assert np.quantile(np.abs(slope - j[:, k]), 0.97) < 1e-4  # at ends the nearest place may jump


def as_spline(poles):
    return {"id": "d", "kind": "spline", "degree": 3, "knots": [0] * 4 + [0.5] + [1] * 4, "poles": poles}


@pytest.mark.parametrize("seed", range(12))
def test_curves_meet_where_both_are(seed):
    rng = np.random.default_rng(seed)
    kinds = [
        {"id": "a", "kind": "line", "start": rng.uniform(-9, 0, 2), "end": rng.uniform(0, 9, 2)},
        {"id": "b", "kind": "circle", "center": rng.uniform(-2, 2, 2), "radius": rng.uniform(2, 5)},
        {"id": "c", "kind": "ellipse", "center": (0, 0), "major": rng.uniform(3, 6, 2), "minor_radius": 2.0},
        {
            "id": "d",
            "kind": "spline",
            "degree": 3,
            "knots": [0] * 4 + [0.5] + [1] * 4,
            "poles": rng.uniform(-8, 8, (5, 2)),
        },
    ]
    for i, e in enumerate(kinds):
        for f in kinds[i + 1 :]:
            one, two = curve_of(e), curve_of(f)
            found = meetings(one, two)
            for t, s in found:
                assert np.linalg.norm(one.at(t) - two.at(s)) < 1e-6
            # None is missed: signs of distance along a fine run change only there.
            if e["kind"] == "line" and f["kind"] == "circle":
                p = one.at(np.linspace(0, 1, 4001))
                inside = np.linalg.norm(p - f["center"], axis=1) < f["radius"]
                assert len(found) == np.count_nonzero(np.diff(inside.astype(int)))


@pytest.mark.parametrize("low,high", [(0.0, 0.4), (0.25, 0.8), (0.6, 1.0), (0.0, 1.0)])
def test_a_piece_of_a_curve_lies_on_it(low, high):
    for e in (
        {"id": "a", "kind": "line", "start": (0, 1), "end": (5, 4)},
        {"id": "b", "kind": "arc", "center": (0, 0), "radius": 5, "start": (5, 0), "end": (0, -5), "ccw": False},
        {"id": "c", "kind": "circle", "center": (1, 1), "radius": 3},
        {
            "id": "d",
            "kind": "spline",
            "degree": 3,
            "knots": [0] * 4 + [0.3, 0.6] + [1] * 4,
            "poles": [(0, 0), (1, 4), (3, -2), (6, 3), (8, 1), (9, 5)],
        },
    ):
        c = curve_of(e)
        piece = curve_of(c.between(low, high, "x"))
        assert np.allclose(piece.at(np.array([0.0, 1.0])), c.at(np.array([low, high])), atol=1e-9)
        assert c.distance(piece.at(np.linspace(0, 1, 40))).max() < 1e-6
        assert piece.length == pytest.approx((high - low) * c.length, rel=0.02) or e["kind"] == "spline"


def test_what_does_not_fit_is_refused_in_a_sentence():
    d = draw([], board(), 1.0)
    for r in (Relation("tangent", ("a", "b")), Relation("midpoint", ("a", "c")), Relation("parallel", ("a", "z"))):
        with pytest.raises(BadInput):
            check_said(d, [r], [])
    with pytest.raises(BadInput, match="no place 'center'"):
        check_said(d, [Relation("coincident", ("a.center", "p"))], [])
    with pytest.raises(BadInput, match="less than 180"):
        check_said(d, [], [Size("s", "angle", ("a", "b"), chosen=200.0, source="typed")])
