"""Jobs through the API: laid, changed, undone, kept; refusals change nothing."""

import pytest

from .conftest import block_steps, body_of, lay, start_job


@pytest.fixture
def framed(api, block_bytes):
    job = start_job(api, block_bytes)
    for step in block_steps():
        view = lay(api, job, step)
    return job, view


def stones(view):
    return {s["id"]: s for s in view["stones"]}


def sketched(api, job):
    where = {"scan": "scan", "frame": "frame", "axis": "z", "height": 10}
    found = api.call("POST", f"/jobs/{job}/sketch/change", {"sketch": where, "change": {"do": "automatic"}})
    lay(
        api,
        job,
        {
            "id": "outline",
            "kind": "sketch",
            "name": "Outline",
            **where,
            "strokes": found["strokes"],
            "sizes": found["sizes"],
            "relations": [{"kind": r["kind"], "of": r["of"]} for r in found["relations"]],
        },
    )
    return lay(
        api,
        job,
        {
            "id": "body",
            "kind": "extrude",
            "name": "Body",
            "scan": "scan",
            "frame": "frame",
            "sketch": "outline",
            "start": {"pick": {"place": [20, 15, 0], "normal": [0, 0, -1]}, "height": {"source": "rounded"}},
            "end": {"pick": {"place": [20, 15, 20], "normal": [0, 0, 1]}, "height": {"source": "rounded"}},
        },
    )


def test_upload_says_the_size_back_in_every_unit(api, block_bytes):
    up = api.upload("block.ply", block_bytes)
    assert up["sizes"]["mm"].startswith("40.") and "in)" in up["sizes"]["mm"]
    assert up["sizes"]["in"].startswith("1,0")


def test_a_job_begun_with_what_was_read_reads_the_file_no_more(api, block_bytes):
    """The upload keeps what it read as the scan's own result: the same as reading the file for the job gives."""
    from deftmason.core.recipe.kinds.scan import scan_record
    from deftmason.core.recipe.parse import parse_recipe
    from deftmason.core.recipe.replay import Replay, step_keys
    from deftmason.server.jobs.models import Blob
    from deftmason.server.jobs.recipe import desk

    up = api.upload("read ahead.ply", block_bytes)
    blob = Blob.objects.get()
    steps = parse_recipe([scan_record(blob.sha256, "read ahead.ply", "mm")])
    key, store = step_keys(steps)["scan"], desk().store
    ahead = store.load(key)
    store.forget(key)
    again = Replay(steps, store, desk().scan_file).laid(steps[0], key, lambda at, message="": None)
    assert again.summary == ahead.summary and again.says == ahead.says
    anew = store.load(key).output
    assert (anew.vertices == ahead.output.vertices).all() and (anew.faces == ahead.output.faces).all()
    job = api.call("POST", "/jobs", {"scans": [{"upload": up["upload"], "units": "mm"}], "name": "Ahead"})["id"]
    assert api.call("GET", f"/jobs/{job}")["stones"][0]["key"] == key
    inches = api.call("POST", "/jobs", {"scans": [{"upload": up["upload"], "units": "in"}], "name": "Inch"})["id"]
    assert "1,0" in api.call("GET", f"/jobs/{inches}")["stones"][0]["summary"]["size"]


@pytest.mark.parametrize(
    "name,data", [("a.stl", b""), ("a.stl", b"hello" * 40), ("a.ply", b"ply\nformat x\n"), ("a.txt", b"1 2 3")]
)
def test_unusable_files_leave_nothing(api, name, data, settings):
    from deftmason.server.jobs.models import Blob, Job

    wrong = api.upload(name, data, expect=422)
    assert (
        set(wrong) == {"code", "message", "field", "hint"}
        and wrong["message"].count("\n") == 0
        and "a." in wrong["message"]
    )
    assert Blob.objects.count() == 0 and Job.objects.count() == 0
    assert api.call("GET", "/jobs") == []


def test_upload_limit(api, block_bytes, settings):
    settings.MOST_UPLOAD_BYTES = 1000
    assert "larger" in api.upload("block.ply", block_bytes, expect=422)["message"]


def test_frame_from_three_faces_squares_the_block(framed):
    job, view = framed
    s = stones(view)
    assert s["frame"]["summary"]["open_freedoms"] == 0
    m = s["frame"]["summary"]["matrix"]
    assert [round(m[k][k], 3) for k in range(3)] == [1, 1, 1]
    assert all(abs(m[k][3]) < 0.02 for k in range(3))
    assert all(abs(x["degrees"]) < 0.1 for x in s["frame"]["summary"]["misses"])


def test_sketch_body_check_and_deliver(api, framed, tmp_path):
    job, _ = framed
    view = sketched(api, job)
    body = stones(view)["body"]["summary"]
    assert body["valid"] and body["volume"] == pytest.approx(40 * 30 * 20, rel=1e-3)
    values = {v["name"]: v for v in view["values"]}
    assert values["outline.width"]["chosen"] == 30 or values["outline.width"]["chosen"] == 40
    assert values["body.end"]["chosen"] == 20 and values["body.end"]["measured"] == pytest.approx(20, abs=0.01)
    view = lay(
        api, job, {"id": "check", "kind": "check", "name": "Check", "scan": "scan", "frame": "frame", "body": "body"}
    )
    view = api.call("GET", f"/jobs/{job}")
    check = stones(view)["check"]
    assert check["status"] == "sound" and check["summary"]["rms"] < 0.02 and view["tasks"][0]["state"] == "done"
    view = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "Before lunch"})
    proof = api.call("GET", f"/jobs/{job}/proofs/{view['proofs'][0]['id']}")
    assert proof["summary"]["rms"] == check["summary"]["rms"]
    # The proof stays as it was when the body changes.
    view = api.call("POST", f"/jobs/{job}/values", {"name": "body.end", "value": 21})
    assert stones(api.call("GET", f"/jobs/{job}"))["check"]["summary"]["rms"] > 0.05
    assert api.call("GET", f"/jobs/{job}/proofs/{proof['id']}")["summary"]["rms"] == check["summary"]["rms"]
    for what in ("model.step", "model.stl", "scan.ply", "sketch.dxf", "model.py", "recipe.json"):
        r = api.client.get(f"/api/jobs/{job}/deliver/{what}")
        assert r.status_code == 200 and len(body_of(r)) > 300, what
    for key, what, extra in (
        (stones(view)["scan"]["key"], "scan", ""),
        (stones(view)["body"]["key"], "body", ""),
        (proof["key"], "tide", f"?scan={proof['scan_key']}"),
    ):
        assert len(api.call("GET", f"/jobs/{job}/geometry/{key}/{what}{extra}")) > 1000
    assert api.call("GET", f"/jobs/{job}/picture.png")[:4] == b"\x89PNG"


def test_undo_and_redo_walk_every_change(api, framed):
    job, view = framed
    sketched(api, job)
    volume = lambda v: stones(v)["body"]["summary"]["volume"]
    first = api.call("GET", f"/jobs/{job}")
    second = api.call("POST", f"/jobs/{job}/values", {"name": "body.end", "value": 25})
    assert volume(second) == pytest.approx(volume(first) * 25 / 20, rel=1e-6)
    assert second["undo"].startswith("Body: end")
    back = api.call("POST", f"/jobs/{job}/undo")
    assert volume(back) == volume(first) and back["redo"] == second["undo"]
    assert volume(api.call("POST", f"/jobs/{job}/redo")) == volume(second)
    api.call("POST", f"/jobs/{job}/undo")
    while api.call("GET", f"/jobs/{job}")["undo"]:
        api.call("POST", f"/jobs/{job}/undo")
    assert [s["id"] for s in api.call("GET", f"/jobs/{job}")["stones"]] == ["scan"]
    api.call("POST", f"/jobs/{job}/undo", expect=422)
    for _ in range(6):
        view = api.call("POST", f"/jobs/{job}/redo")
    assert volume(view) == volume(first)


def test_changing_a_datum_moves_everything_downstream_without_a_pick(api, framed):
    job, _ = framed
    view = sketched(api, job)
    before = stones(view)
    record = before["front"]["record"]
    record["pick"] = {"place": [20, 30, 10], "normal": [0, 1, 0], "rule": "same facing"}
    after = stones(lay(api, job, record))
    assert after["frame"]["key"] != before["frame"]["key"]
    assert after["body"]["status"] == "sound"
    assert after["body"]["summary"]["volume"] == pytest.approx(before["body"]["summary"]["volume"], rel=1e-3)


def test_a_failing_stone_is_refused_and_changes_nothing(api, framed):
    job, _ = framed
    before = api.call("GET", f"/jobs/{job}")
    far = {"id": "far", "kind": "datum", "name": "Far", "scan": "scan", "pick": {"place": [500, 0, 0]}}
    assert "away from the scan" in lay(api, job, far, expect=422)["message"]
    assert "no step of kind" in lay(api, job, {"kind": "spell"}, expect=422)["message"]
    assert "extra" in lay(api, job, {**block_steps()[0], "id": "x", "speed": 3}, expect=422)["message"].lower()
    assert "rest on" in api.call("DELETE", f"/jobs/{job}/stones/low", expect=422)["message"]
    assert "measured, not chosen" not in str(before)
    after = api.call("GET", f"/jobs/{job}")
    assert after["revision"] == before["revision"] and after["stones"] == before["stones"]


def test_switching_off_a_feature_leaves_the_rest_standing(api, framed):
    job, _ = framed
    sketched(api, job)
    lay(
        api,
        job,
        {
            "id": "slot",
            "kind": "extrude",
            "name": "Slot",
            "scan": "scan",
            "frame": "frame",
            "sketch": "outline",
            "body": "body",
            "how": "cut",
            "start": {"to": "height", "height": {"value": 15, "source": "typed"}},
            "end": {"to": "through"},
        },
    )
    view = lay(
        api, job, {"id": "check", "kind": "check", "name": "Check", "scan": "scan", "frame": "frame", "body": "slot"}
    )
    off = api.call("POST", f"/jobs/{job}/stones/slot/switch")
    off = api.call("GET", f"/jobs/{job}")
    assert stones(off)["slot"]["status"] == "off" and stones(off)["check"]["status"] == "sound"
    assert (
        stones(off)["check"]["summary"]["rms"]
        < 0.02
        < stones(api.call("GET", f"/jobs/{job}"))["scan"]["summary"]["triangles"]
    )
    assert view["id"] == job


def test_preview_says_without_laying(api, framed):
    job, view = framed
    step = {
        "kind": "datum",
        "name": "Top",
        "scan": "scan",
        "pick": {"place": [20, 15, 20], "normal": [0, 0, 1], "angle_deg": 5},
    }
    said = api.study(job, "/preview", {"step": step})
    assert said["status"] == "sound" and said["summary"]["facets"] > 500
    assert len(api.call("GET", f"/jobs/{job}")["stones"]) == len(view["stones"])
    got = api.call("POST", f"/jobs/{job}/pick", {"scan": "scan", "pick": step["pick"]})
    assert got["facets"] == said["summary"]["facets"]


def test_api_description_is_current(api, settings):
    """The client's types are made from this file; it must say what the server does."""
    import json
    from pathlib import Path

    from deftmason.server.jobs.management.commands.write_openapi import described

    kept = json.loads((Path(settings.ROOT) / "web" / "openapi.json").read_text())
    assert kept == json.loads(json.dumps(described())), "run make openapi"


def test_a_job_of_a_newer_program_hides_no_other(api, framed, block_bytes):
    from deftmason.server.jobs.models import Step

    other = start_job(api, block_bytes)
    Step.objects.create(job_id=other, order=9, step_id="later", record={"id": "later", "kind": "not_yet", "name": "L"})
    cards = {c["id"]: c for c in api.call("GET", "/jobs")}
    assert cards[other]["says"].startswith("Cannot be read here: There is no step of kind")
    assert cards[framed[0]]["says"] == "5 stones"
