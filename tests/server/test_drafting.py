"""A first draft through the server: proposed as a study, laid as one edit, undone as one."""

import time

import pytest

from .conftest import start_job


def drafted(api, job):
    return studied(api, job, "draft", {"scan": "scan"})


def studied(api, job, what, asked):
    got = api.call("POST", f"/jobs/{job}/{what}", asked)
    for _ in range(200):
        if got["done"]:
            return got["result"]
        time.sleep(0.2)
        got = api.call("GET", f"/jobs/{job}/studies/{got['study']}")
    raise AssertionError("the draft took too long")


def test_a_draft_is_proposed_laid_and_taken_back(api, block_bytes):
    job = start_job(api, block_bytes)
    found = drafted(api, job)
    assert found["explained"] > 0.95 and found["said"] == []
    before = api.call("GET", f"/jobs/{job}")
    assert len(before["stones"]) == 1  # proposing changes nothing
    view = api.call("POST", f"/jobs/{job}/draft/laid", {"steps": found["steps"]})
    assert len(view["stones"]) == 1 + len(found["steps"])
    for _ in range(200):
        if not api.call("GET", f"/jobs/{job}/stamp")["working"]:
            break
        time.sleep(0.2)
    view = api.call("GET", f"/jobs/{job}")
    bodies = [s for s in view["stones"] if s["produces"] == "body"]
    assert bodies and all(s["status"] in ("sound", "attention") for s in view["stones"])
    assert bodies[-1]["told"]["volume"] == pytest.approx(30 * 40 * 20, rel=0.01)
    # Each is an ordinary stone: one is dropped by hand, the whole is undone as one edit.
    again = api.call("POST", f"/jobs/{job}/draft/laid", {"steps": found["steps"]}, 422)
    assert "already" in again["message"]
    view = api.call("POST", f"/jobs/{job}/undo")
    assert len(view["stones"]) == 1


def test_a_draft_of_no_scan_is_refused(api, block_bytes):
    job = start_job(api, block_bytes)
    assert "no such scan" in api.call("POST", f"/jobs/{job}/draft", {"scan": "gone"}, 422)["message"]


def test_features_of_picked_zones_are_proposed_and_laid(api, block_bytes):
    job = start_job(api, block_bytes)
    found = drafted(api, job)
    frame = next(k for k, s in enumerate(found["steps"]) if s["kind"] == "frame")
    zones = {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}
    api.call(
        "POST", f"/jobs/{job}/draft/laid", {"label": "Stand it up", "steps": [*found["steps"][: frame + 1], zones]}
    )
    for _ in range(200):
        if not api.call("GET", f"/jobs/{job}/stamp")["working"]:
            break
        time.sleep(0.2)
    told = next(s for s in api.call("GET", f"/jobs/{job}/stones") if s["id"] == "zones")["summary"]["zones"]
    asked = {"scan": "scan", "frame": "frame", "zones": "zones", "picked": list(range(len(told)))}
    best = studied(api, job, "proposals", asked)["proposals"][0]
    assert best["explains"] > 0.9 and best["left"] < 0.1 * sum(z["area"] for z in told)
    # What it would look like may be asked for before it is laid.
    assert api.call("GET", f"/jobs/{job}/results/{best['key']}")["summary"]["valid"]
    view = api.call("POST", f"/jobs/{job}/draft/laid", {"label": "Lay Base", "steps": best["steps"]})
    assert view["undo"] == "Lay Base" and view["stones"][-1]["id"] == best["body"]
    for wrong in ({"scan": "gone"}, {"zones": "gone"}, {"body": "gone"}):
        assert "no such" in api.call("POST", f"/jobs/{job}/proposals", {**asked, **wrong}, 422)["message"]


def test_only_guided_jobs_have_lessons(api, block_bytes):
    from deftmason.server.jobs.models import Job

    job = start_job(api, block_bytes)
    assert api.call("GET", f"/jobs/{job}/guide")["lessons"] == []
    Job.objects.filter(pk=job).update(demo="bracket-guided")
    lessons = api.call("GET", f"/jobs/{job}/guide")["lessons"]
    assert len(lessons) == 10 and not any(s["done"] for s in lessons) and lessons[0]["stage"] == "Frame"
