"""Studies: answered at once or followed by number, stopped for certain, one of a kind a person, nobody else's."""

import threading
import time

import pytest

from deftmason.core.errors import BadInput, Cancelled
from deftmason.server.jobs import studies

from .conftest import Api, start_job

pytestmark = pytest.mark.django_db


def wait_until(true, seconds: float = 5.0) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if true():
            return True
        time.sleep(0.01)
    return False


def working(begun: threading.Event, ended: list):
    """Work that goes on until it is stopped, as an engine's does."""

    def work(study):
        begun.set()
        while not study.stop.is_set():
            study.told(0.4, "Halfway there")
            time.sleep(0.005)
        ended.append(study.number)
        raise Cancelled()

    return work


def test_what_is_done_in_a_moment_is_answered_at_once():
    study = studies.begin_study("ann", (1, "preview"), lambda s: {"rms": 0.1}, at_once=2.0)
    assert studies.study_view(study) == {
        "study": study.number,
        "done": True,
        "progress": 0.0,
        "message": "Waiting for its turn",
        "result": {"rms": 0.1},
    }


def test_what_takes_longer_says_how_far_it_is_and_stops_when_asked():
    begun, ended = threading.Event(), []
    study = studies.begin_study("ann", (1, "preview"), working(begun, ended), at_once=0.02)
    assert begun.wait(5)
    assert wait_until(lambda: studies.study_view(study)["progress"] == 0.4)
    assert studies.study_view(study)["message"] == "Halfway there"
    study.stop.set()
    assert wait_until(lambda: ended == [study.number])
    assert wait_until(study.done.is_set)
    with pytest.raises(Cancelled):
        studies.study_view(study)


def test_a_newer_study_of_the_same_slot_stops_the_older_and_no_other():
    begun = [threading.Event() for _ in range(3)]
    ended: list[int] = []
    slots = [("ann", (1, "preview")), ("ann", (1, "survey")), ("ben", (1, "preview"))]
    old = [studies.begin_study(p, s, working(b, ended), at_once=0.01) for (p, s), b in zip(slots, begun)]
    assert all(b.wait(5) for b in begun)
    studies.begin_study("ann", (1, "preview"), lambda s: {}, at_once=2.0)
    assert wait_until(lambda: ended == [old[0].number])
    assert not old[1].stop.is_set() and not old[2].stop.is_set()
    for s in old:
        s.stop.set()


def test_too_many_studies_of_one_person_stop_the_oldest_but_one_that_stays():
    begun, ended = threading.Event(), []
    stays = studies.begin_study("cat", ("upload", 1), working(begun, ended), at_once=0.01, stays=True)
    others = [studies.begin_study("cat", (k, "preview"), working(begun, ended), at_once=0.01) for k in range(6)]
    assert wait_until(lambda: {s.number for s in others if s.stop.is_set()} == {s.number for s in others[:2]})
    assert not stays.stop.is_set()
    for s in [stays, *others]:
        s.stop.set()


def test_a_refusal_is_raised_and_a_bug_is_a_sentence():
    def refuses(study):
        raise BadInput("The plane cuts nothing here.", field="height")

    def breaks(study):
        raise ZeroDivisionError

    study = studies.begin_study("ann", (2, "preview"), refuses, at_once=2.0)
    with pytest.raises(BadInput, match="cuts nothing"):
        studies.study_view(study)
    study = studies.begin_study("ann", (2, "preview"), breaks, at_once=2.0)
    with pytest.raises(Exception, match="Something went wrong inside"):
        studies.study_view(study)


def test_nobody_follows_or_stops_anothers_study(api, block_bytes):
    job, other = start_job(api, block_bytes), start_job(api, block_bytes + b"\n", "Other")
    begun, ended = threading.Event(), []
    study = studies.begin_study("somebody else", (job, "preview"), working(begun, ended), at_once=0.01)
    for path in (f"/jobs/{job}/studies/{study.number}", f"/jobs/{other}/studies/{study.number}"):
        assert "no such study" in api.lean("GET", path, expect=404)["message"]
        api.lean("DELETE", path, expect=404)
    api.lean("GET", f"/jobs/{job}/studies/999999", expect=404)
    assert not study.stop.is_set()
    study.stop.set()


def test_a_preview_is_followed_to_its_result_and_leaves_the_job_as_it_was(api, block_bytes):
    job = start_job(api, block_bytes)
    before = api.lean("GET", f"/jobs/{job}")["revision"]
    step = {"kind": "smooth", "name": "S", "scan": "scan", "strength": 0.3}
    told = api.study(job, "/preview", {"step": step})
    assert told["status"] == "sound" and told["summary"]["moved_max"] > 0
    now = api.lean("GET", f"/jobs/{job}")
    assert now["revision"] == before and len(now["stones"]) == 1
    # The same again costs nothing: its result is there.
    again = api.study(job, "/preview", {"step": step})
    assert again["key"] == told["key"]


def test_stopping_over_the_api_ends_it(api, block_bytes):
    job = start_job(api, block_bytes)
    step = {"kind": "remesh", "name": "R", "scan": "scan", "edge": 0.12}
    study = api.lean("POST", f"/jobs/{job}/preview", {"step": step})
    if study["done"]:
        pytest.skip("too quick to be stopped")
    api.lean("DELETE", f"/jobs/{job}/studies/{study['study']}")
    own = studies._studies[study["study"]]
    assert wait_until(own.done.is_set, 10)


def test_a_page_of_another_session_is_another_person_only_in_shared_use(db, page_exists, block_bytes):
    one, two = Api(), Api()
    job = start_job(one, block_bytes)
    step = {"kind": "smooth", "name": "S", "scan": "scan", "strength": 0.2}
    study = one.lean("POST", f"/jobs/{job}/preview", {"step": step})
    two.lean("GET", f"/jobs/{job}/studies/{study['study']}")  # in local use everybody is the same person
