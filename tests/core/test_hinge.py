"""The rowlock hinge's own truth: what is bent, by how much, and what is not."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.demo.hinge import Hinge, hinge_scan, true_hinge


@pytest.fixture(scope="module")
def faces():
    return [s.element for s in face_surfaces(true_hinge()) if s.element is not None]


def test_both_bores_lie_on_the_pins_axis(faces):
    across = [e for e in faces if e.kind == "cylinder" and abs(e.direction[0]) > 0.99]
    assert {round(e.radius, 6) for e in across} == {6.0, 11.0}  # the bores, and the lugs' round ends
    for e in across:
        assert abs(e.direction[0]) == pytest.approx(1) and np.allclose(e.point[1:], 0, atol=1e-9)


@pytest.mark.parametrize("bend", [0.0, 0.4, 1.5])
def test_the_leaf_leans_as_it_was_bent_and_the_saddle_does_not(bend):
    leaning = []
    for s in face_surfaces(true_hinge(Hinge(bend_deg=bend))):
        if s.element is not None and s.element.kind == "plane" and abs(s.element.normal[2]) > 0.99:
            leaning.append(np.degrees(np.arctan2(abs(s.element.normal[0]), abs(s.element.normal[2]))))
    assert min(leaning) < 1e-9 and max(leaning) == pytest.approx(bend, abs=1e-6)


def test_two_scans_of_it_lie_on_it_and_are_not_the_same():
    surface = ModelSurface(true_hinge())
    scans = [hinge_scan(1.4, seed) for seed in (1, 2)]
    for mesh, pose in scans:
        d = surface.distances(pose.inverse().points(mesh.vertices)).distance
        assert 0.02 < np.quantile(np.abs(d), 0.68) < 0.04  # edges are rounded off, as a scanner rounds them
    assert not np.allclose(scans[0][1].matrix, scans[1][1].matrix)
