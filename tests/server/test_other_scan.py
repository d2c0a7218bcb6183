"""Another scan of the part put in a scan's place: laid onto it, what rests on it runs again, undo brings it back."""

import io

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from ..core.test_scan import box_mesh
from .conftest import lay, start_job

LOW = {
    "id": "low",
    "kind": "datum",
    "name": "Low",
    "scan": "scan",
    "element": "plane",
    "pick": {"place": [10, 8, 0], "normal": [0, 0, -1], "rule": "same facing"},
}


def wedge(seed: int) -> TriMesh:
    """A block with one corner drawn out, so that it goes onto itself in one way only, with noise of its own."""
    m = box_mesh(24)
    v = m.vertices.copy()
    v[:, 0] += 0.25 * v[:, 2] * v[:, 1] / max(np.ptp(v[:, 1]), 1)
    v[:, 1] += 0.1 * v[:, 0] * v[:, 0] / np.ptp(v[:, 0])
    return TriMesh(v + np.random.default_rng(seed).normal(0, 0.01, v.shape), m.faces)


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    """The scan, and another one from elsewhere, as bytes; and how that one was moved."""
    folder = tmp_path_factory.mktemp("wedges")
    q, _ = np.linalg.qr(np.random.default_rng(5).normal(size=(3, 3)))
    q *= np.sign(np.linalg.det(q))
    away = RigidMotion.of(q, [210.0, -40.0, 95.0])
    out = []
    for k, mesh in enumerate((wedge(1), wedge(2).moved(away))):
        write_scan(str(folder / f"{k}.ply"), mesh)
        out.append(io.BytesIO((folder / f"{k}.ply").read_bytes()).getvalue())
    return out


def stone(api, job, name):
    return next(s for s in api.call("GET", f"/jobs/{job}")["stones"] if s["id"] == name)


def test_another_scan_is_laid_onto_the_first_and_what_rests_on_it_runs_again(api, files):
    job = start_job(api, files[0])
    lay(api, job, LOW)
    first, datum = stone(api, job, "scan"), stone(api, job, "low")
    other = api.upload("again.ply", files[1])
    api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": other["upload"]})
    scan, low = stone(api, job, "scan"), stone(api, job, "low")
    assert scan["record"]["sha256"] != first["record"]["sha256"] and scan["name"] == first["name"]
    assert scan["summary"]["settled_rms"] < 0.1 and "laid onto the first one's place" in scan["says"]
    assert np.allclose(scan["summary"]["bounds"], first["summary"]["bounds"], atol=0.2)
    assert low["status"] == "sound" and low["key"] != datum["key"]
    assert abs(np.dot(low["summary"]["parameters"]["normal"], [0, 0, 1])) > 0.9999
    api.call("POST", f"/jobs/{job}/undo")
    assert stone(api, job, "scan")["record"] == first["record"]
    assert stone(api, job, "low")["key"] == datum["key"]


def test_a_third_scan_goes_onto_the_second_where_that_lies(api, files):
    job = start_job(api, files[0])
    bounds = stone(api, job, "scan")["summary"]["bounds"]
    for data in (files[1], files[1]):
        up = api.upload("again.ply", data)
        api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": up["upload"]})
    assert np.allclose(stone(api, job, "scan")["summary"]["bounds"], bounds, atol=0.3)


def test_what_cannot_be_put_there_is_refused_and_changes_nothing(api, files, block_bytes):
    job = start_job(api, files[0])
    lay(api, job, LOW)
    before = api.call("GET", f"/jobs/{job}")
    up = api.upload("again.ply", files[1])["upload"]
    api.call("POST", f"/jobs/{job}/scans/low/other", {"upload": up}, expect=404)
    api.call("POST", f"/jobs/{job}/scans/nothing/other", {"upload": up}, expect=404)
    api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": 999_999}, expect=404)
    said = api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": up, "units": "furlong"}, expect=422)
    assert "choose mm, cm, m or in" in said["message"]
    assert api.call("GET", f"/jobs/{job}")["stones"] == before["stones"]
    # Another part altogether is taken, fails to lie on the first, says so, and is undone.
    other = api.upload("plate.ply", block_bytes)["upload"]
    api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": other, "units": "m"})
    failed = stone(api, job, "scan")
    assert failed["status"] == "failed" and "same part" in failed["says"]
    api.call("POST", f"/jobs/{job}/undo")
    assert stone(api, job, "scan")["status"] == "sound"


def test_a_cloud_neither_takes_a_meshs_place_nor_gives_up_its_own(api, files):
    rng = np.random.default_rng(1)
    cloud = "\n".join(" ".join(f"{c:.4f}" for c in p) for p in rng.uniform(0, 30, (400, 3))).encode()
    job = start_job(api, files[0])
    up = api.upload("cloud.xyz", cloud)["upload"]
    api.call("POST", f"/jobs/{job}/scans/scan/other", {"upload": up})
    failed = stone(api, job, "scan")
    assert failed["status"] == "failed" and "bring a mesh of the same part" in failed["says"]
    api.call("POST", f"/jobs/{job}/undo")
    assert stone(api, job, "scan")["status"] == "sound"
    of_points = api.call("POST", "/jobs", {"scans": [{"upload": up, "units": "mm"}], "name": "Cloud"})["id"]
    mesh = api.upload("again.ply", files[1])["upload"]
    said = api.call("POST", f"/jobs/{of_points}/scans/scan/other", {"upload": mesh}, expect=422)
    assert "this one is a cloud" in said["message"]
