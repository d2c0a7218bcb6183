"""Checks through the API: notes, live colours, what would mend, proofs compared and handed on; models and recipes that
come in; packs; a transfer with a feature that the other side does not know.
"""

import csv
import io
import json
import time
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from .conftest import body_of, lay
from .test_jobs import framed, sketched, stones  # noqa: F401

ON = {"scan": "scan", "frame": "frame", "body": "body"}
CHECK = {"id": "check", "kind": "check", "name": "Check", **ON, "reach": 1.0}


@pytest.fixture
def checked(api, framed):  # noqa: F811
    job, _ = framed
    sketched(api, job)
    lay(api, job, CHECK)
    return job, api.call("GET", f"/jobs/{job}")


def test_notes_are_read_where_they_are_pinned_and_measure_nothing_anew(api, checked):
    job, view = checked
    key = stones(view)["check"]["key"]
    eye = {"toward": [0, 0, 1], "up": [0, 1, 0], "middle": [20, 15, 10], "span": 40}
    pins = [{"place": [20, 15, 20], "text": "the lid"}, {"place": [20, 15, 0], "text": ""}]
    lay(api, job, {**CHECK, "pins": pins, "views": [{"name": "From above", **eye}]})
    view = api.call("GET", f"/jobs/{job}")
    assert stones(view)["check"]["key"] == key and stones(view)["check"]["record"]["pins"] == pins
    read = api.call("GET", f"/jobs/{job}/checks/check/pins")
    assert [p["face"] for p in read] == ["Body/top", "Body/bottom"] and {p["step"] for p in read} == {"Body"}
    assert all(abs(p["value"]) < 0.06 for p in read) and read[0]["text"] == "the lid"
    assert read[0]["shown"] == pytest.approx([20, 15, 20], abs=0.1)
    api.call("GET", f"/jobs/{job}/checks/body/pins", expect=422)
    view = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "With notes"})
    proof = api.call("GET", f"/jobs/{job}/proofs/{view['proofs'][0]['id']}")
    assert proof["pins"] == read and proof["views"][0]["name"] == "From above" and proof["values"]
    # Laid again without them, the proof has them still.
    lay(api, job, CHECK)
    assert api.call("GET", f"/jobs/{job}/proofs/{proof['id']}")["pins"] == read


def test_colours_while_building_are_quick_and_then_fine(api, checked):
    job, view = checked
    s = stones(view)
    asked = {"scan": s["scan"]["key"], "body": s["body"]["key"], "frame": s["frame"]["key"]}
    coarse = api.study(job, "/tide", {**asked, "coarse": True})
    fine = api.study(job, "/tide", {**asked, "coarse": False})
    # The same as the check says, from fewer places.
    assert fine["rms"] == pytest.approx(s["check"]["summary"]["rms"], rel=0.1)
    assert coarse["rms"] == pytest.approx(fine["rms"], rel=0.1) and coarse["places"] <= fine["places"]
    for found in (coarse, fine):
        path = f"/jobs/{job}/geometry/{found['key']}/tide?scan={asked['scan']}"
        data = api.lean("GET", path)
        header = json.loads(data[4 : 4 + int(np.frombuffer(data, np.uint32, 1)[0])])
        assert header["arrays"]["distance"]["count"] * 3 == header["arrays"]["positions"]["count"]
    api.call("POST", f"/jobs/{job}/tide", {**asked, "body": "0" * 64}, expect=404)


def test_a_wrong_size_is_named_with_what_it_would_mend(api, checked):
    job, _ = checked
    api.call("POST", f"/jobs/{job}/values", {"name": "body.end", "value": 20.4})
    found = api.study(job, "/mends", {})
    best = found["mends"][0]
    assert best["name"] == "body.end" and best["share"] > 0.5
    assert best["to"] == pytest.approx(20, abs=0.05) and best["by"] == pytest.approx(-0.4, abs=0.05)


def test_proofs_are_renamed_compared_and_handed_on(api, checked):
    job, _ = checked
    view = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "Before"})
    first = view["proofs"][0]["id"]
    api.call("POST", f"/jobs/{job}/values", {"name": "body.end", "value": 20.2})
    view = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "After"})
    second = view["proofs"][0]["id"]
    api.call("PATCH", f"/jobs/{job}/proofs/{second}", {"name": "Too\u2028tall"})
    assert api.call("GET", f"/jobs/{job}/proofs/{second}")["name"] == "Too tall"
    api.call("PATCH", f"/jobs/{job}/proofs/{second}", {"name": "   "}, expect=422)
    told = api.call("GET", f"/jobs/{job}/proofs/compared?first={first}&second={second}")
    top = next(r for r in told["faces"] if r["face"] == "Body/top")
    assert told["faces"][0]["face"] == "Body/top" and top["change"] == pytest.approx(0.2, abs=0.03)
    assert told["same_scan"] and told["whole"]["change"] > 0
    # Against a datum there are other faces: what only one has comes first.
    lay(api, job, {**CHECK, "body": "low"})
    view = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "The low face alone"})
    third = next(p["id"] for p in view["proofs"] if p["name"] == "The low face alone")
    apart = api.call("GET", f"/jobs/{job}/proofs/compared?first={second}&second={third}")["faces"]
    alone = [r["first"] is None or r["second"] is None for r in apart]
    assert alone[0] and alone == sorted(alone, reverse=True)
    api.call("DELETE", f"/jobs/{job}/proofs/{third}")
    lay(api, job, CHECK)
    a, b = (api.call("GET", f"/jobs/{job}/proofs/{i}") for i in (first, second))
    path = f"/jobs/{job}/geometry/{a['key']}/difference?scan={a['scan_key']}&name={b['key']}-{b['scan_key']}"
    data = api.lean("GET", path)
    header = json.loads(data[4 : 4 + int(np.frombuffer(data, np.uint32, 1)[0])])
    at = header["arrays"]["distance"]
    begin = 4 + int(np.frombuffer(data, np.uint32, 1)[0]) + at["offset"]
    values = np.frombuffer(data, np.float32, at["count"], begin)
    assert np.nanmax(values) == pytest.approx(0.2, abs=0.05) and abs(np.nanmedian(values)) < 1e-6
    base = f"/jobs/{job}/proofs/{second}/files"
    rows = list(csv.reader(io.StringIO(api.lean("GET", f"{base}/points.csv").decode())))
    assert len(rows) == 1 + b["summary"]["points"]
    table = list(csv.DictReader(io.StringIO(api.lean("GET", f"{base}/table.csv").decode())))
    assert {"face", "step"} >= {r["of"] for r in table} and any(r["name"] == "Body/top" for r in table)
    assert api.lean("GET", f"{base}/report.pdf")[:5] == b"%PDF-"
    assert api.lean("GET", f"{base}/view.png")[1:4] == b"PNG"
    assert b"ply" in api.lean("GET", f"{base}/map.ply")[:4]
    assert json.loads(api.lean("GET", f"{base}/proof.json"))["title"] == "Too tall"
    api.call("GET", f"{base}/other.exe", expect=404)
    api.call("GET", f"/jobs/{job}/proofs/999/files/report.pdf", expect=404)
    api.call("DELETE", f"/jobs/{job}/proofs/{second}")
    api.call("GET", f"/jobs/{job}/proofs/{second}", expect=404)


def test_a_foreign_model_comes_in_and_is_compared_with(api, checked):
    job, _ = checked
    step = api.lean("GET", f"/jobs/{job}/deliver/model.step")
    up = api.upload("Back.step", step)
    assert up["faces"] == 6 and up["sizes"]["mm"].startswith(("40", "30"))
    # It starts no job, and is no scan.
    said = api.call("POST", "/jobs", {"scans": [{"upload": up["upload"]}], "name": "x"}, expect=422)
    assert "model" in said["message"] and "Check" in said["message"]
    api.call("POST", f"/jobs/{job}/models", {"upload": up["upload"]})
    api.call("POST", f"/jobs/{job}/models", {"upload": up["upload"]})
    view = api.call("GET", f"/jobs/{job}")
    foreign = [s for s in view["stones"] if s["kind"] == "model"]
    assert [s["name"] for s in foreign] == ["Back", "Back 2"] and foreign[0]["summary"]["volume"] > 23000
    lay(api, job, {**CHECK, "id": "back", "name": "Against it", "body": foreign[0]["id"], "rules": [
        {"name": "lid", "faces": ["Body/top"], "tolerance": 0.1}]})  # fmt: skip
    told = stones(api.call("GET", f"/jobs/{job}"))["back"]["summary"]
    assert told["against"] == "Back" and told["rms"] < 0.03 and told["verdict"] == "passes"
    for name, data in (("bad.step", b"ISO-10303-21;\nHEADER;"), ("bad.iges", b"nothing"), ("bad.brep", b"DBRep_Draw")):
        wrong = api.upload(name, data, expect=422)
        assert name in wrong["message"] and "Traceback" not in wrong["message"]


def test_a_pack_is_whole_and_its_recipe_opens_for_somebody_else(api, checked, db):
    job, view = checked
    proof = api.call("POST", f"/jobs/{job}/proofs", {"step": "check", "name": "Kept/it"})["proofs"][0]["id"]
    goods = [{"what": w} for w in ("model.step", "model.glb", "model.3mf", "model.iges", "scan.glb", "recipe.zip")]
    goods += [{"what": "sketch.svg", "step": "outline"}, {"what": "model.stl", "within": 0.05}]
    made = api.study(job, "/packs", {"goods": goods, "proofs": [proof]})
    data = api.lean("GET", f"/jobs/{job}/packs/{made['pack']}")
    assert len(data) == made["bytes"]
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        names = set(z.namelist())
        assert {"CONTENTS.txt", "SHA256SUMS", "Outline.svg", "proofs/Kept_it/report.pdf"} <= names
        recipe = z.read("recipe.zip")
        assert "Frame: everything lies in 'Frame'" in z.read("CONTENTS.txt").decode()
    api.call("POST", f"/jobs/{job}/packs", {"goods": [{"what": "../x"}]}, expect=422)
    api.call("GET", f"/jobs/{job}/packs/{'0' * 32}", expect=404)
    api.call("GET", f"/jobs/{job}/packs/..%2F..", expect=404)
    assert "Nothing is chosen" in api.study(job, "/packs", {"goods": []}, expect=422)["message"]

    def opened(data, expect=200):
        file = SimpleUploadedFile("recipe.zip", data)
        r = api.client.post("/api/recipes", {"file": file}, HTTP_X_CSRFTOKEN=api.token)
        assert r.status_code == expect, body_of(r)[:300]
        return r.json()

    other = opened(recipe)["id"]
    there = stones(api.call("GET", f"/jobs/{other}"))
    here = stones(view)
    assert other != job and there["body"]["summary"]["volume"] == here["body"]["summary"]["volume"]
    # What is damaged, lacks its scan or is none says so, and leaves no job.
    count = len(api.call("GET", "/jobs"))
    assert "no recipe" in opened(b"hello", 422)["message"]
    with zipfile.ZipFile(io.BytesIO(recipe)) as z:
        bare = io.BytesIO()
        with zipfile.ZipFile(bare, "w") as w:
            w.writestr("recipe.json", z.read("recipe.json"))
        changed = io.BytesIO()
        with zipfile.ZipFile(changed, "w") as w:
            w.writestr("recipe.json", z.read("recipe.json"))
            w.writestr("block.ply", z.read("block.ply")[:-10])
    for data in (bare.getvalue(), changed.getvalue()):
        assert "'block'" in opened(data, 422)["message"]
    empty = io.BytesIO()
    with zipfile.ZipFile(empty, "w") as w:
        w.writestr("other.txt", "x")
    assert "recipe.json" in opened(empty.getvalue(), 422)["message"]
    assert len(api.call("GET", "/jobs")) == count


def waited(api, job, number, until):
    for _ in range(600):
        at = api.call("GET", f"/jobs/{job}/transfers/{number}")
        if until(at):
            return at
        time.sleep(0.1)
    raise AssertionError(at)


@pytest.mark.django_db(transaction=True)
def test_a_history_is_sent_feature_by_feature(api, checked):
    job, view = checked
    begun = api.call("POST", f"/jobs/{job}/transfers", {"unknown": ["extrude"]})
    number = begun["transfer"]
    asking = waited(api, job, number, lambda t: t["asks"] or t["done"])
    assert asking["asks"] == "body" and [f["state"] for f in asking["features"]] == ["built", "unknown"]
    # Asked again while it still does not know, it asks again; told, it builds.
    api.call("POST", f"/jobs/{job}/transfers/{number}/answer", {"how": "retry"})
    waited(api, job, number, lambda t: t["asks"])
    api.call("POST", f"/jobs/{job}/transfers/{number}/answer", {"how": "retry", "unknown": []})
    done = waited(api, job, number, lambda t: t["done"])
    volume = stones(view)["body"]["summary"]["volume"]
    assert done["features"][1]["state"] == "built"
    assert done["features"][1]["there"] == pytest.approx(volume, rel=1e-6) and "All is there" in done["says"]
    sent = api.call("POST", f"/jobs/{job}/transfers/{number}/elements")
    assert sent["elements"] >= 4
    api.call("POST", f"/jobs/{job}/transfers/{number}/elements", expect=422)
    api.call("POST", f"/jobs/{job}/transfers/{number}/answer", {"how": "skip"}, expect=422)
    api.call("DELETE", f"/jobs/{job}/transfers/{number}")
    api.call("GET", f"/jobs/{job}/transfers/999", expect=404)
