"""Readings taken by hand, entered against values of the ledger: they are chosen, and say where they overrule."""

import re

import pytest

from .test_story import shot

pytestmark = pytest.mark.browser


def reading(page, name, instrument, value):
    page.get_by_role("button", name=f"Hand reading of {name}", exact=True).click()
    form = page.get_by_role("form", name=f"Hand reading of {name}")
    form.get_by_label("Instrument").select_option(instrument)
    form.get_by_label("What it showed").fill(value)
    return form


def test_a_caliper_overrules_the_scan_and_a_micrometer_agrees(opened, page):
    room = opened("Bracket, finished")
    page.keyboard.press("l")
    table = page.get_by_role("region", name="The whole ledger")
    table.wait_for()
    name = "base_outline.width_2"
    before = {v["name"]: v for v in room.job()["values"]}[name]
    form = reading(page, name, "caliper", f"{before['measured'] + 0.3:.2f}")
    assert form.get_by_label("Its smallest step").input_value() == "0.02"
    form.get_by_label("Where it was taken").fill("across the middle")
    shot(page, "reading")
    form.get_by_role("button", name="Take the reading").click()
    said = page.get_by_role("button", name=re.compile(f"Hand reading of {name}: caliper .* overrules the scan"))
    said.wait_for(timeout=60_000)
    room.settled()
    after = {v["name"]: v for v in room.job()["values"]}[name]
    assert after["source"] == "hand reading" and after["chosen"] == pytest.approx(before["measured"] + 0.3, abs=0.006)
    assert after["reading"]["apart"] and after["reading"]["note"] == "across the middle"
    shot(page, "reading-overrules")

    # what may only be measured keeps its reading beside it
    bore = {v["name"]: v for v in room.job()["values"]}["pivot_bore.diameter"]
    form = reading(page, "pivot_bore.diameter", "micrometer", f"{bore['measured']:.3f}")
    form.get_by_role("button", name="Take the reading").click()
    page.get_by_role(
        "button", name=re.compile("Hand reading of pivot_bore.diameter: micrometer .* the scan agrees")
    ).wait_for()
    assert {v["name"]: v for v in room.job()["values"]}["pivot_bore.diameter"]["chosen"] == bore["chosen"]
