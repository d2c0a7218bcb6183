"""Scripts: tokens speak for whom they were made, and the worked example of the docs does what it says."""

import json
import os
import re
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from django.core.management import CommandError, call_command
from django.test import Client

from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh
from deftmason.server.jobs.models import Token

from ..core.test_scan import box_mesh
from ..served import Server
from .conftest import Api, start_job

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture
def ada(db, page_exists, settings):
    settings.SHARED = True
    return Api(get_user_model().objects.create_user("ada", password="x1"))


def asked(method, path, token, body=None):
    """As a script asks: no cookies."""
    r = Client(enforce_csrf_checks=True).generic(
        method,
        "/api" + path,
        json.dumps(body) if body is not None else b"",
        content_type="application/json",
        HTTP_AUTHORIZATION=f"Bearer {token}",
    )
    return r.status_code, json.loads(r.content)


def test_a_token_speaks_for_whom_it_was_made_until_it_is_taken_back(ada, block_bytes):
    hers = start_job(ada, block_bytes)
    made = ada.call("POST", "/tokens", {"name": "Nightly run"})
    word = made["token"]
    assert word not in json.dumps(list(Token.objects.values()), default=str)  # only its hash is kept
    status, jobs = asked("GET", "/jobs", word)
    assert status == 200 and [j["id"] for j in jobs] == [hers]
    assert asked("POST", f"/jobs/{hers}/undo", word)[0] in (200, 422)  # a change needs no page's token
    assert ada.call("GET", "/tokens")[0]["used"]
    ben = Api(get_user_model().objects.create_user("ben", password="x2"))
    other = ben.call("POST", "/tokens", {"name": "His"})["token"]
    assert asked("GET", f"/jobs/{hers}", other)[0] == 404
    ben.call("DELETE", f"/tokens/{made['id']}", None, 404)
    ada.call("DELETE", f"/tokens/{made['id']}")
    status, said = asked("GET", "/jobs", word)
    assert status == 401 and "not known" in said["message"]


@pytest.mark.parametrize("word", ["", "mason_", "mason_" + "x" * 43, "other", "mason_ä"])
def test_what_is_no_token_is_refused(ada, word):
    assert asked("GET", "/jobs", word)[0] in (401, 403)


def test_a_token_of_local_use_says_nothing_in_shared_use(api, settings):
    word = api.call("POST", "/tokens", {"name": "Local"})["token"]
    assert asked("GET", "/jobs", word)[0] == 200
    settings.SHARED = True
    assert asked("GET", "/jobs", word)[0] == 401


def test_the_command_makes_tokens_for_those_there_are(ada, capsys):
    call_command("token", "By command", "--user", "ada")
    assert asked("GET", "/jobs", capsys.readouterr().out.strip())[0] == 200
    for wrong in (["token", "x"], ["token", "x", "--user", "nobody"]):
        with pytest.raises(CommandError):
            call_command(*wrong)


def test_the_worked_example_of_the_docs_runs_as_it_stands(tmp_path):
    """In shared use, with curl, from a scan to its proof."""
    lines = re.search(r"```sh\n(.*?)```", (ROOT / "docs" / "service.md").read_text(), re.S).group(1)
    slanted(tmp_path / "again.ply", 2)
    server = Server(tmp_path / "data", DEFT_MASON_SHARED="1", DEFT_MASON_PLAIN_HTTP="1")
    server.folder.mkdir()
    server.manage("migrate")
    people = "from django.contrib.auth import get_user_model as m; m().objects.create_user('ada', password='x')"
    server.manage("shell", "-c", people)
    told = subprocess.run(
        [os.sys.executable, "-m", "deftmason.server", "token", "Example", "--user", "ada"],
        env=server.env, capture_output=True, text=True, check=True,
    )  # fmt: skip
    _recipe(tmp_path / "recipe.zip")
    server.start()
    try:
        ran = subprocess.run(
            ["bash", "-c", lines],
            cwd=tmp_path,
            env={
                **os.environ,
                "URL": server.url,
                "TOKEN": told.stdout.strip(),
                "SCAN": str(tmp_path / "again.ply"),
                "RECIPE": str(tmp_path / "recipe.zip"),
            },
            capture_output=True,
            text=True,
            timeout=240,
        )
    finally:
        server.stop()
    said = tmp_path / "job.json"
    assert ran.returncode == 0, (ran.stderr[-600:], said.read_text()[-600:] if said.exists() else ran.stdout[-600:])
    assert ran.stdout.strip().splitlines()[-1] == "sound"
    assert (tmp_path / "report.pdf").read_bytes().startswith(b"%PDF")
    assert b"ISO-10303-21" in (tmp_path / "model.step").read_bytes()[:200]
    proof = json.loads((tmp_path / "proof.json").read_text())
    assert "By a script" in json.dumps(proof)


def slanted(path, seed):
    """A brick whose top falls away to one corner, so that it goes onto itself in one way only."""
    mesh = box_mesh(14)
    v = mesh.vertices.copy()
    v[:, 2] *= (1 - 0.3 * np.clip((v[:, 0] - 22) / 18, 0, 1)) * (1 - 0.3 * np.clip((v[:, 1] - 14) / 16, 0, 1))
    v += np.random.default_rng(seed).normal(0, 0.01, v.shape)
    write_scan(str(path), TriMesh(v, mesh.faces))


def _recipe(path):
    """A brick's job: its faces, a frame, its solid, a check; packed with its scan as it is handed on."""
    from deftmason.cli.replaying import file_sha256
    from deftmason.core.recipe.recipefile import recipe_text
    from deftmason.core.scan.files import read_scan
    from deftmason.core.scan.likeness import likeness_of

    scan = path.with_name("brick.ply")
    slanted(scan, 1)
    mesh = read_scan(str(scan), "mm").scan
    flat = {"kind": "datum", "scan": "scan", "element": "plane"}
    steps = [
        {
            "id": "scan", "kind": "scan", "name": "Brick", "file": "brick.ply", "sha256": file_sha256(str(scan)),
            "likeness": likeness_of(mesh),
        },
        {**flat, "id": "foot", "name": "Foot", "pick": {"place": [20, 15, 0], "normal": [0, 0, -1]}},
        {**flat, "id": "side", "name": "Side", "pick": {"place": [20, 0, 10], "normal": [0, -1, 0]}},
        {**flat, "id": "end", "name": "End", "pick": {"place": [0, 15, 10], "normal": [-1, 0, 0]}},
        {
            "id": "corner", "kind": "construct", "name": "Corner", "way": "point of planes",
            "of": ["foot", "side", "end"],
        },
        {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "corner"},
        {
            "id": "solid", "kind": "solid", "name": "Solid", "frame": "frame", "shape": "box",
            "place_x": 20, "place_y": 15, "width": {"value": 40, "source": "typed"},
            "depth": {"value": 30, "source": "typed"}, "high": {"value": 20, "source": "typed"},
        },
        {"id": "check", "kind": "check", "name": "Check", "scan": "scan", "frame": "frame", "body": "solid"},
    ]  # fmt: skip
    with zipfile.ZipFile(path, "w") as z:
        z.writestr("recipe.json", recipe_text("Brick", steps))
        z.write(scan, "brick.ply")
