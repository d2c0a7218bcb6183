"""Give first, then choose: what can be made of things picked with nothing in hand, with figures that are true."""

import re

import numpy as np
import pytest

from .room import Room

pytestmark = pytest.mark.browser


@pytest.fixture
def room(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.body")
    r = Room(page, np.eye(4))
    r.framed = True
    return r


def offers(page) -> dict[str, str]:
    """Title → figure of what is offered, best first, once all are weighed."""
    page.get_by_label("Results").get_by_role("listitem").first.wait_for(timeout=60_000)
    page.wait_for_function(
        "!document.querySelector('[aria-label=\"What can be made of this\"] [role=status]')", timeout=60_000
    )
    rows = page.get_by_label("Results").get_by_role("listitem").all_inner_texts()
    return {r.split("\n")[0]: " ".join(r.split("\n")[1:]) for r in rows}


def stage(page, name):
    page.get_by_role("navigation", name="Stages").get_by_role("button", name=name, exact=True).click()


def test_a_flat_face_is_a_plane_and_a_bore_an_axis(room, page):
    stage(page, "Frame")
    room.click_part((22, 9, 0), (0, 0, -1))
    found = offers(page)
    # A flat face is no cylinder, however well one fits; behind it is the crowned top of the boss, at 29.9.
    assert list(found) == ["Plane datum", "Wall thickness"]
    assert float(found["Wall thickness"].split()[0]) == pytest.approx(29.9, abs=0.15)
    area = float(re.search(r"flat over ([\d,]+)", found["Plane datum"])[1].replace(",", ""))
    assert area == pytest.approx(90 * 60 - 5 * np.pi * 36, rel=0.12)
    page.keyboard.press("Escape")
    tilted = (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65)
    room.click_part((-6 * np.cos(0.6), 6 * np.sin(0.6), 5), tilted, tilt=(0, 0, 0))
    found = offers(page)
    assert next(iter(found)) == "Axis datum"
    assert float(re.search(r"⌀ ([\d.]+)", found["Axis datum"])[1]) == pytest.approx(12, abs=0.02)
    # Enter takes the first to the bench, Enter again would lay it.
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Axis datum").wait_for()
    page.locator('[data-figure="diameter"]').wait_for()
    page.keyboard.press("Escape")


def test_two_datums_are_a_frame(room, page):
    stage(page, "Frame")
    yard = page.get_by_role("complementary", name="Yard")
    for name in ("Seat face", "Long side"):
        yard.get_by_role("button", name=name).click()
    page.get_by_label("Picked").get_by_role("listitem").nth(1).wait_for()
    found = offers(page)
    assert "open: move along x" in found["Frame"]
    off = float(re.search(r"([\d.]+)° apart", found["Frame"])[1])
    assert off < 0.15
    yard.get_by_role("button", name="Pivot bore").click()
    page.wait_for_function("document.body.innerText.includes('all six freedoms held')", timeout=30_000)
    page.keyboard.press("Escape")


def test_a_loop_of_a_sketch_is_a_cut_and_an_edge_a_fillet(room, page):
    page.locator('[data-stone="Base outline"]').click()
    page.wait_for_function("document.querySelector('canvas').mason.loops.length > 4")
    at = page.evaluate(
        """() => {
            const s = document.querySelector('canvas').mason
            s.lookAlong(s.camera.position.clone().set(0.1, -0.2, 1)); s.fit(false)
            const round = s.loops.map((l) => l.points).filter((p) => p.length > 40)
            const corner = round.reduce((a, b) => (a[0].x + a[0].y > b[0].x + b[0].y ? a : b))
            return s.project(corner[Math.floor(corner.length / 8)].toArray())
        }"""
    )
    box = page.locator("canvas").bounding_box()
    page.mouse.click(box["x"] + at["x"], box["y"] + at["y"])
    found = offers(page)
    assert list(found) == ["Extrude"] and "⌀ 8.5" in found["Extrude"]  # the bore is cut already
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Extrude").wait_for()
    assert page.get_by_label("⌀ 8.5 at 34, 20").is_checked() and not page.get_by_label("outermost").is_checked()
    page.keyboard.press("Escape")

    # An upper edge of the base, sharp in the model: its radius is read from the scan.
    page.keyboard.press("Escape")
    page.evaluate("() => { const s = document.querySelector('canvas').mason; s.layers.scan.object.visible = false }")
    page.get_by_role("button", name="scan", exact=True).click()
    name = page.evaluate(
        """() => {
            const s = document.querySelector('canvas').mason
            s.lookAlong(s.camera.position.clone().set(0.2, -1, 0.9)); s.fit(false)
            const long = s.layers.body.edges.filter((e) => e.name.every((n, k) => k > 1 || n.startsWith('Base/')))
                .filter((e) => Math.abs(e.points[0].y + 30) < 0.5 && Math.abs(e.points[0].z - 12) < 0.5)
                .sort((a, b) => b.points[0].distanceTo(b.points.at(-1)) - a.points[0].distanceTo(a.points.at(-1)))[0]
            const p = long.points[0].clone().lerp(long.points.at(-1), 0.4)
            return { at: s.project(p.toArray()), name: long.name }
        }"""
    )
    page.mouse.move(box["x"] + name["at"]["x"], box["y"] + name["at"]["y"] + 3)
    page.wait_for_function("document.querySelector('canvas').mason.layers.hover.label.startsWith('edge')")
    page.mouse.click(box["x"] + name["at"]["x"], box["y"] + name["at"]["y"] + 3)
    page.get_by_label("Picked").get_by_text("edge").wait_for()
    page.wait_for_function(
        "!document.querySelector('[aria-label=\"What can be made of this\"] [role=status]')", timeout=60_000
    )
    assert page.get_by_label("Picked").get_by_role("listitem").count() == 1
    page.keyboard.press("Escape")
