"""A job as a document: small in its line, whole on demand, not read anew while nothing changes."""

import json

import pytest

from deftmason.core.recipe.parse import kinds
from deftmason.server.jobs import document
from deftmason.server.jobs.models import Job
from deftmason.server.jobs.recipe import store

from ..core.test_references import record
from .conftest import start_job

pytestmark = pytest.mark.django_db


@pytest.fixture
def many(api, block_bytes):
    """A job of 150 stones whose results are as heavy as real ones."""
    job = start_job(api, block_bytes)
    row = Job.objects.get(pk=job)
    return long_job(row, 150)


def long_job(row: Job, count: int) -> Job:
    """Lengthen a job to ``count`` stones: datums, frames, sketches, bodies, each with a stored result."""
    from deftmason.core.recipe.step import Outcome, Value
    from deftmason.server.jobs.models import Step
    from deftmason.server.jobs.recipe import note_results, records, replay_of

    steps = records(row)
    scan = steps[0]["id"]
    for k in range(count - len(steps)):
        kind = ("datum", "datum", "frame", "sketch", "extrude")[k % 5]
        ids = {"s1": scan, "d1": f"n{k - 2}", "d2": f"n{k - 1}", "f1": f"n{k - k % 5 + 2}", "k1": f"n{k - 1}"}
        data = {**record(kind), "id": f"n{k}", "name": f"Stone number {k}"}
        if kind == "extrude":
            data["body"] = None
        text = json.dumps(data)
        for old, new in ids.items():
            text = text.replace(f'"{old}"', f'"{new}"')
        steps.append(kinds()[kind].model_validate_json(text).model_dump(mode="json"))
    row.steps.all().delete()
    Step.objects.bulk_create(Step(job=row, order=i, step_id=s["id"], record=s) for i, s in enumerate(steps))
    row.revision += 1
    row.save()
    replay = replay_of(steps)
    for s in replay.steps[1:]:
        heavy = {"stretches": {"e1": [[0.123456, 0.5]] * 2500}, "face_names": [f"face {i}" for i in range(60)]}
        told = {
            "says": "13 pieces",
            **heavy,
            "matrix": [[0.123456789] * 4] * 4,
            "parameters": {"point": [1.23456789] * 3, "normal": [0.57735] * 3},
            "volume": 83385.4,
            "rms": 0.0123,
        }
        values = [Value(f"v{i}", f"size {i}", 12.3456789, 0.0012, 12.5, "rounded", path=["sizes", i]) for i in range(3)]
        produces = "nothing"
        outcome = Outcome(None, told, "", "sound", values if s.produces in ("sketch", "body") else [])
        if store().record(replay.keys[s.id]) is None:
            store().save(replay.keys[s.id], produces, outcome)
    note_results(row, steps)
    return row


def test_a_job_of_150_stones_answers_small(api, many):
    said = api.lean("GET", f"/jobs/{many.pk}")
    assert len(said["stones"]) == 150 and all(s["status"] == "sound" for s in said["stones"])
    whole = len(json.dumps(said, separators=(",", ":")))
    assert whole <= 150_000, whole
    assert max(len(json.dumps(s)) for s in said["stones"]) <= 1000
    one = api.lean("GET", f"/jobs/{many.pk}/stones/n3")
    assert len(json.dumps(one)) > 40_000 and one["record"]["kind"] == "sketch"
    told = api.lean("GET", f"/jobs/{many.pk}/results/{one['key']}")
    assert told["summary"] == one["summary"]


def test_the_recipe_is_not_read_anew_where_nothing_changed(api, many, monkeypatch):
    api.lean("GET", f"/jobs/{many.pk}")
    read = []
    monkeypatch.setattr(document, "parse_recipe", lambda steps: read.append(1) or parse(steps))
    from deftmason.core.recipe.parse import parse_recipe as parse

    for _ in range(3):
        api.lean("GET", f"/jobs/{many.pk}")
        api.lean("GET", f"/jobs/{many.pk}/stamp")
    assert not read
    Job.objects.filter(pk=many.pk).update(revision=many.revision + 1)
    api.lean("GET", f"/jobs/{many.pk}")
    assert len(read) == 1


def test_a_stamp_tells_whether_the_job_changed(api, block_bytes):
    job = start_job(api, block_bytes)
    first = api.lean("GET", f"/jobs/{job}/stamp")
    assert first == api.lean("GET", f"/jobs/{job}/stamp") and not first["working"]
    datum = {"kind": "datum", "name": "Low", "scan": "scan", "pick": {"place": [20, 15, 0], "normal": [0, 0, -1]}}
    api.lean("POST", f"/jobs/{job}/stones", {"step": datum})
    assert api.lean("GET", f"/jobs/{job}/stamp")["revision"] > first["revision"]


def test_what_a_lost_reference_could_be_is_said(api, block_bytes):
    job = start_job(api, block_bytes)
    for k, (place, normal) in enumerate([((20, 15, 0), (0, 0, -1)), ((20, 0, 10), (0, -1, 0))]):
        datum = {"id": f"d{k}", "kind": "datum", "name": f"D{k}", "scan": "scan"}
        api.lean("POST", f"/jobs/{job}/stones", {"step": {**datum, "pick": {"place": place, "normal": normal}}})
    frame = {"id": "f", "kind": "frame", "name": "F", "first": "d0", "second": "d1"}
    api.lean("POST", f"/jobs/{job}/stones", {"step": frame})
    api.lean("POST", f"/jobs/{job}/stones/d0/switch")
    lost = api.lean("GET", f"/jobs/{job}/stones/f")["lost"]
    assert [(l["path"], l["gives"], l["what"]) for l in lost] == [(["first"], ["datum"], "'D0'")]
    assert [(c["value"], c["label"]) for c in lost[0]["candidates"]] == [("d1", "D1")]
    api.lean("POST", f"/jobs/{job}/stones/d0/switch")
    assert api.lean("GET", f"/jobs/{job}/stones/f")["lost"] == []


def test_values_offer_numbers_when_asked(api, block_bytes):
    job = start_job(api, block_bytes)
    assert "value" in api.lean("GET", f"/jobs/{job}/values/none", expect=404)["message"]


def test_results_of_other_jobs_and_failed_ones_are_not_told(api, many, block_bytes):
    key = api.lean("GET", f"/jobs/{many.pk}/stones/n3")["key"]
    other = start_job(api, block_bytes + b"\n", "Other")
    api.lean("GET", f"/jobs/{other}/results/{key}", expect=404)
    api.lean("GET", f"/jobs/{other}/stones/n3", expect=404)
    api.lean("GET", f"/jobs/{many.pk}/results/{'ab' * 32}", expect=404)


def test_every_kind_has_a_schema_for_its_form(api):
    said = api.lean("GET", "/kinds")
    assert set(said) == set(kinds())
    decimate = said["decimate"]["schema"]["properties"]
    assert decimate["share"]["label"] == "leave" and decimate["share"]["when"] == {"to": "share"}
    assert decimate["scan"]["ref"] == ["scan"] and said["decimate"]["produces"] == "scan"
