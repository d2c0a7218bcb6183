"""Frame by its own tools, as a person would walk it: three planes by a click each, what is made of them, the frame."""

import re

import numpy as np
import pytest

from .room import Room
from .test_story import evidence

pytestmark = pytest.mark.browser


def number(text: str) -> float:
    return float(re.search(r"-?[\d.]+", text.replace("−", "-").replace(",", ""))[0])


@pytest.fixture
def room(server, page, pose):
    """The bracket's scan in a job of its own, nothing laid."""
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Chain guide bracket(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    before = page.evaluate("fetch('/api' + location.pathname).then((r) => r.json()).then((j) => j.stones.length)")
    room = Room(page, pose)
    yield room
    page.keyboard.press("Escape")
    while (
        page.evaluate("fetch('/api' + location.pathname).then((r) => r.json()).then((j) => j.stones.length)") > before
    ):
        page.keyboard.press("Control+z")
        page.wait_for_timeout(400)


def read(room, point, normal, name, figure="place", **look):
    room.tool("Frame", "Read a datum")
    room.click_part(point, normal, **look)
    room.page.locator(f'[data-figure="{figure}"]').wait_for()
    room.name(name)


def hold(page, way, name):
    page.get_by_label("held", exact=True).select_option(label=way)
    page.get_by_label("held to", exact=True).select_option(label=name)


def made_of(room, *names):
    room.tool("Frame", "Construct")
    for name in names:
        room.page.get_by_role("complementary", name="Yard").get_by_role("button", name=name).first.click()
        room.page.get_by_label("Made of").get_by_text(name).wait_for()
    room.page.locator('[data-figure="gives"]').wait_for()


def test_the_brackets_corner(room, page, pose):
    for point, normal, name in [
        ((22, 9, 0), (0, 0, -1), "Under"),
        ((10, -30, 5), (0, -1, 0), "Along"),
        ((-45, 5, 6), (-1, 0, 0), "Across"),
    ]:
        read(room, point, normal, name)
        room.lay(name)
    made_of(room, "Under", "Along")
    assert room.figure("gives") == "axis"
    # Each way says what it gives, and why it gives nothing.
    ways = page.get_by_label("Ways").get_by_role("listitem")
    line, middle, half = (ways.filter(has_text=t) for t in ("Line where", "Middle plane", "halves a corner"))
    line.get_by_text(re.compile(r"^axis · ± 0\.0\d+ mm · ± 0\.\d+°$")).wait_for()
    half.get_by_text(re.compile(r"^plane · ± 0\.0\d+ mm")).wait_for()
    middle.get_by_text("lean too far for a middle plane").wait_for()
    assert number(room.figure("between them")) == pytest.approx(90, abs=0.2)
    room.name("Lower edge")
    room.lay("Lower edge")
    made_of(room, "Under", "Along", "Across")
    assert room.figure("gives") == "point"
    room.name("Corner")
    room.lay("Corner")
    corner = np.array(room.summary("Corner")["parameters"]["point"])
    true = (pose @ [-45, -30, 0, 1])[:3]
    assert np.linalg.norm(corner - true) < 0.1
    sigma = np.linalg.norm(room.summary("Corner")["uncertainty"]["point"])
    assert 0 < sigma < 0.1 and np.linalg.norm(corner - true) < 4 * sigma

    room.tool("Frame", "Measure")
    for slot, name in (("from", "Under"), ("to", "Along")):
        page.get_by_label(slot, exact=True).select_option(label=name)
    page.wait_for_function(
        "document.querySelector('[data-figure=angle]')?.innerText.startsWith('9')"
        " || document.querySelector('[data-figure=angle]')?.innerText.startsWith('89')"
    )
    angle, off = re.match(r"([\d.]+) ± ([\d.]+)°", room.figure("angle")).groups()
    assert abs(float(angle) - 90) < max(3 * float(off), 0.02) and float(off) < 0.2
    assert room.figure("distance") == "they cross"
    room.name("Square?")
    page.get_by_role("complementary", name="Bench").get_by_role("button", name="Keep the note").click()
    room.stone("Square?").wait_for(timeout=60_000)

    room.tool("Frame", "Set frame")
    for slot, name in (("first", "Under"), ("second", "Along"), ("origin", "Corner")):
        page.get_by_label(slot, exact=False).first.wait_for()
        page.locator(f"label:has-text('{slot}') select").first.select_option(label=name)
    evidence(page).get_by_text("All six freedoms are held").wait_for()
    orders = page.get_by_label("Orders of trust")
    orders.get_by_role("row").nth(2).wait_for()
    assert number(orders.get_by_role("row").nth(2).inner_text().split("edge")[-1]) < 0.3  # the part hardly moves
    room.name("Corner frame")
    room.lay("Corner frame")
    frame = np.array(room.summary("Corner frame")["matrix"]) @ pose
    assert np.abs(frame[:3, :3] - np.eye(3)).max() < 0.002
    assert np.abs(frame[:3, 3] - [45, 30, 0]).max() < 0.1


def test_a_bore_and_a_cone_held_along_a_plane(room, page):
    read(room, (22, 9, 0), (0, 0, -1), "Floor")
    room.lay("Floor")
    slant = (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65)
    read(room, (-6 * np.cos(0.6), 6 * np.sin(0.6), 5), slant, "Upright bore", "diameter", tilt=(0, 0, 0))
    free = number(room.figure("diameter").replace("⌀", ""))
    assert free == pytest.approx(12, abs=0.02)
    page.get_by_text("Hold it").click()
    hold(page, "along", "Floor")
    page.wait_for_function("document.querySelector('[data-figure=scatter]')?.innerText.includes('free')")
    room.lay("Upright bore")
    held, floor = room.summary("Upright bore"), room.summary("Floor")
    axis, normal = np.array(held["parameters"]["direction"]), np.array(floor["parameters"]["normal"])
    assert abs(axis @ normal) == pytest.approx(1, abs=1e-12)
    assert 2 * held["parameters"]["radius"] == pytest.approx(12, abs=0.03)
    # A drafted corner round: the likeliest is a cone, a cylinder would scatter more; held upright it is one still.
    read(room, (-22.8, -15.9, 22.3), (-0.7, -0.7, 0.1), "Drafted round", "half angle", tilt=(0, 0, 0))
    could = page.get_by_label("It could be")
    first, second = (could.get_by_role("listitem").nth(k).inner_text() for k in (0, 1))
    assert first.startswith("Cone") and second.startswith("Bore or boss")
    assert number(second.split("scatter")[1]) > number(first.split("scatter")[1])
    page.get_by_text("Hold it").click()
    hold(page, "along", "Floor")
    page.wait_for_function("document.querySelector('[data-figure=scatter]')?.innerText.includes('free')")
    room.lay("Drafted round")
    cone = room.summary("Drafted round")["parameters"]
    assert abs(np.array(cone["direction"]) @ normal) == pytest.approx(1, abs=1e-12)
    assert cone["half_angle_deg"] == pytest.approx(2.0, abs=1.2)


def test_a_narrow_rounding_is_told_by_its_sides(room):
    """Five facets of it between the plate and a leaning side; alone it came out R 2.6, told as sure."""
    read(room, (3, -19.46, 12.73), (0, -0.7, 0.7), "Foot", figure="diameter")
    assert room.figure("between").endswith("on either side: two flat sides.")
    room.lay("Foot")
    told = room.summary("Foot")
    assert told["element"] == "cylinder"
    off, sigma = told["parameters"]["radius"] - 2.5, told["uncertainty"]["radius"]
    assert abs(off) < 0.06 and abs(off) < 3 * sigma and sigma < 0.1


def test_outlines_and_walls(room, page):
    """The pocket as a rectangle with its rounded corners, the pivot as a circle; how thick the plate is."""
    read(room, (22, 9, 0), (0, 0, -1), "Floor")
    room.lay("Floor")
    room.tool("Frame", "Read an outline")
    room.click_part((3, 9, 22), (0, -0.8, 0.6), tilt=(0, 0, 0))
    page.locator('[data-figure="corner"]').wait_for()
    page.get_by_label("on plane", exact=True).select_option(label="Floor")
    room.tried()
    room.name("Pocket")
    room.lay("Pocket")
    told = room.summary("Pocket")
    p, off = told["parameters"], told["uncertainty"]
    assert told["element"] == "rectangle"
    for key, true in (("length", 32), ("width", 18), ("corner", 5)):
        assert p[key] == pytest.approx(true, abs=max(3 * off[key], 0.01)) and off[key] < 0.06
    middle = np.linalg.inv(room.pose) @ [*p["center"], 1]
    assert np.abs(middle[:2]).max() < 0.03 and abs(middle[2]) < 0.05  # on the floor, below the pocket's middle

    # With nothing in hand the wall of the pivot says what can be made of it.
    slant = (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65)
    room.click_part((-6 * np.cos(0.6), 6 * np.sin(0.6), 5), slant, tilt=(0, 0, 0))
    results = page.get_by_label("Results")
    circle = results.get_by_role("button", name=re.compile("^Circle"))
    circle.wait_for()
    assert number(circle.inner_text().split("⌀")[1]) == pytest.approx(12, abs=0.03)
    page.keyboard.press("Escape")

    room.tool("Frame", "Wall thickness")
    room.click_part((40, 0, 12), (0, 0, 1))
    page.locator('[data-figure="distance"]').wait_for()
    thick, sigma = re.match(r"([\d.]+) ± ([\d.]+)", room.figure("distance")).groups()
    assert float(thick) == pytest.approx(12, abs=max(1.5 * float(sigma), 0.03)) and float(sigma) < 0.15
    room.name("Plate here")
    page.get_by_role("complementary", name="Bench").get_by_role("button", name="Keep the note").click()
    room.stone("Plate here").wait_for()


def test_edges_are_datums_and_are_measured(room, page, pose):
    """A straight edge and a bore's rim, each by one click near it, and how far they lie apart."""
    for place, normal, name, kind in [
        ((10, -29.6, 0), (0, -0.3, -1), "Low edge", "straight edge"),
        ((6.15, 0, 0), (0, 0, -1), "Rim", "round edge"),
    ]:
        room.tool("Frame", "Read an edge")
        room.click_part(place, normal, tilt=(0, 0, 0))
        page.locator('[data-figure="edge"]').wait_for()
        assert room.figure("edge") == kind
        room.name(name)
        room.lay(name)
    low, rim = room.summary("Low edge"), room.summary("Rim")
    assert np.abs(pose[:3, 0] @ low["parameters"]["direction"]) > np.cos(np.radians(0.1))
    assert 70 < low["length"] < 92 and low["turn_deg"] == pytest.approx(90, abs=0.2)
    assert rim["parameters"]["radius"] == pytest.approx(6, abs=4 * rim["uncertainty"]["radius"])
    assert rim["uncertainty"]["radius"] < 0.03 and rim["span_deg"] > 359
    room.tool("Frame", "Measure")
    for slot, name in (("from", "Low edge"), ("to", "Rim")):
        page.get_by_label(slot, exact=True).select_option(label=name)
    page.wait_for_function("document.querySelector('[data-figure=distance]')?.innerText.match(/^(30|29)/)")
    distance, off = re.match(r"([\d.]+) ± ([\d.]+)", room.figure("distance")).groups()
    assert float(distance) == pytest.approx(30, abs=max(2 * float(off), 0.03)) and float(off) < 0.1


def test_from_one_click_its_edge_or_the_point_itself_is_taken_instead(room, page, pose):
    read(room, (-25, -29, 0), (0, 0, -1), "Floor", tilt=(0, 0, 0))
    page.get_by_role("button", name="the edge beside it").click()
    page.locator('[data-figure="edge"]').wait_for()
    assert room.figure("edge") == "straight edge"
    page.keyboard.press("Escape")
    read(room, (-25, -20, 0), (0, 0, -1), "Floor", tilt=(0, 0, 0))
    page.get_by_role("button", name="this point").click()
    page.locator('[data-figure="at"]').wait_for()
    room.name("Spot")
    room.lay("Spot")
    told = room.summary("Spot")
    place = (np.linalg.inv(pose) @ [*told["parameters"]["point"], 1])[:3]
    assert np.abs(place[:2] - [-25, -20]).max() < 0.5
    assert abs(place[2]) < 4 * told["place_uncertainty"] < 0.2


def test_a_pick_is_brushed(room, page):
    """A stroke off the pick leaves fewer facets, one on it brings them back, and what is laid keeps both."""
    read(room, (22, 9, 0), (0, 0, -1), "Floor")
    whole = number(room.figure("facets"))
    page.get_by_role("button", name=re.compile("^brush")).click()
    page.get_by_label("Brush radius").fill("4")

    def stroke(how):
        page.get_by_label(how, exact=True).click()
        box = page.locator("canvas").bounding_box()
        ends = page.evaluate(
            """(ends) => ends.map((p) => document.querySelector('canvas').mason.project(p))""",
            [room.shown(np.array(p, float), np.zeros(3))[0] for p in ((-14, 12, 0), (14, 12, 0))],
        )
        (x, y), (u, v) = ((box["x"] + e["x"], box["y"] + e["y"]) for e in ends)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(u, v, steps=12)
        page.mouse.up()
        room.tried()

    stroke("take away")
    less = number(room.figure("facets"))
    # What a brush 8 mm wide passes over 28 mm, of 4,760 mm² in all.
    assert (whole - less) / whole == pytest.approx((28 * 8 + np.pi * 16) / 4760, rel=0.25)
    stroke("add")
    assert number(room.figure("facets")) == pytest.approx(whole, rel=0.002)
    page.get_by_role("toolbar", name="Marking").get_by_role("button", name="Back").click()
    room.tried()
    assert number(room.figure("facets")) == less
    # Held down, B gives the brush to the hand, and gives it back.
    page.get_by_role("button", name=re.compile("^brush")).click()
    page.get_by_role("toolbar", name="Marking").wait_for(state="detached")
    page.keyboard.down("b")
    page.get_by_role("toolbar", name="Marking").wait_for()
    page.keyboard.up("b")
    page.get_by_role("toolbar", name="Marking").wait_for(state="detached")
    room.lay("Floor")
    told = next(s for s in room.job()["stones"] if s["name"] == "Floor")
    assert told["summary"]["facets"] == less
    assert [m["how"] for m in told["record"]["pick"]["marks"]] == ["take away"]


def test_a_bore_about_another_ones_axis_and_what_was_set_aside(room, page):
    slant = (np.cos(0.6) * 0.75, -np.sin(0.6) * 0.75, -0.65)
    read(room, (-6 * np.cos(0.6), 6 * np.sin(0.6), 5), slant, "Pivot", "diameter", tilt=(0, 0, 0))
    room.lay("Pivot")
    read(room, (-6 * np.cos(0.6), 6 * np.sin(0.6), 8), slant, "Again", "diameter", tilt=(0, 0, 0))
    page.get_by_text("Hold it").click()
    hold(page, "about the axis of", "Pivot")
    page.locator('[data-figure="held costs"]').wait_for()
    room.tried()
    room.lay("Again")
    a, b = (room.summary(n)["parameters"] for n in ("Pivot", "Again"))
    assert np.linalg.norm(np.cross(a["direction"], b["direction"])) < 1e-9
    assert np.linalg.norm(np.cross(np.subtract(b["point"], a["point"]), a["direction"])) < 1e-6


def test_open_freedoms_are_tried_by_dragging(room, page):
    read(room, (22, 9, 0), (0, 0, -1), "Floor")
    room.lay("Floor")
    room.tool("Frame", "Set frame")
    turn = page.get_by_label("try turn about z")
    turn.wait_for()
    matrix = "document.querySelector('canvas').mason.layers.scan.spec.matrix"
    before = np.array(page.evaluate(matrix))
    turn.fill("90")
    page.wait_for_function(f"Math.abs({matrix}[0][0] - {before[0, 0]}) > 1e-6")
    after = np.array(page.evaluate(matrix))
    assert after[:3, :3] @ before[:3, :3].T == pytest.approx(np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1]]), abs=1e-9)
    room.name("Open frame")
    room.lay("Open frame")
    assert np.array(room.summary("Open frame")["matrix"]) == pytest.approx(before, abs=1e-9)  # only looked at


def test_a_plane_square_to_the_edge_of_a_sketch_that_is_clicked(server, page):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("Bracket, finished")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.framed = True
    room.tool("Frame", "Plane across a curve")
    page.wait_for_function("document.querySelector('[data-figure=along]')?.innerText.endsWith('of 38.00 mm')")
    room.click_part((45, 5, 12.5), (0, 0, 1), tilt=(0, 0, 0))
    page.wait_for_function("document.querySelector('[data-figure=along]')?.innerText.endsWith('of 24.00 mm')")
    before = number(room.figure("along"))  # the boss is 38 by 24 between its rounds
    assert min(abs(before - 17), abs(before - 7)) < 0.1
    room.name("Square to the side")
    room.lay("Square to the side")
    told, frame = room.summary("Square to the side"), np.array(room.summary("Part frame")["matrix"])
    assert abs(frame[:3, :3] @ told["parameters"]["normal"]) == pytest.approx([0, 1, 0], abs=1e-6)
    assert (frame @ [*told["parameters"]["point"], 1])[1] == pytest.approx(5, abs=0.1)
