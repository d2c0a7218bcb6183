"""Datum steps held to other datums, what a fit leaves out, and what lies between the parents of a made one."""

import hashlib

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh
from deftmason.demo.hinge import Hinge, hinge_scan

from .test_scan import box_mesh

H = Hinge()
MOUTH = H.lug_inner + H.lug_thick
LEAF_TOP = H.under + H.saddle[2] / 2 + H.leaf[2] / 2


def begun(folder, mesh, pose) -> Laying:
    path = folder / "scan.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([], pose, ResultStore(str(folder / "store")), lambda sha, name: str(path))
    j.lay(scan)
    return j


def datum(j, name, element, place, normal, **more):
    pick = j.pick(place, normal, "same facing" if element == "plane" else "same bend")
    return {"id": name.lower(), "kind": "datum", "name": name, "scan": "scan", "element": element, "pick": pick} | more


@pytest.fixture(scope="module")
def hinge(tmp_path_factory):
    mesh, pose = hinge_scan(1.0)
    j = begun(tmp_path_factory.mktemp("hinge"), mesh, pose)
    j.lay(datum(j, "A", "cylinder", (MOUTH - 2, 0, -H.bore / 2), (0, 0, 1)))
    j.lay(datum(j, "leaf", "plane", (0, -45, LEAF_TOP), (0, 0, 1)))
    return j


def tried(j, step):
    ran = j.lay(step)
    j.steps.pop()
    return ran


def far_bore(j, **more):
    return datum(j, "B", "cylinder", (-(MOUTH - 2), 0, -H.bore / 2), (0, 0, 1), **more)


def test_a_bore_about_the_axis_of_another(hinge):
    free, held = tried(hinge, far_bore(hinge)).summary, tried(hinge, far_bore(hinge, about="a")).summary
    a = hinge.lay(datum(hinge, "A2", "cylinder", (MOUTH - 2, 0, -H.bore / 2), (0, 0, 1))).summary["parameters"]
    hinge.steps.pop()
    p, d = np.array(held["parameters"]["point"]), np.array(held["parameters"]["direction"])
    assert np.linalg.norm(np.cross(d, a["direction"])) < 1e-9
    assert np.linalg.norm(np.cross(p - a["point"], d)) < 1e-6
    assert held["parameters"]["radius"] == pytest.approx(H.bore / 2, abs=0.02)
    assert held["free_scatter"] == pytest.approx(free["scatter"], rel=0.3) and held["scatter"] >= 0.99 * free["scatter"]


def test_an_axis_at_an_angle_to_a_plane_and_through_a_middle(hinge):
    leaning = tried(hinge, far_bore(hinge, angle_to="leaf", angle_deg=1.0)).summary
    free = tried(hinge, far_bore(hinge)).summary
    normal = np.array(
        tried(hinge, datum(hinge, "l2", "plane", (0, -45, LEAF_TOP), (0, 0, 1))).summary["parameters"]["normal"]
    )
    d = np.array(leaning["parameters"]["direction"])
    assert np.degrees(np.arcsin(abs(d @ normal))) == pytest.approx(1.0, abs=1e-6)
    assert leaning["scatter"] > free["scatter"]
    through = tried(hinge, far_bore(hinge, through="a")).summary["parameters"]
    at = np.array(
        tried(hinge, datum(hinge, "A3", "cylinder", (MOUTH - 2, 0, -H.bore / 2), (0, 0, 1))).summary["parameters"][
            "point"
        ]
    )
    assert np.linalg.norm(np.cross(at - through["point"], through["direction"])) < 1e-6


@pytest.mark.parametrize(
    "more, says",
    [
        ({"about": "leaf"}, "no axis"),
        ({"through": "leaf"}, "no middle"),
        ({"about": "a", "along": "a"}, "One direction is enough"),
    ],
)
def test_what_holds_nothing_is_said(hinge, more, says):
    with pytest.raises(BadInput, match=says):
        hinge.lay(far_bore(hinge, **more))


def test_a_dent_is_set_aside_until_it_is_asked_for(tmp_path):
    mesh = box_mesh(60)
    low, high = mesh.bounds
    v = mesh.vertices + np.random.default_rng(2).normal(0, 0.01, mesh.vertices.shape)
    middle = np.array([*(low + high)[:2] / 2 + 6, high[2]])
    near = np.linalg.norm(mesh.vertices - middle, axis=1)
    v[:, 2] -= np.where(near < 2.5, 0.12 * np.cos(near * np.pi / 5), 0)
    from deftmason.core.elements import RigidMotion

    j = begun(tmp_path, TriMesh(v, mesh.faces), RigidMotion.identity())
    at = (*(low + high)[:2] / 2 - 4, high[2])
    left, kept = (tried(j, datum(j, "top", "plane", at, (0, 0, 1), keep_all=k)).summary for k in (False, True))
    assert 20 < left["set_aside"] < 0.1 * left["facets"] and kept["set_aside"] == 0
    assert kept["scatter"] > 1.2 * left["scatter"]
    assert abs(np.array(left["parameters"]["point"])[2] - high[2]) < abs(
        np.array(kept["parameters"]["point"])[2] - high[2]
    )


def test_what_lies_between_the_parents_is_told(hinge):
    made = {"id": "m", "kind": "construct", "name": "Foot", "way": "axis on plane", "of": ["leaf", "a"]}
    told = tried(hinge, made).summary["between"]
    distance, angle = told.split(" · ")
    assert float(angle.split()[0]) == pytest.approx(H.bend_deg, abs=0.15) and "±" in angle and distance.endswith("mm")
