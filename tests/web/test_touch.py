"""Fingers and pens: one finger brushes, two move and zoom without a mark, a pen turned round takes away; what lies
under the pointer is named for who cannot see it.
"""

import json
import re

import numpy as np
import pytest

from .room import Room
from .test_clean import bench, open_job, room_figure, stage

pytestmark = pytest.mark.browser


@pytest.fixture
def truth(server):
    return json.loads((server.folder / "demo-truth.json").read_text())


def test_a_finger_brushes_two_fingers_zoom_and_a_pens_other_end_takes_away(server, truth, page):
    open_job(server, page, "Chain guide bracket, raw")
    room = Room(page, np.array(truth["bracket"]["pose"]))
    stage(page, "Clean")
    bench(page).get_by_role("button", name="Background").first.click()
    page.get_by_label("Mark by").select_option("brush")
    room.look([0, 0, -1.0])
    wire = page.context.new_cdp_session(page)

    def at(x, y):
        p, _ = room.shown(np.array([x, y, 0.0]), np.array([0, 0, -1.0]))
        s = page.evaluate("(p) => document.querySelector('canvas').mason.project(p)", p)
        box = page.locator("canvas").bounding_box()
        return box["x"] + s["x"], box["y"] + s["y"]

    def fingers(kind, *places):
        points = [{"x": x, "y": y, "id": k} for k, (x, y) in enumerate(places)]
        wire.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})

    def marked():
        page.locator('[data-figure="marked"]').wait_for()
        page.wait_for_timeout(700)
        return int(re.sub(r"\D", "", room_figure(page, "marked")) or 0)

    fingers("touchStart", at(-25, 10))
    for x in np.linspace(-25, -5, 12):
        fingers("touchMove", at(x, 10))
    fingers("touchEnd")
    brushed = marked()
    assert brushed > 20

    scale = page.evaluate("document.querySelector('canvas').mason.scale")
    (ax, ay), (bx, by) = at(-10, 0), at(10, 0)
    fingers("touchStart", (ax, ay))
    fingers("touchStart", (ax, ay), (bx, by))
    for k in range(1, 9):
        fingers("touchMove", (ax - 8 * k, ay), (bx + 8 * k, by))
    fingers("touchEnd")
    page.wait_for_timeout(300)
    nearer = page.evaluate("document.querySelector('canvas').mason.scale")
    assert nearer < 0.9 * scale
    assert marked() == brushed  # nothing was brushed meanwhile

    def pen(kind, spot, buttons):
        x, y = spot
        box = page.locator("canvas").bounding_box()
        page.evaluate(
            """([kind, x, y, buttons]) => {
                const c = document.querySelector('canvas')
                c.setPointerCapture = () => {}
                c.dispatchEvent(new PointerEvent(kind, { bubbles: true, pointerId: 7, pointerType: 'pen', clientX: x,
                    clientY: y, button: kind === 'pointermove' ? -1 : 5, buttons }))
            }""",
            [kind, x, y, buttons],
        )
        return box

    pen("pointerdown", at(-25, 10), 32)
    for x in np.linspace(-25, -15, 8):
        pen("pointermove", at(x, 10), 32)
    pen("pointerup", at(-15, 10), 0)
    assert 0 < marked() < brushed


def test_what_lies_under_the_pointer_is_named(server, truth, page):
    open_job(server, page, "Bracket, finished")
    stage(page, "Frame")
    box = page.locator("canvas").bounding_box()
    said = page.locator("[data-under]")
    found = set()
    for x in np.linspace(0.2, 0.8, 13):
        for y in np.linspace(0.2, 0.8, 9):
            page.mouse.move(box["x"] + x * box["width"], box["y"] + y * box["height"])
            found.add(said.inner_text().split(":")[0])
    assert any(w.startswith(("datum", "face", "edge")) for w in found), found
