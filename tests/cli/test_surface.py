"""`mason surface` as a whole process."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.kernel.files import read_model
from deftmason.core.kernel.patches import joints_of

from ..core.test_scan import box_mesh
from ..core.test_surfaces import noisy
from ..trials.organic import random_smooth
from .test_mason import _written, mason


def test_a_closed_mesh_becomes_a_solid_whose_figures_are_those_of_the_file(tmp_path):
    shape = random_smooth(np.random.default_rng(4), "branch")
    mesh = noisy(shape, 1.8)
    out = tmp_path / "branch.step"
    got = mason("surface", _written(tmp_path / "branch.ply", mesh), "--out", out, "--json")
    assert got["valid"] and got["closed"] and got["faces"] == got["patches"] <= 60
    body = read_model(str(out))
    assert body.solid_count == 1 and body.volume == pytest.approx(got["volume"], rel=1e-9)
    joints = joints_of(body)
    assert joints.quantile(0.95) == pytest.approx(got["joints"]["angle_p95_deg"], abs=1e-6)
    assert got["joints"]["angle_p95_deg"] < 0.5 and joints.gap.max() < 0.005
    off = np.abs(ModelSurface(body).distances(mesh.vertices).distance)
    assert np.quantile(off, 0.95) == pytest.approx(got["deviation"]["p95"], rel=1e-6) and got["deviation"]["p95"] < 0.06
    # What lies off the scan is its noise: the true surface is nearer.
    feet = shape.feet(mesh.vertices)
    assert np.quantile(np.abs(ModelSurface(body).distances(feet).distance), 0.95) < 0.05


@pytest.mark.parametrize("more", [["--out", "a.stl"], ["--patches", "3"], ["--within", "-1"]])
def test_bad_wishes_are_refused_in_one_line(tmp_path, more):
    wishes = more if "--out" in more else ["--out", tmp_path / "a.step", *more]
    assert more[0] in mason("surface", _written(tmp_path / "box.stl", box_mesh()), *wishes, "--json", expect=2)


def test_an_open_mesh_is_refused_with_its_hole(tmp_path):
    mesh = noisy(random_smooth(np.random.default_rng(4), "branch"), 2.2)
    half = type(mesh)(mesh.vertices, mesh.faces[mesh.centroids[:, 0] > mesh.centroids[:, 0].mean()])
    said = mason("surface", _written(tmp_path / "half.ply", half), "--out", tmp_path / "a.step", "--json", expect=3)
    assert "open" in said or "hole" in said
