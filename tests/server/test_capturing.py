"""Captures through the API, with a device in a process of its own: what is touched, drawn and streamed, a line that is
lost in the middle, a second visit, and what is handed on, against the part that only the device holds.
"""

import struct
import time

import numpy as np
import pytest
from django.test import Client

from deftmason.core.check.deviation import ModelSurface
from deftmason.demo.bracket_sizes import Bracket
from deftmason.demo.devices import hidden_pose, true_part
from deftmason.server.jobs import capturing

from ..devices import Cuttable, started
from .conftest import lay

DOWN = [0, 0, -1]


@pytest.fixture(scope="module")
def port():
    with started("arm", "bracket", "--speed", "4") as found:
        yield found


@pytest.fixture
def at(api, transactional_db):
    """A capture of a new job: what its requests begin with."""
    made = api.call("POST", "/captures", {"name": "Bracket by arm"})
    yield f"/jobs/{made['id']}/captures/{made['capture']}"
    for link in capturing._links.values():
        link.close()
    capturing._links.clear()


def until_still(api, at, most=60.0):
    end = time.monotonic() + most
    while time.monotonic() < end:
        now = api.call("GET", at)
        if not now["device"]["busy"] and now["device"]["state"] == "there":
            return now
        time.sleep(0.1)
    raise AssertionError(now)


def touch(api, at, begin, along=DOWN, **more):
    return api.call("POST", f"{at}/touch", {"begin": list(begin), "along": list(along), **more})


def levelled(api, at, port):
    """Connected and level on the part's own top, whose places on the level are known from its pose."""
    api.call("POST", f"{at}/connect", {"address": f"127.0.0.1:{port}"})
    pose = hidden_pose("bracket")
    down = pose.vectors(np.array([DOWN], float))[0]
    for x, y in ((40, 0), (-40, 2), (0, 26), (3, -26)):
        begin = pose.points(np.array([[x, y, 120.0]]))[0]
        touch(api, at, begin, down)
    return api.call("POST", f"{at}/things", {"what": "level"})


def points(api, at, after=0, generation=-1):
    r = Client().get(f"/api{at}/points?after={after}&generation={generation}")
    now, begin, count = struct.unpack("<3I", r.content[:12])
    return now, begin, np.frombuffer(r.content[12:], "<f4").reshape(count, 3)


def test_what_is_asked_of_no_device_or_a_wrong_one_is_said(api, at):
    for wrong in ("nowhere", "127.0.0.1:0", "192.0.2.7:9400"):
        assert "message" in api.call("POST", f"{at}/connect", {"address": wrong}, 422)
    assert "start it" in api.call("POST", f"{at}/connect", {"address": "127.0.0.1:9"}, 502)["message"]
    assert "connect one" in touch_refused(api, at)["message"]
    assert "Nothing was captured" in api.call("POST", f"{at}/lay", {}, 422)["message"]


def touch_refused(api, at):
    return api.call("POST", f"{at}/touch", {"begin": [0, 0, 0], "along": DOWN}, 502)


def test_touches_become_elements_with_their_sizes(api, at, port):
    now = levelled(api, at, port)
    assert now["level"] and now["things"][0]["what"] == "level" and now["waiting"] == 0
    assert "more" in api.call("POST", f"{at}/things", {"what": "circle"}, 422)["message"]
    low, high = np.array(now["bounds"])
    middle = 0.5 * (low + high)
    x, y, z = middle[0] + 14, middle[1], high[2] + 20  # over the boss, beside the bore
    now = touch(api, at, [x, y, z], DOWN, row=5, to=[x + 6, y, z])
    assert now["waiting"] == 5
    waiting = now["waiting"]
    assert api.call("POST", f"{at}/back", {})["waiting"] == waiting - 1
    read = api.call("GET", f"{at}?reads=plane")
    assert read["reading"]
    picture = api.call("POST", f"{at}/look", {"toward": [0, 0, 1], "up": [0, 1, 0], "wide": 64})
    assert picture["wide"] == picture["high"] == 64 and np.allclose(picture["right"], [1, 0, 0], atol=1e-9)


def test_a_line_lost_in_the_middle_loses_no_point_and_a_capture_plays_again(api, at, port):
    line = Cuttable(port)
    try:
        now = levelled(api, at, line.port)
        low, high = np.array(now["bounds"])
        api.call(
            "POST",
            f"{at}/things",
            {
                "what": "boundary",
                "toward": [0, 0, 1],
                "corners": [[low[0] - 1, low[1] - 1, 0], [high[0] + 1, low[1] - 1, 0], [high[0] + 1, high[1] + 1, 0]],
            },
        )
        mid, width = 0.5 * (low + high), float(high[1] - low[1])
        path = [[low[0] - 3, mid[1], high[2] + 10], [high[0] + 3, mid[1], high[2] + 10]]
        api.call("POST", f"{at}/sweep", {"path": path, "along": DOWN, "width": width})
        while api.call("GET", at)["taken"] < 3000:
            time.sleep(0.05)
        line.cut()
        while api.call("GET", at)["device"]["state"] != "lost":
            time.sleep(0.05)
        before = api.call("GET", at)
        assert "trying again" in before["says"]
        time.sleep(0.5)
        line.open.set()
        now = until_still(api, at)
        assert now["taken"] > before["taken"] and now["kept"] < 0.8 * now["taken"]
        boundary = next(t for t in now["things"] if t["what"] == "boundary")
        assert 0.5 < boundary["share"] <= 1 and len(boundary["lines"]) == 1
        link = next(iter(capturing._links.values()))
        assert link.state.seq >= len(link.state._places)  # each answer once
        places = link.state.kept()[0]
        truth = ModelSurface(true_part("bracket"))
        away = np.abs(truth.distances(hidden_pose("bracket").inverse().points(places)).distance)
        assert np.median(away) < 0.03 and np.percentile(away, 99) < 0.15

        # A second visit adds a plane and what lies near it; all in the same file.
        api.call("POST", f"{at}/control", {"do": "hang up"})
        api.call("POST", f"{at}/connect", {"address": f"127.0.0.1:{port}"})
        cut = {"what": "cut", "point": mid.tolist(), "normal": [1, 0, 0], "reach": 1.5}
        now = api.call("POST", f"{at}/things", cut)
        assert now["visits"] == 2 and 0 < now["kept"] < len(places)
        assert next(t for t in now["things"] if t["what"] == "cut")["lines"]
        generation, begin, flat = points(api, at)
        assert begin == 0 and len(flat) == now["kept"] and np.abs(flat[:, 0] - mid[0]).max() <= 1.5 + 1e-4
        assert len(points(api, at, len(flat), generation)[2]) == 0

        # Played again from its file, without a device, it is the same.
        job = at.split("/")[2]
        recorded = b"".join(Client().get(f"/api{at}/file").streaming_content)
        made = api.sent(f"/jobs/{job}/captures/file", "old.capture", recorded)
        again = api.call("GET", f"/jobs/{job}/captures/{made['id']}")
        same = ("taken", "kept", "level", "visits", "bounds")
        assert [again[k] for k in same] == [now[k] for k in same] and again["name"] == "old"
        assert [t["says"] for t in again["things"]] == [t["says"] for t in now["things"]]
    finally:
        line.close()


def test_what_is_handed_on_are_ordinary_steps_and_a_second_time_the_scan_takes_what_is_new(api, at, port):
    job = at.split("/")[2]
    now = levelled(api, at, port)
    low, high = np.array(now["bounds"])
    mid = 0.5 * (low + high)
    api.call("POST", f"{at}/things", {"what": "cut", "point": mid.tolist(), "normal": [1, 0, 0], "reach": 1.0})
    path = [[mid[0] - 4, mid[1], high[2] + 10], [mid[0] + 4, mid[1], high[2] + 10]]
    api.call("POST", f"{at}/sweep", {"path": path, "along": DOWN, "width": float(high[1] - low[1]) + 4})
    until_still(api, at)
    api.call("POST", f"{at}/lay", {})
    made = api.call("GET", f"/jobs/{job}")
    kinds = [s["kind"] for s in made["stones"]]
    assert kinds[:3] == ["scan", "probed", "frame"] and "curve" in kinds
    assert {s["status"] for s in made["stones"]} <= {"sound", "attention"}
    api.call("POST", f"{at}/things", {"what": "mirrored", "of": ["t2"]})
    refused = api.call("DELETE", f"{at}/things/t2", None, 422)
    assert "mirrors in it" in refused["message"]
    api.call("POST", f"{at}/lay", {})
    again = api.call("GET", f"/jobs/{job}")
    assert [s["id"] for s in again["stones"]] == [s["id"] for s in made["stones"]]
    points_of = [s["told"]["points"] for s in (made["stones"][0], again["stones"][0])]
    assert points_of[1] == 2 * points_of[0] > 500
    api.call("POST", f"/jobs/{job}/undo")
    assert api.call("GET", f"/jobs/{job}")["stones"][0]["told"]["points"] == points_of[0]


def test_a_boundary_as_a_sketch_draws_it(api, at, port):
    """Drawn in the job's coordinates, not the device's; what its inner outline holds is left out."""
    job = at.split("/")[2]
    now = levelled(api, at, port)
    low, high = np.array(now["bounds"])
    mid = 0.5 * (low + high)
    path = [[low[0], mid[1], high[2] + 10], [high[0], mid[1], high[2] + 10]]
    api.call("POST", f"{at}/sweep", {"path": path, "along": DOWN, "width": float(high[1] - low[1])})
    before = until_still(api, at)["kept"]
    api.call("POST", f"{at}/lay", {})
    view = lay(api, job, {"kind": "triangulate", "name": "Mesh", "scan": "scan", "accuracy": 0.2})
    stones = {s["kind"]: s for s in view["stones"]}
    places, _ = next(iter(capturing._links.values())).state.kept()
    frame = np.array(stones["frame"]["told"]["matrix"])
    centre = np.median(places @ frame[:3, :3].T + frame[:3, 3], axis=0)[:2]
    ring = {"kind": "circle", "at": [centre.tolist()]}
    strokes = [{**ring, "id": "e1", "radius": 30.0}, {**ring, "id": "e2", "radius": 12.0}]
    where = {"scan": stones["triangulate"]["id"], "frame": stones["frame"]["id"], "traces": []}
    sketch = {"id": "ring", "kind": "sketch", "name": "Ring", **where, "strokes": strokes}
    refused = api.call("POST", f"{at}/things", {"what": "boundary", "sketch": "ring"}, 422)
    assert "Nothing of that sketch closes" in refused["message"]
    lay(api, job, sketch)
    other = api.call("POST", f"/jobs/{job}/captures", {})["id"]  # nothing leads from its device to the job
    elsewhere = f"/jobs/{job}/captures/{other}/things"
    refused = api.call("POST", elsewhere, {"what": "boundary", "sketch": "ring"}, 422)
    assert "hand the capture on" in refused["message"]
    now = api.call("POST", f"{at}/things", {"what": "boundary", "sketch": "ring"})
    drawn = next(t for t in now["things"] if t["what"] == "boundary")
    assert len(drawn["lines"]) == 2 and 0 < now["kept"] < before
    state = next(iter(capturing._links.values())).state
    away = [
        np.linalg.norm((p @ frame[:3, :3].T + frame[:3, 3])[:, :2] - centre, axis=1) for p in (places, state.kept()[0])
    ]
    wanted = (away[0] > 12) & (away[0] < 30)
    assert abs(len(away[1]) - wanted.sum()) < 0.01 * len(places)
    assert away[1].min() > 11.99 and away[1].max() < 30.01


def test_a_table_turns_and_what_it_sees_lies_on_the_part(api, at):
    with started("table", "bracket", "--speed", "60") as port:
        api.call("POST", f"{at}/connect", {"address": f"127.0.0.1:{port}"})
        assert api.call("GET", at)["bounds"] and "table" in api.call("GET", at)["device"]["tools"]
        assert "tilt_deg" in str(api.call("POST", f"{at}/turn", {"stops": 3, "tilt_deg": 89}, 422))
        api.call("POST", f"{at}/turn", {"stops": 4, "tilt_deg": 40})
        now = until_still(api, at)
        assert now["kept"] == now["taken"] > 20_000 and not now["says"]
        places = next(iter(capturing._links.values())).state.kept()[0]
        truth = ModelSurface(true_part("bracket"))
        away = np.abs(truth.distances(hidden_pose("bracket").inverse().points(places)).distance)
        assert np.median(away) < 0.03 and np.percentile(away, 99) < 0.2
        low, high = places.min(axis=0), places.max(axis=0)
        path = [low.tolist(), high.tolist()]
        api.call("POST", f"{at}/sweep", {"path": path, "along": DOWN, "width": 9.0})  # a table has no line
        assert "does not know" in until_still(api, at)["says"]


def test_a_bore_is_touched_from_inside(api, at, port):
    """Sizes against the truth, led sideways within a bore, at several heights."""
    levelled(api, at, port)
    pose, level = hidden_pose("bracket"), capturing._level(next(iter(capturing._links.values())))
    b = Bracket()
    x, y, diameter = b.bolt_x / 2, b.bolt_y / 2, b.bolt
    for k in range(6):
        a = 2 * np.pi * k / 6
        begin = level.points(pose.points(np.array([[x, y, 4.0 + k % 3]])))[0]
        along = level.vectors(pose.vectors(np.array([[np.cos(a), np.sin(a), 0.0]])))[0]
        touch(api, at, begin, along)
    now = api.call("GET", f"{at}?reads=circle")
    assert now["sound"], now["reading"]
    size = float(now["reading"].split()[1])
    assert abs(size - diameter) < 0.03 and now["reading"].endswith("inside")
