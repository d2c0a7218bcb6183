"""The whole ledger on the screen: a name, a formula, a hand reading, and numbers solved together against the scan."""

import re

import pytest

from .test_story import shot

pytestmark = pytest.mark.browser


def table(page):
    return page.get_by_role("region", name="The whole ledger")


def row(page, name):
    return table(page).locator(f'tr[data-value="{name}"]')


def write(page, name, text):
    """Type into a value's cell, and wait until it is told so."""
    row(page, name).get_by_role("button", name=re.compile(r": chosen .*, change")).click()
    at = table(page).get_by_label(f"{name}, a number or a formula")
    at.fill(text)
    at.press("Enter")


def values(room):
    return {v["name"]: v for v in room.api().json()["values"]}


def until(page, room, names, test, seconds=60):
    for _ in range(2 * seconds):
        stamp = room.api("/stamp").json()
        now = values(room)
        if not stamp["working"] and all(n in now for n in names) and test(now):
            return
        page.wait_for_timeout(500)
    raise AssertionError(values(room))


def test_a_name_a_formula_and_a_hand_reading(page, opened):
    room = opened("Bracket, finished")
    page.keyboard.press("l")
    assert "of" in table(page).inner_text()
    row(page, "base_outline.width").get_by_role("button").first.click()
    at = table(page).get_by_label("Name of base_outline.width")
    at.fill("flange_width")
    at.press("Enter")
    row(page, "flange_width").wait_for()
    write(page, "boss.end", "= flange_width / 2")
    row(page, "boss.end").get_by_text("= flange_width / 2").wait_for(timeout=30_000)
    assert "boss.end" in row(page, "flange_width").inner_text()
    shot(page, "ledger")
    write(page, "flange_width", "61")
    until(page, room, ["boss.end"], lambda v: v["boss.end"]["chosen"] == 30.5)
    top = [s for s in room.job()["stones"] if s["name"] == "Boss"][0]["summary"]["bounds"][1][2]
    assert top == pytest.approx(30.5, abs=1e-6)
    # What cannot be is refused in words, and nothing changes.
    write(page, "flange_width", "= boss.end * 2")
    page.get_by_role("alert").filter(has_text="comes after").wait_for()
    row(page, "flange_width").get_by_label("Where flange_width comes from").select_option(label="hand reading")
    reading = page.get_by_role("form", name="Hand reading of flange_width")
    reading.get_by_label("What it showed").fill("61")
    reading.get_by_role("button", name="Take the reading").click()
    until(page, room, ["flange_width"], lambda v: v["flange_width"]["source"] == "hand reading")
    assert values(room)["flange_width"]["chosen"] == 61
    # Found by a word, sorted by what it costs.
    table(page).get_by_label("Find a value").fill("flange")
    page.wait_for_function("document.querySelectorAll('[aria-label=\"The whole ledger\"] tbody tr').length === 2")
    table(page).get_by_label("Find a value").fill("")
    table(page).get_by_role("button", name="rms cost").click()
    table(page).get_by_role("button", name="rms cost").click()
    costs = [v["cost"] for v in values(room).values() if v["cost"] is not None]
    first = table(page).locator("tbody tr").first.get_attribute("data-value")
    assert values(room)[first]["cost"] == max(costs) > 0.05


def test_ticked_numbers_are_solved_against_the_scan_and_taken_as_one_edit(page, opened):
    room = opened("Bracket, finished")
    page.keyboard.press("l")
    for name, off in (("boss_outline.width", "36.7"), ("boss_outline.width_2", "49.1")):
        write(page, name, off)
        until(page, room, [name], lambda v, name=name, off=off: v[name]["chosen"] == float(off))
    for name in ("boss_outline.width", "boss_outline.width_2"):
        table(page).get_by_role("checkbox", name=f"Move {name}", exact=True).check()
    table(page).get_by_role("button", name="Solve 2 ticked against the scan").click()
    told = table(page).locator("[data-figure=solved]")
    told.wait_for(timeout=180_000)
    before, after = (float(x) for x in re.findall(r"[0-9.]+", told.inner_text())[:2])
    assert after < 0.5 * before
    assert values(room)["boss_outline.width"]["chosen"] == 36.7  # nothing is changed yet
    table(page).get_by_role("button", name="Take all").click()
    until(page, room, ["boss_outline.width"], lambda v: v["boss_outline.width"]["source"] == "solved")
    got = values(room)
    assert got["boss_outline.width"]["chosen"] == pytest.approx(36, abs=0.05)
    assert got["boss_outline.width_2"]["chosen"] == pytest.approx(50, abs=0.05)
