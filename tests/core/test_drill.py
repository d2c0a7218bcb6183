"""Holes read from a scan of a drilled block and drilled again: sizes, places, heads, floors, script, refusals."""

import hashlib
from copy import deepcopy

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.kernel.drilled import Drill, drilled
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.ledger import set_value
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .scripted import built_alone

UP = np.array([0.0, 0, 1])
#: Counterbored holes through the block, two blind countersunk ones with a pointed floor, one plain from the side.
BORED = [(-22.0, -14.0), (22.0, -14.0), (22.0, 14.0), (-22.0, 14.0)]
SUNK = [(-8.0, 0.0), (8.0, 0.0)]
DRILLS = [
    Drill(3.4, 20.0, True, head="counterbore", head_radius=5.5, head_depth=6.0),
    Drill(2.5, 12.0, tip=118.0, head="countersink", head_radius=4.5, head_angle=90.0),
    Drill(2.0, 10.0),
]


def block():
    from build123d import Box, Pos

    return Pos(0, 0, 10) * Box(60, 40, 20)


@pytest.fixture(scope="module")
def drilled_block(tmp_path_factory):
    """A scan of the drilled block in a pose, a recipe up to its plain block, and a way to run it."""
    from scipy.spatial.transform import Rotation

    folder = tmp_path_factory.mktemp("holes")
    true = as_body(block())
    from deftmason.core.kernel.features import combine

    places = [(0, (*p, 20.0), -UP) for p in BORED] + [(1, (*p, 20.0), -UP) for p in SUNK]
    places.append((2, (0.0, -20.0, 10.0), np.array([0.0, 1, 0])))
    for k, (which, at, way) in enumerate(places):
        true = combine(true, drilled(DRILLS[which], at, way, 1.0, f"d{k}"), "cut", "true")
    rng = np.random.default_rng(4)
    mesh = even_mesh_of(true, rng, 0.8, 0.01, 2.0)[0]
    pose = RigidMotion.of(Rotation.random(random_state=8).as_matrix(), [300.0, -40, 12])
    path = folder / "scan.ply"
    write_scan(str(path), TriMesh(pose.points(mesh.vertices), mesh.faces))
    store = ResultStore(str(folder / "store"))
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([scan], pose, store, lambda sha, name: str(path))
    on = {"kind": "datum", "scan": "scan"}
    j.lay({"id": "foot", "name": "Foot", **on, "element": "plane", "pick": j.pick((15, 5, 0), (0, 0, -1))})
    j.lay({"id": "side", "name": "Side", **on, "element": "plane", "pick": j.pick((12, -20, 5), (0, -1, 0))})
    j.lay({"id": "end", "name": "End", **on, "element": "plane", "pick": j.pick((30, 3, 9), (1, 0, 0))})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "end"})
    j.motion = j.replay().output("frame", "frame")
    j.true, j.folder = true, folder
    j.lay(
        {"id": "box", "kind": "solid", "name": "Block", "frame": "frame", "shape": "box"}
        | {k: {"value": v, "source": "typed"} for k, v in (("width", 60), ("depth", 40), ("low", 0), ("high", 20))}
        | dict(zip(("place_x", "place_y", "place_z"), on_frame(j, (0, 0, 0))))
    )
    return j


def on_frame(j, place):
    """A place of the part in the frame, rounded: the frame is read from a scan."""
    return np.round(j.motion.points(j.pose.points(np.array(place, float))), 1).tolist()


def holes(j, step_id, name, walls, body, **more):
    """A step of holes clicked on their walls: places on the part with the normals there."""
    places = [{"pick": j.pick(p, n, "same bend")} for p, n in walls]
    return {"id": step_id, "kind": "drill", "name": name, "scan": "scan", "frame": "frame", "body": body} | {
        "places": places,
        **more,
    }


def walls(drill, at, z):
    return [((x + drill.radius, y, z), (-1, 0, 0)) for x, y in at]


@pytest.fixture(scope="module")
def laid(drilled_block):
    j = drilled_block
    j.lay(holes(j, "bored", "Screw holes", walls(DRILLS[0], BORED, 6), "box"))
    j.lay(holes(j, "sunk", "Pins", walls(DRILLS[1], SUNK, 14), "bored"))
    j.lay(holes(j, "cross", "Cross hole", [((2.0, -14, 10), (-1, 0, 0))], "sunk", thread="M5"))
    return j


def values(ran):
    return {v.name: v for v in ran.values}


def test_sizes_heads_and_floors_are_the_true_ones(laid):
    bored, sunk, cross = (values(laid.ran[k]) for k in ("bored", "sunk", "cross"))
    assert bored["diameter"].chosen == 6.8 and bored["diameter"].measured == pytest.approx(6.8, abs=0.01)
    assert bored["head_diameter"].chosen == 11 and bored["head_depth"].chosen == 6 and "depth" not in bored
    assert laid.ran["bored"].summary["head"] == "counterbore" and laid.ran["bored"].summary["through"]
    assert sunk["diameter"].chosen == 5 and sunk["depth"].chosen == 12
    # Facets of 0.8 mm on a floor 5 mm wide: the tip's angle is known to some degrees, and it says so.
    assert abs(sunk["tip"].measured - 118) < 3 * sunk["tip"].uncertainty and sunk["tip"].uncertainty < 3
    assert sunk["head_diameter"].chosen == 9 and sunk["head_angle"].chosen == 90
    assert cross["diameter"].chosen == 4 and cross["depth"].chosen == 10 and "tip" not in cross
    assert all(abs(v.measured - v.chosen) < 4 * max(v.uncertainty, 0.005) for v in (*bored.values(), *cross.values()))


def test_places_are_round_and_the_whole_is_the_true_block(laid):
    told = laid.ran["bored"].summary["holes"]
    for hole, at in zip(told, BORED):
        assert hole["point"] == pytest.approx(on_frame(laid, (*at, 20)), abs=0.06)
        assert hole["inward"] == [0, 0, -1]
    assert laid.ran["cross"].summary["holes"][0]["inward"] == [0, 1, 0]
    assert laid.ran["cross"].summary["volume"] == pytest.approx(laid.true.volume, rel=2e-4)
    assert all(r.status == "sound" for r in laid.ran.values()), [(r.step.name, r.says) for r in laid.ran.values()]


def test_its_script_drills_the_same_holes(laid, tmp_path):
    built_alone(laid.steps, laid._store, laid._scan_file, tmp_path)


def test_one_number_moves_all_and_names_hold(laid):
    steps = deepcopy(laid.steps)
    set_value(steps, "bored", ["diameter", "value"], 7.0)
    ran = Replay([parse_step(s) for s in steps], laid._store, laid._scan_file).run()
    by = {r.step.id: r.summary for r in ran}
    gone = laid.ran["bored"].summary["volume"] - by["bored"]["volume"]
    assert gone == pytest.approx(4 * np.pi * (3.5**2 - 3.4**2) * 14, rel=1e-6)
    assert by["bored"]["face_names"] == laid.ran["bored"].summary["face_names"]
    assert {"Screw holes/3/wall", "Screw holes/3/seat", "Screw holes/3/head"} <= set(by["bored"]["face_names"])


def test_unlike_holes_and_what_is_no_hole_are_told(laid):
    mixed = [*walls(DRILLS[0], BORED[:2], 6), *walls(DRILLS[1], SUNK[:1], 14)]
    ran = Replay(
        [parse_step(s) for s in [*laid.steps[:6], holes(laid, "m", "Mixed", mixed, "box")]],
        laid._store,
        laid._scan_file,
    ).run()[-1]
    assert ran.status == "attention" and "Hole 3 is ⌀ 4.99" in ran.says
    for wall, said in ((((30, 3, 9), (1, 0, 0)), "hole|round"), (((0, 0, 500), (0, 0, 1)), "away from the scan")):
        with pytest.raises(BadInput, match=said):
            laid.lay(holes(laid, "n", "None", [wall], "cross"))
    with pytest.raises(BadInput, match="at least one hole"):
        laid.lay(holes(laid, "n", "None", [], "cross"))
    two_ways = [*walls(DRILLS[0], BORED[:1], 6), ((2.0, -14, 10), (-1, 0, 0))]
    with pytest.raises(BadInput, match="from the others; give it a step of its own"):
        laid.lay(holes(laid, "n", "None", two_ways, "cross"))


@pytest.mark.parametrize(
    "sizes,said",
    [
        ({"radius": 0.0}, "wider than 0"),
        ({"depth": 0.0}, "deeper than 0"),
        ({"tip": 5.0}, "20° to under 180°"),
        ({"head": "counterbore", "head_radius": 1.0, "head_depth": 1.0}, "wider than the hole"),
        ({"head": "counterbore", "head_radius": 4.0, "head_depth": 30.0}, "less deep"),
        ({"head": "countersink", "head_radius": 4.0, "head_angle": 5.0}, "20° to 170°"),
    ],
)
def test_sizes_that_make_no_hole_are_refused(sizes, said):
    with pytest.raises(BadInput, match=said):
        drilled(Drill(**{"radius": 2.0, "depth": 10.0, **sizes}), (0, 0, 0), UP, 1.0, "H")


@pytest.mark.parametrize("scale", [0.02, 1.0, 300.0])
def test_a_drill_takes_out_what_its_sizes_say(scale):
    d = Drill(2.0 * scale, 10.0 * scale, tip=90.0, head="countersink", head_radius=3.0 * scale, head_angle=90.0)
    b = drilled(d, scale * np.array([5.0, 6, 7]), (1, 2, 2), 1.0 * scale, "H")
    cone, sink = np.pi * 4 * 2 / 3, np.pi / 3 * 1.0 * (9 + 6 + 4)
    assert b.volume / scale**3 == pytest.approx(np.pi * 9 + sink + np.pi * 4 * 9 + cone, rel=1e-9) and b.is_valid
    assert set(b.face_names) == {f"H/{n}" for n in ("mouth", "rim", "head", "wall", "floor")}
