"""How faces meet, and how they bend: seams, open rims and combs against shapes that are known."""

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.kernel.combs import combs_of
from deftmason.core.kernel.patches import joints_of, rims_of
from deftmason.core.kernel.solids import solid
from deftmason.core.recipe.kinds.seams import SeamsStep

from .test_surfaces import surface

BOX = solid("box", "block", np.zeros(3), np.array([0, 0, 1.0]), width=40.0, depth=30.0, height=20.0)
ROD = solid("cylinder", "rod", np.zeros(3), np.array([0, 0, 1.0]), radius=8.0, height=20.0)


class Given:
    """A context that gives one body."""

    def __init__(self, body):
        self.body = body

    def output(self, ref, *kinds):
        return self.body if "body" in kinds else RigidMotion.identity()


def told(body, **more):
    step = SeamsStep(id="s", name="Seams", kind="seams", frame="f", body="b", **more)
    return step.run(Given(body), lambda *_: None).summary


def test_a_box_has_twelve_kinks_and_a_sheet_four_open_edges():
    got = told(BOX)
    assert got["counts"] == {"smooth": 0, "kink": 12, "gap": 0} and got["open_edges"] == 0
    assert got["angle_p95"] == pytest.approx(90) and got["gap"] < 1e-9
    assert sum(s["length"] for s in got["seams"]) == pytest.approx(4 * (40 + 30 + 20), rel=0.03)
    assert told(BOX, smooth=95)["counts"]["smooth"] == 12
    sheet = surface(lambda a, b: (60 * a, 40 * b, 3 * np.sin(2 * a)))
    open_ = told(sheet)
    assert open_["seams"] == [] and open_["open_edges"] == 4 and open_["says"] == "no seams, 4 open edges"
    rims, lengths = rims_of(sheet)
    assert sorted(lengths)[:2] == pytest.approx([40, 40], rel=1e-6) and len(rims[0]) == 40


def test_a_rod_meets_itself_without_a_rim():
    assert rims_of(ROD)[0] == [] and told(ROD)["counts"]["kink"] == 2
    assert joints_of(ROD).angle.max() == pytest.approx(90)


def test_combs_are_as_long_as_it_bends():
    combs = combs_of(ROD)
    side = combs.face == ROD.face_names.index("rod/side")
    bent = np.unique(np.round(combs.bends[side], 9))
    assert bent == pytest.approx([-1 / 8, 0], abs=1e-9)  # round about, straight along; outward it is full
    assert np.abs(combs.bends[~side]).max() < 1e-9
    assert np.einsum("ij,ij->i", combs.feet[side][:, :2], combs.normals[side][:, :2]).min() > 7.99
    got = told(ROD, show="combs")
    assert got["bend"] == pytest.approx(1 / 8) and got["scale"] > 0
    tooth = next(c for c in got["combs"] if len(c) == 2 and np.hypot(*c[0][:2]) > 7.9 and c[0] != c[1])
    assert np.hypot(*tooth[1][:2]) - 8 == pytest.approx(got["scale"] / 8, rel=1e-3)
    assert told(BOX, show="combs")["combs"] == []
