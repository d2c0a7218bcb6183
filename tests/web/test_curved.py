"""Curved parts by hand: a stanchion's tubes, a plug's thread held to its turned body, an auger on its strip, a
fairlead's horn lofted with guides, mirrored, stitched, thickened and welded.
"""

import io
import time

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.curves.drawn import through
from deftmason.core.elements import RigidMotion
from deftmason.core.kernel.files import read_model
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh
from deftmason.demo.curved_jobs import CURVED, framed
from deftmason.demo.fairlead import FAIRLEAD, true_fairlead
from deftmason.demo.stanchion import STANCHION
from deftmason.demo.threaded import AUGER, PLUG, auger_scan, plug_scan

from ..core.test_tube_step import RAIL, stand_and_rail
from ..core.test_tubes import scan_of
from ..hostile.people import Person
from .paper import upload_job
from .room import Room
from .test_story import shot
from .test_tubes import steps as rail_steps

pytestmark = pytest.mark.browser
SIDE = -1  # to the outside of the trough


def as_bytes(mesh, folder) -> bytes:
    path = folder / "scan.ply"
    write_scan(str(path), mesh)
    return io.BytesIO(path.read_bytes()).getvalue()


def opened(server, page, demo, mesh, pose, folder) -> Room:
    """A job of the shelf's parts, up to its frame, the room knowing where the true part lies."""
    return opened_as(server, page, CURVED[demo], mesh, pose, folder)


def opened_as(server, page, job, mesh, pose, folder, more=()) -> Room:
    """The same of any part that says how its frame is read; with ``more`` steps laid on it."""
    steps = [*framed(job, {"id": "scan"}, pose)[1:], *more]
    page.goto(upload_job(server, job.name, "scan.ply", as_bytes(mesh, folder), steps))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, pose.matrix)
    room.settled()
    matrix = np.array(room.summary("Part frame")["matrix"])
    room.in_frame(matrix)
    room.pose = matrix @ pose.matrix
    return room


def bench(page):
    return page.get_by_role("complementary", name="Bench")


def model_of(server, page, folder):
    """The model as it is handed on."""
    number = page.url.rstrip("/").rsplit("/", 1)[1]
    got = Person(server.url).ask("GET", f"/jobs/{number}/deliver/model.step")
    for _ in range(60):
        if got.status_code == 200:
            break
        time.sleep(0.5)
        got = Person(server.url).ask("GET", f"/jobs/{number}/deliver/model.step")
    assert got.status_code == 200, got.text
    (folder / "model.step").write_bytes(got.content)
    return read_model(str(folder / "model.step"))


def stanchion() -> TriMesh:
    """What a scanner sees of the tubes and the foot; the tube has a gap without scan."""
    from build123d import Box, Pos

    from ..trials.parts import as_body
    from ..trials.scanning import even_mesh_of

    rng = np.random.default_rng(3)
    long, wide, thick = STANCHION.foot
    foot = even_mesh_of(as_body(Pos(0, 0, thick / 2) * Box(long, wide, thick)), rng, 2.6, 0.02, 4.0)[0]
    branch = STANCHION.branch_path.lengthened(-22.0, 0.0)
    parts = [
        foot,
        scan_of(STANCHION.path, STANCHION.tube / 2, 3.0, 0.02, share=0.8, gap=(255.0, 275.0)),
        scan_of(branch, STANCHION.branch / 2, 2.2, 0.02, share=0.8),
    ]
    vertices, faces, n = [], [], 0
    for p in parts:
        vertices.append(p.vertices)
        faces.append(p.faces + n)
        n += len(p.vertices)
    return TriMesh(np.vstack(vertices), np.vstack(faces))


def bends_told(page):
    rows = page.locator("[data-bend]")
    rows.first.wait_for(timeout=60_000)
    cells = [
        [c.split("±")[0].replace("°", "").replace("−", "-").strip() for c in r.locator("td").all_inner_texts()]
        for r in rows.all()
    ]
    return [[float(c or 0) for c in row] for row in cells]


def test_the_stanchions_tubes_by_themselves_a_gap_a_curve_and_a_weld(server, page, tmp_path):
    room = opened(server, page, "stanchion", stanchion(), RigidMotion.of(np.eye(3), [0, 0, 0]), tmp_path)
    s = STANCHION
    room.tool("Build", "Tube")
    side = np.array([0, -1.0, 0])
    room.click_part(s.path.at(np.array([60.0]))[0] + s.tube / 2 * side, side)
    told = bends_told(page)
    angles, radii = [t[2] for t in told], [t[3] for t in told]
    back = abs(angles[0] - s.bends[0][1]) > 5
    wanted = s.bends[::-1] if back else s.bends
    assert angles == pytest.approx([b[1] for b in wanted], abs=0.15)
    assert radii == pytest.approx([b[2] for b in wanted], rel=0.01)
    bench(page).get_by_text("in round numbers").click()
    room.tried()
    assert [t[2:] for t in bends_told(page)] == [[b[1], b[2]] for b in wanted]
    assert float(bench(page).locator("[data-figure=costs]").inner_text().split()[3]) < 0.3
    bench(page).get_by_text("colour it by its width").click()
    page.get_by_text("Rust is wider").wait_for()
    shot(page, "tube_width")
    room.lay("Tube")
    tube = room.summary("Tube")
    assert tube["outer"] == pytest.approx(s.tube / 2, abs=0.02) and tube["bridged"] == pytest.approx(20, abs=4)
    # The branch is a tube of its own: the junction is left out.
    room.tool("Build", "Tube")
    at = s.branch_path.at(np.array([60.0]))[0]
    room.click_part(at + s.branch / 2 * side, side)
    room.tried()
    room.lay("Tube 2")
    branch = room.summary("Tube 2")
    assert branch["outer"] == pytest.approx(s.branch / 2, abs=0.02) and not branch["bends"]
    # A curve drawn over the gap, from rim to rim.
    room.tool("Sketch", "Curve in space")
    for along in (252.0, 278.0):
        room.click_part(s.path.at(np.array([along]))[0] + s.tube / 2 * side, side)
    room.tried()
    room.lay("Curve")
    gap = np.linalg.norm(np.diff(s.path.at(np.array([252.0, 278.0])), axis=0))
    assert room.summary("Curve")["length"] == pytest.approx(gap, abs=1.5)
    # A weld along the rim the branch ends with; its diameter is changed afterwards.
    room.tool("Build", "Weld bead")
    end = s.branch_path.at(np.array([s.branch_path.length]))[0]
    out = np.cross(s.branch_path.direction, [0, 1.0, 0])
    room.click_part(end + s.branch / 2 * out, out + 0.6 * s.branch_path.direction)
    room.tried()
    shot(page, "weld")
    room.lay("Weld")
    first = room.summary("Weld")
    assert first["length"] == pytest.approx(np.pi * s.branch, rel=2e-3)
    # Three quarters of the ring stand out of the bar's end, about.
    ring = np.pi * s.branch * np.pi * 2.5**2
    assert 0.6 * ring < first["volume"] - branch["volume"] < 0.9 * ring
    number = page.url.rstrip("/").rsplit("/", 1)[1]
    name = next(v["name"] for v in room.job()["values"] if v["name"].endswith("diameter") and v["chosen"] == 5)
    changed = Person(server.url).ask("POST", f"/jobs/{number}/values", {"name": name, "value": 8.0})
    assert changed.status_code == 200
    room.settled()
    assert room.summary("Weld")["volume"] - branch["volume"] > 2 * (first["volume"] - branch["volume"])


def choose(page, room, label, value):
    bench(page).locator(f"button[aria-label^='{label}: chosen']").click()
    bench(page).get_by_label(f"{label}, typed").fill(str(value))
    bench(page).get_by_role("button", name="Choose", exact=True).click()
    room.tried()


@pytest.mark.long
def test_a_worn_thread_is_held_to_the_turned_body_and_built(server, page, tmp_path):
    room = opened(server, page, "plug", *plug_scan(0.4), tmp_path)
    room.tool("Sketch", "Helix")
    room.click_part((PLUG.crest, 0, 18), (1, 0, 0))
    strip = page.get_by_role("group", name="Unrolled strip")
    strip.locator("[data-strip]").wait_for(timeout=60_000)
    bench(page).get_by_label("held to").select_option(label="Neck")
    room.tried()
    bench(page).get_by_role("button", name="call it so").click()
    room.tried()
    # The height is typed; the turns follow. Then the pitch is let follow instead.
    choose(page, room, "height", 20)
    assert float(bench(page).locator("[data-follows=turns] [data-value=turns]").inner_text()) == pytest.approx(8.0)
    bench(page).get_by_role("button", name="pitch", exact=True).click()
    room.tried()
    assert float(bench(page).locator("[data-value=pitch]").inner_text()) == pytest.approx(2.5)
    choose(page, room, "crest R", PLUG.crest)
    choose(page, room, "root R", PLUG.root)
    shot(page, "unrolled")
    # Dragged up by a tenth of its height, the line no more lies on the ridge, and that is told.
    costs = bench(page).locator("[data-figure=costs]")
    before = float(costs.inner_text().split()[0])
    box = strip.locator("[data-end=end]").bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] - 25, steps=4)
    page.mouse.up()
    room.tried()
    assert float(costs.inner_text().split()[0]) > before + 0.05
    bench(page).get_by_role("button", name="as it was read").click()
    bench(page).locator("[data-figure=costs]").wait_for()
    room.tried()
    bench(page).get_by_role("button", name="turns", exact=True).click()
    room.tried()
    choose(page, room, "pitch", 2.5)
    choose(page, room, "height", 20)
    room.lay("Helix")
    told = room.summary("Helix")
    assert told["pitch"] == 2.5 and told["turns"] == pytest.approx(8) and told["hand"] == "right"
    assert told["costs"] < 0.005 and told["own_axis_deg"] < 0.05 and told["own_axis_mm"] < 0.03
    # Its core, then the ridge all along it.
    middle = told["frame_axis"][0][2] + told["frame_axis"][1][2] * (told["begin"] + 10)
    room.tool("Build", "Solid")
    for label, value in (("radius", PLUG.root), ("from", middle - 12), ("to", middle + 12)):
        field = bench(page).get_by_label(label, exact=True)
        field.fill(str(round(value, 3)))
        field.press("Tab")
        room.tried()
    room.lay("Solid")
    room.tool("Build", "Thread")
    room.tried()
    shot(page, "thread")
    room.lay("Thread")
    thread = room.summary("Thread")
    assert thread["valid"] and thread["solids"] == 1
    # The flanks lie where the true ones do, within 0.06 mm.
    body = model_of(server, page, tmp_path)
    z = np.linspace(PLUG.neck_long + 6, PLUG.neck_long + 16, 60)
    angle = np.full(60, 4.0)  # the side that is not worn
    r = PLUG.radius(angle, z)
    true = np.column_stack([r * np.cos(angle), r * np.sin(angle), z, np.ones(60)]) @ room.pose.T
    assert np.abs(ModelSurface(body).distances(true[:, :3]).distance).max() < 0.06

    # The scan against the line alone: all along it the crest lies within the noise of it, but where it is worn.
    room.tool("Check", "Deviation map")
    bench(page).get_by_label("against", exact=True).select_option(label="Helix")
    field = bench(page).get_by_label("reach", exact=True)
    field.fill("1")
    field.press("Tab")
    room.lay("Check")
    along = room.summary("Check")
    assert along["against"] == "Helix" and along["answered"] > 300 and abs(along["mean"]) < 0.15
    bench(page).get_by_text("Against Helix.").wait_for()
    shot(page, "check-curve")


def test_an_auger_is_corrected_on_the_unrolled_strip(server, page, tmp_path):
    room = opened(server, page, "auger", *auger_scan(0.9), tmp_path)
    room.tool("Sketch", "Helix")
    room.click_part((AUGER.crest_at(np.array(48.0)) - 0.3, 0, 48), (1, 0, 0.2))
    strip = page.get_by_role("group", name="Unrolled strip")
    strip.locator("[data-strip]").wait_for(timeout=60_000)
    room.tried()
    before = float(bench(page).locator("[data-figure=costs]").inner_text().split()[0])
    # B held, the line is bent at its middle; then it is put back.
    area = strip.locator("[data-strip]").bounding_box()
    page.keyboard.down("b")
    hit = None
    for y in np.linspace(area["y"] + 0.35 * area["height"], area["y"] + 0.6 * area["height"], 40):
        page.mouse.move(area["x"] + area["width"] / 2, y)
        page.mouse.down()
        page.mouse.move(area["x"] + area["width"] / 2, y - 18, steps=3)
        page.mouse.up()
        if "bent at 1" in bench(page).inner_text():
            hit = y
            break
    page.keyboard.up("b")
    assert hit is not None
    room.tried()
    assert float(bench(page).locator("[data-figure=costs]").inner_text().split()[0]) > before + 0.01
    bench(page).get_by_role("button", name="as it was read").click()
    room.tried()
    bench(page).locator("summary", has_text="More").click()
    out = bench(page).get_by_label("runs out over")
    out.fill("0.75")
    out.press("Tab")
    room.tried()
    shot(page, "auger")
    room.lay("Helix")
    told = room.summary("Helix")
    assert told["varies"] and told["hand"] == "left"
    assert told["pitches"][0] == pytest.approx(9.3, abs=0.3) and told["pitches"][-1] == pytest.approx(11.7, abs=0.3)
    assert told["run"][-1][2] < told["root"][1]  # it runs out into the shaft


def test_a_hard_tube_fails_by_itself_and_is_read_from_its_ends(server, page, tmp_path):
    mesh = stand_and_rail(share=0.2)
    page.goto(upload_job(server, "Hard tube", "rail.ply", as_bytes(mesh, tmp_path), rail_steps()))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.settled()
    room.pose = np.array(room.summary("Frame")["matrix"])
    room.in_frame(room.pose)
    room.tool("Build", "Tube")

    def click(along):
        middle = RAIL.at(np.array([along]))[0]
        v = np.asarray(mesh.vertices)
        near = np.flatnonzero(np.abs(np.linalg.norm(v - middle, axis=1) - 12.0) < 0.4)
        normals = np.asarray(mesh.vertex_normals)[near]
        k = near[int(np.argmax(np.abs(normals @ np.array([0.3, 0.4, 0.86]))))]
        room.click_part(v[k], mesh.vertex_normals[k])

    click(8.0)
    bench(page).get_by_text("No tube is read here; click one end").wait_for(timeout=60_000)
    click(0.45 * RAIL.length)
    room.tried()
    click(RAIL.length - 8.0)
    room.tried()
    angles = [t[2] for t in bends_told(page)]
    wanted = [90, 45, np.degrees(1.2)]
    assert angles == pytest.approx(wanted if abs(angles[0] - 90) < 5 else wanted[::-1], abs=0.4)
    # Its diameter is known: it is kept, and the width against it is shown as colours.
    choose(page, room, "⌀", 24)
    bench(page).get_by_text("keep it while the path is read").click()
    room.tried()
    bench(page).get_by_text("colour it by its width").click()
    page.get_by_text("Rust is wider").wait_for()
    room.lay("Tube")
    assert room.summary("Tube")["outer"] == 12.0 and room.summary("Tube")["seen"] < 0.3


def horn_steps(to_scan) -> list[dict]:
    """The path on the trough's bottom, five sections square to it over their traces, and two guides along its rims."""
    f, shares = FAIRLEAD, np.array([0, 0.25, 0.5, 0.75, 0.94])
    x = np.linspace(0, f.half, 15)
    way = np.column_stack([x, 0 * x, f.path_at(x)])
    sections = [f.section(t) for t in np.linspace(0, 1, 21)]
    rims = [np.array([c.at([end * c.length])[0] for c in sections]) for end in (0, 1)]

    def curve(step_id, name, points):
        places = [{"place": to_scan(p).tolist()} for p in points]
        return {"id": step_id, "kind": "curve", "name": name, "scan": "scan", "frame": "frame", "places": places}

    long = through(way)
    s = np.linspace(0, long.length, 2000)
    at = np.interp(shares * f.half, long.at(s)[:, 0], s / long.length)
    sketches = []
    for k, (t, share) in enumerate(zip(shares, at)):
        c = f.section(float(t))
        # Brushed along the trace, rim to rim.
        places = [to_scan(p).tolist() for p in c.at(np.linspace(0.03, 0.97, 25) * c.length)]
        stroke = {"id": "e1", "kind": "spline", "places": places}
        lies = {"on": "way", "share": float(share)} if k else {"on": "mid"}
        where = {"kind": "sketch", "scan": "scan", "frame": "frame", **lies}
        sketches.append({"id": f"sec{k}", "name": f"Section {k + 1}", **where, "strokes": [stroke]})
    middle = {"id": "mid", "kind": "construct", "name": "Mid-plane", "way": "middle plane", "of": ["end", "far_end"]}
    return [
        middle,
        curve("way", "Way", way),
        *sketches,
        curve("left", "Left rim", rims[0]),
        curve("right", "Right rim", rims[1]),
    ]


@pytest.mark.long
def test_the_fairleads_horn_is_lofted_mirrored_stitched_thickened_and_welded(server, page, tmp_path):
    from ..trials.scanning import even_mesh_of

    mesh = even_mesh_of(true_fairlead(), np.random.default_rng(5), 1.5, 0.02, 4.0)[0]
    pose = RigidMotion.of(np.eye(3), [0, 0, 0])
    steps = framed(CURVED["fairlead"], {"id": "scan"}, pose)[1:] + horn_steps(lambda p: np.asarray(p, float))
    page.goto(upload_job(server, "Rope fairlead", "scan.ply", as_bytes(mesh, tmp_path), steps))
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, np.eye(4))
    room.settled()
    matrix = np.array(room.summary("Part frame")["matrix"])
    room.pose = matrix
    rms = [room.summary(f"Section {k}")["rms"] for k in range(1, 6)]
    assert max(rms) < 0.08, rms
    room.tool("Build", "Loft")
    for name in ("Left rim", "Right rim"):
        bench(page).get_by_role("checkbox", name=name).check()
        room.tried()
    bench(page).get_by_role("button", name="a surface").click()
    room.tried()
    shot(page, "loft")
    room.lay("Loft")
    half = room.summary("Loft")
    assert half["solids"] == 0 and half["valid"] and half["sections"] == 5
    room.tool("Build", "Mirror body")
    bench(page).get_by_label("by a datum").select_option(label="Mid-plane")
    room.tried()
    name = bench(page).get_by_label("name", exact=True).input_value()
    room.lay(name)
    shell = room.summary(name)
    assert shell["faces"] == 2 and not shell["solids"] and shell["area"] == pytest.approx(2 * half["area"], rel=1e-6)
    room.tool("Build", "Thicken")
    field = bench(page).get_by_label("thickness", exact=True)

    field.fill(str(SIDE * FAIRLEAD.sheet))  # by a hand reading
    field.press("Tab")
    room.tried()
    room.lay("Thicken")
    sheet = room.summary("Thicken")
    assert sheet["solids"] == 1 and sheet["volume"] == pytest.approx(FAIRLEAD.sheet * shell["area"], rel=0.08)
    # A bead along its edge, its diameter changed afterwards.
    room.tool("Build", "Weld bead")
    bench(page).get_by_label("along").select_option(label="Left rim")
    room.tried()
    shot(page, "fairlead")
    room.lay("Weld")
    first = room.summary("Weld")
    assert first["volume"] > sheet["volume"] and first["solids"] == 1
    number = page.url.rstrip("/").rsplit("/", 1)[1]
    value = next(v for v in room.job()["values"] if v["name"].endswith("diameter") and v["chosen"] == 5)
    Person(server.url).ask("POST", f"/jobs/{number}/values", {"name": value["name"], "value": 7.0})
    room.settled()
    assert room.summary("Weld")["volume"] > first["volume"] + 300
    # The trough's inside lies where the true one does, within 0.6 mm.
    body = model_of(server, page, tmp_path)
    x = np.linspace(0.05, 0.9, 8)
    true = np.vstack([FAIRLEAD.section(float(t)).at(np.linspace(0.15, 0.85, 15) * 50.0) for t in x])
    off = ModelSurface(body).distances(np.column_stack([true, np.ones(len(true))]) @ matrix.T[:, :3])
    assert np.abs(off.distance).max() < 0.6


@pytest.mark.long
def test_the_stanchion_as_it_was_meant_two_views_a_sweep_and_a_mirrored_bar(server, page, tmp_path):
    """The axis drawn in two views, combined where the last bend leaves its plane; a ring swept along it; a bar and its
    image; the warp that is left is seen and allowed."""
    s = STANCHION
    parts = [stanchion(), *(scan_of(s.bar_path(k), s.bar / 2, 1.6, 0.02, share=0.8) for k in (1, -1))]
    vertices = np.vstack([p.vertices for p in parts])
    starts = np.cumsum([0, *(len(p.vertices) for p in parts)])
    faces = np.vstack([p.faces + n for p, n in zip(parts, starts)])
    rise = np.clip((vertices[:, 2] - 20) / 300, 0, 1.5)
    mesh = TriMesh(vertices + s.warp * np.column_stack([0 * rise, rise**2, 0 * rise]), faces)
    room = opened(server, page, "stanchion", mesh, RigidMotion.of(np.eye(3), [0, 0, 0]), tmp_path)
    number = page.url.rstrip("/").rsplit("/", 1)[1]

    def lay(step) -> None:
        got = Person(server.url).ask("POST", f"/jobs/{number}/stones", {"step": step})
        assert got.status_code == 200, got.text
        room.stone(step["name"]).wait_for()
        room.settled()

    def in_frame(p):
        return np.asarray(p) @ room.pose[:3, :3].T + room.pose[:3, 3]

    # What a person draws over the silhouettes, moved in by the tube's radius: the axis in both views.
    axis = in_frame(s.path.at(np.linspace(0, s.path.length, 60)))
    for step_id, name, normal, across in (("v1", "Front view", "y", [2, 0]), ("v2", "Side view", "x", [1, 2])):
        stroke = {"id": "e1", "kind": "spline", "at": np.round(spline_poles(axis[:, across]), 6).tolist()}
        where = {"kind": "sketch", "scan": "scan", "frame": "frame", "axis": normal, "traces": []}
        lay({"id": step_id, "name": name, **where, "strokes": [stroke]})
    lay({"id": "mid", "kind": "construct", "name": "Mid-plane", "way": "middle plane", "of": ["side", "far_side"]})
    room.tool("Sketch", "Curve of two views")
    room.tried()
    shot(page, "views")
    room.lay("Curve")
    assert room.summary("Curve")["length"] == pytest.approx(s.path.length, rel=2e-3)
    # A ring on a paper square to the path, drawn over the trace of the tube.
    curve = next(q["id"] for q in room.job()["stones"] if q["name"] == "Curve")
    spots = {"id": "e1", "kind": "circle", "at": [[0, 0]], "radius": s.tube / 2}
    ring = {"id": "ring", "kind": "sketch", "name": "Ring", "scan": "scan", "frame": "frame", "on": curve, "share": 0.0,
            "traces": [], "strokes": [spots]}  # fmt: skip
    lay(ring)
    room.tool("Build", "Sweep")
    room.tried()
    room.lay("Sweep")
    swept = room.summary("Sweep")
    assert swept["valid"] and swept["volume"] == pytest.approx(np.pi * 17**2 * s.path.length, rel=5e-3)
    # One bar, and its image in the mid-plane.
    room.tool("Build", "Tube")
    out = np.array([0, 1.0, 0])
    room.click_part(s.bar_path(1).at(np.array([25.0]))[0] + s.bar / 2 * out, out)
    room.tried()
    room.lay("Tube")
    bar = room.summary("Tube")
    room.tool("Build", "Mirror body")
    bench(page).get_by_label("by a datum").select_option(label="Mid-plane")
    bench(page).get_by_text("join the two").click()
    room.tried()
    name = bench(page).get_by_label("name", exact=True).input_value()
    room.lay(name)
    image = room.summary(name)
    assert image["volume"] == pytest.approx(bar["volume"], rel=1e-9)
    other = in_frame(s.bar_path(-1).at(np.array([30.0])))[0]
    low, high = np.array(image["bounds"])
    assert ((low < other) & (other < high)).all()
    # Checked: the weldment is warped by some tenths, within the 0.6 mm that is allowed.
    tube = next(q["id"] for q in room.job()["stones"] if q["name"] == "Sweep")
    check = {"id": "check", "kind": "check", "name": "Check", "scan": "scan", "frame": "frame", "body": tube,
             "tolerance": 0.6, "reach": 2.0}  # fmt: skip
    lay(check)
    told = room.summary("Check")
    assert 0.05 < told["rms"] < 0.5 and told["within"] > 0.9, (told["rms"], told["within"])


def spline_poles(points):
    """Poles of the even spline of a sketch nearest to places in order."""
    from deftmason.core.sketch.splines import spline_through

    return spline_through(np.asarray(points, float), 12)[0]
