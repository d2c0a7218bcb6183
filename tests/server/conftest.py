"""A client with the page's token, a small scan, and a small job."""

import io
import json

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh


@pytest.fixture(autouse=True)
def _tasks_now(settings, monkeypatch):
    """Tasks run at once, in the test; an engine that is read from a slow disk first is waited for."""
    from deftmason.server.jobs import engine

    monkeypatch.setattr(engine, "_AT_ONCE", 90.0)
    settings.TASKS = {"default": {"BACKEND": "django_tasks.backends.immediate.ImmediateBackend", "QUEUES": ["default"]}}


def body_of(r):
    """The bytes of an answer, streamed or not."""
    return r.getvalue() if r.streaming else r.content


class Api:
    """JSON in, JSON out, with the CSRF token a page would send."""

    def __init__(self, user=None, **headers):
        self.client = Client(enforce_csrf_checks=True, **headers)
        if user is not None:
            self.client.force_login(user)
        self.client.get("/")
        from django.middleware.csrf import _get_new_csrf_string

        self.token = (
            self.client.cookies["csrftoken"].value if "csrftoken" in self.client.cookies else _get_new_csrf_string()
        )

    def call(self, method, path, body=None, expect=200):
        """The answer; where it is a job, with its stones whole, as a script asks for them."""
        said = self.lean(method, path, body, expect)
        if isinstance(said, dict) and "stones" in said and expect == 200:
            said["stones"] = self.lean("GET", f"/jobs/{said['id']}/stones")
        return said

    def lean(self, method, path, body=None, expect=200):
        r = self.client.generic(
            method,
            "/api" + path,
            json.dumps(body) if body is not None else b"",
            content_type="application/json",
            HTTP_X_CSRFTOKEN=self.token,
        )
        assert r.status_code == expect, (r.status_code, body_of(r)[:400])
        return r.json() if "json" in r["Content-Type"] else body_of(r)

    def study(self, job, path, body, expect=200):
        """Start a study and follow it to its result."""
        s = self.call("POST", f"/jobs/{job}{path}", body, expect)
        while expect == 200 and not s["done"]:
            s = self.call("GET", f"/jobs/{job}/studies/{s['study']}")
        return s["result"] if expect == 200 else s

    def sent(self, path, name, data, expect=200):
        r = self.client.post("/api" + path, {"file": SimpleUploadedFile(name, data)}, HTTP_X_CSRFTOKEN=self.token)
        assert r.status_code == expect, (r.status_code, r.content[:400])
        return r.json()

    def upload(self, name, data, expect=200):
        said = self.sent("/uploads", name, data, expect)
        while expect == 200 and "upload" not in said:  # it is still being read
            said = self.lean("GET", f"/uploads/{said['study']}")
        return said


@pytest.fixture
def page_exists(settings, tmp_path):
    (tmp_path / "index.html").write_text("<html></html>")
    settings.WEB_DIST = tmp_path


@pytest.fixture
def api(db, page_exists):
    return Api()


@pytest.fixture(scope="session")
def block_bytes(tmp_path_factory):
    from ..core.test_scan import box_mesh

    rng = np.random.default_rng(4)
    mesh = box_mesh(30)
    mesh = TriMesh(mesh.vertices + rng.normal(0, 0.01, mesh.vertices.shape), mesh.faces)
    path = tmp_path_factory.mktemp("scan") / "block.ply"
    write_scan(str(path), mesh)
    return io.BytesIO(path.read_bytes()).getvalue()


def start_job(api, data, name="Block"):
    up = api.upload("block.ply", data)
    return api.call("POST", "/jobs", {"scans": [{"upload": up["upload"], "units": "mm"}], "name": name})["id"]


def lay(api, job, step, expect=200):
    return api.call("POST", f"/jobs/{job}/stones", {"step": step}, expect)


def block_steps():
    """Datums, frame, sketch plane and body of the 40 × 30 × 20 block."""

    def pick(place, normal):
        return {"place": place, "normal": normal, "rule": "same facing"}

    return [
        {"id": "low", "kind": "datum", "name": "Low", "scan": "scan", "pick": pick([20, 15, 0], [0, 0, -1])},
        {"id": "front", "kind": "datum", "name": "Front", "scan": "scan", "pick": pick([20, 0, 10], [0, -1, 0])},
        {"id": "left", "kind": "datum", "name": "Left", "scan": "scan", "pick": pick([0, 15, 10], [-1, 0, 0])},
        {"id": "frame", "kind": "frame", "name": "Frame", "first": "low", "second": "front", "origin": "left"},
    ]
