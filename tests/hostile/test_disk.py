"""A disk that is full or cannot be written, and what nobody needs any more."""

import errno
import json
import os
import re
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest
from django.core.management import call_command
from django.db import OperationalError

from ..served import Server
from ..server.conftest import block_steps, lay, start_job


def full(*_, **__):
    raise OSError(errno.ENOSPC, "No space left on device")


SHAPE = {"code", "message", "field", "hint"}


def test_an_upload_onto_a_full_disk_is_507_and_leaves_nothing(api, brick_file, settings, monkeypatch):
    before = sorted(os.listdir(settings.DATA / "tmp"))
    with monkeypatch.context() as m:
        m.setattr("deftmason.server.jobs.blobs.os.fsync", full)
        said = api.upload("brick.ply", brick_file, expect=507)
    assert set(said) == SHAPE and "disk" in said["message"]
    assert sorted(os.listdir(settings.DATA / "tmp")) == before
    assert api.call("GET", "/jobs") == []


def test_space_is_looked_at_before_an_upload_is_taken(api, brick_file, monkeypatch):
    import collections

    monkeypatch.setattr(
        "deftmason.server.jobs.blobs.shutil.disk_usage",
        lambda _: collections.namedtuple("U", "total used free")(10, 9, 1_000),
    )
    said = api.upload("brick.ply", brick_file, expect=507)
    assert "MB left" in said["message"] and said["code"] == "no_room"


def test_a_full_disk_refuses_changes_and_goes_on_showing(api, brick_file, monkeypatch):
    job = start_job(api, brick_file)
    lay(api, job, block_steps()[0])
    before = api.call("GET", f"/jobs/{job}")

    def no(*_, **__):
        raise OperationalError("database or disk is full")

    with monkeypatch.context() as m:
        m.setattr("deftmason.server.jobs.recipe.Step.objects.bulk_create", no)
        said = lay(api, job, block_steps()[1], expect=507)
        assert set(said) == SHAPE and said["code"] == "no_room"
        assert api.call("GET", f"/jobs/{job}")["stones"] == before["stones"]
        assert api.client.get("/").status_code == 200
    assert lay(api, job, block_steps()[1])["revision"] == before["revision"] + 1


def test_looking_at_a_job_writes_nothing(api, brick_file):
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    job = start_job(api, brick_file)
    with CaptureQueriesContext(connection) as asked:
        api.call("GET", f"/jobs/{job}")
        api.call("GET", "/jobs")
    assert not [q["sql"] for q in asked if q["sql"].split()[0] in ("INSERT", "UPDATE", "DELETE")]


def test_results_that_find_no_room_leave_nothing_behind(tmp_path, monkeypatch):
    from deftmason.core.elements import RigidMotion
    from deftmason.core.errors import NoRoom
    from deftmason.core.recipe.step import Outcome
    from deftmason.core.recipe.store import ResultStore

    store = ResultStore(str(tmp_path))
    with monkeypatch.context() as m:
        m.setattr("deftmason.core.recipe.store.os.fsync", full)
        with pytest.raises(NoRoom):
            store.save("ab" * 32, "frame", Outcome(RigidMotion.identity(), {}))
    assert [p for p in tmp_path.rglob("*") if p.is_file()] == []
    store.save("ab" * 32, "frame", Outcome(RigidMotion.identity(), {"says": "now"}))
    assert store.record("ab" * 32)["summary"] == {"says": "now"}


def test_a_small_disk_that_fills_up(tmp_path, brick_file):
    """A real one, where this machine lets us make one."""
    from .people import Person

    place = tmp_path / "small"
    place.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=24m", "none", str(place)], capture_output=True).returncode:
        pytest.skip("this machine makes no small disk for us")
    server = Server(place / "data")
    try:
        server.folder.mkdir()
        server.manage("migrate")
        server.start()
        person = Person(server.url)
        refused = person.upload("brick.ply", brick_file)
        assert refused.status_code == 507 and "disk" in refused.json()["message"]
        (place / "filler").write_bytes(b"\0" * 1_000_000)
        with open(place / "filler", "ab") as f, pytest.raises(OSError):
            while True:
                f.write(b"\0" * 100_000)
                f.flush()
        again = Person(server.url)
        assert again.http.get(server.url + "/").status_code == 200
        for path in ("/session", "/jobs"):
            assert again.ask("GET", path).status_code in (200, 507)
            assert again.ask("GET", path).headers["Content-Type"].startswith("application/json")
    finally:
        server.stop()
        subprocess.run(["umount", "-l", str(place)], check=True)


def test_a_data_folder_that_cannot_be_written_says_so_at_start(tmp_path):
    (tmp_path / "file").write_text("not a folder")
    env = {**os.environ, "DEFT_MASON_DATA": str(tmp_path / "file" / "data")}
    r = subprocess.run(
        [sys.executable, "-m", "deftmason.server.serve", "--port", "1"],
        env=env,
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert r.returncode == 1
    env["DEFT_MASON_DATA"] = str(tmp_path / "file" / "data")
    r = subprocess.run(
        [sys.executable, "-m", "deftmason.server", "check"], env=env, capture_output=True, text=True, timeout=60
    )
    assert r.returncode == 1 and "cannot be written" in r.stderr and "Traceback" not in r.stderr


def test_what_nobody_needs_is_collected_and_nothing_else(api, brick_file, settings):
    from deftmason.server.jobs.collecting import collect

    gone, kept = start_job(api, brick_file), start_job(api, brick_file + b"\n", "Kept")
    for job in (gone, kept):
        for step in block_steps():
            lay(api, job, step)
    view = api.call("GET", f"/jobs/{kept}")
    (settings.DATA / "tmp" / "sent-killed").write_bytes(b"half an upload")
    (settings.DATA / "results" / "tmpkilled").mkdir()
    api.call("DELETE", f"/jobs/{gone}")
    assert collect(settings.DATA, 0.0, 3600.0) > 0
    blobs = [p for p in (settings.DATA / "blobs").rglob("*") if p.is_file()]
    assert [p.name for p in blobs] == [view["stones"][0]["record"]["sha256"]]
    held = {p.name for p in (settings.DATA / "results").glob("??/*")}
    assert held == {s["key"] for s in view["stones"]}
    assert not list((settings.DATA / "tmp").glob("sent-*")) and not list((settings.DATA / "results").glob("tmp*"))
    # The job that stays is whole, and undo still finds its file.
    assert api.call("GET", f"/jobs/{kept}")["stones"] == view["stones"]
    key = view["stones"][0]["key"]
    assert len(api.call("GET", f"/jobs/{kept}/geometry/{key}/scan")) > 1000
    api.call("DELETE", f"/jobs/{kept}")
    call_command("collect", "--now", "--quiet")
    assert not [p for p in (settings.DATA / "blobs").rglob("*") if p.is_file()] and not list(
        (settings.DATA / "results").glob("??/*")
    )


def test_files_are_the_servers_own(served):
    for name in ("secret.txt", "mason.sqlite3"):
        assert (served.folder / name).stat().st_mode & 0o077 == 0
    assert served.folder.stat().st_mode & 0o077 == 0


def _head(server, head: str, wait: float = 5.0) -> bytes:
    """The answer to a request's head alone, its body never sent."""
    with socket.create_connection(("127.0.0.1", server.port), timeout=wait) as s:
        s.sendall(head.encode())
        said = b""
        try:
            while more := s.recv(4000):
                said += more
                length = re.search(rb"content-length: (\d+)", said, re.I)
                if length and b"\r\n\r\n" in said and len(said.split(b"\r\n\r\n", 1)[1]) >= int(length[1]):
                    break
        except (TimeoutError, ConnectionResetError):
            pass
        return said


def test_a_body_is_refused_by_its_head(tmp_path):
    server = Server(tmp_path / "shared", DEFT_MASON_SHARED="1", DEFT_MASON_PLAIN_HTTP="1")
    (tmp_path / "shared").mkdir()
    server.manage("migrate")
    server.start()
    try:
        host = f"Host: 127.0.0.1:{server.port}\r\n"
        for path in ("uploads", "recipes", "jobs/7/captures/file"):  # wherever files are sent they may be large
            said = _head(server, f"POST /api/{path} HTTP/1.1\r\n{host}Content-Length: 900000000\r\n\r\n")
            assert b"401" in said.split(b"\r\n")[0], path
            assert json.loads(said.split(b"\r\n\r\n", 1)[1])["message"] == "Log in first."
        said = _head(server, f"POST /api/session HTTP/1.1\r\n{host}Content-Length: 900000000\r\n\r\n")
        assert b"413" in said.split(b"\r\n")[0] and set(json.loads(said.split(b"\r\n\r\n", 1)[1])) == SHAPE
        said = _head(server, f"POST /api/session HTTP/1.1\r\n{host}Transfer-Encoding: chunked\r\n\r\n")
        assert b"411" in said.split(b"\r\n")[0]
        assert not list(Path(server.folder, "tmp").glob("sent-*"))
        begin = time.monotonic()
        assert (
            b"200" in _head(server, f"GET /api/session HTTP/1.1\r\n{host}\r\n").split(b"\r\n")[0]
            and time.monotonic() - begin < 2
        )
        for path in ("/index.html", "/assets/none.js", "/"):
            said = _head(server, f"GET {path} HTTP/1.1\r\nHost: evil.example\r\n\r\n")
            assert b"400" in said.split(b"\r\n")[0], path
        said = _head(server, f"GET /index.html HTTP/1.1\r\n{host}\r\n")
        assert (
            b"content-security-policy" in said.lower()
            and b"access-control" not in said.lower()
            and b"nosniff" in said.lower()
        )
    finally:
        server.stop()
