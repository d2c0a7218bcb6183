"""The guide of the bracket: each lesson is seen done when it is, not before, and says what is there instead."""

from copy import deepcopy

from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.demo.guide import BRACKET, seen

from ..bracket import rebuilt


def stands(steps):
    b = rebuilt()
    return seen(BRACKET, Replay([parse_step(s) for s in steps], b.store, b.file).run())


def test_lessons_are_done_one_after_the_other_as_the_bracket_grows():
    steps = rebuilt().steps
    before = set()
    firsts = {}
    for k in range(1, len(steps) + 1):
        now = {s.title for s in stands(steps[:k]) if s.done}
        assert before <= now
        for title in now - before:
            firsts[title] = steps[k - 1]["name"]
        before = now
    assert firsts == {
        "The underside": "Seat face",
        "A long side": "Long side",
        "The bore": "Pivot bore",
        "The frame": "Part frame",
        "The base": "Base",
        "The boss": "Boss",
        "The pocket": "Pocket",
        "The holes": "Bores",
        "The foot": "Foot rounding",
    }  # its zones are not read


def test_what_is_there_instead_is_told_of_the_first_that_is_not_done():
    steps = deepcopy(rebuilt().steps)
    base = next(k for k, s in enumerate(steps) if s["name"] == "Base")
    steps[base]["end"] = {"to": "height", "height": {"value": 20.0, "source": "typed"}}
    zones = {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}
    told = stands([*steps[: base + 1], zones])
    first = next(s for s in told if not s.done)
    assert first.title == "The base" and "107.4 cm³; 64.4 are expected" in first.saw
    assert [s.saw for s in told if s is not first and not s.done] == [""] * 4


def test_nothing_laid_is_nothing_done():
    assert not any(s.done or s.saw for s in seen(BRACKET, []))
