"""Nobody reads or uses what is not theirs, whatever a record says."""

import ast
import json

import pytest
from django.contrib.auth import get_user_model

from ..server.conftest import Api, block_steps, lay, start_job
from ..server.test_jobs import sketched

SHA = "ab" * 32


@pytest.fixture
def two(db, page_exists, settings):
    settings.SHARED = True
    make = get_user_model().objects.create_user
    return Api(make("ada", password="x1")), Api(make("ben", password="x2"))


def scan_step(**more):
    return {"kind": "scan", "id": "x", "name": "x", "file": "x.xyz", "sha256": SHA, **more}


@pytest.mark.parametrize("sha", ["/etc/hostname", "../secret.txt", "AB" * 32, "ab" * 31, SHA + "\n", "", 7, None])
@pytest.mark.parametrize("path", ["/stones", "/preview"])
def test_a_checksum_is_never_a_path(api, brick_file, tmp_path, sha, path):
    (tmp_path / "points.xyz").write_text("0 0 0\n1 0 0\n0 1 0\n0 0 1\n")
    job = start_job(api, brick_file)
    for told in (sha, str(tmp_path / "points.xyz")):
        said = api.call("POST", f"/jobs/{job}{path}", {"step": scan_step(sha256=told)}, expect=422)
        assert "sha256" in said["message"] or "sha256" == said["field"]
    assert [s["id"] for s in api.call("GET", f"/jobs/{job}")["stones"]] == ["scan"]


@pytest.mark.parametrize("file", ["../x.xyz", "/tmp/x.xyz", "a\nb.xyz", "..", "a\\b.xyz", ""])
def test_a_file_name_is_no_path(api, brick_file, file):
    job = start_job(api, brick_file)
    lay(api, job, scan_step(file=file), expect=422)


def test_anothers_checksum_gives_nothing(two, brick_file):
    ada, ben = two
    hers = start_job(ada, brick_file)
    sha = ada.call("GET", f"/jobs/{hers}")["stones"][0]["record"]["sha256"]
    own = start_job(ben, brick_file + b"\n", "Mine")  # another file: other bytes
    for path in ("/stones", "/preview"):
        said = ben.call("POST", f"/jobs/{own}{path}", {"step": scan_step(sha256=sha, file="brick.ply")}, expect=422)
        assert "not brought in by you" in said["message"]
    # Her own may be laid again, and whoever she shares the job with works with it there, not elsewhere.
    lay(ada, hers, scan_step(sha256=sha, file="brick.ply"))
    ada.call("POST", f"/jobs/{hers}/share", {"with_user": "ben"})
    lay(ben, hers, {**scan_step(sha256=sha, file="brick.ply"), "id": "again"})
    ben.call("POST", f"/jobs/{own}/stones", {"step": scan_step(sha256=sha, file="brick.ply")}, expect=422)


def test_a_shared_job_can_be_taken_back(two, brick_file):
    ada, ben = two
    job = start_job(ada, brick_file)
    ada.call("POST", f"/jobs/{job}/share", {"with_user": "ben"})
    ben.call("GET", f"/jobs/{job}")
    ben.call("DELETE", f"/jobs/{job}/share/ben", expect=404)  # only the owner
    ada.call("DELETE", f"/jobs/{job}/share/ben")
    ben.call("GET", f"/jobs/{job}", expect=404)


def test_guessing_passwords_comes_to_an_end(db, page_exists, settings):
    settings.SHARED = True
    get_user_model().objects.create_user("ada", password="right one")
    guesser = Api()
    status = []
    for k in range(12):
        r = guesser.client.post(
            "/api/session",
            json.dumps({"name": "ada", "password": f"guess {k}"}),
            content_type="application/json",
            HTTP_X_CSRFTOKEN=guesser.token,
        )
        status.append(r.status_code)
    assert status[:9] == [401] * 9 and status[-1] == 429 and "quarter of an hour" in r.json()["message"]
    said = guesser.call("POST", "/session", {"name": "ada", "password": "right one"}, expect=429)
    assert said["code"] == "http"


def test_the_description_of_the_api_is_for_those_logged_in(two):
    assert "openapi" in two[0].call("GET", "/openapi.json")
    Api().call("GET", "/openapi.json", expect=401)


def test_every_answer_says_what_a_browser_may_do(api, settings):
    r = api.client.get("/")
    policy = r["Content-Security-Policy"]
    assert "default-src 'none'" in policy and "script-src 'self'" in policy and "unsafe" not in policy
    assert (
        r["X-Content-Type-Options"] == "nosniff"
        and r["X-Frame-Options"] == "DENY"
        and r["Referrer-Policy"] == "same-origin"
    )
    assert "Access-Control-Allow-Origin" not in r
    assert api.client.get("/", HTTP_HOST="evil.example").status_code == 400
    assert api.client.get("/api/session", HTTP_HOST="evil.example").json()["code"] == "bad_host"


HOSTILE_NAMES = [
    "Plate\nimport os",
    "Plate\rimport os",
    'x"""\nimport os',
    "\u2028import os",
    "\x0cimport os",
    "a\x00b",
    "\x85import os",
    "\ud800",
]


@pytest.mark.parametrize("name", HOSTILE_NAMES)
def test_names_are_one_line(api, brick_file, name):
    job = start_job(api, brick_file)
    for step in (block_steps()[0] | {"name": name}, block_steps()[0] | {"id": name}):
        assert api.call("POST", f"/jobs/{job}/stones", {"step": step}, expect=422)["code"] in (
            "bad_input",
            "bad_argument",
        )


def test_the_script_holds_only_what_belongs_there(api, brick_file):
    """Whatever a job and its stones are called, the script is the same program but for its comments and its variables'
    names.
    """
    job = start_job(api, brick_file)
    for step in block_steps():
        lay(api, job, step)
    sketched(api, job)

    def shape(text: str) -> list[str]:
        return [type(n).__name__ for n in ast.walk(ast.parse(text))]

    plain = api.call("GET", f"/jobs/{job}/deliver/model.py").decode()
    for name in ['"""', "\\N{", "'''+__import__('os').system('x')+'''", "# \\", "é\u202e()", "import os; os.abort()"]:
        api.call("PATCH", f"/jobs/{job}/name", {"name": name + "\nimport os"})
        for stone in ("outline", "body"):
            record = next(s for s in api.call("GET", f"/jobs/{job}")["stones"] if s["id"] == stone)["record"]
            lay(api, job, {**record, "name": name})
        said = api.call("GET", f"/jobs/{job}/deliver/model.py").decode()
        assert shape(said) == shape(plain), name
        compile(said, "model.py", "exec")
        imported = {a.name for n in ast.walk(ast.parse(said)) if isinstance(n, ast.Import) for a in n.names}
        assert imported == {"os", "numpy"}
