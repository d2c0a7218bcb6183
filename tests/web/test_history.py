"""The history on the wall: a step that needs attention and what could stand there, stones moved, copied, put in at the
level, and taken out along.
"""

import pytest

from .test_build import bench
from .test_story import shot

pytestmark = pytest.mark.browser


def stones(room):
    return {s["name"]: s for s in room.job()["stones"]}


def quiet(page, room):
    for _ in range(240):
        if not room.api("/stamp").json()["working"]:
            now = stones(room)
            if all(s["status"] != "pending" for s in now.values()):
                return now
        page.wait_for_timeout(250)
    raise AssertionError("it is still working")


def act(page, room, stone, name):
    page.keyboard.press("Escape")
    room.stone(stone).click()
    page.get_by_role("button", name=name, exact=True).click()


def test_what_is_lost_needs_attention_and_names_what_is_near(page, opened):
    room = opened("Bracket, finished")
    for name in ("Boss", "Pocket"):
        act(page, room, name, "Switch off")
        page.get_by_role("button", name="Switch on", exact=True).wait_for()
        quiet(page, room)
    now = quiet(page, room)
    assert now["Foot rounding"]["status"] == "attention" and "is gone" in now["Foot rounding"]["says"]
    assert now["Foot rounding"]["summary"]["volume"] == now["Bores"]["summary"]["volume"]
    assert now["After rounding"]["status"] in ("sound", "attention")  # what does not depend on it still runs
    room.stone("Foot rounding").dblclick()
    lost = bench(page).get_by_label("Lost").first
    lost.get_by_role("button", name="Where it was").click()
    page.wait_for_timeout(900)
    shot(page, "build-attention")
    near = lost.get_by_role("button", name="mm away")
    away = [float(t.split("\n")[-1].split()[0]) for t in near.all_inner_texts()]
    assert len(away) == 4 and away == sorted(away)
    bench(page).get_by_role("button", name="Leave out what is gone").click()
    assert "click them on the model" in bench(page).inner_text()
    page.keyboard.press("Escape")


def test_stones_are_moved_copied_put_in_at_the_level_and_taken_out_along(page, opened):
    room = opened("Bracket, finished")
    before = [s["name"] for s in room.job()["stones"]]
    act(page, room, "Boss", "Earlier")
    page.get_by_role("alert").filter(has_text="rests on").wait_for()
    assert [s["name"] for s in room.job()["stones"]] == before
    page.get_by_role("button", name="Close", exact=True).click()
    act(page, room, "Boss outline", "Earlier")
    moved = before
    for _ in range(100):
        moved = [s["name"] for s in room.job()["stones"]]
        if moved != before:
            break
        page.wait_for_timeout(200)
    assert moved.index("Boss outline") == moved.index("Base outline") - 1 and sorted(moved) == sorted(before)
    assert all(s["status"] in ("sound", "attention") for s in quiet(page, room).values())
    # A copy is its like in hand, on what stands now; it is laid under a name of its own.
    act(page, room, "Bores", "Copy")
    assert bench(page).get_by_label("name", exact=True).input_value() == "Bores 2"
    page.keyboard.press("Escape")
    # Drawn back to Base, a ball goes in between and the later steps rest on it.
    whole = quiet(page, room)["Foot rounding"]["summary"]["volume"]
    level = page.get_by_role("slider", name="Level")
    level.focus()
    at = [s["name"] for s in room.job()["stones"]].index("Base") + 1
    while int(level.get_attribute("aria-valuenow")) > at:
        page.keyboard.press("ArrowLeft")
    room.tool("Build", "Cut off")
    bench(page).get_by_role("button", name="x", exact=True).click()
    offset = bench(page).locator("label").filter(has_text="beyond by").locator("input").first
    offset.fill("40")
    offset.press("Tab")
    bench(page).locator("[data-figure=volume]").wait_for(timeout=60_000)
    room.name("Shorter")
    room.lay("Shorter")
    now = quiet(page, room)
    order = [s["name"] for s in room.job()["stones"]]
    assert order.index("Shorter") == order.index("Base") + 1
    assert now["Boss"]["record"]["body"] == now["Shorter"]["id"]
    assert now["Foot rounding"]["summary"]["volume"] < whole - 1000
    act(page, room, "Shorter", "Take out")
    page.get_by_text("On it rest").wait_for()
    page.get_by_role("button", name="Leave", exact=True).click()
    act(page, room, "Boss outline", "Take out")
    page.get_by_role("button", name="Take out all").click()
    left = quiet(page, room)
    assert "Boss" not in left and "Foot rounding" not in left and {"Base", "Shorter", "Base outline"} <= set(left)
