"""A bent tube clicked on its scan: the bend table is read, a wall given by hand, the tube laid and told."""

import io
import re

import numpy as np
import pytest

from ..core.test_tube_proposals import BEND, INNER, LONG, THICK, R, elbow
from ..core.test_tube_step import RAIL, stand_and_rail
from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .paper import upload_job
from .room import Room
from .test_proposals import Proposer
from .test_story import shot

pytestmark = pytest.mark.browser


def steps():
    def datum(name, place, normal):
        pick = {"place": place, "normal": normal, "rule": "same facing"}
        return {
            "id": name,
            "kind": "datum",
            "name": name.capitalize(),
            "scan": "scan",
            "element": "plane",
            "pick": pick,
        }

    frame = {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "end"}
    return [
        datum("foot", [15, 5, 0], [0, 0, -1]),
        datum("side", [12, -20, 5], [0, -1, 0]),
        datum("end", [30, 3, 9], [1, 0, 0]),
        frame,
    ]


@pytest.fixture(scope="module")
def scan_bytes(tmp_path_factory):
    from deftmason.core.scan.files import write_scan

    path = tmp_path_factory.mktemp("rail") / "rail.ply"
    write_scan(str(path), stand_and_rail(gap=(139.0, 161.0)))
    return io.BytesIO(path.read_bytes()).getvalue()


def test_a_tube_is_read_by_a_click_and_laid_with_a_wall(server, page, scan_bytes):
    page.goto(upload_job(server, "Stanchion", "rail.ply", scan_bytes, steps()))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.settled()
    room.framed = False
    matrix = np.array(room.summary("Frame")["matrix"])
    room.pose = matrix
    room.tool("Build", "Tube")
    place = RAIL.at(np.array([60.0]))[0] + [0, 0, 12.0]
    room.click_part(place, [0, 0, 1])
    rows = page.locator("[data-bend]")
    rows.first.wait_for(timeout=60_000)
    assert rows.count() == 3
    cells = [
        [c.replace("°", "").replace("−", "-").split("±") for c in r.locator("td").all_inner_texts()] for r in rows.all()
    ]
    told = [[float(c[0].strip() or 0) for c in row] for row in cells]
    sure = [[float(c[1].strip("< °")) if len(c) > 1 else 0.0 for c in row] for row in cells]
    angles, radii = [t[2] for t in told], [t[3] for t in told]
    if abs(angles[0] - 90) > 5:
        angles, radii = angles[::-1], radii[::-1]
    assert angles == pytest.approx([90, 45, np.degrees(1.2)], abs=0.15)
    assert radii == pytest.approx([40, 55, 40], rel=0.01)
    within = [s[3] for s in sure][:: 1 if abs(told[0][2] - 90) < 5 else -1]
    assert all(0 < w < 0.4 and abs(r - t) < 2.5 * w for r, t, w in zip(radii, [40, 55, 40], within)), (radii, within)
    bench = page.get_by_role("complementary", name="Bench")
    assert "Bridged over" in bench.inner_text()
    box = bench.get_by_label("Wall, mm")
    box.fill("2.5")
    box.press("Tab")
    room.tried()
    shot(page, "tube")
    bench.get_by_role("button", name="Lay tube").click()
    page.locator("[data-stone=Tube]").wait_for(timeout=60_000)
    s = room.summary("Tube")
    assert s["outer"] == 12.0 and s["bore"] == 9.5 and s["bridged"] == pytest.approx(22, abs=2.5)
    assert s["volume"] == pytest.approx(np.pi * (12**2 - 9.5**2) * RAIL.length, rel=4e-3)
    # It lies in the frame where the scan does: its faces are off by no more than the noise.
    line = RAIL.at(np.array([10.0, 200.0])) @ matrix[:3, :3].T + matrix[:3, 3]
    path = np.array([p for q in s["path"] for p in q])
    assert np.linalg.norm(path[[0, -1], None] - line[None], axis=2).min() < 250
    room.tool("Build", "Tube")
    page.keyboard.press("Escape")


@pytest.mark.long
def test_a_pipe_bend_is_picked_and_proposed(server, page, tmp_path):
    """The flanged elbow: a flange laid by a push, its pipe by a click on the bend, then the bore along it."""
    from deftmason.core.scan.files import write_scan

    path = tmp_path / "elbow.ply"
    mesh = even_mesh_of(as_body(elbow()), np.random.default_rng(3), 1.3, 0.01, 2.6)[0]
    write_scan(str(path), mesh)

    def face(name, place, normal):
        pick = {"place": place, "normal": normal, "rule": "same facing"}
        return {"id": name, "kind": "datum", "name": name, "scan": "scan", "element": "plane", "pick": pick}

    frame = {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side"}
    zones = {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}
    foot, side = face("foot", [-10, 0, 0], [0, 0, -1]), face("side", [BEND + LONG, 10, BEND + LONG], [1, 0, 0])
    page.goto(upload_job(server, "Elbow", "elbow.ply", path.read_bytes(), [foot, side, frame, zones]))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.stone("Zones").wait_for(timeout=120_000)
    room.settled()
    room.pose = np.array(room.summary("Frame")["matrix"])
    room.framed = False
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Build", exact=True).click()
    p = Proposer(page, room)
    p.panel.get_by_role("button", name="Pick zones").click()
    level = (0.0, 0.0, 0.01)
    p.pick(((0, -19, 3), (0, -1, 0), level), ((-10, 0, 0), (0, 0, -1), level), ((-9.5, -9.5, 6), (0, 0, 1), level))
    assert "6 mm" in p.propose()
    p.lay()
    out = np.array([-np.sqrt(0.5), 0, np.sqrt(0.5)])
    p.pick(((BEND, 0, LONG) + (BEND + R) * out, out, (0, 0, 0)))
    assert "Bend ⌀ 20" in p.panel.get_by_label("Picked zones").inner_text()
    said = p.propose()
    assert said.startswith("Tube") and "⌀ 20 mm along 1 bend" in said
    shot(page, "proposed-tube")
    bar = p.lay()["summary"]
    assert bar["valid"] and bar["solids"] == 1
    # With nothing picked, what is left of it is found by itself.
    p.panel.get_by_role("button", name="Propose features").click()
    bore = p.panel.get_by_label("Proposals").get_by_role("button", name=re.compile("^Bore along a tube"))
    bore.wait_for(timeout=120_000)
    bore.click()
    shot(page, "proposed-bore")
    # What is the tube's bore is no hole.
    offered = p.panel.get_by_label("Proposals").get_by_role("button").all_inner_texts()
    assert not any(o.startswith("Hole ⌀ 14") for o in offered), offered
    bored = p.lay()["summary"]
    # The other flange is still to come: the bar goes on into it for two fifths.
    gone = np.pi * INNER**2 * (2 * LONG + BEND * np.pi / 2 - 0.6 * THICK)
    assert bored["valid"] and bar["volume"] - bored["volume"] == pytest.approx(gone, rel=0.003)
