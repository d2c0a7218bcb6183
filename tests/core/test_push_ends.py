"""Pushes that end on datums: square, slanted, level with a place; what cannot end them; they follow, and the script
builds the same.
"""

import hashlib

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from .scripted import built_alone
from .test_curve_steps import polygon
from .test_scan import box_mesh

LEAN = 20.0


def begun(folder, scale: float) -> Laying:
    """A block of 40 by 30 by 20 times ``scale`` with a frame, datums of its faces, and planes and points of these."""
    path = folder / "block.ply"
    mesh = box_mesh(12)
    write_scan(str(path), TriMesh(mesh.vertices * scale, mesh.faces))
    sha = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([], RigidMotion.identity(), ResultStore(str(folder / "store")), lambda sha, name: str(path))
    j.file = lambda sha, name: str(path)
    j.lay({"id": "scan", "kind": "scan", "name": "Scan", "file": "block.ply", "sha256": sha})
    for name, place, normal in (
        ("low", (20, 15, 0), (0, 0, -1)),
        ("front", (20, 0, 10), (0, -1, 0)),
        ("left", (0, 15, 10), (-1, 0, 0)),
        ("high", (20, 15, 20), (0, 0, 1)),
    ):
        pick = j.pick(scale * np.array(place, float), normal)
        j.lay({"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "pick": pick})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "low", "second": "front", "origin": "left"})

    def made(name, way, of, **more):
        j.lay({"id": name, "kind": "construct", "name": name.capitalize(), "way": way, "of": of} | more)

    made("edge", "line of planes", ["low", "left"])
    made("leaning", "turned plane", ["low", "edge"], angle_deg=LEAN)
    made("corner", "point of planes", ["high", "front", "left"])
    made("upright", "line of planes", ["front", "left"])
    corners = scale * np.array([[5, 4], [25, 4], [25, 14], [5, 14]])
    j.lay(polygon("plan", "Plan", corners.tolist()))
    return j


def pushed(j: Laying, **ends) -> dict:
    """What a push says, laid and taken away again."""
    typed = {"to": "height", "height": {"value": 0.0, "source": "typed"}}
    step = {"id": "push", "kind": "extrude", "name": "Push", "sketch": "plan", "scan": "scan", "frame": "frame"}
    ran = j.lay({**step, "start": typed, **ends})
    j.steps.pop()
    return ran.summary


def on(datum: str) -> dict:
    return {"to": "datum", "datum": datum}


@pytest.mark.parametrize("scale", [0.05, 1.0, 400.0])
def test_a_push_ends_on_planes_slanted_planes_and_level_with_a_point(tmp_path, scale):
    j = begun(tmp_path, scale)
    area = 200 * scale**2
    up = np.sign(j.ran["leaning"].summary["parameters"]["normal"][0]) * -1  # which way the plane rises
    assert pushed(j, end=on("high"))["volume"] == pytest.approx(area * 20 * scale, rel=1e-6)
    assert pushed(j, end=on("corner"))["volume"] == pytest.approx(area * 20 * scale, rel=1e-6)
    assert pushed(j, end=on("edge"), start=on("high"))["volume"] == pytest.approx(area * 20 * scale, rel=1e-6)
    middle = 15 * scale * np.tan(np.radians(LEAN))  # of the slanted plane over the profile's middle
    low = {"to": "height", "height": {"value": -20.0 * scale, "source": "typed"}}
    slanted = pushed(j, start=low, end=on("leaning"))
    nz = j.ran["leaning"].summary["parameters"]["normal"][2]
    assert slanted["volume"] == pytest.approx(area * (20 * scale + up * np.sign(nz) * middle), rel=1e-6)
    assert slanted["faces"] == 6 and slanted["valid"] and "Push/top" in slanted["face_names"]
    with pytest.raises(BadInput, match="along the push"):
        pushed(j, end=on("front"))
    with pytest.raises(BadInput, match="not level"):
        pushed(j, end=on("upright"))
    with pytest.raises(BadInput, match="Choose the datum"):
        pushed(j, end={"to": "datum"})


def test_an_end_follows_its_datum_and_the_script_builds_the_same(tmp_path):
    j = begun(tmp_path, 1.0)
    low = {"to": "height", "height": {"value": -20.0, "source": "typed"}}
    step = {"id": "push", "kind": "extrude", "name": "Push", "sketch": "plan", "scan": "scan", "frame": "frame"}
    before = j.lay({**step, "start": low, "end": on("leaning")}).summary["volume"]
    built_alone(j.steps, j._store, j.file, tmp_path)
    leaning = next(s for s in j.steps if s["id"] == "leaning")
    leaning["angle_deg"] = -LEAN
    after = j.replay()
    after.run()
    assert after.output("push").volume + before == pytest.approx(2 * 200 * 20, rel=1e-6)


def curve(step_id, name, strokes):
    return {**polygon(step_id, name, [[0, 0], [1, 0], [1, 1]]), "strokes": strokes}


OPEN = [
    {"id": "e1", "kind": "line", "at": [[5, 4], [15, 4]], "joins": "e2"},
    {"id": "e2", "kind": "arc", "at": [[15, 4], [19, 8], [15, 8]], "radius": 4.0, "ccw": True, "joins": "e3"},
    {"id": "e3", "kind": "line", "at": [[19, 8], [19, 14]]},
]


def test_an_open_profile_is_pushed_and_turned_as_a_surface_and_thickened(tmp_path):
    j = begun(tmp_path, 1.0)
    j.lay(curve("rib", "Rib", OPEN))
    long = 10 + 2 * np.pi + 6
    end = {"to": "height", "height": {"value": 8.0, "source": "typed"}}
    got = pushed(j, end=end, sketch="rib", result="surface")
    assert got["area"] == pytest.approx(8 * long, rel=1e-9) and got["solids"] == 0 and got["valid"]
    assert sorted(got["face_names"]) == ["Push/side/e1", "Push/side/e2", "Push/side/e3"]
    assert pushed(j, end=on("high"), sketch="rib", result="surface", loops=["e3"])["chains"] == [["e1", "e2", "e3"]]
    with pytest.raises(BadInput, match="no closed loop"):
        pushed(j, end=end, sketch="rib")
    with pytest.raises(BadInput, match="ends level"):
        pushed(j, end=on("leaning"), sketch="rib", result="surface")
    turn = {"id": "turn", "kind": "revolve", "name": "Turn", "sketch": "rib", "frame": "frame", "about": "up"}
    spun = j.lay({**turn, "result": "surface"}).summary
    arc = 2 * np.pi * 4 * (np.pi / 2 * 15 + 4)  # Pappus: a quarter of a circle about the paper's upright
    flat = np.pi * (15**2 - 5**2) + 2 * np.pi * 19 * 6
    assert spun["area"] == pytest.approx(arc + flat, rel=1e-6) and len(spun["face_names"]) == 3
    j.steps.pop()
    step = {"id": "push", "kind": "extrude", "name": "Push", "scan": "scan", "frame": "frame", "sketch": "rib"}
    low = {"to": "height", "height": {"value": 0.0, "source": "typed"}}
    j.lay({**step, "start": low, "end": end, "result": "surface"})
    two = {"value": 2.0, "source": "typed"}
    plate = j.lay({"id": "thick", "kind": "thicken", "name": "Plate", "body": "push", "thickness": two}).summary
    middle = 16 + np.pi / 2 * 3  # of the plate's two sides, the arc's is the inner one
    assert plate["volume"] == pytest.approx(2 * 8 * middle, rel=1e-6) and plate["solids"] == 1
    built_alone(j.steps, j._store, j.file, tmp_path)


def test_closed_and_several_chains_are_surfaces_too_and_a_turned_one_is_scripted(tmp_path):
    j = begun(tmp_path, 1.0)
    end = {"to": "height", "height": {"value": 8.0, "source": "typed"}}
    tube = pushed(j, end=end, result="surface")
    assert tube["area"] == pytest.approx(8 * 60, rel=1e-9) and len(tube["face_names"]) == 4
    apart = [*OPEN, {"id": "e4", "kind": "circle", "at": [[30, 20]], "radius": 3.0}]
    j.lay(curve("both", "Both", apart))
    got = pushed(j, end=end, sketch="both", result="surface")
    assert got["area"] == pytest.approx(8 * (16 + 8 * np.pi), rel=1e-6) and len(got["chains"]) == 2
    turn = {"id": "turn", "kind": "revolve", "name": "Turn", "sketch": "both", "frame": "frame", "about": "across"}
    with pytest.raises(BadInput, match="crosses its axis"):
        over = [{"id": "e1", "kind": "line", "at": [[-5, 4], [15, 8]]}]
        j.lay(curve("over", "Over", over))
        j.lay({**turn, "sketch": "over", "about": "up", "result": "surface"})
    j.steps.pop()
    angle = {"value": 90.0, "source": "typed"}
    j.lay({**turn, "result": "surface", "loops": ["e2"], "angle": angle})
    two = {"value": -1.0, "source": "typed"}
    j.lay({"id": "thick", "kind": "thicken", "name": "Plate", "body": "turn", "thickness": two})
    built_alone(j.steps, j._store, j.file, tmp_path)
