"""Proofs: a model that came back changed is found out, two proofs are compared and handed on, one blocky place is
looked at closer and a note is pinned there.
"""

import csv
import io
import json
import re

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
from playwright.sync_api import expect

from deftmason.core.kernel.body import Body
from deftmason.core.kernel.writing import write_step
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from ..changed_model import moved_top
from ..core.shapes import without
from ..core.test_scan import box_mesh
from ..hostile.people import Person
from .room import Room
from .test_story import shot

pytestmark = pytest.mark.browser


def bench(page):
    return page.get_by_role("complementary", name="Bench")


def stage(page, name):
    page.get_by_role("navigation", name="Stages").get_by_role("button", name=name, exact=True).click()


def figure(page, name):
    return float(page.locator(f'[data-figure="{name}"]').inner_text().split()[0].replace("−", "-"))


def field(page, label):
    return bench(page).get_by_label(label, exact=True)


def lay_map(page, room, name, **fields):
    bench(page).get_by_role("button", name="Deviation map", exact=True).click()
    field(page, "name").fill(name)
    for label, value in fields.items():
        box = field(page, label)
        if box.evaluate("e => e.tagName") == "SELECT":
            box.select_option(label=value)
        else:
            box.fill(str(value))
            box.press("Tab")
    bench(page).get_by_role("button", name="Lay deviation map").click()
    room.stone(name).wait_for(timeout=60_000)
    room.settled()
    bench(page).get_by_role("heading", name=name).wait_for()


def downloaded(page, name):
    with page.expect_download() as got:
        bench(page).get_by_role("link", name=name).click()
    with open(got.value.path(), "rb") as f:
        return f.read()


def test_a_model_that_came_back_changed_is_found_out(page, opened, tmp_path):
    room = opened("Bracket, finished")
    stage(page, "Deliver")
    with page.expect_download() as got:
        bench(page).get_by_role("link", name="Model: STEP").click()
    back = tmp_path / "Back from elsewhere.step"
    name = moved_top(str(got.value.path()), str(back), 0.2)
    stage(page, "Check")
    page.get_by_label("Bring in a model").set_input_files(back)
    room.stone("Back from elsewhere").wait_for(timeout=60_000)
    room.settled()
    for k, tolerance in enumerate((0.2, 0.08)):
        lay_map(page, room, f"Back {k}", against="Back from elsewhere", **{"tolerance +": tolerance})
        told = room.summary(f"Back {k}")
        worst = min((f for f in told["faces"] if f["points"] >= 20), key=lambda f: f["within"])
        assert worst["face"] == name and worst["mean"] == pytest.approx(-0.2, abs=0.06)
        # The first row, the face as it is called for people.
        row = bench(page).locator('[aria-label="Who is to blame"] tbody tr').first
        assert "top" in row.inner_text() and "Elsewhere" in row.inner_text()
        assert figure(page, "within") == pytest.approx(100 * told["within"], abs=0.06)
    row.click()
    assert row.get_by_role("button").get_attribute("aria-pressed") == "true"
    lit = page.evaluate("document.querySelector('canvas').mason.layers.deviation.names.length")
    assert lit == len(told["faces"])
    shot(page, "check")


def test_two_scans_are_measured_together(server, page, tmp_path):
    """Each saw one half; together they leave no face of the block to faith."""
    whole = box_mesh(24, noise=0.01)
    x = whole.vertices[whole.faces][:, :, 0].mean(axis=1)
    for name, mask, by in (("left", x > 22, 0.0), ("right", x < 18, 0.1)):
        half = without(whole, mask)
        write_scan(str(tmp_path / f"{name}.ply"), TriMesh(half.vertices + [0, 0, by], half.faces))
    block = BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape()
    write_step(str(tmp_path / "Block.step"), Body(block, tuple(f"Block/{k}" for k in range(6))))
    page.goto(server.url)
    page.get_by_label("Choose scan files").set_input_files([str(tmp_path / f"{n}.ply") for n in ("left", "right")])
    page.get_by_role("button", name="Start the job").click()
    page.get_by_role("heading", name="left", level=1).wait_for()
    room = Room(page, np.eye(4))
    room.settled()
    stage(page, "Check")
    page.get_by_label("Bring in a model").set_input_files(tmp_path / "Block.step")
    room.stone("Block").wait_for(timeout=60_000)
    room.settled()
    lay_map(page, room, "Left alone", scan="left", against="Block", reach=1)
    alone = room.summary("Left alone")
    assert alone["max"] < 0.06 and alone["unseen_area"] > 1500
    bench(page).get_by_role("button", name="Deviation map", exact=True).click()
    field(page, "name").fill("Both halves")
    field(page, "scan").select_option(label="left")
    field(page, "against").select_option(label="Block")
    field(page, "reach").fill("1")
    bench(page).locator("summary", has_text="More").click()
    group = bench(page).get_by_role("group", name="and scans")
    expect(group.get_by_role("checkbox")).to_have_count(1)  # not the one it is of
    group.get_by_role("checkbox", name="right").check()
    bench(page).get_by_role("button", name="Lay deviation map").click()
    room.stone("Both halves").wait_for(timeout=60_000)
    room.settled()
    bench(page).get_by_role("heading", name="Both halves").wait_for()
    told = room.summary("Both halves")
    assert told["points"] == alone["points"] + room.summary("right")["points"]
    assert told["max"] == pytest.approx(0.1, abs=0.05) and told["unseen_area"] < 30
    assert figure(page, "rms") == pytest.approx(told["rms"], abs=6e-4)
    expect(bench(page).get_by_text("Together with right. Against Block")).to_be_visible()
    # Both are drawn, as one.
    size = page.evaluate(
        """() => {
            const g = document.querySelector('canvas').mason.layers.deviation.object.geometry
            g.computeBoundingBox()
            return g.boundingBox.max.x - g.boundingBox.min.x
        }"""
    )
    assert size == pytest.approx(40, abs=0.2)
    shot(page, "check-both")


def test_two_proofs_are_compared_and_handed_on(page, opened, server):
    room = opened("Bracket, finished")
    stage(page, "Check")
    bench(page).get_by_role("heading", name="After rounding").wait_for()
    job = room.job()
    keep = bench(page).get_by_label("Name of the proof")
    keep.fill("As drawn")
    bench(page).get_by_role("button", name="Keep proof").click()
    bench(page).get_by_text("Kept. It is in the yard under Proofs.").wait_for()
    # The plate is made 0.15 mm thicker than the scan is.
    value = next(v for v in job["values"] if v["name"] == "base.end")
    rms = figure(page, "rms")
    number = page.url.rstrip("/").rsplit("/", 1)[1]
    body = {"name": value["name"], "value": value["chosen"] + 0.15}
    assert Person(server.url).ask("POST", f"/jobs/{number}/values", body).status_code == 200
    room.settled()
    page.wait_for_function(
        "t => (document.querySelector('[data-figure=rms]')?.innerText ?? t) !== t", arg=f"{rms:.3f}", timeout=60_000
    )
    stage(page, "Check")
    bench(page).get_by_role("heading", name="After rounding").wait_for()
    keep.fill("Too thick")
    bench(page).get_by_role("button", name="Keep proof").click()
    bench(page).get_by_text("Kept. It is in the yard under Proofs.").wait_for()
    page.get_by_label("First proof").select_option(index=1)
    bench(page).get_by_role("button", name="Compare", exact=True).click()
    bench(page).get_by_role("heading", name="Two proofs compared").wait_for()
    proofs = {p["name"]: room.api(f"/proofs/{p['id']}").json() for p in room.api().json()["proofs"]}
    first, second = (proofs[n]["summary"] for n in ("As drawn", "Too thick"))
    assert second["rms"] > 1.3 * first["rms"]
    row = bench(page).locator("[data-row=rms] td").all_inner_texts()
    assert [float(t) for t in row[1:]] == pytest.approx([first["rms"], second["rms"]], abs=6e-4)
    expect(bench(page).locator('[data-face="Base/top"]')).to_contain_text("worse")
    # The colours are of the difference: proud faces of the plate lie farther off by what it is too thick.
    page.wait_for_function("document.querySelector('canvas').mason.layers.deviation.object", timeout=60_000)
    shot(page, "check-compared")
    bench(page).get_by_role("button", name="Back to the job as it is").click()
    page.get_by_role("complementary", name="Yard").get_by_role("button", name=re.compile("^Too thick")).click()
    bench(page).get_by_role("heading", name="Too thick").wait_for()
    rows = list(csv.reader(io.StringIO(downloaded(page, "Points, CSV").decode())))
    assert rows[0] == ["index", "x", "y", "z", "distance", "face"] and len(rows) == 1 + second["points"]
    d = np.array([float(r[4]) for r in rows[1:] if r[4]])
    assert len(d) == second["answered"] and np.sqrt(np.mean(d**2)) == pytest.approx(second["rms"], rel=1e-6)
    import trimesh

    mesh = trimesh.load(io.BytesIO(downloaded(page, "Mesh, GLB")), file_type="glb", force="mesh")
    assert len(mesh.vertices) == second["points"] and len(np.unique(mesh.visual.vertex_colors, axis=0)) > 20
    told = json.loads(downloaded(page, "All it says, JSON"))
    assert told["title"] == "Too thick" and told["summary"]["rms"] == second["rms"] and len(told["values"]) > 5
    pdf = downloaded(page, "Report, PDF")
    import pypdfium2

    pages = pypdfium2.PdfDocument(pdf)
    words = "\n".join(p.get_textpage().get_text_range() for p in pages)
    assert (
        "Too thick" in words and f"{second['rms']:.3f}" in words and "Base/top" in words and "From six sides" in words
    )
    picture = np.asarray(pages[1].render(scale=1).to_pil().convert("RGB"), float)
    assert ((picture[..., 0] - picture[..., 2]) > 60).sum() > 500  # proud places are clay on the six sides


def test_one_place_is_looked_at_closer_and_noted(page, opened):
    room = opened("Bracket, finished")
    stage(page, "Check")
    lay_map(page, room, "Coarse")
    coarse = room.summary("Coarse")
    lay_map(page, room, "Fine", fineness=0.4, reach=0.3, angle=30)
    fine = room.summary("Fine")
    # More places are measured, the reach and the angle leave more unanswered, and the worn corner is one of them.
    assert fine["points"] > 2 * coarse["points"] and fine["own_points"] == coarse["points"]
    assert fine["max"] <= 0.3 and fine["min"] >= -0.3 and coarse["min"] < -0.5
    assert fine["answered"] / fine["points"] < coarse["answered"] / coarse["points"]
    drawn = page.wait_for_function(
        "() => { const d = document.querySelector('canvas').mason.layers.deviation; return d.object &&"
        " d.object.geometry.getAttribute('position').count }",
        timeout=60_000,
    )
    assert drawn.json_value() > 2 * coarse["points"] or drawn.json_value() > 60_000
    page.get_by_role("button", name="Pin a note").click()
    room.framed = True
    page.wait_for_timeout(800)
    room.click_part((40, 2, 12), (0, 0, 1), tilt=(0.05, 0.05, 0))
    note = bench(page).get_by_label("Text of note 1")
    note.wait_for(timeout=30_000)
    note.fill("flat enough")
    note.press("Tab")
    bench(page).get_by_role("button", name="Keep this view").click()  # while the note is still on its way
    bench(page).get_by_label("Name of view 1").wait_for()
    expect(page.locator("[data-tag]")).to_contain_text("flat enough", timeout=30_000)
    pin = room.api("/checks/" + next(s["id"] for s in room.job()["stones"] if s["name"] == "Fine") + "/pins").json()[0]
    assert np.hypot(pin["shown"][0] - 40, pin["shown"][1] - 2) < 1.0 and abs(pin["shown"][2] - 12) < 0.3
    assert pin["face"] == "Base/top" and pin["step"] == "Base" and abs(pin["value"]) < 0.2
    # The note is what was measured there, and goes into the proof with the view.
    assert f"{pin['value']:+.3f}".replace("-", "−") in page.locator("[data-tag]").inner_text()
    bench(page).get_by_label("Name of the proof").fill("With a note")
    bench(page).get_by_role("button", name="Keep proof").click()
    bench(page).get_by_text("Kept. It is in the yard under Proofs.").wait_for()
    proof = room.api(f"/proofs/{room.api().json()['proofs'][0]['id']}").json()
    assert proof["pins"][0]["text"] == "flat enough" and proof["views"][0]["name"] == "View 1"
    png = room.api(f"/proofs/{proof['id']}/files/view.png")
    assert png.ok and png.body()[:4] == b"\x89PNG"


def test_sections_and_what_would_mend(page, opened):
    room = opened("Bracket, finished")
    stage(page, "Check")
    bench(page).get_by_role("button", name="Section", exact=True).click()
    field(page, "at").fill("6")
    field(page, "at").press("Tab")
    room.tried()
    bench(page).locator('[data-figure="rms"]').wait_for(timeout=60_000)
    room.lay("Section")
    told = room.summary("Section")
    # The plate's outline at its middle: 120 × 80 with round corners, and its bores.
    every = np.vstack([t["points"] for t in told["scan"]])
    assert np.ptp(every, axis=0) == pytest.approx(np.ptp(every, axis=0).round(), abs=0.3)
    circles = [
        e for e in told["model"] if e["kind"] == "circle" or (e["kind"] == "arc" and abs(e["radius"] - 4.25) < 0.3)
    ]
    assert circles and told["rms"] < 0.2 and told["places"] > 200
