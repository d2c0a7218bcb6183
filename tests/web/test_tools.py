"""Every tool there is, on screen: it starts from the finder, says what it wants, and is read by axe."""

import re

import pytest

from .test_access import serious
from .test_clean import bench
from .test_story import shot

pytestmark = pytest.mark.browser

# Tools by the words of the finder: what their bench is headed with.
ON_A_FINISHED_PART = {
    "Background": "Background",
    "Close holes": "Close holes",
    "Bridge a gap": "Bridge a gap",
    "Watertight": "Watertight",
    "Cut along a curve": "Cut along a curve",
    "Smooth": "Smooth",
    "Decimate": "Decimate",
    "Remesh": "Remesh",
    "Read a datum": "Read a datum",
    "Construct": "Construct",
    "Measure": "Measure",
    "Set frame": "Frame",
    "Sketch on a cut": "Sketch",
    "Extrude": "Extrude",
    "Cut": "Cut",
    "Fillet": "Fillet",
    "Deviation map": "Deviation map",
}


@pytest.fixture
def finished(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    return page


def find(page, words: str) -> None:
    page.locator("canvas").first.focus()
    page.keyboard.press("/")
    page.get_by_placeholder("Find a tool").fill(words)
    page.keyboard.press("Enter")


def test_every_tool_starts_and_is_dropped(finished):
    page, found = finished, []
    for words, heading in ON_A_FINISHED_PART.items():
        find(page, words)
        bench(page).get_by_role("heading", name=heading, exact=True).wait_for(timeout=10_000)
        assert bench(page).get_by_label("name", exact=True).input_value()
        found += [(words, v) for v in serious(page)]
        bench(page).get_by_role("button", name="Drop").click()
        bench(page).get_by_role("button", name="Drop").wait_for(state="detached")
    assert not found, found


def test_a_stage_lists_its_tools_and_says_what_is_missing(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Chain guide bracket, raw")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    stages = page.get_by_role("navigation", name="Stages")
    stages.get_by_role("button", name="Join", exact=True).click()
    assert bench(page).get_by_role("button", name=re.compile("^Match by themselves")).is_disabled()
    bench(page).get_by_text("Needs two scans or more").first.wait_for()
    stages.get_by_role("button", name="Check", exact=True).click()
    bench(page).get_by_text("Lay a body, or bring in a model").wait_for()
    stages.get_by_role("button", name="Zones", exact=True).click()
    bench(page).get_by_text("click a face to see what can be made of it").wait_for()
    # The finder says it too, and Enter on it starts nothing.
    find(page, "fillet")
    page.get_by_role("dialog").get_by_text("Set a frame first").first.wait_for()
    page.keyboard.press("Escape")
    assert bench(page).get_by_role("button", name="Drop").count() == 0


def test_the_belt_is_the_persons_own(finished):
    page = finished
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Clean", exact=True).click()
    bench(page).get_by_role("button", name="8 on the belt", exact=False).first.wait_for(state="detached")
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Check", exact=True).click()
    bench(page).get_by_role("button", name="8 on the belt, Deviation map").click()
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Clean", exact=True).click()
    bench(page).get_by_role("button", name="+ Pin Smooth to the belt").click()
    page.reload()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    page.locator("canvas").first.focus()
    page.keyboard.press("8")
    bench(page).get_by_role("heading", name="Smooth", exact=True).wait_for()
    page.keyboard.press("Escape")


def test_what_is_dragged_or_clicked_in_the_rose_turns_the_view(finished):
    page = finished
    look = "document.querySelector('canvas').mason.toward.toArray().map((x) => Math.round(x * 1e6) / 1e6)"
    for name, toward in (("+Z", [0, 0, 1]), ("−Y", [0, -1, 0]), ("+X", [1, 0, 0])):
        petal = page.get_by_role("button", name=f"Look from {name}")
        petal.focus()
        page.keyboard.press("Enter")
        page.wait_for_timeout(100)
        assert page.evaluate(look) == pytest.approx(toward, abs=1e-5), name


def test_a_lost_reference_offers_what_could_stand_there(finished):
    page = finished
    page.locator('[data-stone="Seat face"]').click()
    page.get_by_role("button", name="Switch off").click()
    page.locator('[data-stone="Part frame"][aria-label*="waiting"]').wait_for(timeout=30_000)
    page.locator('[data-stone="Part frame"]').dblclick()
    lost = bench(page).get_by_label("Lost")
    lost.get_by_role("button", name="Long side").wait_for()
    assert lost.get_by_role("button", name="Seat face").count() == 0
    lost.get_by_role("button", name="Pivot bore").click()
    bench(page).get_by_label("Evidence").get_by_text(re.compile("freedoms|held")).wait_for(timeout=30_000)
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    page.locator('[data-stone="Part frame"][aria-label*="sound"]').wait_for(timeout=60_000)


def test_help_on_a_tool_is_one_key_away(finished):
    page = finished
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Frame", exact=True).click()
    page.locator("canvas").first.focus()
    page.keyboard.press("h")
    card = page.locator("[data-help]")
    card.get_by_text("Point at a tool").wait_for()
    page.keyboard.press("Escape")
    bench(page).get_by_role("button", name="Measure").first.hover()
    page.keyboard.press("h")
    card.get_by_role("heading", name="Measure", exact=True).wait_for()
    assert "Click a datum in the view or the yard" in card.inner_text()
    assert serious(page) == []
    page.keyboard.press("Escape")
    card.wait_for(state="detached")
    find(page, "Decimate")
    bench(page).get_by_role("heading", name="Decimate", exact=True).wait_for()
    page.locator("canvas").first.focus()
    page.keyboard.press("h")
    card.get_by_role("heading", name="Decimate", exact=True).wait_for()
    assert "gives a scan" in card.inner_text() and "What can be set" in card.inner_text()
    shot(page, "help")
    page.keyboard.press("Escape")
    page.keyboard.press("Escape")


def test_the_belt_suggests_what_is_used_most(finished):
    page = finished
    for _ in range(4):
        find(page, "Decimate")
        bench(page).get_by_role("button", name="Drop").click()
        bench(page).get_by_role("button", name="Drop").wait_for(state="detached")
    note = bench(page).get_by_role("note").filter(has_text="Often used: Decimate")
    note.get_by_role("button", name=re.compile("Put it on the belt for")).click()
    note.wait_for(state="detached")
    assert "decimate" in page.evaluate("JSON.parse(localStorage.getItem('mason.belt'))")


def test_what_is_offered_says_why(finished):
    page = finished
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Frame", exact=True).click()
    yard = page.get_by_role("complementary", name="Yard")
    for name in ("Seat face", "Long side"):
        yard.get_by_role("button", name=name).click()
    results = page.get_by_label("Results")
    results.get_by_text("Two datums lie some way and some angle apart.").wait_for(timeout=60_000)
    results.get_by_text("Seat face and Long side allow it, and it follows both.").first.wait_for(timeout=60_000)
    page.keyboard.press("Escape")
