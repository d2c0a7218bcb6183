"""A prismatic block whose crowned top is a sheet: laid past the body, brushed closer where it pulls away, trimmed by a
plane, and cut into the block. The winch hood: skins that trim each other, mirrored and thickened.
"""

import re

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.demo.curved_jobs import CURVED
from deftmason.demo.hood import HOOD, hood_scan

from ..core.crowned import CROWNED, LONG, WIDE, crown, crowned_scan, true_block
from ..core.hood_steps import outside, planes, skins
from .room import Room
from .test_curved import bench, choose, model_of, opened_as
from .test_story import shot
from .test_surfaces import mark_zone, number

pytestmark = pytest.mark.browser


@pytest.mark.long
def test_a_sheet_over_a_crowned_top_is_brushed_closer_trimmed_and_cuts_the_body(server, page, tmp_path):
    room: Room = opened_as(server, page, CROWNED, *crowned_scan(), tmp_path)
    room.tool("Sketch", "Sketch on a cut")
    page.get_by_role("button", name="Draw the whole outline").click()
    bench(page).get_by_label("Evidence").get_by_role("button", name=re.compile("width: chosen 80")).wait_for()
    room.name("Outline")
    room.lay("Outline")
    page.keyboard.press("Space")
    room.tool("Build", "Extrude")
    room.click_part((5, 4, 0), (0, 0, -1))
    page.get_by_text("Click the face where it ends").wait_for()
    bench(page).get_by_label("end by").select_option("height")
    shot(page, "block_extrude")
    number(page, "end height, mm", 34)
    room.tried()
    room.name("Block")
    room.lay("Block")
    assert room.summary("Block")["volume"] == pytest.approx(LONG * WIDE * 34, rel=2e-3)

    # A calm sheet over the top: it passes over the low swelling, and is brushed closer there.
    room.tool("Build", "Sheet")
    page.wait_for_function("document.querySelector('canvas').mason.layers.scan.object?.visible")
    mark_zone(page, room, (-10, 5, float(crown(-10, 5))), (0, 0, 1))
    room.tried()
    bench(page).get_by_label("Reaches past, mm").fill("6")
    bench(page).get_by_label("Reaches past, mm").press("Tab")
    bench(page).get_by_label("Calm or tight").fill("-3")
    room.tried()
    shot(page, "sheet_calm")
    bench(page).get_by_text("brush where it must lie closer").click()
    page.get_by_label("radius").fill("9")
    room.click_part((18, -8, float(crown(18, -8))), (0, 0, 1))
    room.tried()
    before, after = (float(t.split()[0]) for t in bench(page).locator("[data-figure=closer]").inner_text().split(" → "))
    assert after < 0.5 * before and after < 0.04
    shot(page, "sheet_closer")
    room.name("Top")
    room.lay("Top")

    # Trimmed by a plane 3 mm past the end, then the block by it.
    room.tool("Frame", "Construct")
    page.get_by_role("complementary", name="Yard").get_by_role("button", name=re.compile("^End")).click()
    bench(page).get_by_role("button", name=re.compile("Plane offset")).click()
    field = bench(page).get_by_label("distance")
    field.fill("3")
    field.press("Tab")
    room.tried()
    room.name("Past the end")
    room.lay("Past the end")
    room.tool("Build", "Trim")
    bench(page).get_by_label("body", exact=True).select_option(label="Top")
    bench(page).get_by_label("by", exact=True).select_option(label="a datum")
    bench(page).get_by_label("by a datum").select_option(label="Past the end")
    room.tried()
    room.name("Top, trimmed")
    room.lay("Top, trimmed")
    room.tool("Build", "Trim")
    bench(page).get_by_label("body", exact=True).select_option(label="Block")
    bench(page).get_by_label("by", exact=True).select_option(label="Top, trimmed")
    room.tried()
    if float(bench(page).locator("[data-figure=volume]").inner_text().split()[0]) < 60:
        bench(page).get_by_role("button", name="before it").click()
        room.tried()
    shot(page, "block_cut")
    room.name("Crowned block")
    room.lay("Crowned block")
    told = room.summary("Crowned block")
    assert told["valid"] and told["solids"] == 1
    assert told["volume"] == pytest.approx(true_block().volume, rel=2e-3)
    x, y = (a.ravel() for a in np.meshgrid(np.linspace(-38, 38, 40), np.linspace(-23, 23, 30), indexing="ij"))
    true = np.column_stack([x, y, crown(x, y), np.ones(len(x))]) @ room.pose.T
    off = np.abs(ModelSurface(model_of(server, page, tmp_path)).distances(true[:, :3]).distance)
    assert np.quantile(off, 0.95) < 0.05


def on_body(page, room, name, label="body"):
    bench(page).get_by_label(label, exact=True).select_option(label=name)
    room.tried()


def lay(room, name):
    room.tried()
    room.name(name)
    room.lay(name)


def sections_of(page, room, part):
    """A skin over two of the sections that are there."""
    room.tool("Build", "Loft")
    for box in bench(page).get_by_role("group", name="sections").get_by_role("checkbox").all():
        box.uncheck()
    for k in (1, 2):
        bench(page).get_by_role("group", name="sections").get_by_label(f"{part} section {k}", exact=True).check()
    bench(page).get_by_role("button", name="a surface").click()
    lay(room, f"{part} skin")
    assert room.summary(f"{part} skin")["sections"] == 2 and room.summary(f"{part} skin")["solids"] == 0


@pytest.mark.long
def test_the_winch_hood_is_built_of_half_a_scan(server, page, tmp_path):
    """Its sections are strokes along the trace, laid through the API; what is made of them is made by hand."""
    h = HOOD
    mesh, pose = hood_scan()
    laid = [*planes(), *(s for s in skins(pose.points) if s["kind"] == "sketch")]
    room: Room = opened_as(server, page, CURVED["hood"], mesh, pose, tmp_path, more=laid)
    for part, by in (("Top", 28), ("Side", 26)):
        sections_of(page, room, part)
        room.tool("Build", "Extend")
        on_body(page, room, f"{part} skin")
        number(page, "by", by)
        lay(room, f"{part}, longer")
    room.tool("Build", "Trim")
    on_body(page, room, "Top, longer")
    on_body(page, room, "Side, longer", "by")
    bench(page).get_by_label("trim both, and join them").check()
    bench(page).get_by_role("button", name="before it").last.click()
    room.tried()
    shot(page, "hood_trimmed")
    lay(room, "Half")
    assert room.summary("Half")["faces"] == 2
    room.tool("Build", "Trim")
    on_body(page, room, "Half")
    on_body(page, room, "a datum", "by")
    on_body(page, room, "Middle", "by a datum")
    bench(page).get_by_role("button", name="before it").first.click()
    lay(room, "To the middle")

    # The rounding: the scan is asked along the bent edge; a gauge says 8.
    room.tool("Build", "Fillet")
    z = 36.0
    for _ in range(30):
        z = float(h.top(70, h.side(70, z)))
    room.click_part((70, float(h.side(70, z)), z), (0, 0.7, 0.7), tilt=(0, 0, 0))
    bench(page).get_by_role("button", name=re.compile("R: chosen")).wait_for()
    room.tried()
    choose(page, room, "R", h.rounding)
    lay(room, "Rounding")
    read = next(v for v in room.job()["values"] if v["name"].lower().startswith("rounding."))
    assert read["measured"] == pytest.approx(h.rounding, abs=max(0.6, 2.5 * read["uncertainty"]))
    room.tool("Build", "Mirror body")
    on_body(page, room, "Middle", "by a datum")
    lay(room, "Shell")
    room.tool("Build", "Thicken")
    number(page, "thickness", h.wall)
    lay(room, "Wall")
    shot(page, "hood_wall")
    for datum, keep in (("End", "behind"), ("Far End", "before it"), ("Sill", "behind")):
        room.tool("Build", "Cut off")
        on_body(page, room, datum, "by a datum")
        bench(page).get_by_role("button", name=keep, exact=True).click()
        lay(room, f"At {datum}")
    room.tool("Build", "Solid")
    for label, value in (("x", -h.lamp_x), ("y", h.rail[1]), ("radius", h.lamp / 2), ("from", 30), ("to", 90)):
        number(page, label, value)
    lay(room, "Lamp")
    room.tool("Build", "Combine bodies")
    on_body(page, room, "At Sill")
    bench(page).get_by_role("group", name="tools").get_by_label("Lamp", exact=True).check()
    lay(room, "Lamp hole")
    room.look((-0.5, -0.9, 0.7))
    shot(page, "hood")
    told = room.summary("Lamp hole")
    assert told["valid"] and told["solids"] == 1
    true = np.column_stack([outside(1500), np.ones(len(outside(1500)))]) @ room.pose.T
    off = np.abs(ModelSurface(model_of(server, page, tmp_path)).distances(true[:, :3]).distance)
    assert np.quantile(off, 0.95) < 0.1
