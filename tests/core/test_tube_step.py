"""A tube as a step: clicked on the scan, its bend table read, its diameter chosen, a wall given, its script."""

import hashlib

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.curves.bentpath import BentPath
from deftmason.core.elements import RigidMotion
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh
from deftmason.demo.bracket_job import Laying

from .scripted import built_alone
from .test_tubes import STANCHION, scan_of

_PARTS = STANCHION.direction, STANCHION.inward, STANCHION.straights, STANCHION.bends
RAIL = BentPath(np.array([-60.0, 45, 30]), *_PARTS)


def stand_and_rail(step=2.4, noise=0.01, share=0.7, gap=None) -> TriMesh:
    """A block to stand a frame on, and beside it a bent tube of 24 mm, of which a part is seen."""
    from build123d import Box, Pos

    from ..trials.parts import as_body
    from ..trials.scanning import even_mesh_of

    rng = np.random.default_rng(2)
    block = even_mesh_of(as_body(Pos(0, 0, 10) * Box(60, 40, 20)), rng, 2.0, noise, 4.0)[0]
    tube = scan_of(RAIL, 12.0, step, noise, share=share, gap=gap)
    return TriMesh(
        np.vstack([block.vertices, tube.vertices]), np.vstack([block.faces, tube.faces + len(block.vertices)])
    )


@pytest.fixture(scope="module")
def rail(tmp_path_factory):
    folder = tmp_path_factory.mktemp("rail")
    mesh = stand_and_rail()
    pose = RigidMotion.of(Rotation.random(random_state=5).as_matrix(), [90.0, 20, -35])
    path = folder / "scan.ply"
    write_scan(str(path), TriMesh(pose.points(mesh.vertices), mesh.faces))
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([scan], pose, ResultStore(str(folder / "store")), lambda sha, name: str(path))
    on = {"kind": "datum", "scan": "scan"}
    j.lay({"id": "foot", "name": "Foot", **on, "element": "plane", "pick": j.pick((15, 5, 0), (0, 0, -1))})
    j.lay({"id": "side", "name": "Side", **on, "element": "plane", "pick": j.pick((12, -20, 5), (0, -1, 0))})
    j.lay({"id": "end", "name": "End", **on, "element": "plane", "pick": j.pick((30, 3, 9), (1, 0, 0))})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "end"})
    at = RAIL.at(np.array([60.0]))[0]
    click = {"place": pose.points(at + [0, 0, 12.0]).tolist(), "normal": pose.vectors(np.array([0, 0, 1.0])).tolist()}
    j.tube = {"id": "rail", "kind": "tube", "name": "Rail", "scan": "scan", "frame": "frame"}
    j.tube |= {"places": [click | {"rule": "same bend"}]}
    return j


def ran(j, **more):
    steps = [parse_step(s) for s in [*j.steps, j.tube | more]]
    return Replay(steps, j._store, j._scan_file).run()[-1]


def test_a_clicked_tube_is_laid_with_its_bend_table_and_wall(rail):
    wall = {"value": 2.5, "source": "hand reading"}
    r = ran(rail, wall=wall)
    assert r.status == "sound", r.says
    bends = r.summary["bends"]
    angles = [b["angle_deg"] for b in bends]
    want = [90, 45, np.degrees(1.2)]
    assert angles == pytest.approx(want if abs(angles[0] - 90) < 5 else want[::-1], abs=0.15)
    assert [v.name for v in r.values] == ["diameter", "wall"]
    assert r.values[0].chosen == 24 and r.values[0].source == "rounded"
    assert r.values[0].measured == pytest.approx(24, abs=0.02)
    assert r.summary["volume"] == pytest.approx(np.pi * (12**2 - 9.5**2) * RAIL.length, rel=4e-3)
    assert r.summary["valid"] and r.summary["solids"] == 1 and "Rail/inside/1" in r.summary["face_names"]
    assert 0.6 < r.summary["seen"] < 0.85 and r.summary["bridged"] == 0


def test_its_script_bends_the_same_tube(rail, tmp_path):
    wall = {"value": 2.5, "source": "hand reading"}
    text = built_alone([*rail.steps, rail.tube | {"wall": wall}], rail._store, rail._scan_file, tmp_path)
    assert "sweep(" in text and "cannot be said" not in text


def test_two_ends_and_a_place_it_goes_by_and_a_kept_diameter(rail):
    places = []
    for s in (4.0, 0.5 * RAIL.length, RAIL.length - 4):
        p = rail.pose.points(RAIL.at(np.array([s]))[0])
        places.append({"place": p.tolist(), "normal": [0.0, 0, 1], "rule": "same bend"})
    r = ran(rail, places=places, diameter={"value": 24.0, "source": "typed"}, known=True)
    assert r.status == "sound" and len(r.summary["bends"]) == 3 and r.summary["outer"] == 12.0


def test_what_cannot_be_is_refused_in_a_sentence(rail):
    assert "Click the tube" in ran(rail, places=[]).says
    assert "thinner" in ran(rail, wall={"value": 15.0, "source": "typed"}).says
    assert "trim less" in ran(rail, before=-500.0).says
    mark = {"by": "everything", "places": []}
    assert "marked as not this tube" in ran(rail, marks=[mark]).says


def test_its_ends_are_lengthened_its_table_rounded_and_what_is_not_of_it_left_out(rail):
    plain = ran(rail).summary
    longer = ran(rail, before=10.0, after=-4.0).summary
    area = np.pi * 12**2
    assert longer["volume"] - plain["volume"] == pytest.approx(6 * area, rel=1e-4)
    rounded = ran(rail, rounded=True)
    table = {round(b["radius"], 6) for b in rounded.summary["bends"]}
    assert table == {40.0, 55.0} and 0 < rounded.summary["costs"] < 0.3
    assert {90.0, 45.0} < {round(b["angle_deg"], 6) for b in rounded.summary["bends"]}
    # A stretch at its end is brushed away: what is left is read alone.
    far = rail.pose.points(RAIL.at(np.array([RAIL.length - 20.0]))[0])
    brush = {"by": "brush", "places": [far.tolist()], "radius": 30.0, "through": True, "toward": [0, 0, 1]}
    less = ran(rail, marks=[brush])
    assert less.status == "sound", less.says
    assert 0.8 * plain["volume"] < less.summary["volume"] < 0.95 * plain["volume"]
