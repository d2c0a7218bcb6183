"""Many at once: nothing answered is lost, nothing wrong is sent, and a server that is struck down comes back."""

import io
import os
import signal
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
import trimesh

from .people import Person, pick

pytestmark = pytest.mark.hostile

FACES = [
    ((20, 15, 0), (0, 0, -1)),
    ((20, 0, 10), (0, -1, 0)),
    ((0, 15, 10), (-1, 0, 0)),
    ((20, 15, 20), (0, 0, 1)),
    ((40, 15, 10), (1, 0, 0)),
]


def datum(name: str, k: int = 0) -> dict:
    return {"id": name, "kind": "datum", "name": name.title(), "scan": "scan", "pick": pick(*FACES[k % len(FACES)])}


def bodied(person, data) -> int:
    """A job with a body on the brick."""
    job = person.job(data)
    for k, name in enumerate(("low", "front", "left")):
        assert person.lay(job, datum(name, k)).status_code == 200
    frame = {"id": "frame", "kind": "frame", "name": "Frame", "first": "low", "second": "front", "origin": "left"}
    assert person.lay(job, frame).status_code == 200
    where = {"scan": "scan", "frame": "frame", "axis": "z", "height": 10}
    drawn = person.ask("POST", f"/jobs/{job}/sketch/change", {"sketch": where, "change": {"do": "automatic"}}).json()
    relations = [{"kind": r["kind"], "of": r["of"]} for r in drawn["relations"]]
    sketch = {
        "id": "outline",
        "kind": "sketch",
        "name": "Outline",
        **where,
        "strokes": drawn["strokes"],
        "sizes": drawn["sizes"],
        "relations": relations,
    }
    assert person.lay(job, sketch).status_code == 200
    rounded = {"source": "rounded"}
    body = {
        "id": "body", "kind": "extrude", "name": "Body", "scan": "scan", "frame": "frame", "sketch": "outline",
        "start": {"pick": pick(*FACES[0]), "height": rounded}, "end": {"pick": pick(*FACES[3]), "height": rounded},
    }  # fmt: skip
    assert person.lay(job, body).status_code == 200
    return job


def test_what_two_people_lay_at_the_same_moment_is_all_there(served, person, brick_file):
    job = person.job(brick_file)
    revision = person.get(f"/jobs/{job}")["revision"]

    def lay_ten(who: str) -> list[str]:
        mine, laid = Person(served.url), []
        for k in range(10):
            r = mine.lay(job, datum(f"{who}_{k}", k), revision)  # the revision both saw at first
            assert r.status_code == 200, r.text[:200]
            laid.append(f"{who}_{k}")
        return laid

    with ThreadPoolExecutor(2) as pool:
        laid = sum(pool.map(lay_ten, ("ada", "ben")), [])
    assert set(laid) <= set(person.ids(job)) and len(laid) == 20


def test_changing_what_another_changed_is_refused_with_the_job_as_it_is(served, person, brick_file):
    job = person.job(brick_file)
    person.lay(job, datum("low"))
    seen = person.get(f"/jobs/{job}")["revision"]
    other = Person(served.url)
    assert other.lay(job, {**datum("low"), "pick": pick(*FACES[3])}, seen).status_code == 200
    late = person.lay(job, {**datum("low"), "name": "Mine"}, seen)
    assert late.status_code == 409 and late.json()["code"] == "conflict"
    assert late.json()["job"]["revision"] == seen + 1
    assert person.whole(job)["stones"][1]["record"]["pick"]["place"] == list(FACES[3][0])
    # Another stone is another place: it goes through.
    assert person.lay(job, datum("front", 1), seen).status_code == 200
    # A stone that rests on what was taken out meanwhile does not.
    seen = person.get(f"/jobs/{job}")["revision"]
    assert other.ask("DELETE", f"/jobs/{job}/stones/front", revision=seen).status_code == 200
    frame = {"id": "frame", "kind": "frame", "name": "Frame", "first": "low", "second": "front"}
    assert person.lay(job, frame, seen).status_code in (409, 422)
    assert person.ask("POST", f"/jobs/{job}/undo", revision=seen).status_code == 409
    assert person.ask("POST", f"/jobs/{job}/undo", headers={"If-Match": "later"}).status_code == 400


def test_scans_two_people_bring_at_the_same_moment_are_all_there(served, person, brick_file):
    job = person.job(brick_file)
    uploads = [person.upload("more.ply", brick_file).json()["upload"] for _ in range(6)]
    with ThreadPoolExecutor(3) as pool:
        answers = list(
            pool.map(
                lambda u: Person(served.url).ask("POST", f"/jobs/{job}/scans", {"scans": [{"upload": u}]}).status_code,
                uploads,
            )
        )
    assert answers == [200] * 6 and len(set(person.ids(job))) == 7


def test_six_models_asked_for_at_once_are_whole_and_the_same(served, person, brick_file):
    job = bodied(person, brick_file)
    key = next(s["key"] for s in person.get(f"/jobs/{job}")["stones"] if s["id"] == "body")

    def model(_):
        mine = Person(served.url)
        return mine.ask("GET", f"/jobs/{job}/deliver/model.stl").content, mine.ask(
            "GET", f"/jobs/{job}/geometry/{key}/body"
        ).content

    with ThreadPoolExecutor(6) as pool:
        found = list(pool.map(model, range(6)))
    for stl, _ in found:
        mesh = trimesh.load_mesh(io.BytesIO(stl), file_type="stl")
        assert mesh.is_watertight and mesh.volume == pytest.approx(40 * 30 * 20, rel=2e-3)
    assert len({stl for stl, _ in found}) == 1 and len({buffer for _, buffer in found}) == 1


def test_the_same_file_brought_many_times_at_once_is_kept_once(served, brick_file):
    data = brick_file + b"\n"  # a file nobody brought yet

    def bring(k: int):
        return k, Person(served.url).upload("brick.stl" if k % 4 == 3 else "brick.ply", data)

    with ThreadPoolExecutor(10) as pool:
        answers = list(pool.map(bring, range(20)))
    for k, r in answers:  # as STL it cannot be read, and takes nothing from those who bring it as what it is
        assert r.status_code == (422 if k % 4 == 3 else 200), r.text[:200]
    mine = Person(served.url)
    up = next(r.json()["upload"] for k, r in answers if r.status_code == 200)
    assert mine.ask("POST", "/jobs", {"scans": [{"upload": up}], "name": "Kept"}).status_code == 200
    assert not [f for f in os.listdir(served.folder / "tmp") if f.startswith("sent-")]


def test_stuck_work_of_one_leaves_the_others_quick(served, person, brick_file):
    job = person.job(brick_file)
    marks = [{"by": "everything"}, *[{"by": b, "rings": 200} for b in ("shrink", "grow") * 9]]
    with ThreadPoolExecutor(12) as pool:
        slow = [
            pool.submit(lambda: Person(served.url).ask("POST", f"/jobs/{job}/select", {"scan": "scan", "marks": marks}))
            for _ in range(12)
        ]
        worst = 0.0
        for _ in range(10):
            begin = time.monotonic()
            assert person.ask("GET", "/session").status_code == 200
            worst = max(worst, time.monotonic() - begin)
            time.sleep(0.05)
        assert worst < 2.0
        assert all(s.result().status_code in (200, 503) for s in slow)


def _pids(folder, what: str) -> list[int]:
    rows = subprocess.run(["ps", "-eo", "pid,args"], capture_output=True, text=True).stdout.splitlines()
    found = [int(r.split()[0]) for r in rows if what in r]
    return [p for p in found if _belongs(p, folder)]


def _belongs(pid: int, folder) -> bool:
    try:
        with open(f"/proc/{pid}/environ", "rb") as f:
            return str(folder).encode() in f.read()
    except OSError:
        return False


def _answers(served, within: float) -> bool:
    until = time.monotonic() + within
    while time.monotonic() < until:
        try:
            if Person(served.url).ask("GET", "/session", timeout=2).status_code == 200:
                return True
        except OSError:
            time.sleep(0.2)
    return False


@pytest.mark.parametrize("blow", [signal.SIGKILL, signal.SIGSTOP])
def test_a_web_server_that_died_or_stopped_answering_is_started_again(served, person, brick_file, blow):
    job = person.job(brick_file)
    (pid,) = _pids(served.folder, "deftmason.server.web")
    os.kill(pid, blow)
    time.sleep(0.2)
    assert _answers(served, 25)
    assert _pids(served.folder, "deftmason.server.web") != [pid]
    again = Person(served.url)
    assert again.ids(job) == ["scan"] and again.lay(job, datum("low")).status_code == 200


def test_engines_end_with_their_server(served, person, brick_file):
    job = person.job(brick_file)
    assert person.lay(job, datum("low")).status_code == 200
    (web,) = _pids(served.folder, "deftmason.server.web")
    engines = _pids(served.folder, "forkserver")
    theirs = {p for p in engines if not _worker_of(p)}
    assert theirs
    os.kill(web, signal.SIGKILL)
    until = time.monotonic() + 10
    while theirs & set(_pids(served.folder, "forkserver")) and time.monotonic() < until:
        time.sleep(0.2)
    assert not theirs & set(_pids(served.folder, "forkserver"))
    assert _answers(served, 25)


def _worker_of(pid: int) -> bool:
    """Whether an engine belongs to the worker, which goes on."""
    while pid > 1:
        with open(f"/proc/{pid}/stat") as f:
            pid = int(f.read().rsplit(")", 1)[1].split()[1])
        try:
            if b"db_worker" in open(f"/proc/{pid}/cmdline", "rb").read():
                return True
        except OSError:
            return False
    return False


def test_sound_numbers_only(person, brick_file):
    """The brick's body keeps its size whatever was asked before."""
    job = bodied(person, brick_file)
    body = next(s for s in person.get(f"/jobs/{job}/stones") if s["id"] == "body")["summary"]
    assert body["valid"] and np.isclose(body["volume"], 40 * 30 * 20, rtol=2e-3)
