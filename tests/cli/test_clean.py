"""`mason clean` as a whole process: what it mends, what it leaves, what it refuses."""

import json

import numpy as np
import pytest

from deftmason.core.scan.files import read_scan, write_scan
from deftmason.core.scan.mesh import PointCloud, TriMesh

from ..core.shapes import off_box, off_tube, tube
from ..core.test_closing import window
from ..core.test_defects import duplicated, flipped
from ..core.test_scan import box_mesh
from ..core.test_shaping import on_slab
from .command import mason


def written(folder, name, scan):
    write_scan(str(folder / name), scan)
    return folder / name


def test_background_defects_holes_and_a_survey_first_and_last(tmp_path):
    mesh, _, turn = on_slab()
    out = tmp_path / "clean.ply"
    got = mason(
        "clean",
        written(tmp_path, "raw.ply", mesh),
        "--out",
        out,
        "--drop-background",
        "--fill",
        "all",
        "--fill-shape",
        "flat",
        "--json",
    )
    assert got["before"]["components"] == 3 and got["after"]["components"] == 1 and got["after"]["watertight"]
    assert {"what": "open loops closed", "count": 1} in got["did"] and got["seconds"] > 0 and got["warnings"] == []
    v = (read_scan(str(out)).scan.vertices - [5, -80, 33]) @ turn
    assert np.sqrt((off_box(v)[v[:, 2] > 1] ** 2).mean()) < 0.05
    assert got["after"]["volume"] == pytest.approx(24000, rel=0.03)


def test_only_what_is_named_is_fixed_and_only_n_loops_are_closed(tmp_path):
    path = written(tmp_path, "flipped.ply", flipped())
    got = mason("clean", path, "--out", tmp_path / "a.ply", "--fix", "duplicate_triangles", "--json")
    assert got["after"]["defects"]["flipped_triangles"] == 3 and got["did"] == []
    got = mason("clean", path, "--out", tmp_path / "b.ply", "--fix", "flipped_triangles,spikes", "--json")
    assert got["after"]["defects"]["flipped_triangles"] == 0 and got["after"]["watertight"]
    twice = written(tmp_path, "twice.ply", duplicated())
    assert (
        mason("clean", twice, "--out", tmp_path / "c.stl", "--fix", "none", "--json")["after"]["defects"][
            "duplicate_triangles"
        ]
        == 3
    )
    assert mason("clean", twice, "--out", tmp_path / "c.stl", "--json")["after"]["defects"]["duplicate_triangles"] == 0
    path = written(tmp_path, "tube.ply", window(tube(0.02)))
    got = mason("clean", path, "--out", tmp_path / "d.ply", "--fill", "1", "--json")
    assert len(got["before"]["open_loops"]) == 3 and len(got["after"]["open_loops"]) == 2
    # The shortest is the tube's own end here; the window stays.
    assert got["after"]["open_loops"][-1]["length"] == pytest.approx(got["before"]["open_loops"][-1]["length"])
    everything = mason("clean", path, "--out", tmp_path / "e.ply", "--fill", "all", "--fill-shape", "curved", "--json")
    assert everything["after"]["watertight"]
    v = read_scan(str(tmp_path / "e.ply")).scan.vertices
    middle = v[np.abs(v[:, 2] - 20) < 11]
    assert np.abs(off_tube(middle)).max() < 0.1


def test_smoothing_and_decimation(tmp_path):
    path = written(tmp_path, "box.ply", box_mesh(40, noise=0.03))
    got = mason("clean", path, "--out", tmp_path / "a.ply", "--smooth", "0.5", "--decimate-to", "4000", "--json")
    assert abs(got["after"]["triangles"] - 4000) < 60
    v = read_scan(str(tmp_path / "a.ply")).scan.vertices
    assert np.sqrt((off_box(v) ** 2).mean()) < 0.025
    got = mason("clean", path, "--out", tmp_path / "b.ply", "--decimate-within", "0.15", "--json")
    assert got["after"]["triangles"] < 0.5 * got["before"]["triangles"]
    assert "within 0." in got["did"][-1]["what"]


@pytest.mark.parametrize(
    "args, says",
    [
        (["--fix", "dents"], "'dents'"),
        (["--fill", "some"], "'some' is not a count"),
        (["--fill", "-2"], "'-2' is not a count"),
        (["--fill-shape", "round"], "'round'"),
        (["--smooth", "2"], "between 0 and 1"),
        (["--decimate-to", "9", "--decimate-within", "1"], "cannot both"),
        (["--decimate-to", "1"], "4 triangles"),
        (["--decimate-within", "-1"], "above 0"),
        (["--units", "mile"], "'mile'"),
    ],
)
def test_wrong_arguments(tmp_path, args, says):
    path = written(tmp_path, "box.ply", box_mesh(3))
    assert says in mason("clean", path, "--out", tmp_path / "o.ply", *args, expect=2)
    assert not (tmp_path / "o.ply").exists()


def test_unusable_input_writes_nothing(tmp_path):
    out = tmp_path / "o.ply"
    assert "triangulate" in mason("clean", written(tmp_path, "c.ply", PointCloud(np.eye(3))), "--out", out, expect=3)
    assert "No slab" in mason(
        "clean", written(tmp_path, "b.ply", box_mesh(8)), "--out", out, "--drop-background", expect=3
    )
    (tmp_path / "empty.stl").write_bytes(b"")
    assert "0 bytes" in mason("clean", tmp_path / "empty.stl", "--out", out, expect=3)
    assert "write the cleaned scan" in mason("clean", tmp_path / "b.ply", "--out", tmp_path / "o.doc", expect=2)
    assert "no folder" in mason("clean", tmp_path / "b.ply", "--out", tmp_path / "no" / "o.ply", expect=2)
    assert not out.exists()
    one = TriMesh(np.eye(3), np.array([[0, 1, 2]], np.int32))
    got = json.loads(json.dumps(mason("clean", written(tmp_path, "one.ply", one), "--out", out, "--json")))
    assert got["after"]["triangles"] == 1 and out.exists()
