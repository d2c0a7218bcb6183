"""`mason zones`, `symmetry` and `frame` as whole processes."""

import json

import numpy as np
import pytest

from deftmason.core.scan.mesh import TriMesh

from ..core.test_scan import box_mesh
from .test_mason import _written, mason


def test_zones_are_told_and_labelled(tmp_path):
    file = _written(tmp_path / "box.stl", box_mesh())
    labels = tmp_path / "labels.npy"
    got = mason("zones", file, "--labels", labels, "--json")
    assert [z["kind"] for z in got["zones"]] == ["plane"] * 6
    assert [z["id"] for z in got["zones"]] == list(range(6))
    assert set(got["zones"][0]) >= {"parameters", "sigma", "area", "triangles", "neighbours", "same_surface"}
    told = np.load(labels)
    assert told.dtype == np.int32 and len(told) == len(box_mesh().faces) and set(told) == set(range(6))
    assert "plane" in mason("zones", file)


@pytest.mark.parametrize("more,word", [(["--noise", "-1"], "noise"), (["--labels", "out.txt"], ".npy")])
def test_bad_wishes_are_refused_in_one_line(tmp_path, more, word):
    assert word in mason("zones", _written(tmp_path / "box.stl", box_mesh()), *more, "--json", expect=2)


def test_a_cloud_has_no_zones(tmp_path):
    file = tmp_path / "cloud.xyz"
    np.savetxt(file, np.random.default_rng(0).uniform(size=(200, 3)))
    assert "mesh" in mason("zones", file, "--json", expect=3)


def test_symmetry_is_found_and_its_lack_is_said(tmp_path):
    rng = np.random.default_rng(2)
    file = _written(tmp_path / "box.ply", box_mesh())
    got = mason("symmetry", file, "--json")
    middle = box_mesh().vertices.mean(axis=0)
    for p in [got, *got["others"]]:
        n, at = np.array(p["plane"]["normal"]), np.array(p["plane"]["point"])
        assert np.sort(np.abs(n))[:2] == pytest.approx([0, 0], abs=1e-3) and (middle - at) @ n == pytest.approx(
            0, abs=0.02
        )
        assert p["share"] > 0.95
    assert len(got["others"]) == 2
    v = box_mesh().vertices.copy()
    v += np.outer(v[:, 0] * v[:, 2], rng.normal(size=3)) * 0.05 + np.outer(v[:, 1] ** 2, [0.04, 0.01, 0.05])
    lame = mason("symmetry", _written(tmp_path / "lame.ply", TriMesh(v, box_mesh().faces)), "--json", expect=4)
    assert lame["plane"] is None and lame["warnings"]


def test_frames_are_proposed_and_set_by_datums(tmp_path):
    file = _written(tmp_path / "box.ply", box_mesh())
    got = mason("frame", file, "--json")["frames"]
    assert got and all(np.abs(np.linalg.det(np.array(f["matrix"])[:3, :3]) - 1) < 1e-9 for f in got)
    assert got[0]["reason"].startswith("Stands on") and got[0]["datums"][0]["to"] == "-z"
    low, high = box_mesh().vertices.min(axis=0), box_mesh().vertices.max(axis=0)
    middle = 0.5 * (low + high)
    seeds = {"first": [middle[0], middle[1], high[2]], "second": [high[0], middle[1], middle[2]]}
    wanted = {k: {"kind": "plane", "seed": s, "to": to} for (k, s), to in zip(seeds.items(), ("+z", "+x"))}
    datums = tmp_path / "datums.json"
    datums.write_text(json.dumps({**wanted, "origin": None}))
    (set_,) = mason("frame", file, "--datums", datums, "--json")["frames"]
    m = np.array(set_["matrix"])
    assert np.allclose(m[:3, :3], np.eye(3), atol=1e-9)
    assert m[2, :3] @ seeds["first"] + m[2, 3] == pytest.approx(0, abs=1e-9)
    assert set_["open"] == ["move along y"]
    datums.write_text(json.dumps({"first": {"kind": "blob", "seed": [0, 0, 0], "to": "+z"}}))
    assert "kind" in mason("frame", file, "--datums", datums, "--json", expect=2)
