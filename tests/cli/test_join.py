"""`mason join` as a whole process: placements, the merged mesh, pairs from a file, and what it refuses."""

import json

import numpy as np
import pytest

from deftmason.core.scan.files import read_scan, write_scan
from deftmason.demo.lantern import lantern_scans
from deftmason.rig.sets import turned_scans

from .command import mason


@pytest.fixture(scope="module")
def arm(tmp_path_factory):
    """Three raw scans of the arm as files, their poses, and a scan of another part."""
    folder = tmp_path_factory.mktemp("arm")
    scans = lantern_scans(0.9)
    chosen = [0, 2, 4]
    for k, i in enumerate(chosen):
        write_scan(str(folder / f"arm{k}.ply"), scans[i][0])
    write_scan(str(folder / "other.ply"), turned_scans(spacing=0.9)[1][0])
    return folder, [scans[i][1] for i in chosen]


def off(matrix, poses, k):
    """How far a placement is off at the part's box corners, mm."""
    box = np.array([[x, y, z] for x in (-22, 62) for y in (-15, 15) for z in (0, 52)], float)
    p = poses[k].points(box)
    m = np.array(matrix)
    return np.linalg.norm(p @ m[:3, :3].T + m[:3, 3] - poses[0].points(box), axis=1).max()


def test_scans_come_into_the_frame_of_the_first_and_a_stranger_stays_out(arm, tmp_path):
    folder, poses = arm
    files = [folder / "arm0.ply", folder / "arm1.ply", folder / "other.ply", folder / "arm2.ply"]
    out, where = tmp_path / "joined.ply", tmp_path / "t.json"
    got = mason(
        "join",
        *files,
        "--out",
        out,
        "--noise",
        "0.03",
        "--resolution",
        "0.7",
        "--transforms",
        where,
        "--json",
        expect=4,
    )
    assert got["unplaced"] == [2] and got["transforms"][2] is None
    assert got["transforms"][0] == np.eye(4).tolist()
    assert off(got["transforms"][1], poses, 1) < 0.06 and off(got["transforms"][3], poses, 2) < 0.06
    assert {(l["a"], l["b"]) for l in got["links"]} == {(0, 1), (0, 3), (1, 3)}
    assert all(0.05 < l["overlap"] <= 1 and 0 < l["rms"] < 0.06 for l in got["links"])
    assert any("other.ply: not placed" in w for w in got["warnings"]) and any("slab" in w for w in got["warnings"])
    mesh = read_scan(str(out)).scan
    assert (len(mesh.vertices), len(mesh.faces)) == (got["merged"]["points"], got["merged"]["triangles"])
    assert json.loads(where.read_text())["transforms"] == got["transforms"] and got["seconds"] > 0


def test_pairs_stand_in_for_the_match(arm, tmp_path):
    folder, poses = arm
    places = np.array([[16, 0, 24.0], [48, 0, 46], [15, 12, 6], [-15, -12, 6]])
    lot = np.random.default_rng(2)
    pair = {"fixed": 0, "moving": 1, "fixed_points": (poses[0].points(places) + lot.normal(size=(4, 3)) * 0.3).tolist()}
    pair["moving_points"] = (poses[2].points(places) + lot.normal(size=(4, 3)) * 0.3).tolist()
    path = tmp_path / "pairs.json"
    path.write_text(json.dumps({"pairs": [pair]}))
    got = mason(
        "join",
        folder / "arm0.ply",
        folder / "arm2.ply",
        "--out",
        tmp_path / "o.stl",
        "--pairs",
        path,
        "--resolution",
        "0.9",
        "--json",
    )
    assert got["unplaced"] == [] and off(got["transforms"][1], poses, 2) < 0.1
    assert (tmp_path / "o.stl").stat().st_size == 84 + 50 * got["merged"]["triangles"]


@pytest.mark.parametrize(
    "pairs, says",
    [
        ("no json", "is not JSON"),
        ({"pairs": []}, 'has no list "pairs"'),
        ({"pairs": [{"fixed": 0, "moving": 7, "fixed_points": [], "moving_points": []}]}, "names scans 0 and 7"),
        (
            {"pairs": [{"fixed": 0, "moving": 1, "fixed_points": [[0, 0, 0]], "moving_points": [[0, 0, 0]]}]},
            "three or more points",
        ),
        ({"pairs": [{"fixed": 0, "moving": 1}]}, "lacks fixed, moving"),
    ],
)
def test_bad_pairs_are_refused_in_one_line(arm, tmp_path, pairs, says):
    folder, _ = arm
    path = tmp_path / "pairs.json"
    path.write_text(pairs if isinstance(pairs, str) else json.dumps(pairs))
    error = mason(
        "join", folder / "arm0.ply", folder / "arm1.ply", "--out", tmp_path / "o.ply", "--pairs", path, expect=3
    )
    assert says in error and not (tmp_path / "o.ply").exists()


@pytest.mark.parametrize(
    "more, says",
    [(["--noise", "-1"], "--noise"), (["--resolution", "0"], "--resolution"), (["--out", "x.obj"], ".ply")],
)
def test_bad_arguments_are_refused(arm, tmp_path, more, says):
    folder, _ = arm
    args = ["--out", tmp_path / "o.ply", *more] if "--out" not in more else more
    error = mason("join", folder / "arm0.ply", folder / "arm1.ply", *args, expect=2)
    assert says in error
    assert "two scans" in mason("join", folder / "arm0.ply", "--out", tmp_path / "o.ply", expect=2)
