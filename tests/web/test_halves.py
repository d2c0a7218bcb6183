"""One half of a part modelled, its chamfer read from the scan where an edge is clicked; the other half proposed by its
mirror image, laid, and right.
"""

import re

import numpy as np
import pytest

from ..cradle import CHAMFER, ODD, Cradle
from ..uneven import ABOVE, ASIDE, Block
from .paper import upload_job
from .room import Room
from .test_story import chips, choose, evidence, shot

pytestmark = pytest.mark.browser


def chamfering(server, page, name, scan, steps):
    """A job of a scan and steps, with the chamfer in hand."""
    page.goto(upload_job(server, name, "Scan.ply", scan, steps))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.settled()
    room.framed = True
    room.tool("Build", "Chamfer")
    return room


@pytest.mark.long
def test_a_chamfer_is_read_and_the_other_half_is_mirrored(server, page, tmp_path):
    cradle = Cradle(tmp_path)
    hole = {"pick": cradle.j.pick(np.array([-30.0, 4, 25]), (0, 0, -1.0), "same bend")}
    drill = {"id": "hole", "kind": "drill", "name": "Hole", "frame": "frame", "scan": "scan", "body": "both"}
    zones = {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}
    steps = [*cradle.j.steps[1:], {**drill, "places": [hole]}, zones]
    room = chamfering(server, page, "Cradle", cradle.path.read_bytes(), steps)
    bench = page.get_by_role("complementary", name="Bench")
    x, y, _ = cradle.middle
    room.click_part((x - 34.9, y, 29.9), (-0.7, 0, 0.7), tilt=(0, 0, 0))
    evidence(page).get_by_role("button", name=re.compile("leg: chosen")).wait_for()
    assert chips(page)["leg"] == pytest.approx(CHAMFER, abs=0.03)
    evidence(page).get_by_text(re.compile("points on the chamfer")).wait_for()
    # The click brought the inner edge with it, which is sharp: that is said, and left out with one click.
    page.get_by_text("1 of 2 edges is sharp").wait_for()
    shot(page, "build-chamfer")
    bench.get_by_role("button", name="Leave out the sharp one").click()
    bench.get_by_text("1 picked").wait_for()
    room.tried()
    assert page.get_by_text("edges is sharp").count() == 0
    room.name("Edge")
    room.lay("Edge")
    assert room.summary("Edge")["leg"] == CHAMFER
    # Nothing is picked: what the whole part could have more.
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Build", exact=True).click()
    panel = page.get_by_label("Features of zones")
    panel.get_by_role("button", name="Pick zones").click()
    panel.get_by_role("button", name="Propose features").click()
    half = panel.get_by_label("Proposals").get_by_role("button", name=re.compile("The other half, mirrored"))
    half.first.wait_for(timeout=120_000)
    half.first.click()
    shot(page, "build-half")
    panel.get_by_role("button", name=re.compile("^Lay ")).click()
    room.stone("Both halves").wait_for(timeout=120_000)
    room.settled()
    made = room.summary("Both halves")
    assert made["valid"] and made["solids"] == 1
    assert made["volume"] == pytest.approx(cradle.true.volume + ODD, rel=1e-3)


def test_two_legs_are_read_chosen_and_built(server, page, tmp_path):
    block = Block(tmp_path)
    room = chamfering(server, page, "Block", block.path.read_bytes(), block.j.steps[1:])
    bench = page.get_by_role("complementary", name="Bench")
    x, y, _ = block.middle
    room.click_part((x + 19.9, y, 19.9), (0.7, 0, 0.7), tilt=(0, 0, 0))
    evidence(page).get_by_role("button", name=re.compile("other leg: chosen")).wait_for()
    bench.get_by_role("button", name="Leave out the 2 sharp ones").click()
    bench.get_by_text("2 picked").wait_for()
    room.tried()
    assert bench.locator("[data-figure=on]").inner_text() == "The leg lies on Block top, the other across."
    told = chips(page)
    assert told["leg"] == pytest.approx(ABOVE, abs=0.05) and told["other leg"] == pytest.approx(ASIDE, abs=0.05)
    shot(page, "build-two-legs")
    choose(page, "other leg", 3.2)
    room.tried()
    room.name("Edge")
    room.lay("Edge")
    made = room.summary("Edge")
    assert (made["leg"], made["other"]) == (ABOVE, ASIDE)
    assert made["volume"] == pytest.approx(block.true.volume, rel=1e-6)
