"""Brushing with a finger and with a pen, and two fingers that move and zoom: what is marked is counted and measured."""

import json
import re

import numpy as np
import pytest

from .room import Room
from .test_clean import bench, open_job, stage
from .test_story import shot

pytestmark = pytest.mark.browser
_ACROSS = np.array([[-26.0, 16.0], [-12.0, 16.0]])  # on the bracket's flat underside


@pytest.fixture
def page(browser):
    """A page on a tablet."""
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, accept_downloads=True, bypass_csp=True, has_touch=True
    )
    p = context.new_page()
    p.set_default_timeout(60_000)
    p.wrong = []
    p.on("pageerror", lambda e: p.wrong.append(str(e)))
    yield p
    context.close()
    assert not p.wrong, p.wrong


class Hand:
    """What a hand does on the glass, told to the browser as its own input."""

    def __init__(self, page):
        self.page, self.to = page, page.context.new_cdp_session(page)

    def _touch(self, kind, places):
        points = [{"x": float(x), "y": float(y), "id": k} for k, (x, y) in enumerate(places)]
        self.to.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})

    def fingers(self, ways):
        """``ways``: of each finger the places it goes through, all of as many."""
        self._touch("touchStart", [w[0] for w in ways])
        for places in list(zip(*ways))[1:]:
            self._touch("touchMove", places)
        self._touch("touchEnd", [])

    def pen(self, way):
        for k, (x, y) in enumerate(way):
            kind = "mousePressed" if k == 0 else "mouseMoved"
            self._pen(kind, x, y)
        self._pen("mouseReleased", *way[-1])

    def _pen(self, kind, x, y):
        more = {"button": "left", "buttons": 1, "clickCount": 1, "pointerType": "pen", "force": 0.6}
        self.to.send("Input.dispatchMouseEvent", {"type": kind, "x": float(x), "y": float(y), **more})


def evenly(a, b, count=12):
    return np.linspace(a, b, count).tolist()


def test_a_finger_and_a_pen_brush_and_two_fingers_zoom(server, page):
    pose = json.loads((server.folder / "demo-truth.json").read_text())["bracket"]["pose"]
    open_job(server, page, "Chain guide bracket, raw")
    room, hand = Room(page, np.array(pose)), Hand(page)
    stage(page, "Clean")
    bench(page).get_by_role("button", name="Background").first.tap()
    bench(page).get_by_role("button", name="Outline").tap()
    page.get_by_label("Mark by").select_option("brush")
    page.get_by_label("Brush radius").fill("3")
    room.look((0, 0, -1))
    room.still()

    def at(x, y):
        p, _ = room.shown(np.array([x, y, 0.0]), np.array([0, 0, -1.0]))
        s = page.evaluate("(p) => document.querySelector('canvas').mason.project(p)", p)
        box = page.locator("canvas").bounding_box()
        return np.array([box["x"] + s["x"], box["y"] + s["y"]])

    def area():
        page.locator('[data-figure="marked"]').wait_for()
        page.wait_for_timeout(700)
        return float(re.search(r"([\d.]+) mm²", bench(page).inner_text()).group(1))

    stroke = 6 * 14 + np.pi * 9  # of a brush of 3 mm led over 14 mm
    hand.fingers([evenly(at(*_ACROSS[0]), at(*_ACROSS[1]))])
    by_finger = area()
    assert by_finger == pytest.approx(stroke, rel=0.12)

    # Two fingers spread: nearer, and nothing is marked by it.
    before = np.linalg.norm(at(*_ACROSS[1]) - at(*_ACROSS[0]))
    middle = at(-19, 16)
    hand.fingers([evenly(middle + [20 * s, 8 * s], middle + [44 * s, 17.6 * s]) for s in (-1, 1)])
    assert area() == by_finger
    after = np.linalg.norm(at(*_ACROSS[1]) - at(*_ACROSS[0]))
    assert after == pytest.approx(2.2 * before, rel=0.1)
    assert np.linalg.norm(at(-19, 16) - middle) < 12  # what lay between the fingers stays between them

    # The pen goes on beside the first stroke; together they are two strokes.
    low = [at(-26, 9), at(-12, 9)]
    hand.pen(evenly(*low))
    assert area() == pytest.approx(2 * stroke, rel=0.12)
    shot(page, "fingers")
    page.get_by_role("button", name="take away").tap()
    hand.pen(evenly(*low))
    assert area() == pytest.approx(by_finger, rel=0.03)
