"""On the model: holes drilled by clicking their walls, faces leaned and healed over, sizes measured."""

import re

import numpy as np
import pytest

from .test_story import choose, evidence, shot

pytestmark = pytest.mark.browser


def bench(page):
    return page.get_by_role("complementary", name="Bench")


def figure(page, label):
    return float(page.locator(f'[data-figure="{label}"]').inner_text().split()[0])


def test_faces_and_edges_are_measured_on_the_model(page, opened):
    room = opened("Bracket, finished")
    room.framed = True
    page.get_by_role("button", name="scan", exact=True).click()
    told = page.get_by_role("group", name="Measured on the model")
    room.click_part((40, 2, 12), (0, 0, 1), tilt=(0.02, 0.03, 0))
    told.wait_for()
    assert 3500 > figure(page, "area") > 2500
    room.click_part((25, 9, 0), (0, 0, -1), tilt=(0.02, 0.03, 0))
    page.locator('[data-figure="apart"]').wait_for()
    assert figure(page, "apart") == pytest.approx(12, abs=1e-6) and figure(page, "nearest") == pytest.approx(
        12, abs=1e-6
    )
    shot(page, "build-measured")
    page.get_by_role("button", name="Clear").click()
    told.wait_for(state="detached")
    room.click_part((-34, 20 - 4.25, 9), (0, 0.75, 0.65), tilt=(0, 0, 0.01))
    page.locator('[data-figure="diameter"]').wait_for()
    assert figure(page, "diameter") == pytest.approx(8.5, abs=1e-6)


def test_holes_are_drilled_where_their_walls_are_clicked(page, opened, pose):
    room = opened("Bracket, finished")
    room.framed = True
    # Without its bores, the plate is whole again; they are drilled as one step.
    room.stone("Bores").click()
    page.get_by_role("button", name="Switch off").click()
    for _ in range(120):
        whole = room.job()["stones"]
        if not room.api("/stamp").json()["working"] and room.summary("Pocket").get("volume"):
            break
        page.wait_for_timeout(250)
    assert whole
    page.keyboard.press("Escape")
    room.tool("Build", "Drilled holes")
    for x, y in ((-34, -20), (34, -20), (34, 20), (-34, 20)):
        # The wall that is seen over the rim.
        room.click_part((x, y + 4.25, 6), (0, -0.75, 0.65), tilt=(0, 0, 0.01))
        room.tried()
    held = bench(page).locator('[data-figure="holes"]').inner_text()
    assert held == "4 × ⌀ 8.5 through", held
    choose(page, "⌀", 9)
    evidence(page).get_by_role("button", name=re.compile("⌀: chosen 9,")).wait_for()
    shot(page, "build-holes")
    room.name("Bolt holes")
    room.lay("Bolt holes")
    told = room.summary("Bolt holes")
    at = np.array(sorted(h["point"][:2] for h in told["holes"]))
    assert at == pytest.approx(np.array([[-34, -20], [-34, 20], [34, -20], [34, 20]]), abs=0.05)
    before = room.summary("Foot rounding")["volume"]
    assert before - told["volume"] == pytest.approx(4 * np.pi * 4.5**2 * 12, rel=1e-3)
    # Its faces are picked and healed over: one hole is gone again.
    room.tool("Build", "Heal over")
    room.click_part((-34, 20 + 4.5, 6), (0, -0.75, 0.65), tilt=(0, 0, 0.01))
    room.tried()
    room.name("Three are enough")
    room.lay("Three are enough")
    assert room.summary("Three are enough")["volume"] - told["volume"] == pytest.approx(np.pi * 4.5**2 * 12, rel=1e-3)
    # The long sides lean by 3° about the underside.
    room.tool("Build", "Lean faces")
    for y in (-30, 30):
        room.click_part((10, y, 5), (0, np.sign(y), 0))
        room.tried()
    assert "no face" not in bench(page).inner_text()
