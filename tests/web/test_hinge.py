"""The bent rowlock hinge, as a person would walk it: references that disagree, both orders of trust, another scan."""

import json
import re

import numpy as np
import pytest

from deftmason.core.scan.files import write_scan
from deftmason.demo.hinge import Hinge, hinge_scan

from .room import Room
from .test_frame import made_of, number, read
from .test_story import evidence

pytestmark = pytest.mark.browser
H = Hinge()
LEAF_TOP = H.under + H.saddle[2] / 2 + H.leaf[2] / 2


@pytest.fixture(scope="module")
def hinge_pose(server):
    return np.array(json.loads((server.folder / "demo-truth.json").read_text())["hinge"]["pose"])


def turn_deg(a, b) -> float:
    return float(np.degrees(np.arccos(np.clip(abs(np.dot(a, b)), 0, 1))))


def frame_on_part(room, pose, name="Hinge frame"):
    """The frame's axes and origin in the true part's coordinates."""
    m = np.linalg.inv(pose) @ np.linalg.inv(np.array(room.summary(name)["matrix"]))
    return m[:3, :3], m[:3, 3]


@pytest.mark.long
def test_the_hinges_zones_are_named_by_clicking(server, page, hinge_pose):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Rowlock hinge(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, hinge_pose)
    room.tool("Zones", "Read zones")
    page.locator('[data-figure="count"]').wait_for(timeout=120_000)
    page.wait_for_function("document.querySelector('canvas').mason.layers.zones.object")
    assert float(room.figure("covered").split()[0]) > 93
    surface = page.get_by_label("Surface", exact=True)
    mouth = H.lug_inner + H.lug_thick
    for point, look, name in [
        ((mouth - 2, 0, -H.bore / 2), (0.8, 0.1, 0.6), r"Bore ⌀ (11\.9|12\.0)"),
        ((H.lug_inner + 5, 0, H.lug), (0, 0, 1), r"R (10\.9|11\.0)|⌀ 2[12]\."),
        ((0, -45, LEAF_TOP), (0, 0, 1), "Flat face"),
        ((H.screw_x / 2, -47.2 + H.screw / 2, LEAF_TOP - 3), (0, -0.75, 0.65), r"Bore ⌀ 6\.[45]"),
    ]:
        room.click_part(point, look, tilt=(0, 0, 0))
        surface.get_by_role("heading", name=re.compile(name)).wait_for(timeout=20_000)
    page.keyboard.press("Escape")


@pytest.mark.long
def test_a_bent_hinge_in_both_orders_of_trust_and_on_another_scan(server, page, hinge_pose, tmp_path):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Rowlock hinge(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, hinge_pose)

    mouth = H.lug_inner + H.lug_thick
    for side, name in ((1, "Bore A"), (-1, "Bore B")):
        look = (0.8 * side, 0.1, 0.6)
        read(room, (side * (mouth - 2), 0, -H.bore / 2), look, name, "diameter", tilt=(0, 0, 0))
        assert number(room.figure("diameter").replace("⌀", "")) == pytest.approx(H.bore, abs=0.03)
        room.lay(name)
    made_of(room, "Bore A", "Bore B")
    room.name("Pin axis")
    room.lay("Pin axis")
    axis = room.summary("Pin axis")
    assert turn_deg(axis["parameters"]["direction"], hinge_pose[:3, 0]) < 0.05
    for name in ("Bore A", "Bore B"):
        bore = room.summary(name)
        assert abs(bore["parameters"]["radius"] - H.bore / 2) < 4 * bore["uncertainty"]["radius"] < 0.08

    room.tool("Frame", "Plane of symmetry")
    page.locator('[data-figure="share"]').wait_for(timeout=90_000)
    room.name("Middle")
    room.lay("Middle")
    middle = room.summary("Middle")["parameters"]
    assert turn_deg(middle["normal"], hinge_pose[:3, 0]) < 0.05
    assert abs((np.array(middle["point"]) - hinge_pose[:3, 3]) @ hinge_pose[:3, 0]) < 0.05

    read(room, (0, -45, LEAF_TOP), (0, 0, 1), "Leaf face")
    room.lay("Leaf face")
    made_of(room, "Middle", "Pin axis")
    assert room.figure("gives") == "point"
    room.name("Centre")
    room.lay("Centre")

    room.tool("Frame", "Measure")
    for slot, name in (("from", "Leaf face"), ("to", "Pin axis")):
        page.get_by_label(slot, exact=True).select_option(label=name)
    page.wait_for_function("document.querySelector('[data-figure=angle]')?.innerText.startsWith('0.')")
    assert number(room.figure("angle")) == pytest.approx(H.bend_deg, abs=0.05)
    page.keyboard.press("Escape")

    room.tool("Frame", "Set frame")
    page.locator("label:has-text('first') select").first.wait_for()
    for slot, name in (("first", "Leaf face"), ("second", "Pin axis"), ("origin", "Centre")):
        page.locator(f"label:has-text('{slot}') select").first.select_option(label=name)
    page.get_by_label("axis of the second datum").select_option("x")
    evidence(page).get_by_text("All six freedoms are held").wait_for()
    orders = page.get_by_label("Orders of trust")
    leaf, pin = (orders.get_by_role("row").filter(has_text=name) for name in ("Leaf face", "Pin axis"))
    leaf.wait_for()
    pin.wait_for()
    for row in (leaf, pin):
        assert abs(number(row.get_by_role("cell").nth(1).inner_text())) == pytest.approx(H.bend_deg, abs=0.05)
    moves = number(pin.get_by_role("cell").nth(2).inner_text())
    reach = np.hypot(H.saddle[0] / 2, abs(H.under))  # from the y axis through the origin: what 0.4° moves the farthest
    assert moves == pytest.approx(np.radians(H.bend_deg) * reach, rel=0.25)
    room.name("Hinge frame")
    pin.get_by_role("button").click()
    page.wait_for_function(
        "document.querySelector('[aria-label=\"Orders of trust\"] button[aria-pressed=true]')?.innerText == 'Pin axis'"
    )
    room.lay("Hinge frame")
    axes, origin = frame_on_part(room, hinge_pose)
    assert turn_deg(axes[:, 0], [1, 0, 0]) < 0.05 and np.abs(origin).max() < 0.06
    assert turn_deg(axes[:, 2], [0, 0, 1]) < 0.1

    second = tmp_path / "Hinge again.ply"
    write_scan(str(second), hinge_scan(0.8, seed=77)[0])
    before = room.summary("Pin axis")["parameters"]
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Scans", exact=True).click()
    bench = page.get_by_role("complementary", name="Bench")
    bench.get_by_role("button", name="Put another scan in its place").click()
    page.get_by_label("Choose scan files").set_input_files(str(second))
    bench.get_by_role("button", name="Lay it in its place").click(timeout=60_000)
    bench.get_by_text(re.compile("Another scan, laid onto the first one's place")).wait_for(timeout=120_000)
    for _ in range(240):
        stones = room.job()["stones"]
        if all(s["status"] in ("sound", "attention") for s in stones) and not room.api().json()["tasks"]:
            break
        page.wait_for_timeout(500)
    assert {s["status"] for s in stones} <= {"sound", "attention"}, [
        (s["name"], s["status"], s["says"]) for s in stones
    ]
    assert not np.allclose(room.summary("Pin axis")["parameters"]["point"], before["point"], atol=1e-6)
    axes, origin = frame_on_part(room, hinge_pose)
    assert turn_deg(axes[:, 0], [1, 0, 0]) < 0.1 and np.abs(origin).max() < 0.1
    page.keyboard.press("Control+z")


def test_a_suggested_frame_is_laid_with_its_datums(server, page, hinge_pose):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Rowlock hinge(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, hinge_pose)
    room.stage("Frame")
    page.get_by_role("button", name="Suggest frames").click()
    frames = page.get_by_label("Frames", exact=True).get_by_role("listitem")
    frames.first.wait_for(timeout=120_000)
    frames.filter(has_text="Along its main bore").get_by_role("button").click()
    page.get_by_role("button", name="Lay frame and its datums").click()
    room.stone("Part frame").wait_for()
    room.settled()
    axes, origin = frame_on_part(room, hinge_pose, "Part frame")
    assert turn_deg(axes[:, 2], [1, 0, 0]) < 0.3  # along the pin
    assert np.abs(origin[1:]).max() < 0.2  # zero on it
    names = [s["name"] for s in room.job()["stones"]]
    assert "Main bore" in names and any(n.startswith("Symmetry") for n in names)
    page.keyboard.press("Control+z")
    room.stone("Part frame").wait_for(state="detached")
    assert len(room.job()["stones"]) == 1  # one edit
