"""Nobody reaches what is not theirs; work that dies is seen and can be tried again."""

from datetime import timedelta

import pytest
from django.contrib.auth import get_user_model
from django.utils import timezone

from deftmason.server.guard import is_loopback

from .conftest import Api, block_steps, lay, start_job


@pytest.fixture
def two(db, page_exists, settings):
    settings.SHARED = True
    make = get_user_model().objects.create_user
    return Api(make("ada", password="x1")), Api(make("ben", password="x2"))


def test_local_use_refuses_other_machines(db, page_exists):
    other = Api(REMOTE_ADDR="192.0.2.7")
    assert "local use only" in other.call("GET", "/jobs", expect=403)["message"]
    assert other.client.get("/").status_code == 403
    assert (
        is_loopback("127.0.0.1") and is_loopback("::1") and not is_loopback("0.0.0.0") and not is_loopback("10.1.2.3")
    )


def test_serving_another_address_is_refused(monkeypatch, capsys):
    import sys

    from deftmason.server.serve import main

    monkeypatch.setattr(sys, "argv", ["serve", "--host", "0.0.0.0"])
    assert main() == 2 and "loopback" in capsys.readouterr().err


def test_forged_requests_are_refused(api, block_bytes):
    job = start_job(api, block_bytes)
    api.token = "forged"
    assert "token" in api.call("POST", f"/jobs/{job}/undo", expect=403)["message"]
    assert api.client.post("/api/jobs", {}, HTTP_X_CSRFTOKEN="").status_code == 403


def test_without_login_nothing_is_shown(db, page_exists, settings):
    settings.SHARED = True
    nobody = Api()
    nobody.call("GET", "/jobs", expect=401)
    assert nobody.call("GET", "/session") == {"shared": True, "user": None}
    nobody.call("POST", "/session", {"name": "ada", "password": "wrong"}, expect=401)


def test_another_users_job_blob_and_task_cannot_be_guessed(two, block_bytes):
    ada, ben = two
    job = start_job(ada, block_bytes)
    lay(ada, job, block_steps()[0])
    view = ada.call("GET", f"/jobs/{job}")
    key = view["stones"][0]["key"]
    task = view["tasks"][0]["id"] if view["tasks"] else 1
    mine = start_job(ben, block_bytes, "Mine")
    assert [j["name"] for j in ben.call("GET", "/jobs")] == ["Mine"]
    for method, path, body in [
        ("GET", "", None),
        ("GET", f"/geometry/{key}/scan", None),
        ("GET", "/picture.png", None),
        ("GET", "/deliver/recipe.json", None),
        ("POST", "/stones", {"step": block_steps()[1]}),
        ("POST", "/undo", None),
        ("POST", f"/tasks/{task}/cancel", None),
        ("POST", "/values", {"name": "x", "value": 1}),
        ("DELETE", "", None),
        ("POST", "/share", {"with_user": "ben"}),
        ("PATCH", "/name", {"name": "stolen"}),
        ("POST", "/preview", {"step": block_steps()[1]}),
        ("GET", "/proofs/1", None),
        ("POST", "/pick", {"scan": "scan", "pick": {"place": [0, 0, 0]}}),
        ("DELETE", "/stones/scan", None),
        ("POST", "/select", {"scan": "scan", "marks": []}),
        ("POST", "/survey", {"scan": "scan"}),
        ("POST", "/rims", {"scan": "scan"}),
        ("POST", "/scans", {"scans": []}),
        ("GET", "/studies/1", None),
        ("DELETE", "/studies/1", None),
    ]:
        ben.call(method, f"/jobs/{job}{path}", body, expect=404)
    # A key of Ada's results is no key to them through one's own job, even a right one of the same file.
    datum = view["stones"][1]["key"]
    ben.call("GET", f"/jobs/{mine}/geometry/{datum}/datum", expect=404)
    ben.call("POST", f"/jobs/{mine}/tasks/{task}/cancel", expect=404)
    # Another's upload cannot start a job either.
    up = ada.upload("block.ply", block_bytes)
    ben.call("POST", "/jobs", {"scans": [{"upload": up["upload"]}], "name": "Theirs"}, expect=404)


def test_shared_jobs_are_seen_and_only_the_owner_throws_away(two, block_bytes):
    ada, ben = two
    job = start_job(ada, block_bytes)
    ada.call("POST", f"/jobs/{job}/share", {"with_user": "ben"})
    assert ben.call("GET", f"/jobs/{job}")["name"] == "Block"
    ben.call("DELETE", f"/jobs/{job}", expect=404)
    ada.call("DELETE", f"/jobs/{job}")
    ben.call("GET", f"/jobs/{job}", expect=404)


def test_work_whose_worker_died_is_failed_and_can_be_tried_again(api, block_bytes):
    from deftmason.server.jobs.models import Job, Work

    job = start_job(api, block_bytes)
    lost = Work.objects.create(
        job=Job.objects.get(pk=job), label="Lost", state="running", heartbeat=timezone.now() - timedelta(minutes=1)
    )
    view = api.call("GET", f"/jobs/{job}")
    line = next(t for t in view["tasks"] if t["id"] == lost.id)
    assert line["state"] == "failed" and "try again" in line["message"]
    api.call("POST", f"/jobs/{job}/tasks/retry")


def test_cancelled_work_stops_and_leaves_the_job_as_it_was(api, block_bytes):
    from deftmason.core.errors import Cancelled
    from deftmason.server.jobs.models import Job, Work
    from deftmason.server.jobs.work import Watch

    job = start_job(api, block_bytes)
    work = Work.objects.create(job=Job.objects.get(pk=job), label="Long", state="running", heartbeat=timezone.now())
    watch = Watch.__new__(Watch)
    import threading

    watch.id, watch.last, watch.told, watch.cancelled = work.id, 0.0, 0.0, threading.Event()
    watch(0.4, "Half way")
    assert Work.objects.get(pk=work.id).message == "Half way"
    view = api.call("POST", f"/jobs/{job}/tasks/{work.id}/cancel")
    assert Work.objects.get(pk=work.id).cancel_asked and view["id"] == job
    watch.cancelled.set()
    with pytest.raises(Cancelled):
        watch(0.5)


def test_results_survive_a_half_written_one(tmp_path):
    from deftmason.core.elements import RigidMotion
    from deftmason.core.recipe.step import Outcome
    from deftmason.core.recipe.store import ResultStore

    store = ResultStore(str(tmp_path))
    (tmp_path / "tmpabc").mkdir()  # what a killed process leaves
    (tmp_path / "tmpabc" / "record.json").write_text('{"half')
    store.save("ab" * 32, "frame", Outcome(RigidMotion.identity(), {"says": "active"}))
    again = ResultStore(str(tmp_path))
    assert again.load("ab" * 32).summary == {"says": "active"} and again.record("cd" * 32) is None
    store.save("ab" * 32, "frame", Outcome(RigidMotion.identity(), {"says": "other"}))  # first one stays
    assert ResultStore(str(tmp_path)).record("ab" * 32)["summary"] == {"says": "active"}
