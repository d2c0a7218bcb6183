"""The whole job in a browser, from the scan to a checked, exported model; every result is compared with the
true part.
"""

import os
import re
import subprocess
import sys

import numpy as np
import pytest

from .paper import Paper
from .room import Room

pytestmark = pytest.mark.browser
TRUE_VOLUME = 83385.4
SHOTS = os.environ.get("MASON_SHOTS")


def shot(page, name):
    if SHOTS:
        page.wait_for_timeout(1500)
        page.screenshot(path=f"{SHOTS}/{name}.png", timeout=90_000)


def chips(page):
    """Label → (measured, chosen) of the chips on the bench."""
    bench = page.get_by_role("complementary", name="Bench")
    out = {}
    for b in bench.get_by_role("button", name=re.compile("chosen .*, change")).all():
        label = b.get_attribute("aria-label").split(":")[0]
        out[label] = float(b.inner_text().strip().rstrip("°").replace("−", "-"))
    return out


def choose(page, label, number):
    bench = page.get_by_role("complementary", name="Bench")
    bench.get_by_role("button", name=re.compile(f"^{re.escape(label)}: chosen")).first.click()
    bench.get_by_label(f"{label}, typed").fill(str(number))
    bench.get_by_label(f"{label}, typed").press("Enter")


def evidence(page):
    return page.get_by_role("complementary", name="Bench").get_by_label("Evidence")


def test_from_scan_to_proven_model(server, pose, page, tmp_path):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Chain guide bracket(?!,)")).wait_for()
    assert page.locator("main").get_by_text("demo", exact=True).count() == 8
    page.wait_for_function("[...document.querySelectorAll('main img')].every((i) => i.naturalWidth)", timeout=120_000)
    assert page.get_by_text("Drawing its picture").count() == 0
    shot(page, "shelf")
    page.get_by_role("link", name=re.compile("^Chain guide bracket(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, pose)

    # Frame: underside, long side, bore.
    room.tool("Frame", "Read a datum")
    room.click_part((22, 9, 0), (0, 0, -1))
    page.locator('[data-figure="facets"]').wait_for()
    few = int(room.figure("facets").replace(",", ""))
    assert few > 3000
    page.keyboard.press("[")
    for _ in range(9):
        page.keyboard.press("[")
    page.wait_for_function(f"+document.querySelector('[data-figure=facets]').innerText.replaceAll(',', '') < {few}")
    for _ in range(10):
        page.keyboard.press("]")
    page.wait_for_function(
        f"+document.querySelector('[data-figure=facets]').innerText.replaceAll(',', '') > {few * 0.97}"
    )
    room.name("Seat face")
    room.lay("Seat face")
    room.tool("Frame", "Read a datum")
    room.click_part((10, -30, 5), (0, -1, 0))
    page.locator('[data-figure="facets"]').wait_for()
    room.name("Long side")
    room.lay("Long side")
    room.tool("Frame", "Read a datum")
    room.click_part(
        (-6 * np.cos(0.6), 6 * np.sin(0.6), 5), (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65), tilt=(0, 0, 0)
    )
    page.locator('[data-figure="diameter"]').wait_for()
    bore = float(re.search(r"⌀ ([\d.]+)", room.figure("diameter")).group(1))
    assert bore == pytest.approx(12, abs=0.02)
    room.name("Pivot bore")
    room.lay("Pivot bore")
    room.tool("Frame", "Set frame")
    evidence(page).get_by_text("All six freedoms are held").wait_for()
    shot(page, "frame")
    room.lay("Part frame")
    room.framed = True
    frame = np.array(room.summary("Part frame")["matrix"]) @ pose
    assert np.abs(frame[:3, :3] - np.eye(3)).max() < 0.002 and np.abs(frame[:3, 3]).max() < 0.03

    # Sketch: drag the plane, draw the whole outline.
    room.tool("Sketch", "Sketch on a cut")
    page.get_by_label("Height of the plane, mm").fill("3.5")
    page.get_by_label("Height of the plane, mm").press("Tab")
    page.get_by_role("button", name="Draw the whole outline").click()
    evidence(page).get_by_role("button", name=re.compile("width: chosen 90")).wait_for()
    found = chips(page)
    assert found["width"] == 90 and found["depth"] == 60 and found["4 × ⌀"] == 8.5 and found["4 × R"] == 6
    relations = page.get_by_label("Relations").inner_text()
    assert "8 tangent" in relations and "horizontal" in relations and "vertical" in relations and "equal" in relations
    room.name("Base outline")
    room.lay("Base outline")
    sizes = {s["label"]: s for s in room.summary("Base outline")["sizes"]}
    assert sizes["4 × ⌀"]["measured"] == pytest.approx(8.5, abs=0.02)
    assert sizes["⌀"]["measured"] == pytest.approx(12, abs=0.02)

    # Build: base between two faces.
    room.tool("Build", "Extrude")
    room.click_part((22, 9, 0), (0, 0, -1))
    page.get_by_text("Click the face where it ends").wait_for()
    room.click_part((40, 2, 12), (0, 0, 1))
    evidence(page).get_by_role("button", name=re.compile("to: chosen")).wait_for()
    assert chips(page)["to"] == 12 and chips(page)["from"] == 0
    choose(page, "to", 12.5)
    evidence(page).get_by_role("button", name="to: chosen 12.5, change").wait_for()
    choose(page, "to", 12)
    evidence(page).get_by_role("button", name="to: chosen 12, change").wait_for()
    room.name("Base")
    room.lay("Base")

    # The second sketch: boss and pocket.
    room.tool("Sketch", "Sketch on a cut")
    page.get_by_label("Height of the plane, mm").fill("22")
    page.get_by_label("Height of the plane, mm").press("Tab")
    page.get_by_role("button", name="Draw the whole outline").click()
    evidence(page).get_by_role("button", name=re.compile("width: chosen 50")).wait_for()
    room.name("Boss outline")
    room.lay("Boss outline")
    page.keyboard.press("Space")
    room.tool("Build", "Extrude")
    room.click_part((40, 2, 12), (0, 0, 1))
    page.get_by_text("Click the face where it ends").wait_for()
    room.click_part((-20, 4, 30), (0, 0, 1))
    evidence(page).get_by_role("button", name=re.compile("Lean the walls by 2°")).click()
    evidence(page).get_by_role("button", name=re.compile("draft: chosen 2")).wait_for()
    room.name("Boss")
    shot(page, "build-extrude")
    room.lay("Boss")
    room.tool("Build", "Cut")
    page.get_by_label(re.compile("8 pieces, inside")).check()
    page.get_by_label(re.compile("8 pieces, outermost")).uncheck()
    room.click_part((11, 2, 14), (0, 0, 1), tilt=(0.02, 0.03, 0))
    evidence(page).get_by_role("button", name=re.compile("from: chosen 1")).wait_for()
    assert chips(page)["from"] == 14
    room.name("Pocket")
    room.lay("Pocket")
    room.tool("Build", "Cut")
    bench = page.get_by_role("complementary", name="Bench")
    bench.get_by_label("profile").select_option(label="Base outline")
    bench.get_by_role("button", name="all circles").click()
    bench.get_by_label("start by").select_option("through")
    room.name("Bores")
    room.lay("Bores")
    room.tool("Build", "Fillet")
    room.click_part((3, -20.3, 12.4), (0, -0.7, 0.7), tilt=(0, 0, 0))
    evidence(page).get_by_role("button", name=re.compile("R: chosen")).wait_for()
    assert chips(page)["R"] == pytest.approx(2.5, abs=0.25)
    choose(page, "R", 2.5)
    evidence(page).get_by_role("button", name="R: chosen 2.5, change").wait_for()
    room.name("Foot rounding")
    room.lay("Foot rounding")
    body = room.summary("Foot rounding")
    assert body["valid"] and body["solids"] == 1
    assert body["volume"] == pytest.approx(TRUE_VOLUME, rel=0.003)
    shot(page, "build")

    # Check, keep as a proof, reopen.
    room.tool("Check", "Deviation map")
    room.name("First check")
    room.lay("First check")
    page.locator('[data-figure="rms"]').wait_for(timeout=60_000)
    assert float(room.figure("rms")) < 0.1
    page.get_by_role("slider", name="Upper tolerance").press("ArrowDown")
    page.wait_for_function("document.body.innerText.includes('0.095')")
    page.wait_for_timeout(1500)
    shot(page, "check")
    worn = room.summary("First check")
    assert worn["min"] < -0.4  # the worn edge is seen for what it is
    page.get_by_role("button", name="Keep proof").click()
    page.get_by_text("It is in the yard under Proofs").wait_for()
    page.get_by_role("complementary", name="Yard").get_by_role("button", name=re.compile("First check")).click()
    page.get_by_text("A proof kept").wait_for()
    page.keyboard.press("Escape")

    # Deliver.
    page.get_by_role("button", name="Deliver", exact=True).click()
    shot(page, "deliver")
    for label, file in (
        ("Model: STEP", "model.step"),
        ("Model: STL", "model.stl"),
        ("Scan: PLY", "scan.ply"),
        ("Base outline, DXF", "base.dxf"),
        ("History: Script", "model.py"),
        ("History: Recipe every step", "recipe.json"),
    ):
        with page.expect_download() as d:
            page.get_by_role("link", name=re.compile(label)).click()
        d.value.save_as(tmp_path / file)
        assert (tmp_path / file).stat().st_size > 500
    from deftmason.core.kernel.files import read_model

    model = read_model(str(tmp_path / "model.step"))
    assert model.volume == pytest.approx(body["volume"], rel=1e-9)
    from deftmason.core.check.deviation import ModelSurface
    from deftmason.core.scan.files import read_scan
    from deftmason.demo.bracket import WORN

    points = read_scan(str(tmp_path / "scan.ply")).scan.vertices
    sound = np.linalg.norm(points - np.array(WORN.center), axis=1) > WORN.radius
    off = ModelSurface(model).distances(points[sound], reach=1.0).distance
    assert np.isfinite(off).mean() > 0.99 and np.sqrt(np.nanmean(off**2)) < 0.05
    ran = subprocess.run([sys.executable, "model.py"], cwd=tmp_path, capture_output=True, text=True, timeout=120)
    assert ran.returncode == 0, ran.stderr
    assert float(re.search(r"volume ([\d.]+)", ran.stdout).group(1)) == pytest.approx(body["volume"], rel=1e-6)

    # The wall: change a bore's diameter; everything follows; undo, redo.
    before = body["volume"]
    room.stone("Base outline").dblclick()
    evidence(page).get_by_role("button", name=re.compile("4 × ⌀: chosen 8.5")).wait_for()
    choose(page, "4 × ⌀", 9)
    evidence(page).get_by_role("button", name=re.compile("4 × ⌀: chosen 9")).wait_for()
    page.get_by_role("button", name="Lay sketch again").click()
    fewer = 4 * np.pi / 4 * (9**2 - 8.5**2) * 12

    def volume():
        s = room.summary("Foot rounding")
        return s.get("volume", 0)

    page.wait_for_function("!document.body.innerText.includes('Laying')")

    def becomes(wanted):
        for _ in range(100):
            if abs(volume() - wanted) < 0.5 and all(
                s["status"] in ("sound", "attention") for s in room.job()["stones"]
            ):
                return True
            page.wait_for_timeout(400)
        return False

    assert becomes(before - fewer), volume()
    page.keyboard.press("Control+z")
    assert becomes(before), volume()
    page.keyboard.press("Control+Shift+z")
    assert becomes(before - fewer), volume()
    page.keyboard.press("Control+z")
    assert becomes(before), volume()

    # Another second datum: the other long side, without another pick downstream.
    room.stone("Long side").dblclick()
    evidence(page).get_by_text("facets").wait_for()
    room.click_part((12, 30, 5), (0, 1, 0))
    room.tried()
    page.get_by_role("button", name="Lay datum again").click()
    for _ in range(900):
        stones = {s["name"]: s for s in room.job()["stones"]}
        settled = all(s["status"] in ("sound", "attention") for s in stones.values())
        if settled and (np.array(stones["Part frame"]["summary"]["matrix"]) @ pose)[0, 0] < 0:
            break
        page.wait_for_timeout(500)
    told = {n: (s["status"], s["says"]) for n, s in stones.items()}
    assert settled, (told, room.api().json()["tasks"])
    turned = np.array(stones["Part frame"]["summary"]["matrix"]) @ pose
    assert turned[0, 0] == pytest.approx(-1, abs=0.002)  # the part now faces the other way
    assert stones["Foot rounding"]["summary"]["volume"] == pytest.approx(before, rel=0.002)
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    for _ in range(80):
        kept = room.job()
        if kept["redo"] and all(s["status"] in ("sound", "attention") for s in kept["stones"]):
            break
        page.wait_for_timeout(500)

    # The plug is pulled: all is there afterwards.
    kept = room.job()
    server.kill()
    server.start()
    page.reload()
    room.stone("Foot rounding").wait_for()
    again = room.job()
    assert [s["record"] for s in again["stones"]] == [s["record"] for s in kept["stones"]]
    assert [s["key"] for s in again["stones"]] == [s["key"] for s in kept["stones"]]
    assert all(s["status"] in ("sound", "attention") for s in again["stones"]) and again["undo"] == kept["undo"]
    assert again["proofs"] and volume() == pytest.approx(before, rel=1e-9)


def test_own_file_starts_a_job_and_a_bad_one_leaves_nothing(server, page, tmp_path):
    from deftmason.core.scan.files import write_scan

    from ..core.test_scan import box_mesh

    page.goto(server.url)
    bad = tmp_path / "bad.stl"
    bad.write_bytes(b"\0" * 80 + (10**9).to_bytes(4, "little") + b"x" * 100)
    before = page.request.get(f"{server.url}/api/jobs").json()
    page.get_by_label("Choose scan files").set_input_files(str(bad))
    alert = page.get_by_role("alert")
    alert.wait_for()
    assert "bad.stl" in alert.inner_text() and "1,000,000,000" in alert.inner_text()
    assert len(page.request.get(f"{server.url}/api/jobs").json()) == len(before)
    good = tmp_path / "block.stl"
    write_scan(str(good), box_mesh(12))
    page.get_by_role("button", name="Leave out bad.stl").click()
    page.get_by_label("Choose scan files").set_input_files(str(good))
    page.get_by_text("40.0 × 30.0 × 20.0 mm (1.57 × 1.18 × 0.79 in)").wait_for()
    page.get_by_role("button", name="in", exact=True).click()
    page.get_by_text("1,016.0 × 762.0 × 508.0 mm").wait_for()
    page.get_by_role("button", name="mm", exact=True).click()
    page.get_by_role("button", name="Start the job").click()
    page.get_by_role("heading", name="block", level=1).wait_for()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")


def test_view_draws_only_when_something_changes(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    page.wait_for_timeout(2500)
    # The processor draws here: a pixel is one sample.
    assert not page.evaluate("document.querySelector('canvas').getContext('webgl2').getContextAttributes().antialias")
    drawn = page.evaluate("document.querySelector('canvas').mason.drawn")
    page.wait_for_timeout(1500)
    assert page.evaluate("document.querySelector('canvas').mason.drawn") == drawn
    box = page.locator("canvas").bounding_box()
    page.mouse.move(box["x"] + 200, box["y"] + 300)
    page.mouse.down()
    page.mouse.move(box["x"] + 260, box["y"] + 320, steps=4)
    page.mouse.up()
    page.wait_for_timeout(800)
    assert page.evaluate("document.querySelector('canvas').mason.drawn") > drawn
    turned = page.evaluate("document.querySelector('canvas').mason.camera.quaternion.toArray()")
    page.keyboard.press(",")
    assert page.evaluate("document.querySelector('canvas').mason.camera.quaternion.toArray()") != turned
    page.keyboard.press(".")
    assert np.allclose(page.evaluate("document.querySelector('canvas').mason.camera.quaternion.toArray()"), turned)


def test_brushed_line_and_circle_are_fitted(server, page):
    """Brush a side and a bore on the paper of a new sketch."""
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    room = Room(page, np.eye(4))
    room.tool("Sketch", "Sketch on a cut")
    page.get_by_label("Height of the plane, mm").fill("3.5")
    page.get_by_label("Height of the plane, mm").press("Tab")
    page.wait_for_timeout(2500)
    paper = Paper(page)
    paper.traced()
    paper.settled()
    paper.follow("line")
    paper.brush([[x, -30] for x in np.linspace(-30, 30, 14)])
    paper.entity("e1")
    paper.follow("circle")
    paper.brush([[34 + 4.25 * np.cos(t), 20 + 4.25 * np.sin(t)] for t in np.linspace(0, 5.5, 24)])
    paper.entity("e2")
    evidence(page).get_by_role("button", name=re.compile("⌀: chosen 8.5")).wait_for()
    assert "horizontal" in page.get_by_label("Relations").inner_text()
