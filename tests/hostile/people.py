"""Somebody with a browser's cookies who speaks to a real server, politely or not."""

from __future__ import annotations

import time
from collections import Counter

import requests

__all__ = ["Person", "brick", "pick"]


class Person:
    """A session with the page's token. ``slowest`` is the longest answer waited for, seconds; ``answers`` counts them
    by status where that was asked for.
    """

    def __init__(self, url: str, name: str | None = None, password: str | None = None):
        self.url, self.http, self.slowest, self.answers = url, requests.Session(), 0.0, Counter()
        self.http.get(url + "/", timeout=30)
        if name:
            assert self.ask("POST", "/session", {"name": name, "password": password}).status_code == 200

    @property
    def token(self) -> str:
        return self.http.cookies.get("csrftoken", "")

    def ask(
        self, method: str, path: str, body=None, *, revision: int | None = None, timeout: float = 60, **more
    ) -> requests.Response:
        headers = (
            {"X-CSRFToken": self.token}
            | ({} if revision is None else {"If-Match": f'"{revision}"'})
            | more.pop("headers", {})
        )
        begin = time.monotonic()
        try:
            return self.http.request(
                method, f"{self.url}/api{path}", json=body, headers=headers, timeout=timeout, **more
            )
        finally:
            self.slowest = max(self.slowest, time.monotonic() - begin)

    def get(self, path: str):
        r = self.ask("GET", path)
        assert r.status_code == 200, (path, r.status_code, r.text[:300])
        return r.json()

    def whole(self, job: int) -> dict:
        """A job with its stones whole: records and all they tell."""
        return {**self.get(f"/jobs/{job}"), "stones": self.get(f"/jobs/{job}/stones")}

    def upload(self, name: str, data: bytes) -> requests.Response:
        return self.ask("POST", "/uploads", files={"file": (name, data)})

    def job(self, data: bytes, name: str = "Brick") -> int:
        up = self.upload("brick.ply", data)
        assert up.status_code == 200, up.text[:300]
        brought = up.json()
        while "upload" not in brought:  # still being read
            time.sleep(0.2)
            brought = self.get(f"/uploads/{brought['study']}")
        r = self.ask("POST", "/jobs", {"scans": [{"upload": brought["upload"]}], "name": name})
        assert r.status_code == 200, r.text[:300]
        return r.json()["id"]

    def lay(self, job: int, step: dict, revision: int | None = None) -> requests.Response:
        return self.ask("POST", f"/jobs/{job}/stones", {"step": step}, revision=revision)

    def ids(self, job: int) -> list[str]:
        return [s["id"] for s in self.get(f"/jobs/{job}")["stones"]]


def brick(n: int = 14, seed: int = 1) -> bytes:
    """A scanned brick of 40 × 30 × 20 mm as a PLY file."""
    import os
    import tempfile

    import numpy as np

    from deftmason.core.scan.files import write_scan
    from deftmason.core.scan.mesh import TriMesh

    from ..core.test_scan import box_mesh

    mesh = box_mesh(n)
    noise = np.random.default_rng(seed).normal(0, 0.01, mesh.vertices.shape)
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "brick.ply")
        write_scan(path, TriMesh(mesh.vertices + noise, mesh.faces))
        with open(path, "rb") as f:
            return f.read()


def pick(place, normal) -> dict:
    return {"place": list(place), "normal": list(normal), "rule": "same facing"}
