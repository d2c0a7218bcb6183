"""Six worn hinges through one recipe: brought in, the table read, the nominal laid."""

import json
import re
import zipfile

import numpy as np
import pytest

from deftmason.demo.hinge import Hinge

from ..hinges import hinges
from .room import Room
from .test_story import shot

pytestmark = pytest.mark.browser
H = Hinge()


def number(text: str) -> float:
    return float(re.sub(r"[^\d.−-]", "", text.split("±")[0]).replace("−", "-"))


@pytest.mark.long
def test_six_worn_hinges_through_one_recipe(server, page, tmp_path):
    made = hinges(6)
    packed = tmp_path / "hinge.zip"
    with zipfile.ZipFile(packed, "w") as z:
        z.write(made.recipe, "recipe.json")
        z.write(made.folder / "hinge.ply", "hinge.ply")
    page.goto(server.url)
    page.get_by_label("Open a recipe").set_input_files(str(packed))
    page.wait_for_url(re.compile(r"/jobs/\d+$"), timeout=60_000)
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan", timeout=60_000)
    room = Room(page, made.pose.matrix)
    room.settled()
    before = room.summary("Hinge")["volume"]

    room.stage("Scans")
    bench = page.get_by_role("complementary", name="Bench")
    shot(page, "pieces-empty")
    bench.get_by_role("button", name="Bring in other pieces").click()
    files = sorted(str(p) for p in made.pieces.glob("*.ply"))
    page.get_by_label("Choose scan files").set_input_files(files)
    act = bench.get_by_role("button", name="Run the recipe on them")
    act.wait_for(timeout=60_000)
    page.wait_for_function("!document.querySelector('[role=status] .bg-saffron')", timeout=60_000)
    act.click()
    table = page.get_by_role("region", name="Pieces")
    table.wait_for(timeout=60_000)
    shot(page, "pieces-running")
    table.get_by_text(re.compile(r"\d+ sizes the same on all")).wait_for(timeout=240_000)
    fates = "document.querySelectorAll('[data-piece] .bg-moss, [data-piece] .bg-rust').length == 6"
    page.wait_for_function(fates, timeout=240_000)
    room.settled()
    shot(page, "pieces-table")

    # the bent and worn fourth stands first, and what differs is the bore
    first = table.locator("[data-piece]").first
    assert "hinge 4" in first.inner_text()
    bores = [h.bore for h in made.worn]

    def row(name):
        return table.locator(f'[data-size="{name}"]')

    bore = row("lug_outline.diameter")
    assert number(bore.get_by_role("cell").nth(3).inner_text()) == pytest.approx(np.mean(bores), abs=0.03)
    assert number(bore.get_by_role("cell").nth(4).inner_text()) == pytest.approx(np.ptp(bores), abs=0.08)
    for name, size in (("leaf_outline.spacing_x", 22), ("leaf_outline.diameter", 6.5), ("lug.end", 24)):
        assert "the same on all" in row(name).inner_text()
        assert number(row(name).get_by_role("cell").nth(3).inner_text()) == pytest.approx(size, abs=0.03)
    table.get_by_text("hinge 1", exact=True).click()
    assert number(bore.get_by_role("cell").nth(5).inner_text()) == pytest.approx(bores[0], abs=0.05)
    table.get_by_label("only what differs").check()
    assert table.locator("[data-size]").count() < 8
    shot(page, "pieces-differ")

    # the design of all: what is shared as they share it; the bore as a pin's hole was made before it wore wider
    table.get_by_label("only what differs").uncheck()
    table.get_by_role("button", name="Tick all that are shared").click()
    bore.get_by_role("checkbox").check()
    offers = bore.get_by_role("combobox")
    smallest = offers.locator("option", has_text="the least worn is the smallest").get_attribute("value")
    assert float(smallest) == pytest.approx(H.bore, abs=0.1)
    table.get_by_role("button", name=re.compile("Lay the nominal of")).click()
    table.get_by_role("button", name="Lay the nominal of 0").wait_for(timeout=60_000)
    room.settled()
    values = {v["name"]: v for v in room.job()["values"]}
    for name, size in (("leaf_outline.spacing_x", 22.0), ("leaf_outline.diameter", 6.5), ("lug.end", 24.0)):
        assert values[name]["source"] == "several pieces" and values[name]["chosen"] == pytest.approx(size, abs=1e-6)
    assert values["lug_outline.diameter"]["chosen"] == pytest.approx(float(smallest))
    after = room.summary("Hinge")["volume"]
    assert after != before
    table.get_by_role("button", name="Close the pieces").click()
    shot(page, "pieces-nominal")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"fetch('/api/jobs/{page.url.rsplit('/', 1)[1]}').then(r => r.json()).then(j => j.redo)")
    room.settled()
    assert room.summary("Hinge")["volume"] == pytest.approx(before, rel=1e-9)
    assert json.dumps(room.job()["values"]).count("several pieces") == 0
