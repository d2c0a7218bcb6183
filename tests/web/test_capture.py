"""Half a winch hood captured with the rig, on screen: levelled and bounded by probe, scanned between planes over a line
that is lost, gone on with on a second visit, its circle and its rounding touched, mirrored and handed on.
"""

import os
import re
import time

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.demo.devices import hidden_pose, true_part
from deftmason.demo.hood import HOOD

from ..devices import Cuttable, started

pytestmark = pytest.mark.browser
SHOTS = os.environ.get("MASON_SHOTS", "")


@pytest.fixture(scope="module")
def line():
    with started("arm", "hood", "--speed", "4") as port:
        cuttable = Cuttable(port)
        yield cuttable
        cuttable.close()


@pytest.fixture(scope="module")
def truth():
    return ModelSurface(true_part("hood"))


def figure_of(text, sign):
    return float(re.search(rf"{sign} ([\d.]+)", text).group(1))


class Hand:
    """Touches and draws in the capture's view at places of the true part."""

    def __init__(self, page):
        self.page, self.pose = page, hidden_pose("hood").matrix
        self.box = page.locator("[data-capture] canvas").bounding_box()
        self.bench = page.get_by_role("complementary", name="Bench")

    @property
    def now(self):
        job, capture = self.page.url.split("/jobs/")[1].split("?capture=")
        return self.page.request.get(f"{self.page.url.split('/jobs/')[0]}/api/jobs/{job}/captures/{capture}").json()

    def level_place(self, p):
        at = self.pose[:3, :3] @ np.array(p, float) + self.pose[:3, 3]
        level = self.now["level"]
        if level is None:
            return at
        level = np.array(level)
        return level[:3, :3] @ at + level[:3, 3]

    def spot(self, p):
        canvas = self.page.locator("[data-capture] canvas")
        at = canvas.evaluate("(c, p) => c.mason.spot(p)", self.level_place(p).tolist())
        return self.box["x"] + at["x"], self.box["y"] + at["y"]

    def touch(self, *places):
        for p in places:
            before = self.waiting
            self.page.mouse.click(*self.spot(p))
            self.until(lambda b=before: self.waiting == b + 1)

    @property
    def waiting(self):
        return int(self.bench.locator('[data-figure="reading"]').inner_text().split()[0])

    def until(self, holds, most=30.0):
        end = time.monotonic() + most
        while not holds():
            assert time.monotonic() < end, "it did not come to be"
            self.page.wait_for_timeout(50)

    def drag(self, a, b):
        self.page.mouse.move(*self.spot(a))
        self.page.mouse.down()
        self.page.mouse.move(*self.spot(b), steps=4)
        self.page.mouse.up()

    def sideways(self, *pairs):
        """Led from a place to another, at the first one's height."""
        self.led("sideways, along a drag")
        for a, b in pairs:
            height = self.level_place(a) @ self.toward()
            self.bench.get_by_label("Height, towards you").fill(f"{height:.2f}")
            before = self.waiting
            self.drag(a, b)
            self.until(lambda b=before: self.waiting == b + 1)

    def toward(self):
        return np.array([0, 0, 1.0])  # all that is led sideways here is seen from above

    def led(self, how):
        self.bench.get_by_label("How the probe is led").select_option(label=how)

    def reads(self, as_):
        self.bench.get_by_label("Read the touches as").select_option(as_)

    def keep(self):
        """The reading, once it is kept."""
        reading = self.bench.locator('[data-figure="reading"]')
        button = self.bench.get_by_role("button", name="Keep it")
        self.until(button.is_enabled)
        text = reading.inner_text()
        button.click()
        self.until(lambda: self.waiting == 0)
        return text

    def do(self, what):
        self.bench.get_by_role("group", name="What to do").get_by_role("button", name=what).click()

    def look(self, side):
        self.page.get_by_role("group", name="Look from").get_by_role("button", name=side).click()
        self.settled()

    def settled(self):
        """The picture has come, and fits."""
        self.page.wait_for_timeout(150)
        canvas = self.page.locator("[data-capture] canvas")
        self.until(lambda: canvas.evaluate("(c) => c.mason.still()"))

    def still(self, most=90.0):
        self.until(lambda: not self.now["device"]["busy"] and self.now["device"]["state"] == "there", most)

    def things(self, what):
        return self.bench.locator(f'[data-thing="{what}"]')

    def shot(self, name):
        if SHOTS:
            self.page.wait_for_timeout(1800)
            self.page.screenshot(path=f"{SHOTS}/{name}.png")


def connect(hand, port):
    hand.bench.get_by_label("Address of the device").fill(f"127.0.0.1:{port}")
    hand.bench.get_by_role("button", name="Connect").click()
    hand.bench.locator("[data-device]").get_by_text("measuring arm").wait_for()


@pytest.mark.long
def test_half_a_hood_is_captured_with_the_rig(page, server, line, truth, tmp_path):
    page.goto(server.url)
    page.get_by_role("button", name="Capture a part").click()
    page.locator("[data-capture]").wait_for()
    hand = Hand(page)
    connect(hand, line.port)
    page.get_by_role("group", name="Look from").wait_for()
    hand.settled()

    # Level on the rails, turned along one, both their sides as planes.
    hand.touch((20, 58, 0), (120, 58, 0), (20, -58, 0), (120, -58, 0), (70, 58, 0))
    assert "scatter" in hand.keep()
    hand.look("above")
    hand.reads("line")
    hand.sideways(*(((x, 67, -2.5), (x, 60, -2.5)) for x in (15, 70, 125)))
    hand.keep()
    hand.settled()
    turn = np.array(hand.now["level"])[:3, :3] @ hidden_pose("hood").matrix[:3, :3]
    assert np.degrees(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1))) < 0.05  # as it was made
    hand.reads("plane")
    for y in (1, -1):
        hand.sideways(
            *(((x, 67 * y, z), (x, 60 * y, z)) for x, z in ((20, -1.6), (120, -1.6), (25, -3.4), (115, -3.4)))
        )
        hand.keep()
    hand.shot("capture-touched")

    # Boundaries on two views: the outline of half of it by probe, the other drawn from the front.
    hand.do("Bound")
    hand.bench.get_by_label("corners are touched").check()
    for p in ((3, -7, 44), (137, -7, 58), (137, 59, 0), (3, 59, 0)):
        before = len(hand.now["touches"])
        page.mouse.click(*hand.spot(p))
        hand.until(lambda b=before: len(hand.now["touches"]) == b + 1)
    hand.bench.get_by_role("button", name="Close it (4)").click()
    hand.things("boundary").wait_for()
    hand.bench.get_by_label("corners are touched").uncheck()
    hand.look("front")
    for p in ((2, 0, -4), (138, 0, -4), (138, 0, 63), (2, 0, 63)):
        page.mouse.click(*hand.spot(p))
    hand.bench.get_by_role("button", name="Close it (4)").click()
    hand.until(lambda: hand.things("boundary").count() == 2)

    # Planes with a reach, and the scanner within; the line is lost in the middle.
    hand.look("above")
    hand.do("Cut")
    hand.bench.get_by_label("Reach of a cut").fill("2")
    for x in (30, 70):
        hand.drag((x, -20, 50), (x, 70, 50))
    hand.until(lambda: hand.things("cut").count() == 2)
    hand.do("Scan")
    hand.bench.get_by_label("Width of the line").fill("45")
    hand.bench.get_by_role("button", name="Go over all of it").click()
    hand.until(lambda: hand.now["taken"] > 4000)
    hand.bench.get_by_role("button", name="Pause").click()
    hand.bench.get_by_role("button", name="Go on").click()
    hand.until(lambda: hand.now["device"]["busy"] == "sweeping")
    line.cut()
    hand.bench.locator("[data-device]").get_by_text("the line is lost").wait_for()
    taken = hand.now["taken"]
    page.wait_for_timeout(600)
    line.open.set()
    hand.still()
    hand.look("back")
    hand.bench.get_by_role("button", name="Go over all of it").click()
    hand.until(lambda: hand.now["device"]["busy"] == "sweeping")
    hand.still()
    now = hand.now
    assert now["taken"] > taken + 4000 and 500 < now["kept"] < 0.4 * now["taken"]
    hand.look("above")
    assert re.search(r"\d+ % seen", hand.things("boundary").first.inner_text())
    hand.shot("capture-scanned")

    # A second visit adds planes.
    hand.bench.get_by_role("button", name="Hang up").click()
    hand.bench.get_by_role("button", name="Close the capture").click()
    hand.bench.get_by_role("button", name="Capture 1").first.click()
    page.locator("[data-capture]").wait_for()
    connect(hand, line.port)
    hand.look("above")
    hand.do("Cut")
    hand.bench.get_by_label("How many cuts").fill("2")
    hand.bench.get_by_label("Apart").fill("25")
    hand.drag((90, -20, 50), (90, 70, 50))
    hand.until(lambda: hand.things("cut").count() == 4)
    hand.do("Scan")
    hand.bench.get_by_role("button", name="Go over all of it").click()
    hand.until(lambda: hand.now["device"]["busy"] == "sweeping")
    hand.still()
    cuts = [t for t in hand.now["things"] if t["what"] == "cut"]
    assert all(t["lines"] for t in cuts) and hand.now["visits"] == 2

    # Its circle and its rounding by probe.
    hand.do("Touch")
    hand.reads("circle")
    a = np.radians(np.arange(6) * 60 + 10)
    x, z = HOOD.lamp_x, 52.0
    hand.sideways(*(((x + 3 * np.cos(b), 3 * np.sin(b), z), (x + 11 * np.cos(b), 11 * np.sin(b), z)) for b in a))
    text = hand.keep()
    assert abs(figure_of(text, "⌀") - HOOD.lamp) < 0.05 and "inside" in text
    hand.reads("rounding")
    hand.led("in a row, along a drag")
    hand.bench.get_by_label("Touches in a row").fill("9")
    hand.drag((50, 41.8, 40), (50, 46.6, 40))
    hand.until(lambda: hand.waiting == 9)
    text = hand.keep()
    assert abs(figure_of(text, "R") - HOOD.rounding) < 0.25 and "outside" in text

    # The half is mirrored midway between the rails' sides, and all is handed on.
    for k in (1, 2):
        hand.bench.get_by_label(f"Mirror in Plane {k}").check()
    hand.bench.get_by_role("button", name="midway between").click()
    hand.things("mirrored").wait_for()
    hand.shot("capture")
    now = hand.now
    mirror = {k: np.array(v) for k, v in now["mirror"].items()}
    back = np.linalg.inv(np.array(now["level"]) @ hidden_pose("hood").matrix)
    assert abs((back[:3, :3] @ mirror["point"] + back[:3, 3])[1]) < 0.02
    with page.expect_download() as got:
        hand.bench.get_by_role("link", name="recording").click()
    got.value.save_as(tmp_path / "hood.capture")
    hand.bench.get_by_role("button", name="Hand it on to the job").click()
    page.locator("[data-capture]").wait_for(state="detached", timeout=60_000)
    job = page.url.split("/jobs/")[1].split("?")[0]
    stones = page.request.get(f"{server.url}/api/jobs/{job}/stones").json()
    end = time.monotonic() + 60
    while any(s["status"] == "pending" for s in stones) and time.monotonic() < end:
        page.wait_for_timeout(300)
        stones = page.request.get(f"{server.url}/api/jobs/{job}/stones").json()
    assert {s["status"] for s in stones} <= {"sound", "attention"}, [(s["name"], s["says"]) for s in stones]
    scan = next(s for s in stones if s["kind"] == "scan")
    assert scan["summary"]["points"] == 2 * now["kept"]
    sizes = {s["record"]["element"]: s["summary"] for s in stones if s["kind"] == "probed"}
    assert abs(2 * sizes["circle"]["parameters"]["radius"] - HOOD.lamp) < 0.05
    curves = [s for s in stones if s["kind"] == "curve"]
    assert len(curves) >= 4
    pose = hidden_pose("hood").inverse()
    for c in curves:
        away = np.abs(truth.distances(pose.points(np.array(c["summary"]["shown"]))).distance)
        assert np.median(away) < 0.06, (c["name"], np.median(away))
    hand.shot("capture-handed-on")

    # The recording plays again without its device.
    page.get_by_label("Play a recording").set_input_files(tmp_path / "hood.capture")
    page.locator("[data-capture]").wait_for()
    kept = hand.bench.locator('[data-figure="kept"]')
    hand.until(lambda: int(re.sub(r"\D", "", kept.inner_text())) == now["kept"])
    assert hand.bench.get_by_label("Address of the device").is_visible()
