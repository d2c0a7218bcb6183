"""What a person draws on the paper, held against the true parts: a silhouette, a turned profile, slots and windows,
what cannot hold together, a crowned edge.
"""

import re

import numpy as np
import pytest

from deftmason.core.scan.files import write_scan
from deftmason.demo.bracket_sizes import Bracket
from deftmason.demo.pump_cap import PumpCap

from ..sprocket import Sprocket, sprocket_outline, sprocket_scan
from .paper import TRACE, Paper, upload_job
from .room import Room
from .test_story import chips, choose, evidence, shot

pytestmark = pytest.mark.browser
CAP = PumpCap()
S = Sprocket()


def opened(server, page, job, stage_tool):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile(job)).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.tool("Sketch", stage_tool)
    paper = Paper(page)
    paper.traced()
    return room, paper


def told(room, name):
    return room.summary(name)


def test_a_rectangle_and_a_circle_on_the_silhouette(server, page):
    room, paper = opened(server, page, "Bracket, finished", "Sketch on the silhouette")
    paper.follow("rectangle")
    for place in ((0, -30), (45, 5), (5, 30), (-45, 0)):
        paper.click(*place)
    paper.count(4)
    paper.take("draw", "circle")
    paper.click(45, 0)
    paper.click(57, 0)
    paper.count(5)
    paper.take("change", "trim")
    paper.click(45, 4)
    paper.count(6)
    paper.settled()
    paper.click(57, 0)
    paper.settled()
    paper.put_down()
    assert paper.entities()["e5"][0] == "arc", paper.bench.inner_text()
    # A size and a relation on what was trimmed.
    paper.click(33, 0)
    paper.bench.get_by_role("button", name="Measure radius").click()
    paper.settled()
    choose(page, "radius", 10)
    paper.settled()
    assert chips(page)["radius"] == 10
    shot(page, "sketch")
    room.name("Seen from above")
    room.lay("Seen from above")
    s = told(room, "Seen from above")
    by = {e["id"]: e for e in s["geometry"]}
    assert len(s["loops"]) == 1 and len(s["loops"][0]) == 6
    assert by["e5"]["radius"] == pytest.approx(10, abs=1e-6)
    lines = [e for e in s["geometry"] if e["kind"] == "line"]
    x = [p[0] for e in lines for p in (e["start"], e["end"])]
    y = [p[1] for e in lines for p in (e["start"], e["end"])]
    assert max(x) - min(x) == pytest.approx(90, abs=0.06) and max(y) - min(y) == pytest.approx(60, abs=0.06)


def test_a_paper_on_the_model_with_its_edges_and_only_some_of_the_scan(server, page):
    b = Bracket()
    room, paper = opened(server, page, "Bracket, finished", "Sketch on a cut")
    room.framed = True
    paper.bench.get_by_label("Or by a datum").select_option(label="a face of the model…")
    room.click_part([38, 0, b.plate], [0, 0, 1])
    foot = page.locator(".paper-foot")
    foot.get_by_text("square to Base/top").wait_for()
    paper.settled()
    assert "clean cut" in paper.bench.get_by_role("status").first.inner_text()
    # Above the foot's rounding: the boss alone, leaning as it does.
    paper.bench.get_by_label("Height of the plane, mm").fill("6")
    page.keyboard.press("Enter")
    foot.get_by_text("at 6.00 mm").wait_for()
    paper.settled()
    # One edge of the model by a click in the view, and what is drawn is held to it.
    paper.bench.get_by_label("See something else on the paper").select_option(label="edges of the model, by click…")
    room.click_part([b.bolt_x / 2 - b.bolt / 2, b.bolt_y / 2, b.plate], [0, 0, 1])
    seen = page.locator("[data-seen]")
    seen.first.wait_for(state="attached")
    paper.bench.get_by_text(re.compile("^edge of .* seen here")).wait_for()
    paper.take("draw", "circle")
    paper.click(b.bolt_x / 2 + 1.5, b.bolt_y / 2 + 1.0)
    paper.click(b.bolt_x / 2 + 8, b.bolt_y / 2 + 1.0)
    paper.count(1)
    paper.settled()
    paper.put_down()
    paper.click(b.bolt_x / 2 + 8, b.bolt_y / 2 + 1.0)
    paper.click(b.bolt_x / 2 - b.bolt / 2, b.bolt_y / 2, shift=True)
    paper.bench.get_by_role("button", name="Hold concentric").click()
    paper.settled()
    paper.put_down()
    # Only the boss's long side is traced, and the whole trace is one straight piece.
    paper.bench.get_by_role("button", name=re.compile("^traced")).click()
    y = b.boss_width / 2
    room.click_part([-8, -y + 0.3, b.plate + 6], [0, -1, 0.2])
    paper.bench.get_by_text("only what one mark takes").wait_for()
    paper.settled()
    paper.follow("line")
    page.wait_for_timeout(400)
    paper.click(4, -y + 0.1)
    paper.count(2)
    paper.settled()
    paper.put_down()
    # What it would sweep, on the scan: the side that was traced lies on it.
    foot.get_by_role("button", name="on the scan").click()
    foot.get_by_text("walls off it").wait_for()
    shot(page, "sketch-face")
    name = next(iter(e.get_attribute("data-seen") for e in seen.all()))
    room.name("On the plate")
    room.lay("On the plate")
    told_ = told(room, "On the plate")
    by = {e["kind"]: e for e in told_["geometry"]}
    assert by["circle"]["center"] == pytest.approx([b.bolt_x / 2, b.bolt_y / 2], abs=0.01)
    assert any(set(r["of"]) == {by["circle"]["id"], name} for r in told_["relations"])
    mid = np.add(by["line"]["start"], by["line"]["end"]) / 2
    lean = np.tan(np.radians(b.draft_deg)) * (b.plate + 6 - b.boss_level)
    assert abs(mid[1]) == pytest.approx(y - lean, abs=0.02)


@pytest.mark.long
def test_a_turned_profile_with_its_axis_and_a_flanks_angle(server, page):
    room, paper = opened(server, page, "Pump cap(?!,)", "Sketch on a turned profile")
    paper.follow("line")
    p = CAP.profile
    for a, b in ((13, 14), (12, 13), (11, 12)):  # top, flank, barrel: joined by themselves
        a, b = np.array(p[a], float), np.array(p[b], float)
        paper.brush([a + t * (b - a) for t in np.linspace(0.12, 0.88, 12)])
        paper.settled()
    paper.count(3)
    paper.put_down()
    # The upper face's free end onto the axis.
    top = float(p[-1][1])
    d = page.locator("[data-entity=e1]").get_attribute("d")
    ends = [(float(x), -float(y)) for x, y in re.findall(r"[ML](\S+) ([^L]+)", d)]
    paper.drag(min(ends), (0.0, top + 0.1))
    paper.settled()
    paper.take("draw", "centre line")
    paper.click(0, 2)
    paper.click(0, 20)
    paper.count(4)
    paper.settled()
    paper.put_down()
    flank = 0.5 * (np.array(p[12], float) + np.array(p[13], float))
    paper.click(*flank)
    paper.click(0, 11, shift=True)
    paper.bench.get_by_role("button", name="Measure angle").click()
    paper.settled()
    found = chips(page)
    assert found["angle"] == pytest.approx(CAP.flank_deg, abs=0.35)
    shot(page, "sketch-turned")
    room.name("Profile")
    room.lay("Profile")
    s = told(room, "Profile")
    by = {e["id"]: e for e in s["geometry"]}
    assert min(abs(by["e1"]["start"][0]), abs(by["e1"]["end"][0])) < 1e-6  # on the axis
    r = [x for e in ("e3",) for x in (by[e]["start"][0], by[e]["end"][0])]
    assert r == pytest.approx([25, 25], abs=0.02)
    corner = {tuple(np.round(by["e2"][k], 6)) for k in ("start", "end")}
    assert corner & {tuple(np.round(by["e1"][k], 6)) for k in ("start", "end")}  # joined by themselves
    angle = next(z for z in s["sizes"] if z["kind"] == "angle")
    assert angle["measured"] == pytest.approx(CAP.flank_deg, abs=3 * angle["uncertainty"] + 0.05)


@pytest.fixture(scope="module")
def sprocket_bytes(tmp_path_factory):
    path = tmp_path_factory.mktemp("sprocket") / "Sprocket.ply"
    write_scan(str(path), sprocket_scan())
    return path.read_bytes()


def sprocket_steps():
    def datum(name, kind, place, normal, rule):
        pick = {"place": place, "normal": normal, "rule": rule}
        return {"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "element": kind, "pick": pick}

    h = S.thick / 2
    return [
        datum("face", "plane", [0, 20, 0], [0, 0, -1], "same facing"),
        datum("bore", "cylinder", [0, S.bore / 2, h], [0, -1, 0], "same bend"),
        datum("side", "plane", [S.slot[2] + S.slot[0] / 2, 0, h], [-1, 0, 0], "same facing"),
        {
            "id": "frame",
            "kind": "frame",
            "name": "Frame",
            "first": "face",
            "second": "side",
            "second_axis": "x",
            "origin": "bore",
        },
    ]


@pytest.mark.long
def test_a_slot_and_a_window_offset_and_made_a_guide(server, page, sprocket_bytes):
    url = upload_job(server, "Sprocket", "Sprocket.ply", sprocket_bytes, sprocket_steps())
    page.goto(url)
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room, paper = Room(page, np.eye(4)), Paper(page)
    room.tool("Sketch", "Sketch on a cut")
    paper.traced()
    page.wait_for_timeout(1500)  # it begins at the nearest clean cut
    m = np.array(room.summary("Frame")["matrix"])
    side = np.sign(m[0, 0])  # which way the frame took x
    wide, long, x = S.slot
    paper.follow("slot")
    paper.click(side * (x + wide / 2), 0)
    paper.count(4)
    paper.settled()
    paper.follow("rounded rectangle")
    w, h, r, at = S.window
    paper.click(side * (at + w / 2), 0)
    paper.count(12)
    paper.settled()
    paper.put_down()
    paper.take("change", "offset")
    paper.number("outward", 2.0)
    paper.click(side * (at + w / 2), 3)
    paper.count(20)
    paper.settled()
    paper.put_down()
    for name in ("e5", "e6", "e7", "e8", "e9", "e10", "e11", "e12"):
        box = page.locator(f"[data-entity={name}]").first.bounding_box()
        assert box
    paper.click(side * (at + w / 2), 3)
    paper.take("change", "only a guide")
    page.locator("g:has(> [data-entity]) > path[stroke-dasharray]").first.wait_for(state="attached")
    paper.settled()
    room.name("Openings")
    room.lay("Openings")
    s = told(room, "Openings")
    by = {e["id"]: e for e in s["geometry"]}
    assert any(z["kind"] == "vertical" and z["of"][0] in ("e1", "e3") for z in s["relations"])  # the slot's long axis
    slot = [by[f"e{k}"] for k in (1, 2, 3, 4)]
    radii = [e["radius"] for e in slot if e["kind"] == "arc"]
    assert radii == pytest.approx([wide / 2] * 2, abs=0.02)
    centres = [e["center"] for e in slot if e["kind"] == "arc"]
    assert abs(centres[0][1] - centres[1][1]) == pytest.approx(long - wide, abs=0.04)
    assert centres[0][0] == pytest.approx(centres[1][0], abs=1e-6)  # along y
    grown = [by[f"e{k}"] for k in range(13, 21)]
    assert sorted(e["radius"] for e in grown if e["kind"] == "arc") == pytest.approx([r + 2] * 4, abs=0.06)
    xs = [p[0] for e in grown if e["kind"] == "line" for p in (e["start"], e["end"])]
    ys = [p[1] for e in grown if e["kind"] == "line" for p in (e["start"], e["end"])]
    assert max(xs) - min(xs) == pytest.approx(w + 4, abs=0.04) and max(ys) - min(ys) == pytest.approx(h + 4, abs=0.04)
    assert sum(bool(e.get("construction")) for e in s["geometry"]) >= 1


@pytest.mark.long
def test_a_toothed_outline_by_itself_and_one_flank_changed(server, page, sprocket_bytes):
    page.goto(upload_job(server, "Sprocket's teeth", "Sprocket.ply", sprocket_bytes, sprocket_steps()))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room, paper = Room(page, np.eye(4)), Paper(page)
    room.tool("Sketch", "Sketch on a cut")
    paper.traced()
    page.wait_for_timeout(1500)
    page.get_by_role("button", name="Draw the whole outline").click()
    paper.count(4 * S.teeth + 2 + 2 + 8 + 1 + 1)  # teeth, a slot, a window, a bore, and the middle of the ring
    paper.settled()
    paper.bench.get_by_text(re.compile(f"repeats {S.teeth} times")).wait_for()
    size = page.locator("[data-size]").filter(has_text="°").first
    size.click()
    page.get_by_label("Size", exact=True).fill("50")
    page.get_by_label("Size", exact=True).press("Enter")
    paper.settled()
    shot(page, "sketch-teeth")
    room.name("Teeth")
    room.lay("Teeth")
    s = told(room, "Teeth")
    teeth = [
        e for e in s["geometry"] if e["kind"] == "line" and np.hypot(*np.mean([e["start"], e["end"]], axis=0)) > 28
    ]
    lean = []
    for e in teeth:
        a, b = np.array(e["start"]), np.array(e["end"])
        u, m = (b - a) / np.linalg.norm(b - a), (a + b) / np.linalg.norm(a + b)
        if abs(u @ m) > 0.5:
            lean.append(np.degrees(np.arccos(abs(u @ m))))
    assert len(teeth) == 4 * S.teeth and len(lean) == 2 * S.teeth
    # Both flanks of a gap lean to its middle by half of 50 degrees, each from its own middle's direction.
    corners = {round(float(np.hypot(*e["start"])), 2) for e in teeth}
    assert np.ptp(lean) < 0.1 and max(corners) == pytest.approx(S.tip, abs=0.3)
    angle = next(z for z in s["sizes"] if z["kind"] == "angle")
    outline = sprocket_outline()
    down, up = outline[3] - outline[2], outline[5] - outline[4]
    true = np.degrees(np.arccos(-(down @ up) / np.linalg.norm(down) / np.linalg.norm(up)))
    assert angle["chosen"] == 50 and angle["measured"] == pytest.approx(true, abs=3 * angle["uncertainty"])


def test_a_contradiction_is_told_and_let_go(server, page):
    room, paper = opened(server, page, "Bracket, finished", "Sketch on a cut")
    page.get_by_label("Height of the plane, mm").fill("3.5")
    page.get_by_label("Height of the plane, mm").press("Tab")
    page.wait_for_timeout(800)
    paper.follow("rectangle")
    for place in ((0, -30), (45, 5), (5, 30), (-45, 0)):
        paper.click(*place)
    paper.count(4)
    paper.settled()
    paper.put_down()
    for place, number in (((10, -30), 90), ((10, 30), 93)):
        paper.click(*place)
        paper.bench.get_by_role("button", name="Measure length").click()
        paper.settled()
        page.locator("[data-size]").last.click()
        page.get_by_label("Size", exact=True).fill(str(number))
        page.get_by_label("Size", exact=True).press("Enter")
        paper.settled()
        paper.put_down()
    against = paper.bench.get_by_label("Contradiction")
    against.wait_for()
    said = against.inner_text()
    assert "93" in said and "90" in said and "perpendicular" in said
    shot(page, "sketch-contradiction")
    against.get_by_role("button", name=re.compile("Let go: length")).last.click()
    against.wait_for(state="detached")
    paper.settled()
    room.name("Plain rectangle")
    room.lay("Plain rectangle")
    lengths = [z for z in told(room, "Plain rectangle")["sizes"] if z["kind"] == "length"]
    assert [z["chosen"] for z in lengths] == [90]


@pytest.mark.long
def test_a_spline_over_a_crowned_edge_and_its_poles(server, page):
    room, paper = opened(server, page, "Bracket, finished", "Sketch on a cut")
    page.get_by_label("Paper's place").get_by_role("button", name="y", exact=True).click()
    page.wait_for_timeout(1200)
    page.get_by_label("Height of the plane, mm").fill("11")
    page.get_by_label("Height of the plane, mm").press("Tab")
    page.wait_for_timeout(800)
    # On this paper u runs along z and v along x: the crown is the outline's side at the greatest u.
    paper.follow("spline")
    trace = page.evaluate(
        "(traces) => [...document.querySelectorAll(traces)].map((p) => p.getAttribute('d'))[0]", TRACE
    )
    number = r"(-?[\d.]+(?:e-?\d+)?)"
    points = np.array([[float(a), -float(b)] for a, b in re.findall(f"{number} {number}", trace)])
    high = points[points[:, 0] > points[:, 0].max() - 1.2]
    high = high[np.argsort(high[:, 1])]
    inner = high[(high[:, 1] > high[0, 1] + 2) & (high[:, 1] < high[-1, 1] - 2)]
    paper.brush(inner[:: max(1, len(inner) // 20)])
    paper.count(1)
    paper.settled()
    paper.put_down()
    paper.click(*inner[len(inner) // 2])
    page.wait_for_timeout(300)
    poles = page.locator("[data-place*='.p']")
    assert poles.count() >= 2
    box = poles.first.bounding_box()
    before = page.locator("[data-entity=e1]").get_attribute("d")
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    for k in range(1, 6):
        page.mouse.move(box["x"] + 6 * k, box["y"] + 2 * k)
        page.wait_for_timeout(60)
    page.mouse.up()
    paper.settled()
    assert page.locator("[data-entity=e1]").get_attribute("d") != before
    # Ctrl+Z takes the move back.
    paper.svg.focus()
    page.keyboard.press("Control+z")
    paper.settled()
    assert evidence(page).locator('[data-figure="rms"]').inner_text()
    room.name("Crown")
    room.lay("Crown")
    s = told(room, "Crown")
    assert s["geometry"][0]["kind"] == "spline" and s["rms"] < 0.04
