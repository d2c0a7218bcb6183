"""The bracket built from proposals alone: walls with their bottom and top, a pocket, holes, roundings; then a size of
its sketch is changed. The guide of the job sees each step done.
"""

import re

import numpy as np
import pytest
from playwright.sync_api import expect

from deftmason.demo.bracket import true_bracket

from .test_story import choose, evidence, shot

pytestmark = pytest.mark.browser


def framed(room, page, pose):
    """The bracket stood on its underside, long side and bore, with its zones read."""
    room.pose = pose
    in_bore, onto_bore = (-6 * np.cos(0.6), 6 * np.sin(0.6), 5), (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65)
    for name, at, normal, tilt in (
        ("Seat face", (22, 9, 0), (0, 0, -1), (0.13, 0.11, 0.07)),
        ("Long side", (10, -30, 5), (0, -1, 0), (0.13, 0.11, 0.07)),
        ("Pivot bore", in_bore, onto_bore, (0, 0, 0)),
    ):
        room.tool("Frame", "Read a datum")
        room.click_part(at, normal, tilt=tilt)
        page.locator('[data-figure="facets"]').wait_for()
        room.name(name)
        room.lay(name)
    room.tool("Frame", "Set frame")
    evidence(page).get_by_text("All six freedoms are held").wait_for()
    room.lay("Part frame")
    room.framed = True
    room.tool("Zones", "Read zones")
    page.locator('[data-figure="count"]').wait_for(timeout=120_000)
    page.get_by_role("complementary", name="Bench").get_by_role("button", name="Keep ").click()
    room.stone("Zones").wait_for(timeout=120_000)
    room.settled()


class Proposer:
    def __init__(self, page, room):
        self.page, self.room = page, room
        self.panel = page.get_by_label("Features of zones")

    def pick(self, *places):
        page = self.page
        page.wait_for_function("document.querySelector('canvas').mason.layers.zones.object", timeout=60_000)
        for k, (point, normal, tilt) in enumerate(places):
            self.room.click_part(point, normal, tilt=tilt)
            self.panel.get_by_label("Picked zones").locator("li").nth(k).wait_for()

    def propose(self):
        self.panel.get_by_role("button", name="Propose features").click()
        self.panel.get_by_label("Proposals").locator("li").first.wait_for(timeout=120_000)
        return self.panel.get_by_label("Proposals").get_by_role("button").first.inner_text()

    def lay(self):
        before = len(self.room.job()["stones"])
        self.panel.get_by_role("button", name=re.compile("^Lay ")).click()
        for _ in range(200):
            if len(self.room.api().json()["stones"]) > before:
                break
            self.page.wait_for_timeout(100)
        self.room.settled()
        return self.room.job()["stones"][-1]


@pytest.mark.long
def test_the_bracket_is_built_from_proposals_alone(page, opened, pose):
    room = opened("^Bracket in ten steps")
    lessons = page.get_by_label("Guide").locator("[data-figure=lessons]")
    assert lessons.inner_text() == "0 of 10"
    framed(room, page, pose)
    expect(lessons).to_have_text("5 of 10", timeout=30_000)
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Build", exact=True).click()
    p = Proposer(page, room)
    p.panel.get_by_role("button", name="Pick zones").click()
    level = (0.0, 0.0, 0.01)
    p.pick(((10, -30, 6), (0, -1, 0), level), ((22, 9, 0), (0, 0, -1), level), ((40, 2, 12), (0, 0, 1), level))
    assert "Push along z, 12 mm" in p.propose()
    assert float(p.panel.locator("[data-figure=explains]").first.inner_text().split()[0]) > 97
    shot(page, "build-proposal")
    base = p.lay()["summary"]
    expect(lessons).to_have_text("6 of 10")
    assert base["volume"] == pytest.approx(90 * 60 * 12 - (4 - np.pi) * 36 * 12, rel=0.002)
    p.pick(((0, -18, 22), (0, -1, 0), level), ((-20, 4, 30), (0, 0, 1), level))
    said = p.propose()
    lean = float(re.search(r"the walls lean ([\d.]+)°", said).group(1))
    assert lean == pytest.approx(2, abs=0.15)
    boss = p.lay()
    expect(lessons).to_have_text("7 of 10")
    assert boss["name"] == "Boss" and boss["summary"]["draft"] == pytest.approx(2, abs=0.15)
    p.pick(((0, 9, 20), (0, -0.6, 0.8), level), ((11, 2, 14), (0, 0, 1), level))
    assert "floor at 14" in p.propose()
    assert p.lay()["name"] == "Pocket"
    p.pick(((-34, 20 - 4.25, 6), (0, 0.75, 0.65), level))
    assert "4 holes ⌀ 8.5 through" in p.propose()
    assert p.lay()["summary"]["sizes"]["radius"] == 4.25
    expect(lessons).to_have_text("8 of 10")  # the bore is still to be drilled, and it says so
    page.get_by_label("Guide").get_by_text("Both the four bolt holes and the bore").wait_for()
    p.pick(((-6 * np.cos(0.6), 6 * np.sin(0.6), 5), (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65), (0, 0, 0)))
    assert "Hole ⌀ 12 through" in p.propose()
    p.lay()
    p.pick(((0, 19.2, 12.8), (0, 0.7, 0.7), level))
    assert "Round 8 edges, R 2.5" in p.propose()
    rounded = p.lay()["summary"]
    assert rounded["valid"] and rounded["solids"] == 1
    assert rounded["volume"] == pytest.approx(true_bracket().volume, rel=0.002)
    expect(lessons).to_have_text("10 of 10")
    page.get_by_label("Guide").get_by_text("The bracket is built").wait_for()
    shot(page, "build-proposals-done")
    p.panel.get_by_role("button", name="Close").click()
    # They are ordinary steps: the outline's width is changed, and the model follows.
    names = [s["name"] for s in room.job()["stones"]][-9:]
    assert names == ["Outline", "Base", "Outline 2", "Boss", "Outline 3", "Pocket", "Holes", "Hole", "Rounding"]
    room.stone("Outline").dblclick()
    evidence(page).get_by_role("button", name=re.compile("width: chosen 90")).wait_for()
    choose(page, "width", 92)
    evidence(page).get_by_role("button", name=re.compile("width: chosen 92")).wait_for()
    page.get_by_role("button", name="Lay sketch again").click()
    for _ in range(200):
        now = room.job()["stones"][-1]
        if now["status"] in ("sound", "attention") and now["summary"]["volume"] > rounded["volume"] + 100:
            break
        page.wait_for_timeout(200)
    assert now["summary"]["volume"] - rounded["volume"] == pytest.approx(2 * 60 * 12, rel=0.01)


def test_a_section_is_looked_at_and_what_is_cut_away_is_not_picked(page, opened):
    opened("Bracket, finished")
    page.keyboard.press("x")
    bar = page.get_by_role("group", name="Section")
    bar.get_by_role("button", name="across z").click()
    bar.get_by_label("Where the section lies").fill("0.55")
    shot(page, "build-section")
    # From above, half of the part is taken away: a click in the middle no longer meets the boss's top.
    heights = []
    for on in (True, False):
        heights.append(
            page.evaluate(
                """() => {
                    const s = document.querySelector('canvas').mason
                    s.lookAlong(s.camera.position.clone().set(0, 0, 1))
                    s.fit(false)
                    const at = s.project([-20, 0, 20])
                    const ray = s.ray(at.x, at.y)
                    const hits = ray.intersectObject(s.layers.body.mesh, false).map((h) => h.point.z)
                    return Math.max(...hits)
                }"""
            )
        )
        if on:
            page.keyboard.press("x")
            bar.wait_for(state="detached")
    assert heights[0] < 17 and heights[1] == pytest.approx(30, abs=0.3), heights
