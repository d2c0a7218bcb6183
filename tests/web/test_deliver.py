"""A pack is taken and verified: its scan, planes and bores fall on each other; its recipe opens as another job."""

import hashlib
import io
import re
import zipfile

import numpy as np
import pytest

from ..hostile.people import Person
from .test_story import shot

pytestmark = pytest.mark.browser


def bench(page):
    return page.get_by_role("complementary", name="Bench")


def test_a_pack_is_taken_and_falls_on_each_other_elsewhere(page, opened, server, tmp_path):
    import trimesh

    from deftmason.core.elements import Cylinder, Plane
    from deftmason.core.kernel.files import read_model
    from deftmason.core.kernel.surfaces import face_surfaces

    room = opened("Bracket, finished")
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Deliver", exact=True).click()
    # How many triangles a length gives is told before anything is written.
    counts = []
    for within in ("0.5", "0.005"):
        box = bench(page).get_by_label("Triangles within")
        box.fill(within)
        box.press("Tab")
        page.wait_for_timeout(300)
        page.locator('[data-figure="triangles"]').wait_for(timeout=60_000)
        counts.append(page.locator('[data-figure="triangles"]').inner_text())
    shot(page, "deliver")
    bench(page).get_by_role("button", name="As a pack").click()
    for name in ("STL", "Recipe with scans"):
        bench(page).get_by_role("checkbox", name=name, exact=True).first.check()
    bench(page).get_by_role("button", name=re.compile("^Pack ")).click()
    take = page.locator("[data-pack]")
    take.wait_for(timeout=240_000)
    with page.expect_download() as got:
        take.click()
    with zipfile.ZipFile(got.value.path()) as z:
        sums = dict(reversed(line.split("  ", 1)) for line in z.read("SHA256SUMS").decode().splitlines())
        names = set(z.namelist()) - {"SHA256SUMS", "CONTENTS.txt"}
        assert names == set(sums) >= {"model.step", "model.stl", "scan.ply", "elements.step", "drawing.pdf", "model.py"}
        for name in names:
            assert hashlib.sha256(z.read(name)).hexdigest() == sums[name], name
        told = z.read("CONTENTS.txt").decode()
        assert "millimetres" in told and "Part frame" in told and "model.step" in told
        z.extractall(tmp_path)
    # The STL is as fine as was asked.
    mesh = trimesh.load(tmp_path / "model.stl")
    assert mesh.is_watertight and len(mesh.faces) > 1000 and counts[0] != counts[1]
    model = read_model(str(tmp_path / "model.step"))
    assert abs(mesh.volume / model.volume - 1) < 1e-4
    # Scan, planes and bores as two readers see them, in one frame: the elements are the datums as they were read.
    elements = read_model(str(tmp_path / "elements.step"))
    scan = trimesh.load(tmp_path / "scan.ply", process=False)
    stones = {s["name"]: s["summary"] for s in room.job()["stones"]}
    matrix = np.array(stones["Part frame"]["matrix"])
    for s in face_surfaces(elements):
        p = stones[s.name]["parameters"]
        if isinstance(s.element, Plane):
            n = matrix[:3, :3] @ p["normal"]
            at = matrix[:3, :3] @ p["point"] + matrix[:3, 3]
            assert abs(abs(s.element.normal @ n) - 1) < 1e-12 and abs(s.element.normal @ (at - s.element.point)) < 1e-6
        elif isinstance(s.element, Cylinder):
            assert abs(s.element.radius - p["radius"]) < 1e-6
            at = matrix[:3, :3] @ p["point"] + matrix[:3, 3]
            off = at - s.element.point
            assert np.linalg.norm(off - (off @ s.element.direction) * s.element.direction) < 1e-6
    names = {s.name for s in face_surfaces(elements)}
    assert {"Seat face", "Long side", "Pivot bore"} <= names
    # Elements held back stay here; the others go alone.
    bench(page).get_by_role("button", name="Files").click()
    which = bench(page).locator("[data-which]")
    which.locator("summary").click()
    for box in which.get_by_role("checkbox").all()[1:]:
        box.uncheck()
    kept = which.get_by_role("checkbox").first.locator("..").inner_text().strip()
    with page.expect_download(timeout=120_000) as got:
        bench(page).get_by_role("link", name=re.compile("Elements, STEP")).click()
    got.value.save_as(tmp_path / "one.step")
    assert {s.name for s in face_surfaces(read_model(str(tmp_path / "one.step")))} == {kept}
    which.get_by_role("checkbox").first.uncheck()
    assert bench(page).get_by_role("link", name=re.compile("Elements, STEP")).count() == 0
    # The scan's own points about the seat lie on its plane as the datum says: by its scatter.
    seat = next(s.element for s in face_surfaces(elements) if s.name == "Seat face")
    v = np.asarray(scan.vertices)
    near = np.abs(seat.distance(v)) < 0.3
    assert near.sum() > 3000 and np.sqrt(np.mean(seat.distance(v[near]) ** 2)) < 0.08
    # And the recipe opens as a job of its own, with the same model.
    page.goto(server.url)
    page.get_by_label("Open a recipe").set_input_files(tmp_path / "recipe.zip")
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan", timeout=120_000)
    room.settled()
    again = next(s for s in room.job()["stones"] if s["name"] == "Foot rounding")["summary"]
    number = page.url.rstrip("/").rsplit("/", 1)[1]
    assert Person(server.url).ask("DELETE", f"/jobs/{number}").status_code == 200
    assert again["volume"] == pytest.approx(model.volume, rel=1e-9)


def test_drawings_go_out_true(page, opened, tmp_path):
    import ezdxf

    opened("Bracket, finished")
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Deliver", exact=True).click()

    def taken(name):
        with page.expect_download() as got:
            bench(page).get_by_role("link", name=name).click()
        with open(got.value.path(), "rb") as f:
            return f.read()

    (tmp_path / "sheet.dxf").write_bytes(taken("Drawings and elements: Sheet, DXF"))
    doc = ezdxf.readfile(tmp_path / "sheet.dxf")
    m = doc.modelspace()
    words = {t.dxf.text for t in m.query("TEXT")}
    # The plate as it was meant, and its four bores as one size.
    assert {"90", "60", "30", "4 × ⌀ 8.5"} <= words
    assert len(m.query('CIRCLE[layer=="seen"]')) >= 5 and len(m.query('LINE[layer=="hidden"]')) > 10
    assert len(m.query('LINE[layer=="hatch"]')) > 20
    pdf = taken("Drawings and elements: Sheet, PDF")
    import pypdfium2

    text = pypdfium2.PdfDocument(io.BytesIO(pdf))[0].get_textpage().get_text_range()
    assert "first angle" in text and "A – A" in text


def feature(page, name):
    return page.locator(f'[data-feature="{name}"]')


def test_a_transfer_with_an_unknown_feature_is_answered_each_way(page, opened):
    room = opened("Bracket, finished")
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Deliver", exact=True).click()
    bench(page).get_by_role("button", name="To a program").click()
    volumes = {s["name"]: s["summary"].get("volume") for s in room.job()["stones"]}

    def begin():
        page.locator("summary", has_text="What the other side does not know").click()
        bench(page).get_by_label("Does not know fillet").check()
        bench(page).get_by_role("button", name="Send the history").click()
        bench(page).get_by_role("button", name="Skip it").wait_for(timeout=120_000)
        assert "unknown" in feature(page, "Foot rounding").inner_text()
        assert "built" in feature(page, "Bores").inner_text() and "same volume" in feature(page, "Bores").inner_text()

    begin()
    bench(page).get_by_role("button", name="Skip it").click()
    page.get_by_text("1 of 7 features left out").wait_for(timeout=60_000)
    there = feature(page, "Foot rounding").inner_text()
    # What stands there is the body without its rounding, and it says by how much it differs.
    assert "skipped" in there and f"{volumes['Bores']:.1f}" in there and "% off" in there
    bench(page).get_by_role("button", name="End", exact=True).click()
    begin()
    bench(page).get_by_role("button", name="Send as its shape").click()
    page.get_by_text("All is there.").wait_for(timeout=60_000)
    there = feature(page, "Foot rounding").inner_text()
    assert "as shape" in there and f"{volumes['Foot rounding']:.1f}" in there and "same volume" in there
    bench(page).get_by_role("button", name="End", exact=True).click()
    begin()
    shot(page, "transfer")
    bench(page).get_by_label("Does not know fillet").uncheck()
    bench(page).get_by_role("button", name="Try again").click()
    page.get_by_text("All is there.").wait_for(timeout=60_000)
    there = feature(page, "Foot rounding").inner_text()
    assert "built" in there and "same volume" in there
    bench(page).get_by_role("button", name="Send elements made since").click()
    page.locator("[data-elements]").wait_for(timeout=60_000)
    bench(page).get_by_role("button", name="End", exact=True).click()
