"""Forms made from a kind's schema ask, refuse, show before and after, and lay; kinds need no form of their own."""

import re

import numpy as np
import pytest

from ..hostile.people import Person
from .room import Room
from .test_clean import bench, laid, room_figure, stage

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def own_job(server):
    """A job of these tests alone: the raw bracket as it was brought in."""
    person = Person(server.url)
    demo = next(j["id"] for j in person.get("/jobs") if j["name"] == "Chain guide bracket, raw")
    sha = next(s["record"]["sha256"] for s in person.get(f"/jobs/{demo}/stones") if s["kind"] == "scan")
    return person.job((server.folder / "blobs" / sha[:2] / sha).read_bytes(), "Forms")


@pytest.fixture
def raw(server, page, own_job):
    page.goto(f"{server.url}/jobs/{own_job}")
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    stage(page, "Clean")
    return Room(page, np.eye(4))


def undone(room, name):
    room.page.keyboard.press("Control+z")
    room.stone(name).wait_for(state="detached")


def test_decimate_asks_only_for_what_counts_and_says_what_it_costs(raw, page):
    bench(page).get_by_role("button", name="Decimate").first.click()
    bench(page).get_by_text("of all", exact=True).wait_for()
    page.locator('[data-figure="deviation_max"]').wait_for(timeout=60_000)
    before, after = (int(n.replace(",", "")) for n in room_figure(page, "triangles").split(" → "))
    assert after == pytest.approx(before / 4, rel=0.02)
    bench(page).get_by_role("button", name="a count").click()
    assert bench(page).get_by_text("of all", exact=True).count() == 0
    field = bench(page).get_by_label("leave")
    field.fill("2")  # fewer than a mesh has
    field.press("Tab")
    assert int(field.input_value()) > 3
    field.fill("5000")
    field.press("Tab")
    page.wait_for_function(
        "document.querySelector('[data-figure=triangles]')?.innerText.endsWith('→ 5,000')", timeout=60_000
    )
    bench(page).get_by_role("button", name="Moved").click()
    bench(page).get_by_text("full colour at ±").wait_for()
    bench(page).get_by_role("button", name="Before").click()
    drawn = "document.querySelector('canvas').mason.scan.geometry.getIndex().count / 3"
    page.wait_for_function(f"{drawn} > 20000")
    bench(page).get_by_role("button", name="After").click()
    page.wait_for_function(f"{drawn} === 5000")
    bench(page).get_by_role("button", name="Leave 5,000 triangles").click()
    laid(raw, "Decimate")
    assert raw.summary("Decimate")["triangles"] == 5000
    undone(raw, "Decimate")


def test_smooth_keeps_within_the_bound_it_is_given(raw, page):
    bench(page).get_by_role("button", name="Smooth").first.click()
    bench(page).get_by_text("4 × the scatter").wait_for()
    bench(page).get_by_label("bound").fill("0.02")
    bench(page).get_by_label("bound").press("Tab")
    page.wait_for_function(
        "document.querySelector('[data-figure=bound]')?.innerText.startsWith('0.020')", timeout=60_000
    )
    moved = float(room_figure(page, "moved_max").split()[0])
    assert 0.001 < moved <= 0.02001
    bench(page).get_by_role("button", name="Smooth the mesh").click()
    laid(raw, "Smooth")
    assert raw.summary("Smooth")["moved_max"] <= 0.02001
    undone(raw, "Smooth")


def test_a_stretch_is_closed_by_dragging_along_it_and_a_gap_by_a_strip(raw, page):
    """The rim lights up under the drag, and only that stretch closes."""
    bench(page).get_by_role("button", name="Bridge a gap").first.click()
    page.wait_for_function("document.querySelector('canvas').mason.layers.lines.lines.filter((l) => l.tag).length > 5")
    rim = page.evaluate(
        """() => {
            const s = document.querySelector('canvas').mason
            const rims = s.layers.lines.lines.filter((l) => l.tag && l.points.length > 30)
            const l = rims.reduce((a, b) => (a.points.length < b.points.length ? a : b))
            const n = l.points.length
            const middle = l.points.reduce((a, p) => a.add(p), l.points[0].clone().multiplyScalar(0)).divideScalar(n)
            const a = l.points[0].clone().sub(middle), b = l.points[Math.floor(n / 3)].clone().sub(middle)
            const facing = a.cross(b)
            const from = s.camera.position.clone().copy(facing)
            s.lookAlong(from); s.closeTo(middle.toArray(), l.points[0].distanceTo(middle) * 2.2)
            return { index: l.tag, points: l.points.map((p) => s.project(p.toArray())), n }
        }"""
    )
    box = page.locator("canvas").bounding_box()
    points = [(box["x"] + p["x"], box["y"] + p["y"]) for p in rim["points"]]
    part = points[: rim["n"] // 3]
    page.mouse.move(*part[0])
    page.mouse.down()
    for p in part[1:]:
        page.mouse.move(*p)
    lit = "document.querySelector('canvas').mason.layers.lines.lines.filter((l) => !l.tag && l.colour === 'saffron')"
    page.wait_for_function(f"{lit}.length === 1")
    assert page.evaluate(f"{lit}[0].points.length") == pytest.approx(rim["n"] // 3, abs=3)
    page.mouse.up()
    bench(page).get_by_text("dragged").wait_for()
    page.locator('[data-figure="added"]').or_(bench(page).get_by_role("alert")).first.wait_for(timeout=60_000)
    assert int(room_figure(page, "added").replace(",", "")) > 3
    before = len([x for x in raw.api("/stones").json() if x["kind"] == "scan"])
    assert before == 1
    bench(page).get_by_role("button", name="Lay bridge").click()
    laid(raw, "Bridge a gap")
    undone(raw, "Bridge a gap")


def test_undo_goes_back_across_kinds(raw, page):
    for name, verb in (("Remesh", "Lay even triangles"), ("Smooth", "Smooth the mesh")):
        bench(page).get_by_role("button", name=name).first.click()
        page.locator('[data-figure="deviation_max"], [data-figure="moved_max"]').first.wait_for(timeout=90_000)
        bench(page).get_by_role("button", name=re.compile(verb)).click()
        laid(raw, name)
    names = [s["name"] for s in raw.api().json()["stones"]]
    assert names[1:] == ["Remesh", "Smooth"]
    undone(raw, "Smooth")
    undone(raw, "Remesh")
    page.keyboard.press("Control+Shift+z")
    raw.stone("Remesh").wait_for()
    page.keyboard.press("Control+z")
    raw.stone("Remesh").wait_for(state="detached")
