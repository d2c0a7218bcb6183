"""A data folder copied while it is in use, and made again elsewhere: every job is whole, or the copy is refused."""

import subprocess
import threading
import time
from contextlib import contextmanager

import pytest

from ..cli.command import mason_alone as mason
from ..hostile.people import Person, brick, pick
from ..served import Server
from ..services import postgres


@contextmanager
def somebody_at_work(folder, **env):
    """A server on a folder of its own, and somebody with a job."""
    server = Server(folder, **env)
    server.folder.mkdir()
    server.manage("migrate")
    server.start()
    try:
        person = Person(server.url)
        yield person, person.job(brick(), "Kept")
    finally:
        server.stop()


@pytest.fixture(scope="module")
def copied(tmp_path_factory):
    """A backup taken while somebody lays stones, and what that person was answered before it began."""
    place = tmp_path_factory.mktemp("kept")
    with somebody_at_work(place / "data") as (person, job):
        for k in range(3):
            assert person.lay(job, datum(k)).status_code == 200
        before = person.ids(job)
        stop = threading.Event()

        def go_on():
            somebody, k = Person(person.url), 3
            while not stop.is_set() and k < 200:
                somebody.lay(job, datum(k))
                k += 1

        thread = threading.Thread(target=go_on)
        thread.start()
        try:
            answer = mason("backup", "--data", place / "data", "--out", place / "kept.tar", "--json")
        finally:
            stop.set()
            thread.join()
        yield place, answer, job, before


def datum(k):
    top = pick((20 + 0.1 * k, 15, 20), (0, 0, 1))
    return {"id": f"d{k}", "kind": "datum", "name": f"Top {k}", "scan": "scan", "element": "plane", "pick": top}


def soon_sound(person, job):
    """The job's steps once all are sound: what was being worked out when the copy was taken is worked out now."""
    until = time.monotonic() + 60
    while True:
        stones = {s["id"]: s["status"] for s in person.whole(job)["stones"]}
        if set(stones.values()) == {"sound"}:
            return stones
        assert time.monotonic() < until, stones
        time.sleep(0.3)


def test_a_running_folder_is_copied_and_made_again(copied):
    place, answer, job, before = copied
    assert answer["database"] == "sqlite" and answer["files"] > 4 and answer["warnings"] == []
    back = mason("restore", place / "kept.tar", "--data", place / "again", "--json")
    assert back["files"] == answer["files"]
    server = Server(place / "again").start()
    try:
        person = Person(server.url)
        stones = {s["id"]: s for s in person.whole(job)["stones"]}
        assert set(before) <= set(stones)
        assert all(stones[i]["status"] == "sound" for i in before)
    finally:
        server.stop()


def test_results_can_be_left_out_and_are_worked_out_again(copied):
    place, answer, job, before = copied
    small = mason("backup", "--data", place / "data", "--out", place / "small.tar", "--without-results", "--json")
    assert small["files"] < answer["files"]
    mason("restore", place / "small.tar", "--data", place / "smaller", "--json")
    assert list((place / "smaller" / "blobs").glob("??/*")) and not list((place / "smaller" / "results").glob("??/*"))


def test_what_is_no_backup_or_no_place_for_it_is_refused(copied, tmp_path):
    place = copied[0]
    assert "no data folder" in mason("backup", "--data", tmp_path, "--out", tmp_path / "x.tar", expect=3)
    assert not list(tmp_path.iterdir())
    assert "not empty" in mason("restore", place / "kept.tar", "--data", place / "data", expect=2)
    whole = (place / "kept.tar").read_bytes()
    for name, data in (("cut.tar", whole[: len(whole) // 2]), ("noise.tar", b"not one" * 300)):
        (tmp_path / name).write_bytes(data)
        assert "no whole backup" in mason("restore", tmp_path / name, "--data", tmp_path / "new", expect=3)
    middle = whole.index(b"SQLite format 3") + 4000
    (tmp_path / "changed.tar").write_bytes(
        whole[:middle] + bytes(255 - b for b in whole[middle : middle + 8]) + whole[middle + 8 :]
    )
    assert "no whole backup" in mason("restore", tmp_path / "changed.tar", "--data", tmp_path / "new", expect=3)
    assert not (tmp_path / "new").exists()


def test_a_postgresql_database_is_kept_and_put_back(tmp_path):
    with postgres() as url:
        with somebody_at_work(tmp_path / "data", DATABASE_URL=url) as (person, job):
            assert person.lay(job, datum(1)).status_code == 200
            out = tmp_path / "kept.tar"
            answer = mason("backup", "--data", tmp_path / "data", "--out", out, "--json", DATABASE_URL=url)
            assert answer["database"] == "postgresql" and answer["warnings"] == []
            assert person.lay(job, datum(2)).status_code == 200  # after it
        assert "set DATABASE_URL" in mason("restore", out, "--data", tmp_path / "new", expect=3, DATABASE_URL="")
        assert not (tmp_path / "new").exists()
        host, name = url.rsplit("/", 1)
        subprocess.run(["createdb", f"--maintenance-db={url}", f"{name}2"], check=True)
        other = f"{host}/{name}2"
        mason("restore", out, "--data", tmp_path / "again", DATABASE_URL=other)
        back = Server(tmp_path / "again", DATABASE_URL=other).start()
        try:
            stones = soon_sound(Person(back.url), job)
            assert "d1" in stones and "d2" not in stones
            assert Person(back.url).lay(job, datum(3)).status_code == 200  # and it is worked in
        finally:
            back.stop()
        # A database that holds something already is left as it is, and no folder is made.
        assert "pg_restore" in mason("restore", out, "--data", tmp_path / "twice", expect=3, DATABASE_URL=other)
        assert not (tmp_path / "twice").exists()
