"""`mason tube` as a whole process."""

import numpy as np
import pytest

from deftmason.core.kernel.files import read_model

from ..core.test_scan import box_mesh
from ..core.test_tubes import STANCHION, scan_of
from .test_mason import _written, mason


def test_a_tube_is_told_with_its_bend_table_and_written(tmp_path):
    file = _written(tmp_path / "tube.ply", scan_of(STANCHION, 12.0, 2.6, share=0.7))
    out = tmp_path / "tube.step"
    got = mason("tube", file, "--step", out, "--json")
    (tube,) = got["tubes"]
    assert tube["diameter"] == pytest.approx(24, abs=0.02) and 0 < tube["uncertainty"]["diameter"] < 0.02
    assert [p["kind"] for p in tube["pieces"]] == ["straight", "bend"] * 3 + ["straight"]
    angles = [b["angle_deg"] for b in tube["bend_table"]]
    if tube["end_length"] > 100:  # read from its other end
        angles = angles[::-1]
    assert angles == pytest.approx([90, 45, np.degrees(1.2)], abs=0.15)
    assert tube["bend_table"][0]["rotation_deg"] == 0
    line = np.array(tube["centreline"])
    assert np.linalg.norm(np.diff(line, axis=0), axis=1).max() <= 0.25 * tube["diameter"] + 1e-9
    assert got["unexplained"] < 0.01 and got["warnings"] == []
    assert read_model(str(out)).volume == pytest.approx(np.pi * 144 * STANCHION.length, rel=3e-3)
    assert "bend" in mason("tube", file)


def test_a_block_is_answered_with_status_4(tmp_path):
    got = mason("tube", _written(tmp_path / "box.stl", box_mesh()), "--json", expect=4)
    assert got["tubes"] == [] and "No tube" in got["warnings"][0]


@pytest.mark.parametrize("more", [["--guide", "1,2"], ["--guide", "1,2,3"], ["--diameter", "-1"], ["--step", "a.stl"]])
def test_bad_wishes_are_refused_in_one_line(tmp_path, more):
    assert more[0] in mason("tube", _written(tmp_path / "box.stl", box_mesh()), *more, "--json", expect=2)


def test_a_thread_is_told_with_its_stations(tmp_path):
    from ..core.test_helices import PLUG, SHIFT, TURN, placed

    file = _written(tmp_path / "plug.ply", placed(PLUG, shank=4.0))
    got = mason("helix", file, "--json")
    assert got["hand"] == "right" and got["starts"] == 1 and got["varies"] is False
    assert got["pitch"] == got["lead"] == pytest.approx(2.5, rel=1e-3) and got["standard"]["name"] == "M20×2.5"
    assert abs(np.dot(got["axis"]["direction"], TURN[:, 2])) > np.cos(np.radians(0.05))
    assert len(got["stations"]) >= 5 and set(got["uncertainty"]) == {"pitch", "crest_radius", "root_radius"}
    for s in got["stations"]:
        assert s["crest_radius"] == pytest.approx(9.98, abs=0.03) and s["pitch"] == pytest.approx(2.5, rel=1e-3)
    axis = f"{','.join(map(str, SHIFT))} {','.join(map(str, TURN[:, 2]))}"
    assert "M20" in mason("helix", file, "--axis", axis)


def test_what_has_no_thread_is_answered_with_status_4(tmp_path):
    got = mason("helix", _written(tmp_path / "box.stl", box_mesh()), "--json", expect=4)
    assert got["axis"] is None and got["pitch"] is None and "No ridge" in got["warnings"][0]
    assert "axis" in mason("helix", tmp_path / "box.stl", "--axis", "0,0,0 0,0,0", "--json", expect=2)
