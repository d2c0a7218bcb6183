"""Everything can be read and reached: axe finds nothing serious, the keyboard does what the list of keys says."""

import re

import pytest

from .conftest import ROOT
from .test_story import shot

pytestmark = pytest.mark.browser


def serious(page):
    page.evaluate((ROOT / "web/node_modules/axe-core/axe.min.js").read_text())
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
    return [
        (v["id"], v["help"], [n["html"][:160] for n in v["nodes"]][:4])
        for v in found
        if v["impact"] in ("serious", "critical")
    ]


def test_axe_finds_nothing_serious(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).wait_for()
    assert serious(page) == []
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    for stage in ("Scans", "Frame", "Sketch", "Build", "Check", "Deliver"):
        page.get_by_role("navigation", name="Stages").get_by_role("button", name=stage, exact=True).click()
        page.wait_for_timeout(400)
        assert serious(page) == [], stage
    for name in ("Base outline", "Boss", "Part frame", "Seat face"):
        page.locator(f'[data-stone="{name}"]').dblclick()
        page.wait_for_timeout(1200)
        assert serious(page) == [], name
        page.keyboard.press("Escape")


def test_by_lamplight_everything_can_be_read_too(server, page):
    page.goto(server.url)
    page.get_by_role("button", name="On a dark ground").click()
    page.get_by_role("button", name="On a light ground").wait_for()
    page.get_by_role("link", name=re.compile("Bracket, finished")).wait_for()
    assert serious(page) == []
    shot(page, "dark-shelf")
    page.get_by_role("link", name="For scripts").click()
    page.get_by_text("/api/jobs/{job_id}/proofs", exact=True).wait_for()
    assert serious(page) == []
    page.get_by_label("What the token is for").fill("Nightly run")
    page.get_by_role("button", name="Make a token").click()
    assert page.locator('[data-figure="token"]').inner_text().startswith("mason_")
    shot(page, "dark-service")
    page.get_by_role("button", name="Take back Nightly run").click()
    page.get_by_role("button", name="Take back Nightly run").wait_for(state="detached")
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    for stage in ("Scans", "Frame", "Sketch", "Build", "Check"):
        page.get_by_role("navigation", name="Stages").get_by_role("button", name=stage, exact=True).click()
        page.wait_for_timeout(400)
        assert serious(page) == [], stage
        shot(page, f"dark-{stage.lower()}")
    page.get_by_role("button", name="On a light ground").click()
    page.get_by_role("button", name="On a dark ground").wait_for()


def test_keys_do_what_the_list_says(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    shown = lambda: page.evaluate(
        "(() => { const s = document.querySelector('canvas').mason; return [s.scan.visible, s.body.visible] })()"
    )
    page.locator("canvas").focus()
    page.keyboard.press("Space")
    page.wait_for_timeout(300)
    first = shown()
    page.keyboard.press("Space")
    page.wait_for_timeout(300)
    assert sorted([first, shown()]) == [[False, True], [True, False]]
    page.keyboard.press("d")
    page.wait_for_function(
        "(() => { const s = document.querySelector('canvas').mason;"
        " return s.layers.deviation.object && !s.scan.visible })()"
    )
    page.keyboard.press("d")
    page.keyboard.press("?")
    page.get_by_role("heading", name="All keys").wait_for()
    page.keyboard.press("Escape")
    page.keyboard.press("/")
    page.get_by_placeholder("Find a tool").fill("devi")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Deviation map").wait_for()
    page.keyboard.press("Escape")
    page.keyboard.press("4")
    page.get_by_role("heading", name="Sketch", exact=True).wait_for()
    page.keyboard.press("Escape")
    page.wait_for_timeout(600)  # what was in hand gives the focus back
    # The level, drawn left by keyboard, shows the job as it was.
    level = page.get_by_role("slider", name="Level")
    for key, want in (("ArrowLeft", 9), ("ArrowRight", 13)):
        for _ in range(16):  # a press may be lost while the view takes the focus back
            if level.get_attribute("aria-valuenow") == str(want):
                break
            level.press(key)
            page.wait_for_timeout(150)
        assert level.get_attribute("aria-valuenow") == str(want)
