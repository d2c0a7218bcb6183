"""Scans and cleaning through the API: several files, marks, surveys, studies, and recipes that follow a cleaned
scan.
"""

import base64
import threading
import time

import numpy as np
import pytest

from deftmason.core.errors import Cancelled
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh
from deftmason.server.jobs import studies

from ..core.shapes import joined
from ..core.test_scan import box_mesh
from .conftest import block_steps, lay, start_job


@pytest.fixture(scope="module")
def raw_bytes(tmp_path_factory):
    """The block with two torn holes, doubled triangles and a scrap."""
    mesh = box_mesh(30, noise=0.01)
    c = mesh.centroids
    goes = (np.linalg.norm(c - [20, 15, 20], axis=1) < 3) | (np.linalg.norm(c - [40, 10, 8], axis=1) < 2)
    faces = np.vstack([mesh.faces[~goes], mesh.faces[~goes][[5, 500]]])
    speck = TriMesh(np.eye(3) + 50, np.array([[0, 1, 2]], np.int32))
    path = tmp_path_factory.mktemp("raw") / "raw.ply"
    write_scan(str(path), joined(TriMesh(mesh.vertices, faces), speck))
    return path.read_bytes()


@pytest.fixture
def raw(api, raw_bytes):
    return start_job(api, raw_bytes, "Raw block")


def by_kind(view):
    return {k["kind"]: k["count"] for k in view["kinds"] if k["count"]}


def stone(view, name):
    return next(s for s in view["stones"] if s["name"] == name)


def test_a_survey_counts_and_says_where(api, raw):
    view = api.study(raw, "/survey", {"scan": "scan"})
    assert by_kind(view) == {"duplicate_triangles": 2, "small_components": 1}
    assert view["rims"] == 3 and "2 duplicate triangles, 1 loose scraps, 3 open rims" == view["says"]
    scrap = next(k for k in view["kinds"] if k["kind"] == "small_components")["items"][0]
    assert np.allclose(scrap["place"], [50 + 1 / 3] * 3) and len(scrap["lines"][0]) == 3
    rims = api.call("POST", f"/jobs/{raw}/rims", {"scan": "scan"})
    assert len(rims) == 3 and rims[0]["length"] < rims[1]["length"] < rims[2]["length"]


def test_cleaning_is_laid_between_the_scan_and_what_rests_on_it(api, raw):
    for step in block_steps():
        lay(api, raw, step)
    before = stone(api.call("GET", f"/jobs/{raw}"), "Low")["summary"]
    view = lay(api, raw, {"kind": "repair", "name": "Mend", "scan": "scan"})
    mend = stone(view, "Mend")
    assert mend["summary"]["did"] == [{"what": "duplicate triangles", "count": 2}, {"what": "loose scraps", "count": 1}]
    assert [s["name"] for s in view["stones"]][:2] == ["raw", "Mend"] or view["stones"][1]["name"] == "Mend"
    assert stone(view, "Low")["record"]["scan"] == mend["id"] and stone(view, "Low")["status"] == "sound"
    view = lay(api, raw, {"kind": "holes", "name": "Close", "scan": mend["id"], "which": "all", "shape": "curved"})
    close = stone(view, "Close")
    assert close["summary"]["closed"] == 2 and close["summary"]["left"] == 0
    assert close["summary"]["elements"] == {"plane": 2}
    assert stone(view, "Low")["record"]["scan"] == close["id"]
    after = stone(view, "Low")["summary"]
    assert np.allclose(before["parameters"]["normal"], after["parameters"]["normal"], atol=1e-3)
    # Off: what it bettered stands in. Out: what rested on it rests on that.
    view = api.call("POST", f"/jobs/{raw}/stones/{close['id']}/switch")
    assert stone(view, "Low")["status"] == "sound" and stone(view, "Close")["status"] == "off"
    view = api.call("DELETE", f"/jobs/{raw}/stones/{close['id']}")
    assert stone(view, "Low")["record"]["scan"] == mend["id"]
    view = api.call("POST", f"/jobs/{raw}/undo")
    assert stone(view, "Low")["record"]["scan"] == close["id"]


def test_marks_select_and_a_background_goes(api, raw):
    outline = {"by": "outline", "places": [[10, 5, 0], [30, 5, 0], [30, 25, 0], [10, 25, 0]], "toward": [0, 0, 1]}
    got = api.call("POST", f"/jobs/{raw}/select", {"scan": "scan", "marks": [outline]})
    assert got["area"] == pytest.approx(400 - np.pi * 9, rel=0.05)
    shown = np.frombuffer(base64.b64decode(got["shown"]), np.uint32)
    assert len(shown) == got["count"]
    step = {"kind": "background", "name": "Out", "scan": "scan", "way": "outline", "marks": [outline], "scraps": False}
    said = api.study(raw, "/preview", {"step": step})
    assert said["summary"]["goes"] == got["count"]
    key = stone(api.call("GET", f"/jobs/{raw}"), "block")["key"]
    buffer = api.call("GET", f"/jobs/{raw}/geometry/{said['key']}/also?scan={key}&name=goes")
    assert sum(buffer[-(len(buffer) // 2) :]) <= got["count"] and len(buffer) > got["total"]
    view = lay(api, raw, step)
    assert stone(view, "Out")["summary"]["triangles"] == got["total"] - got["count"]
    island = {"by": "whole island", "places": [[50.3, 50.3, 50.3]]}
    kept = {
        "kind": "background",
        "name": "Keep",
        "scan": "scan",
        "way": "island",
        "marks": [island],
        "drop": "unmarked",
        "scraps": False,
    }
    assert api.study(raw, "/preview", {"step": kept})["summary"]["triangles"] == 1
    refused = api.study(raw, "/preview", {"step": {**kept, "drop": "marked", "marks": [{"by": "everything"}]}})
    assert refused["status"] == "failed" and "Nothing of the scan would be left" in refused["says"]


@pytest.mark.parametrize(
    "step, says",
    [
        ({"kind": "background", "way": "slab"}, "No slab was found"),
        ({"kind": "background", "way": "island"}, "Mark the part"),
        ({"kind": "noise"}, "is a mesh; this works on clouds"),
        ({"kind": "curvecut", "places": [[1, 1, 20], [2, 1, 20]]}, "needs 3 places"),
        ({"kind": "holes", "which": "picked"}, "Pick a rim"),
        ({"kind": "holes", "which": "picked", "places": [[0, 0, -40]]}, "no open rim within"),
        ({"kind": "bridge", "places": [[0, 0, 0]]}, "Set 3 marks"),
        ({"kind": "remesh", "edge": 0.0005}, "million triangles"),
        ({"kind": "repair", "fix": ["dents"]}, "'dents' is not a kind of defect"),
    ],
)
def test_what_cannot_be_done_says_why_and_changes_nothing(api, raw, step, says):
    full = {"name": "Try", "scan": "scan", **step}
    said = api.study(raw, "/preview", {"step": full})
    assert said["status"] == "failed" and says in said["says"], said["says"]
    refused = lay(api, raw, full, expect=422)
    assert says in refused["message"]
    assert len(api.call("GET", f"/jobs/{raw}")["stones"]) == 1


def test_several_files_make_one_job_and_more_can_follow(api, block_bytes, raw_bytes):
    one, two = api.upload("north.ply", block_bytes), api.upload("south.ply", raw_bytes)
    scans = [{"upload": one["upload"]}, {"upload": two["upload"], "units": "cm"}]
    job = api.call("POST", "/jobs", {"scans": scans, "name": ""})["id"]
    view = api.call("GET", f"/jobs/{job}")
    assert (
        view["name"] == "north" and [s["name"] for s in view["stones"]] == ["north", "south"] and view["undo"] is None
    )
    north, south = (s["summary"]["bounds"] for s in view["stones"])
    assert south[1][0] > 9 * north[1][0]
    api.call("POST", f"/jobs/{job}/scans", {"scans": [{"upload": one["upload"]}]})
    view = api.call("GET", f"/jobs/{job}")
    assert [s["name"] for s in view["stones"]] == ["north", "south", "north 2"] and view["undo"] == "Bring in the scan"
    # The unit may be changed afterwards, the original keeps its checksum.
    record = {**view["stones"][1]["record"], "units": "mm"}
    view = lay(api, job, record)
    assert view["stones"][1]["summary"]["bounds"][1][0] == pytest.approx(south[1][0] / 10)
    assert view["stones"][1]["record"]["sha256"] == record["sha256"]
    assert "scans, nothing laid yet" in next(c for c in api.call("GET", "/jobs") if c["id"] == job)["says"]
    api.call("POST", "/jobs", {"scans": [], "name": "None"}, expect=422)


def cloud_text():
    rng = np.random.default_rng(0)
    v = rng.normal(size=(6000, 3))
    v /= np.linalg.norm(v, axis=1)[:, None]
    p = v * 10 + 0.01 * rng.normal(size=v.shape)
    p[:30] *= 1.5
    rgb = rng.integers(0, 255, p.shape)
    return (
        "x;y;z;r;g;b\n"
        + "\n".join(";".join(f"{a:.4f}" for a in x) + ";" + ";".join(map(str, c)) for x, c in zip(p, rgb))
    ).encode()


def test_a_text_cloud_is_shown_for_confirmation_then_cleaned_and_triangulated(api):
    up = api.upload("hull.asc", cloud_text())
    assert up["layout"]["columns"] == ["x", "y", "z", "red", "green", "blue"] and up["points"] == 6000
    swapped = {"delimiter": "semicolon", "columns": ["z", "y", "x", "skip", "skip", "skip"], "skip": 1}
    job = api.call("POST", "/jobs", {"scans": [{"upload": up["upload"], "layout": swapped}], "name": "Hull"})["id"]
    scan = api.call("GET", f"/jobs/{job}")["stones"][0]
    assert scan["summary"]["is"] == "cloud" and not scan["summary"]["coloured"]
    view = lay(api, job, {"kind": "noise", "name": "Noise", "scan": "scan"})
    assert 30 <= stone(view, "Noise")["summary"]["goes"] <= 70
    radius = np.ptp(np.array(stone(view, "Noise")["summary"]["bounds"]), axis=0) / 2
    assert radius.max() < 10.2  # the stray points at 15 mm are gone
    facing = api.study(job, "/preview", {"step": {"kind": "normals", "name": "N", "scan": stone(view, "Noise")["id"]}})
    assert facing["summary"]["outward"] > 0.99
    facing = api.study(
        job, "/preview", {"step": {"kind": "normals", "name": "N", "scan": stone(view, "Noise")["id"], "turned": True}}
    )
    assert facing["summary"]["outward"] < 0.01
    view = lay(api, job, {"kind": "triangulate", "name": "Mesh", "scan": stone(view, "Noise")["id"], "accuracy": 0.02})
    assert stone(view, "Mesh")["summary"]["rms"] < 0.1 and stone(view, "Mesh")["summary"]["is"] == "mesh"
    assert api.call("GET", f"/jobs/{job}/geometry/{scan['key']}/scan")[:4]
    refused = lay(api, job, {"kind": "datum", "name": "Low", "scan": "scan", "pick": {"place": [10, 0, 0]}}, expect=422)
    assert "triangulate it first" in refused["message"]
    picture = api.call("GET", f"/jobs/{job}/picture.png?r=1")
    assert picture[:4] == b"\x89PNG"
    bad = {**swapped, "columns": ["x", "y", "skip", "skip", "skip", "skip"]}
    api.call("POST", "/jobs", {"scans": [{"upload": up["upload"], "layout": bad}], "name": "Bad"}, expect=422)
    assert len(api.call("GET", "/jobs")) == 1


def test_a_long_study_tells_how_far_it_is_and_stops(api, raw, monkeypatch):
    monkeypatch.setattr(studies, "_AT_ONCE", 0.02)
    seen = []

    def slow(study):
        for k in range(200):
            if study.stop.is_set():
                raise Cancelled()
            study.told(k / 200, f"Working {k}")
            seen.append(k)
            time.sleep(0.01)
        return {}

    study = studies.begin_study("local", (raw, "preview"), slow)
    told = api.call("GET", f"/jobs/{raw}/studies/{study.number}")
    assert not told["done"] and 0 < told["progress"] < 1 and told["message"].startswith("Working")
    api.call("GET", f"/jobs/{raw + 1}/studies/{study.number}", expect=404)
    api.call("DELETE", f"/jobs/{raw}/studies/{study.number}")
    assert study.done.wait(1.0) and len(seen) < 150
    again = studies.begin_study("local", (raw, "preview"), slow)
    newer = studies.begin_study("local", (raw, "preview"), lambda s: {"answer": 1})
    assert again.done.wait(2.0) and studies.study_view(newer)["result"] == {"answer": 1}


def test_many_studies_of_one_person_stop_the_oldest_but_no_file_that_is_read():
    free = threading.Event()

    def slow(study):
        while not (free.is_set() or study.stop.is_set()):
            time.sleep(0.01)
        return {}

    try:
        files = [studies.begin_study("many", ("upload", k), slow, 0.01, stays=True) for k in range(6)]
        tried = [studies.begin_study("many", (k, "preview"), slow, 0.01) for k in range(6)]
        assert not any(f.stop.is_set() for f in files)
        assert [t.stop.is_set() for t in tried] == [True, True, False, False, False, False]
    finally:
        free.set()
    assert all(s.done.wait(2) for s in (*files, *tried))
