"""The same work on several machines: workers through a real Redis, one killed mid-task; a database, files and results
that machines with folders of their own share.
"""

import os
import signal
import subprocess
import sys
import time
from contextlib import contextmanager

import pytest
from redis import Redis
from rq import Worker

from deftmason.core.scan.files import write_scan

from ..core.test_scan import torus_mesh
from ..hostile.people import Person
from ..served import Server
from ..services import postgres, redis, s3


def worker(folder, **env):
    """A worker of a machine whose own folder this is."""
    folder.mkdir(exist_ok=True)
    return subprocess.Popen(
        [sys.executable, "-m", "deftmason.server.serve", "--only", "worker"],
        env={**os.environ, "DEFT_MASON_DATA": str(folder), **env},
        stdout=subprocess.DEVNULL,
        start_new_session=True,
    )


def children(pid):
    rows = subprocess.run(["ps", "-eo", "pid,ppid"], capture_output=True, text=True).stdout.splitlines()[1:]
    mine = [int(r.split()[0]) for r in rows if int(r.split()[1]) == pid]
    return mine + [c for p in mine for c in children(p)]


def ended(process):
    """Pull the plug of a worker and all it started."""
    for pid in [process.pid, *children(process.pid)]:
        os.kill(pid, signal.SIGKILL)
    process.wait(10)


def busy(queue):
    """The process that Redis says is working."""
    with Redis.from_url(queue) as connection:
        return waited(lambda: next((w.pid for w in Worker.all(connection) if w.get_current_job_id()), None))


def waited(what, seconds=150.0):
    until = time.monotonic() + seconds
    while not (found := what()):
        assert time.monotonic() < until, "it did not come"
        time.sleep(0.1)
    return found


@pytest.fixture
def scan(tmp_path):
    mesh = torus_mesh(nu=500, nv=240)
    write_scan(str(tmp_path / "ring.ply"), mesh)
    return tmp_path / "ring.ply"


def begun(person, scan, name="Ring"):
    """A job on a scan, read by a worker."""
    job = person.job(scan.read_bytes(), name)
    waited(
        lambda: stones(person, job)[0]["status"] == "sound" and all(t["state"] == "done" for t in tasks(person, job))
    )
    return job


def stones(person, job):
    return person.get(f"/jobs/{job}")["stones"]


def tasks(person, job):
    return person.get(f"/jobs/{job}")["tasks"]


def remeshed(person, job, edge):
    """Lay a step that takes a worker a while."""
    r = person.lay(job, {"kind": "remesh", "name": "Even", "scan": "scan", "edge": edge})
    assert r.status_code == 200, r.text[:300]


def test_two_workers_on_redis_and_one_is_killed_in_the_middle(tmp_path, scan):
    with redis() as queue:
        server = Server(tmp_path / "web", REDIS_URL=queue)
        server.folder.mkdir()
        server.manage("migrate")
        server.start("--only", "web")
        workers = [worker(server.folder, REDIS_URL=queue) for _ in range(2)]
        try:
            person = Person(server.url)
            job = begun(person, scan)
            remeshed(person, job, 0.2)
            task = waited(lambda: next((t for t in tasks(person, job) if t["state"] == "running"), None))
            ended(next(w for w in workers if busy(queue) in [w.pid, *children(w.pid)]))
            mine = lambda: next(t for t in tasks(person, job) if t["id"] == task["id"])
            waited(lambda: mine()["state"] != "running")
            assert mine()["state"] == "failed" and mine()["message"] == "The worker stopped while this ran; try again."
            assert person.ask("POST", f"/jobs/{job}/tasks/retry").status_code == 200
            waited(lambda: all(s["status"] == "sound" for s in stones(person, job)))
            waited(lambda: tasks(person, job)[0]["state"] == "done")
        finally:
            for w in workers:
                if w.poll() is None:
                    ended(w)
            server.stop()


@contextmanager
def mounted(place):
    """Variables that lead to a folder that all machines mount."""
    (place / "mounted").mkdir()
    yield {"DEFT_MASON_STORE": str(place / "mounted")}


@pytest.mark.parametrize("store", ["bucket", "folder"])
def test_machines_with_folders_of_their_own_share_files_and_results(tmp_path, scan, store):
    """A web server here and a worker there: PostgreSQL, Redis and a store are all they have in common."""
    shared = s3("mason-tests") if store == "bucket" else mounted(tmp_path)
    with redis() as queue, postgres() as database, shared as variables:
        env = {"REDIS_URL": queue, "DATABASE_URL": database, **variables}
        server = Server(tmp_path / "here", **env)
        server.folder.mkdir()
        server.manage("migrate")
        server.start("--only", "web")
        there = worker(tmp_path / "there", **env)
        try:
            person = Person(server.url)
            job = begun(person, scan)
            remeshed(person, job, 0.8)
            waited(lambda: all(s["status"] == "sound" for s in stones(person, job)))
            key = stones(person, job)[-1]["key"]
            path = f"results/{key[:2]}/{key}/record.json"
            assert (tmp_path / "there" / path).exists()  # made there
            assert (tmp_path / "here" / path).exists()  # and fetched
            shown = person.ask("GET", f"/jobs/{job}/geometry/{key}/scan")
            assert shown.status_code == 200 and len(shown.content) > 10_000
        finally:
            ended(there)
            server.stop()
