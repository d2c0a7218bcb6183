"""Curves, helices and what is built on them as steps: numbers that follow, what is refused, their script."""

import hashlib

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.sketch.curve import curve_of
from deftmason.demo.curved_jobs import CURVED, framed
from deftmason.demo.threaded import AUGER, PLUG, auger_scan, plug_scan

from .scripted import built_alone


def begun(folder, demo, made) -> Laying:
    mesh, pose = made
    path = folder / "scan.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([], pose, ResultStore(str(folder / "store")), lambda sha, name: str(path))
    j.file = lambda sha, name: str(path)
    for step in framed(CURVED[demo], scan, pose):
        j.lay(step)
    return j


@pytest.fixture(scope="module")
def plug(tmp_path_factory):
    return begun(tmp_path_factory.mktemp("plug"), "plug", plug_scan(0.42))


def typed(value):
    return {"value": value, "source": "typed"}


def helix(j, step_id="hx", **more) -> dict:
    pick = j.pick((9.9, 0, 12), (1, 0, 0), "same bend")
    return {"id": step_id, "kind": "helix", "name": "Helix", "scan": "scan", "frame": "frame", "pick": pick} | more


def laid(j, step) -> dict:
    """What a step says, laid and taken away again."""
    ran = j.lay(step)
    j.steps.pop()
    return {"values": {v.name: v for v in ran.values}, **ran.summary}


def test_each_of_three_follows_the_other_two(plug):
    got = laid(plug, helix(plug, held="neck"))
    v = got["values"]
    assert v["pitch"].measured == pytest.approx(PLUG.pitch, rel=1e-3) and got["pitch"] == 2.5
    assert v["crest"].measured == pytest.approx(PLUG.crest, abs=0.03)
    assert v["root"].measured == pytest.approx(PLUG.root, abs=0.03)
    assert got["hand"] == "right" and got["starts"] == 1 and got["standard"] == "M20×2.5"
    assert got["turns"] == pytest.approx(got["height"] / got["pitch"]) and v["turns"].path == []
    assert got["own_axis_deg"] < 0.3 and got["own_axis_mm"] < 0.05
    two = laid(plug, helix(plug, held="neck", following="pitch", turns=typed(8.0), height=typed(20.8)))
    assert two["pitch"] == pytest.approx(2.6) and two["costs"] > 0.02 > got["costs"]
    three = laid(plug, helix(plug, following="height", turns=typed(6.0), pitch=typed(2.5)))
    assert three["height"] == pytest.approx(15.0) and three["length"] == pytest.approx(
        6 * np.hypot(2.5, 20 * np.pi), rel=0.01
    )


def test_the_line_lies_on_the_ridge_it_was_read_from(plug):
    got = laid(plug, helix(plug, held="neck"))
    places = plug.pose.inverse().points(np.array(got["shown"]))
    angle, z = np.arctan2(places[:, 1], places[:, 0]), places[:, 2]
    inner = (z > PLUG.neck_long + 3) & (z < PLUG.top - 2)
    u = (z / PLUG.pitch - angle / (2 * np.pi) - PLUG.phase + 0.5) % 1.0 - 0.5
    assert np.abs(u[inner]).max() * PLUG.pitch < 0.05
    root = laid(plug, helix(plug, held="neck", on="root"))
    assert root["length"] < got["length"]
    shifted = laid(plug, helix(plug, held="neck", shift=0.4))
    assert shifted["costs"] > 0.1 and shifted["begin"] == pytest.approx(got["begin"] + 0.4)
    left = laid(plug, helix(plug, held="neck", hand="left"))
    assert left["hand"] == "left" and left["costs"] > 0.1


def test_it_begins_where_it_is_told(plug):
    plug.lay({"id": "at", "kind": "construct", "name": "At", "way": "point on plane", "of": ["head", "neck"]})
    got = laid(plug, helix(plug, held="neck", begins="at"))
    assert np.linalg.norm(np.diff(np.array(got["shown"])[:2], axis=0)) > 0
    plug.steps.pop()
    axis = np.array(got["frame_axis"])
    assert got["begin"] * axis[1, 2] + axis[0, 2] == pytest.approx(0, abs=0.02)  # the head lies at z = 0
    with pytest.raises(BadInput, match="Click the ridge"):
        plug.lay(helix(plug) | {"pick": None})


def test_a_thread_is_built_and_its_script_builds_the_same(plug, tmp_path):
    steps = list(plug.steps)
    plug.lay(helix(plug, held="neck", crest=typed(10.0), root=typed(8.5), run_out=typed(0.5)))
    ends = {"low": typed(14.0), "high": typed(36.0)}
    place = dict.fromkeys(("place_x", "place_y", "place_z"), 0.0)
    bar = {"id": "bar", "kind": "solid", "name": "Bar", "frame": "frame", "shape": "cylinder", **place, **ends}
    middle = plug.ran["hx"].summary["frame_axis"][0][2]
    bar |= {"low": typed(middle - 12.0), "high": typed(middle + 12.0), "radius": typed(8.5)}
    plug.lay(bar)
    ran = plug.lay({"id": "th", "kind": "thread", "name": "Thread", "helix": "hx", "frame": "frame", "body": "bar"})
    got = ran.summary
    assert got["valid"] and got["solids"] == 1
    tip, foot = (next(v.chosen for v in ran.values if v.name == n) for n in ("tip", "foot"))
    area = 0.5 * (tip + foot) * 1.5
    turns = plug.ran["hx"].summary["turns"]
    rough = area * 2 * np.pi * 9.1 * turns
    assert 0.75 * rough < got["volume"] - np.pi * 8.5**2 * 24 < 1.1 * rough
    text = built_alone(plug.steps, plug._store, plug.file, tmp_path)
    assert "upright" in text
    with pytest.raises(BadInput, match="does not lie on the body"):
        plug.lay({"id": "thin", **{k: v for k, v in bar.items() if k != "id"}, "name": "Thin", "radius": typed(5.0)})
        plug.lay({"id": "no", "kind": "thread", "name": "No", "helix": "hx", "frame": "frame", "body": "thin"})
    plug.steps[:] = steps


def test_an_auger_that_tapers_and_varies(tmp_path):
    j = begun(tmp_path, "auger", auger_scan(0.8))
    pick = j.pick((AUGER.crest - 1, 0, 40), (1, 0, 0), "same bend")
    got = laid(j, helix(j, pick=pick, held="shaft"))
    assert got["hand"] == "left" and got["varies"] and got["own_axis_deg"] < 0.05
    assert got["pitches"][0] < 9.6 and got["pitches"][-1] > 11.3
    first, last = got["crest"]
    assert first > 13 and last < 11.2 and got["root"] == pytest.approx([AUGER.shaft] * 2, abs=0.05)
    # Along the whole way the line stays on the flight's crest.
    p = j.pose.inverse().points(np.array(got["shown"]))
    inner = (p[:, 2] > AUGER.low + 8) & (p[:, 2] < AUGER.top - 8)
    u = (AUGER.turns(p[:, 2]) + np.arctan2(p[:, 1], p[:, 0]) / (2 * np.pi) - AUGER.phase + 0.5) % 1.0 - 0.5
    assert np.abs(u[inner]).max() * 10 < 0.25
    even = laid(j, helix(j, pick=pick, held="shaft", even=True))
    assert even["costs"] > 0.2 and not even["varies"]
    bent = laid(j, helix(j, pick=pick, held="shaft", pins=[{"at": 0.5, "by": 1.0}]))
    assert bent["costs"] > got["costs"] + 0.05


def polygon(step_id, name, points, closed=True, **where) -> dict:
    n = len(points) if closed else len(points) - 1
    strokes = [
        {"id": f"e{i + 1}", "kind": "line", "at": [points[i], points[(i + 1) % len(points)]]}
        | ({"joins": f"e{(i + 1) % n + 1}"} if closed or i < n - 1 else {})
        for i in range(n)
    ]
    return {
        "id": step_id, "kind": "sketch", "name": name, "scan": "scan", "frame": "frame", "strokes": strokes,
        "traces": [], **where,
    }  # fmt: skip


SQUARE = [[-2, -2], [2, -2], [2, 2], [-2, 2]]


def test_a_sweep_a_loft_and_a_bead_with_their_script(plug, tmp_path):
    steps = list(plug.steps)
    back = plug.replay()
    back.run()
    to_scan = back.output("frame").inverse()
    places = [
        {"place": to_scan.points(np.array([p], float))[0].tolist()} for p in ([40, 0, 0], [70, 0, 10], [80, 30, 20])
    ]
    plug.lay({"id": "way", "kind": "curve", "name": "Way", "scan": "scan", "frame": "frame", "places": places})
    plug.lay(polygon("prof", "Profile", SQUARE, on="way", share=0.0))
    sweep = {"id": "rod", "kind": "sweep", "name": "Rod", "sketch": "prof", "path": "way", "frame": "frame"}
    rod = plug.lay(sweep).summary
    assert rod["volume"] == pytest.approx(16 * rod["length"], rel=0.01)
    plug.lay(polygon("mid", "Middle", [[-3, -1], [3, -1], [3, 1], [-3, 1]], on="way", share=0.5))
    plug.lay(polygon("last", "Last", SQUARE, on="way", share=1.0))
    loft = {"id": "horn", "kind": "loft", "name": "Horn", "frame": "frame", "sections": ["prof", "mid", "last"]}
    horn = plug.lay(loft).summary
    assert horn["valid"] and len(horn["matches"]) == 4 and 0.6 * rod["volume"] < horn["volume"] < rod["volume"]
    ran = plug.replay()
    ran.run()
    edges = [list(n) for n, _ in ran.output("horn").edges() if "Horn/end" in n[:2]]
    plug.lay({"id": "weld", "kind": "bead", "name": "Weld", "frame": "frame", "body": "horn", "edges": edges[:1],
              "diameter": typed(1.0)})  # fmt: skip
    assert plug.ran["weld"].summary["volume"] > horn["volume"]
    assert "skinned" in built_alone(plug.steps, plug._store, plug.file, tmp_path)
    plug.steps[:] = steps


def test_where_a_curve_passes_through_a_paper_a_drawing_is_held_to_it(plug):
    steps = list(plug.steps)
    back = plug.replay()
    back.run()
    to_scan = back.output("frame").inverse()
    places = [{"place": to_scan.points(np.array([p], float))[0].tolist()} for p in ([40, 0, 0], [70, 0, 10])]
    plug.lay({"id": "way", "kind": "curve", "name": "Way", "scan": "scan", "frame": "frame", "places": places})
    drawn = polygon("held", "Held", (np.array(SQUARE) + [50, 1.0]).tolist(), height=4.0)
    drawn["projected"] = [{"id": "g1", "of": "way"}]
    drawn["relations"] = [*drawn.get("relations", []), {"kind": "coincident", "of": ["e1.start", "g1"]}]
    told = plug.lay(drawn).summary
    e1 = next(e for e in told["geometry"] if e["id"] == "e1")
    assert e1["start"] == pytest.approx([52, 0], abs=1e-6)  # four tenths of the way up, four tenths of the way along
    assert sorted(e["kind"] for e in told["projected"]) == ["line", "point"]
    # A bent one beside the paper passes nowhere, but is seen, and what is drawn keeps to it.
    bent = [{"place": to_scan.points(np.array([p], float))[0].tolist()} for p in ([40, 0, 0], [55, 6, 5], [70, 0, 10])]
    plug.lay({"id": "bent", "kind": "curve", "name": "Bent", "scan": "scan", "frame": "frame", "places": bent})
    above = {**drawn, "id": "above", "height": 14.0, "projected": [{"id": "g1", "of": "bent"}]}
    above["relations"] = [{"kind": "on_curve", "of": ["e2.end", "g1_p1"]}]
    told = plug.lay(above).summary
    (seen,) = told["projected"]
    e2 = next(e for e in told["geometry"] if e["id"] == "e2")
    places = curve_of(seen).at(np.linspace(0, 1, 4000))
    assert seen["kind"] == "spline" and places[:, 1].max() == pytest.approx(6, abs=0.3)
    assert np.linalg.norm(places - e2["end"], axis=1).min() < 0.01
    plug.steps[:] = steps


def test_pieces_of_a_curve_are_seen_as_lines_arcs_and_cubics():
    from deftmason.core.curves.spatial import SpaceCurve, arc_through, line
    from deftmason.core.recipe.projections import ProjectedRecord, _curve_seen
    from deftmason.core.scan.section import SectionPlane

    bent = [10 + 5 * np.sin(np.pi / 4), 5 - 5 * np.cos(np.pi / 4), 2]
    way = SpaceCurve(
        (line([0, 0, 2], [10, 0, 2]), arc_through([10, 0, 2], bent, [15, 5, 2]), line([15, 5, 2], [15, 5, 9]))
    )
    g = ProjectedRecord(id="g1", of="way")
    seen = _curve_seen(way, g, SectionPlane.at([1, 0, 5], [0, 0, 1], [1, 0, 0]))
    assert sorted(seen) == ["g1", "g1_p1", "g1_p2"] and seen["g1"]["at"] == pytest.approx([14, 5])
    arc = seen["g1_p2"]
    assert arc["center"] == pytest.approx([9, 5]) and arc["radius"] == pytest.approx(5) and arc["ccw"]
    below = _curve_seen(way, g, SectionPlane.at([1, 0, 5], [0, 0, -1], [1, 0, 0]))["g1_p2"]
    assert below["center"] == pytest.approx([9, -5]) and not below["ccw"]
    lean = _curve_seen(way, g, SectionPlane.at([0, 0, 0], [1, 0, 1], [0, 1, 0]))["g1_p2"]
    assert lean["kind"] == "spline" and np.array(lean["poles"])[[0, -1], 0] == pytest.approx([0, 5])


def test_a_surface_is_mirrored_stitched_and_thickened_with_its_script(plug, tmp_path):
    steps = list(plug.steps)
    line = [[40, 0], [55, 6], [70, 0]]
    for k, height in enumerate((0.0, 20.0, 40.0)):
        rows = [[x, y + height * 0.1] for x, y in line]
        plug.lay(polygon(f"s{k}", f"S{k}", rows, closed=False, axis="y", height=height))
    surface = {"kind": "loft", "name": "Sheet", "frame": "frame", "sections": ["s0", "s1", "s2"], "result": "surface"}
    plug.lay({"id": "half", **surface})
    assert plug.ran["half"].summary["solids"] == 0
    plug.lay(
        {
            "id": "other",
            "kind": "bodymirror",
            "name": "Other",
            "body": "half",
            "frame": "frame",
            "axis": "y",
            "keep": False,
        }
    )
    plug.lay({"id": "shell", "kind": "stitch", "name": "Shell", "body": "half", "others": ["other"]})
    shell = plug.ran["shell"].summary
    assert shell["open_rims"] == 8 and shell["gap"] < 1e-4 and shell["solids"] == 0
    plug.lay({"id": "thick", "kind": "thicken", "name": "Thick", "body": "shell", "thickness": typed(2.0)})
    got = plug.ran["thick"].summary
    assert got["solids"] == 1 and got["volume"] == pytest.approx(2 * shell["area"], rel=0.05)
    built_alone(plug.steps, plug._store, plug.file, tmp_path)
    plug.steps[:] = steps


def test_curves_follow_what_they_are_made_of(plug):
    steps = list(plug.steps)
    plug.lay(polygon("plan", "Plan", [[0, 0], [30, 0], [30, 20]], closed=False, height=5.0))
    plug.lay({"id": "c1", "kind": "curveof", "name": "C1", "frame": "frame", "way": "outline", "sketch": "plan"})
    assert plug.ran["c1"].summary["length"] == pytest.approx(50)
    made = {"kind": "curveof", "frame": "frame"}
    plug.lay({"id": "c2", "name": "C2", **made, "way": "part", "curve": "c1", "begin": typed(10.0), "end": typed(-5.0)})
    assert plug.ran["c2"].summary["length"] == pytest.approx(45)
    plug.lay({"id": "c3", "name": "C3", **made, "way": "cut", "scan": "scan", "datum": "flat"})
    assert plug.ran["c3"].summary["length"] > 5
    plug.lay({"id": "c4", "name": "C4", **made, "way": "dropped", "curve": "c3", "datum": "head"})
    with pytest.raises(BadInput, match="sharp corners"):
        plug.lay({"id": "c5", "name": "C5", **made, "way": "aside", "curve": "c1"})
    with pytest.raises(BadInput, match="mm apart"):
        plug.lay({"id": "c6", "name": "C6", **made, "way": "joined", "curves": ["c1", "c3"]})
    plug.lay(polygon("side", "Side", [[0, 0], [20, 15]], closed=False, axis="x"))
    plug.lay(polygon("front", "Front", [[0, 0], [15, 5]], closed=False, axis="y"))
    for k, p in plug.ran.items():
        assert p.status in ("sound", "attention"), (k, p.says)
    plug.steps[:] = steps


def test_a_scan_is_checked_against_a_curve(plug):
    plug.lay(helix(plug, held="neck"))
    ran = plug.lay({
        "id": "along", "kind": "check", "name": "Along the ridge", "scan": "scan", "body": "hx", "frame": "frame",
        "tolerance": 0.1, "reach": 1.0,
    })  # fmt: skip
    s = ran.summary
    assert ran.status == "sound" and s["answered"] > 300
    # The helix runs on the crest, which lies on the scan; beside it the flanks fall away.
    assert abs(s["mean"]) < 0.03 and s["p95"] < 0.42, s
    far = plug.lay({
        "id": "far", "kind": "check", "name": "Too near", "scan": "scan", "body": "hx", "frame": "frame",
        "tolerance": 0.1, "reach": 1e-6,
    })  # fmt: skip
    assert far.status == "attention" and "No place of the scan lies within" in far.says


def test_a_plane_across_a_curve_stands_where_it_says_and_square_to_it(plug):
    ran = plug.lay(helix(plug, held="neck", following="height", turns=typed(6.0), pitch=typed(2.5)))
    try:
        for share in (0.0, 0.37, 1.0):
            got = laid(
                plug,
                {"id": "ax", "kind": "across_curve", "name": "Across", "frame": "frame", "curve": "hx", "share": share},
            )
            back = plug.pose.inverse()
            p = back.points(np.array([got["parameters"]["point"]]))[0]
            n = back.vectors(np.array(got["parameters"]["normal"]))
            r = np.hypot(*p[:2])
            # Along a screw line it leans from its turning circle as its pitch says.
            assert abs(n[2]) == pytest.approx(2.5 / np.hypot(2.5, 2 * np.pi * r), abs=2e-3)
            assert abs(n[:2] @ p[:2]) / r < 2e-3
            assert got["along"] == pytest.approx(share * ran.summary["length"], rel=1e-3)
    finally:
        plug.steps.pop()


def test_a_plane_stands_square_to_the_edge_of_a_sketch_that_was_clicked(plug):
    steps = list(plug.steps)
    ran = plug.replay()
    ran.run()
    to_scan = ran.output("frame").inverse()
    plug.lay(polygon("part", "Outline", [[0, 0], [40, 10], [20, 40], [-5, 30]], height=4.0))
    try:
        ways = {"a": ([12.0, 2.0, 5.0], [40, 10], [0, 0]), "b": ([32.0, 24.0, 1.0], [20, 40], [40, 10])}
        for beside, b, a in ways.values():
            near = to_scan.points(np.array([beside]))[0].tolist()
            step = {"id": "ax", "kind": "across_curve", "name": "Across", "frame": "frame", "curve": "part"}
            got = laid(plug, step | {"near": near})
            back = to_scan.inverse()
            p = back.points(np.array([got["parameters"]["point"]]))[0]
            n = back.vectors(np.array(got["parameters"]["normal"]))
            edge = np.subtract(b, a) / np.linalg.norm(np.subtract(b, a))
            assert abs(n[:2] @ edge) == pytest.approx(1, abs=1e-9) and n[2] == pytest.approx(0, abs=1e-9)
            foot = np.array(a) + edge * ((np.array(beside[:2]) - a) @ edge)
            assert p == pytest.approx([*foot, 4.0], abs=1e-5)
            assert got["whole"] == pytest.approx(np.linalg.norm(np.subtract(b, a)))
        # Without a place: the middle of the longest edge.
        got = laid(plug, {"id": "ax", "kind": "across_curve", "name": "Across", "frame": "frame", "curve": "part"})
        assert got["along"] == pytest.approx(0.5 * np.hypot(40, 10))
    finally:
        plug.steps[:] = steps
