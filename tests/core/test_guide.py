"""The guide of the bracket: each lesson is seen done when it is, not before, and says what is there instead."""

from copy import deepcopy
from types import SimpleNamespace

import pytest

from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.demo.guide import BRACKET
from deftmason.demo.guides import GUIDES
from deftmason.demo.guiding import seen

from ..bracket import rebuilt


def stands(steps):
    b = rebuilt()
    return seen(BRACKET.lessons, Replay([parse_step(s) for s in steps], b.store, b.file).run())


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
    assert not any(s.done or s.saw for s in seen(BRACKET.lessons, []))


def laid(gives, step=None, **told):
    """A step that was laid, with what it tells of itself."""
    return SimpleNamespace(done=True, summary=told, step=step or SimpleNamespace(produces=gives))


def body(volume, **told):
    return laid("body", volume=volume, **told)


CHECK = laid("deviation", rms=0.02)
SCANS = [laid("scan", file=f"{k}.ply") for k in range(6)]
PLACED = {str(k): [] for k in range(6)}
MATCHED, SETTLED = laid("placement", motions=PLACED, rms=0.2), laid("placement", motions=PLACED, rms=0.02)
MERGED = laid("scan", merged=6)
BENDS = [{"angle_deg": 50.02, "radius": 79.7}, {"angle_deg": 30.1, "radius": 80.2}]
EVEN = [{"angle_deg": 50.0, "radius": 80.0}, {"angle_deg": 30.0, "radius": 80.0}]
READ, ROUND, THIN = body(1, outer=34.02, bends=BENDS), body(1, outer=34.0, bends=EVEN), body(1, outer=22.0, bends=[])
HELIX = laid("curve", pitch=2.499, hand="right")
RIDGE = laid("body", SimpleNamespace(produces="body", helix="helix"), volume=2.0)
BORE = 3.141592653589793 / 4 * 12.0**2 * 55.0

# What is laid lesson by lesson, and what is laid wrongly with a word of what is said of it.
LAID = {
    "lantern": [SCANS, [MATCHED], [SETTLED], [MERGED]],
    "stanchion": [[READ], [], [ROUND], [THIN], [CHECK]],
    "plug": [[body(9e3)], [HELIX], [RIDGE], [CHECK]],
    "tiller": [[body(7e4, patches=40, p95=0.04)], [body(7e4 - BORE)], [CHECK]],
}
WRONG = [
    ("lantern", [*SCANS, laid("placement", motions={"0": []}, rms=None)], "1 of 6"),
    ("lantern", [*SCANS, MATCHED, SETTLED, laid("scan", merged=4)], "4 scans"),
    ("cap", [laid("sketch", loops=[], rms=0.02)], "no closed outline"),
    ("cap", [laid("sketch", loops=[["a"]], rms=0.02), body(1e3)], "are expected"),
    ("stanchion", [THIN], "main tube"),
    ("stanchion", [READ], "as they were read"),
    ("plug", [body(9e3), laid("curve", pitch=2.1, hand="right")], "2.100"),
    ("tiller", [body(7e4, patches=40, p95=0.04), body(6.9e4)], "the bore holds"),
]


@pytest.mark.parametrize("job", sorted(LAID))
def test_each_guide_is_done_lesson_by_lesson(job):
    lessons, there = GUIDES[job].lessons, []
    assert len(lessons) == len(LAID[job])
    for k, more in enumerate(LAID[job]):
        there += more
        done = [s.done for s in seen(lessons, there)]
        assert all(done[: k + 1]), (lessons[k].title, done)
    assert GUIDES[job].after


@pytest.mark.parametrize("job,there,word", WRONG)
def test_what_is_there_instead_is_told_in_every_guide(job, there, word):
    first = next(s for s in seen(GUIDES[job].lessons, there) if not s.done)
    assert word in first.saw
