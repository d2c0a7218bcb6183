"""`mason zones`, `symmetry` and `frame` as whole processes."""

import numpy as np
import pytest

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
