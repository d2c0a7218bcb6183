"""Several scans measured together in one check: what one says alone, all say together."""

import hashlib

import numpy as np
import pytest

from deftmason.core.check.measuring import Limits, measure
from deftmason.core.check.places import side_by_side
from deftmason.core.check.targets import MeshSurface
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import PointCloud, TriMesh

from .shapes import tube, without


def half(mesh, low, by=0.0):
    """The facets of a tube from a height on (or below it), its radius changed."""
    z = mesh.vertices[mesh.faces][:, :, 2].mean(axis=1)
    part = without(mesh, z < 18 if low else z > 22)
    v = np.array(part.vertices)
    v[:, :2] *= (np.hypot(v[:, 0], v[:, 1]) + by)[:, None] / np.hypot(v[:, 0], v[:, 1])[:, None]
    return TriMesh(v, part.faces)


@pytest.fixture(scope="module")
def job(tmp_path_factory):
    folder = tmp_path_factory.mktemp("beside")
    whole = tube(noise=0.0)
    scans = {"true": whole, "top": half(whole, True, 0.05), "foot": half(whole, False, -0.03)}
    files = {}
    steps = []
    for name, mesh in scans.items():
        path = folder / f"{name}.ply"
        write_scan(str(path), mesh)
        sha = hashlib.sha256(path.read_bytes()).hexdigest()
        files[sha] = str(path)
        steps.append({"id": name, "kind": "scan", "name": name, "file": f"{name}.ply", "sha256": sha})
    j = Laying([], RigidMotion.identity(), ResultStore(str(folder / "store")), lambda sha, name: files[sha])
    for s in steps:
        j.lay(s)
    return j, scans


def check(j, **more):
    step = {"id": "check", "kind": "check", "name": "Check", "scan": "top", "body": "true", "tolerance": 0.04, **more}
    ran = j.lay(step)
    out = j.replay()
    arrays, kept = out.outcome("check").arrays, out.outcome("check").output
    j.steps.pop()
    return ran.summary, arrays, kept


def test_two_scans_are_told_together_and_shown_as_one(job):
    j, scans = job
    top, _, _ = check(j)
    both, arrays, kept = check(j, beside=["foot", "top"])
    n = [len(scans[k].vertices) for k in ("top", "foot")]
    assert top["points"] == n[0] and top["max"] == pytest.approx(0.05, abs=0.002) and top["within"] < 0.05
    assert both["points"] == both["answered"] == both["own_points"] == sum(n) and not both["finer"]
    assert both["min"] == pytest.approx(-0.03, abs=0.002) and both["max"] == pytest.approx(0.05, abs=0.002)
    assert both["within"] == pytest.approx(n[1] / sum(n), abs=0.02)
    assert both["mean"] == pytest.approx((0.05 * n[0] - 0.03 * n[1]) / sum(n), abs=0.002)
    # What is drawn: the other scan's places behind the first's own, all facets, a distance for each.
    assert len(arrays["places"]) == n[1] and len(arrays["facets"]) == sum(len(scans[k].faces) for k in ("top", "foot"))
    assert np.allclose(arrays["places"], scans["foot"].vertices, atol=1e-4) and len(kept["distance"]) == sum(n)
    assert kept["distance"][n[0] :].mean() == pytest.approx(-0.03, abs=0.002)


def test_between_corners_of_both_where_it_is_to_be_finer(job):
    j, _ = job
    plain, _, _ = check(j, beside=["foot"])
    fine, arrays, kept = check(j, beside=["foot"], fineness=0.3)
    assert fine["finer"] and fine["points"] > 1.5 * plain["points"] and fine["own_points"] == plain["points"]
    assert len(kept["distance"]) == fine["points"] and arrays["facets"].max() == fine["points"] - 1


def test_what_is_left_out_of_one_is_left_out_where_the_other_lies_on_it():
    whole = tube(noise=0.0)
    top, foot = half(whole, True), half(whole, False)
    both = side_by_side([top, foot])
    mask = np.zeros(len(top.faces), bool)
    mask[top.vertices[top.faces][:, :, 2].min(axis=1) < 21] = True  # the overlap lies at 18 to 22
    target = MeshSurface(whole, "true")
    first = len(top.vertices), len(top.faces)
    done = measure(both, target, Limits(reach=1.0), ignored=mask, first=first)
    quiet = ~np.isfinite(done.found.distance)
    z = both.vertices[:, 2]
    assert quiet[: first[0]].sum() > 500 and z[quiet].min() > 16.4
    others = np.flatnonzero(quiet[first[0] :]) + first[0]
    assert len(others) > 300 and z[others].min() > 16 and not quiet[z < 15].any()


def test_clouds_go_together_and_meshes_among_them_do_not(job):
    j, scans = job
    a, b = (PointCloud(scans[k].vertices, scans[k].angle_normals) for k in ("top", "foot"))
    both = side_by_side([a, b])
    assert len(both.points) == len(a.points) + len(b.points) and len(both.normals) == len(both.points)
    assert side_by_side([a, PointCloud(b.points)]).normals is None and side_by_side([a]) is a
    with pytest.raises(BadInput, match="together"):
        side_by_side([a, scans["foot"]])
