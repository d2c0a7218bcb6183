"""Joining through the API and the recipe: pairs, settling, merging; what rests on a scan follows its cleaning; it
replays.
"""

import json

import numpy as np
import pytest

from deftmason.core.scan.files import write_scan
from deftmason.demo.lantern import lantern_scans
from deftmason.rig.sets import turned_scans

from .conftest import lay


@pytest.fixture(scope="module")
def arm(tmp_path_factory):
    """Two raw scans of the arm that see much of each other, as files' bytes, and their poses."""
    folder = tmp_path_factory.mktemp("arm")
    scans = [lantern_scans(1.0)[i] for i in (0, 4)]
    data = []
    for k, (mesh, _) in enumerate(scans):
        write_scan(str(folder / f"{k}.ply"), mesh)
        data.append((folder / f"{k}.ply").read_bytes())
    return data, [pose for _, pose in scans]


@pytest.fixture
def job(api, arm):
    ups = [api.upload(f"arm {k}.ply", d) for k, d in enumerate(arm[0])]
    return api.call("POST", "/jobs", {"scans": [{"upload": u["upload"], "units": "mm"} for u in ups], "name": "Arm"})[
        "id"
    ]


def scans_of(api, job):
    return [s["id"] for s in api.call("GET", f"/jobs/{job}")["stones"] if s["kind"] == "scan"]


def paired(arm, ids, rough=0.3):
    places = np.array([[16, 0, 24.0], [48, 0, 46], [15, 12, 6], [-15, -12, 6]])
    lot = np.random.default_rng(3)
    a, b = (p.points(places) + lot.normal(size=(4, 3)) * rough for p in arm[1])
    return [
        {"fixed": ids[0], "moving": ids[1], "fixed_place": list(p), "moving_place": list(q)}
        for p, q in zip(a.tolist(), b.tolist())
    ]


def off(arm, matrix):
    a, b = arm[1]
    box = np.array([[x, y, z] for x in (-22, 62) for y in (-15, 15) for z in (0, 52)], float)
    m = np.array(matrix)
    return np.linalg.norm(b.points(box) @ m[:3, :3].T + m[:3, 3] - a.points(box), axis=1).max()


def shown(data, kind):
    """The one array of a buffer."""
    head = int(np.frombuffer(data, np.uint32, 1)[0])
    entry = json.loads(data[4 : 4 + head])["arrays"]["values"]
    return np.frombuffer(data, kind, entry["count"], 4 + head + entry["offset"])


def stone(view, name):
    return next(s for s in view["stones"] if s["name"] == name)


def test_pairs_settle_merge_and_a_later_cleaning(api, arm, job):
    ids = scans_of(api, job)
    step = {"kind": "match", "name": "Rough", "scans": ids, "by": "pairs", "pairs": paired(arm, ids)}
    told = api.study(job, "/preview", {"step": step})
    assert told["status"] == "sound" and len(told["summary"]["pairs"]) == 4
    assert all(0 < p["misfit"] < 1.5 for p in told["summary"]["pairs"])
    view = lay(api, job, step)
    rough = stone(view, "Rough")
    assert (
        off(arm, rough["summary"]["motions"][ids[1]]) < 0.2
        and rough["summary"]["motions"][ids[0]] == np.eye(4).tolist()
    )
    view = lay(api, job, {"kind": "settle", "name": "Settled", "placement": rough["id"]})
    settled = stone(view, "Settled")
    assert off(arm, settled["summary"]["motions"][ids[1]]) < 0.08 and len(settled["summary"]["links"]) == 1
    assert settled["summary"]["moved"][ids[0]] == 0 and settled["summary"]["rms"] < 0.06
    view = lay(api, job, {"kind": "merge", "name": "Merged", "placement": settled["id"], "resolution": 0.9})
    merged = stone(view, "Merged")
    assert merged["produces"] == "scan" and merged["summary"]["merged"] == 2 and merged["summary"]["triangles"] > 3000
    # The slab is set aside for the eye too, and how far the scans lie apart can be shown.
    shows = shown(api.call("GET", f"/jobs/{job}/geometry/{stone(view, 'arm 0')['key']}/part"), np.uint8)
    assert 0.2 < shows.mean() < 0.9
    apart = shown(
        api.call(
            "GET", f"/jobs/{job}/geometry/{settled['key']}/also?scan={stone(view, 'arm 0')['key']}&name=apart_{ids[0]}"
        ),
        np.float32,
    )
    # The slab and what one alone saw have no distance; the rest lies within the noise, but for edges.
    assert 0.2 < np.isfinite(apart).mean() < 0.9 and np.nanmedian(np.abs(apart)) < 0.03
    assert len(api.call("GET", f"/jobs/{job}/geometry/{merged['key']}/also?scan={merged['key']}&name=apart")) > 1000
    # A datum rests on the merged mesh; cleaning a capture slips under the match, whose pairs follow.
    m = merged["summary"]["bounds"]
    assert np.ptp(np.array(m), axis=0).max() < 130
    view = lay(
        api,
        job,
        {
            "kind": "background",
            "name": "No slab",
            "scan": ids[1],
            "way": "slab",
            "drop": "marked",
            "marks": [],
            "scraps": True,
        },
    )
    rough = stone(view, "Rough")
    clean = stone(view, "No slab")["id"]
    assert rough["record"]["scans"] == [ids[0], clean] and {p["moving"] for p in rough["record"]["pairs"]} == {clean}
    assert all(s["status"] in ("sound", "attention") for s in view["stones"]), [
        (s["name"], s["says"]) for s in view["stones"]
    ]
    assert off(arm, stone(view, "Settled")["summary"]["motions"][clean]) < 0.08
    view = api.call("DELETE", f"/jobs/{job}/stones/{clean}")
    assert {p["moving"] for p in stone(view, "Rough")["record"]["pairs"]} == {ids[1]}


def test_what_cannot_be_is_refused_in_words(api, arm, job):
    ids = scans_of(api, job)
    pairs = paired(arm, ids)
    told = api.study(
        job, "/preview", {"step": {"kind": "match", "name": "R", "scans": ids, "by": "pairs", "pairs": pairs[:2]}}
    )
    assert told["status"] == "failed" and "Three pairs" in told["says"]
    on_line = [{**pairs[0], "fixed_place": [k, 0, 0], "moving_place": [0, k, 0]} for k in range(4)]
    told = api.study(
        job, "/preview", {"step": {"kind": "match", "name": "R", "scans": ids, "by": "pairs", "pairs": on_line}}
    )
    assert told["status"] == "failed" and "on a line" in told["says"]
    alone = lay(api, job, {"kind": "match", "name": "Alone", "scans": ids, "by": "pairs", "pairs": []})
    told = api.study(
        job, "/preview", {"step": {"kind": "settle", "name": "S", "placement": stone(alone, "Alone")["id"]}}
    )
    assert told["status"] == "failed" and "match more" in told["says"]
    twice = api.study(job, "/preview", {"step": {"kind": "match", "name": "R", "scans": [ids[0], ids[0]]}})
    assert twice["status"] == "failed" and "listed twice" in twice["says"]
    # A scan may not pass for a placement.
    told = api.study(job, "/preview", {"step": {"kind": "merge", "name": "M", "placement": ids[0]}})
    assert told["status"] == "failed" and "gives no placement" in told["says"]


def test_a_match_by_itself_replays_to_the_same(api, arm, job):
    ids = scans_of(api, job)
    view = lay(api, job, {"kind": "match", "name": "Itself", "scans": ids})
    first = stone(view, "Itself")
    assert off(arm, first["summary"]["motions"][ids[1]]) < 0.4
    view = api.call("POST", f"/jobs/{job}/undo")
    assert not any(s["name"] == "Itself" for s in view["stones"])
    again = stone(api.call("POST", f"/jobs/{job}/redo"), "Itself")
    assert again["key"] == first["key"] and again["summary"]["motions"] == first["summary"]["motions"]


def test_a_candidate_is_chosen_as_pairs(api, tmp_path):
    """A plain spindle is left out with its candidates; one taken up as pairs places it, as if they had been picked."""
    for k, (mesh, _) in enumerate(turned_scans(False, spacing=1.0)[:2]):
        write_scan(str(tmp_path / f"{k}.ply"), mesh)
    ups = [api.upload(f"spindle {k}.ply", (tmp_path / f"{k}.ply").read_bytes()) for k in range(2)]
    job = api.call(
        "POST", "/jobs", {"scans": [{"upload": u["upload"], "units": "mm"} for u in ups], "name": "Spindle"}
    )["id"]
    ids = scans_of(api, job)
    step = {"kind": "match", "name": "Rough", "scans": ids}
    told = api.study(job, "/preview", {"step": step})["summary"]
    (left,) = told["refused"]
    assert len(told["motions"]) == 1 and left["reason"] in ("ambiguous", "not held")
    pairs = left["pairs"][0]
    assert len(pairs) >= 3 and {p["moving"] for p in pairs} == {left["scan"]} and len({p["fixed"] for p in pairs}) == 1
    told = api.study(job, "/preview", {"step": {**step, "pairs": pairs}})["summary"]
    assert set(told["motions"]) == set(ids) and told["motions"][ids[0]] == np.eye(4).tolist()
    assert told["links"][0]["overlap"] > 0.5 and told["rms"] < 0.06 and max(p["misfit"] for p in told["pairs"]) < 0.5
