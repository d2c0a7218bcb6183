"""Measuring on a model: sizes of faces and edges, what lies between two, several together, the whole body."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.kernel.measuring import measured
from deftmason.core.kernel.solids import solid
from deftmason.core.kernel.whole import combine_all

UP = np.array([0.0, 0, 1])


@pytest.fixture(scope="module")
def body():
    box = solid("box", "Box", (0, 0, 0), UP, width=40.0, depth=30.0, height=20.0)
    pins = [
        solid("cylinder", f"Pin {k}", (x, 0, -1), UP, radius=r, height=30.0) for k, x, r in ((1, -10, 3), (2, 8, 2))
    ]
    return combine_all(box, pins, "cut", "Cut")


def figures(body, faces=(), edges=()):
    return {f.label: f.value for f in measured(body, list(faces), list(edges))}


def edge(body, *faces):
    return next(n for n, _ in body.edges() if {*n[:2]} == set(faces))


def test_one_thing_says_its_size(body):
    assert figures(body, ["Pin 1/side"]) == pytest.approx({"diameter": 6, "area": 2 * np.pi * 3 * 20})
    assert figures(body, ["Box/side/x+"]) == pytest.approx({"area": 600})
    rim = edge(body, "Box/top", "Pin 2/side")
    assert figures(body, edges=[rim]) == pytest.approx({"diameter": 4, "length": 4 * np.pi})
    assert figures(body, edges=[edge(body, "Box/top", "Box/side/y+")]) == pytest.approx({"length": 40})


def test_two_things_say_how_they_lie_to_each_other(body):
    assert figures(body, ["Box/top", "Box/bottom"])["apart"] == pytest.approx(20)
    assert figures(body, ["Box/top", "Box/side/x+"])["angle"] == pytest.approx(90)
    axes = figures(body, ["Pin 1/side", "Pin 2/side"])
    assert axes["axes apart"] == pytest.approx(18) and axes["nearest"] == pytest.approx(13)
    assert figures(body, ["Pin 1/side", "Box/side/x+"])["apart"] == pytest.approx(30)
    rim = edge(body, "Box/top", "Pin 1/side")
    assert figures(body, ["Pin 2/side"], [rim])["axes apart"] == pytest.approx(18)
    slope = solid("cone", "Cone", (0, 0, 0), UP, radius=10.0, top_radius=5.0, height=10.0)
    assert figures(slope, ["Cone/side"])["full angle"] == pytest.approx(2 * np.degrees(np.arctan(0.5)))


def test_several_are_added_and_nothing_is_the_whole(body):
    sides = [f"Box/side/{s}" for s in ("x+", "x-", "y+")]
    assert figures(body, sides) == pytest.approx({"area together": 600 + 600 + 800})
    whole = figures(body)
    gone = np.pi * (9 + 4) * 20
    assert whole["volume"] == pytest.approx(24000 - gone)
    assert whole["centre of mass z"] == pytest.approx(10)
    assert whole["centre of mass x"] == pytest.approx(np.pi * 20 * (90 - 32) / (24000 - gone))


def test_what_is_gone_is_refused_in_words(body):
    with pytest.raises(BadInput, match="no face 'Gone'"):
        measured(body, ["Gone"], [])
    with pytest.raises(BadInput, match="no edge between"):
        measured(body, [], [("Gone", "Box/top", "")])
