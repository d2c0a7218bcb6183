"""A killed worker leaves its task failed and retryable; a recipe gives the same result without a server."""

import json
import os
import signal
import subprocess
import sys
import time
import urllib.request
from http.cookiejar import CookieJar
from pathlib import Path

import pytest


class Caller:
    def __init__(self, url):
        self.url, self.jar = url, CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.opener.open(url)

    def call(self, method, path, body=None):
        token = next(c.value for c in self.jar if c.name == "csrftoken")
        r = urllib.request.Request(
            self.url + "/api" + path,
            method=method,
            data=json.dumps(body).encode() if body is not None else None,
            headers={"X-CSRFToken": token, "Content-Type": "application/json"},
        )
        return json.load(self.opener.open(r))


def workers(parent):
    rows = subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout.splitlines()
    return [int(r.split()[0]) for r in rows if r.split()[1] == str(parent) and "db_worker" in r]


def test_a_killed_worker_leaves_its_task_failed_and_it_can_be_tried_again(server):
    api = Caller(server.url)
    job = next(j["id"] for j in api.call("GET", "/jobs") if j["name"] == "Bracket, finished")
    record = next(s for s in api.call("GET", f"/jobs/{job}/stones") if s["kind"] == "check")["record"]
    record["reach"] = 1.2345
    api.call("POST", f"/jobs/{job}/stones", {"step": record})
    for _ in range(100):
        task = api.call("GET", f"/jobs/{job}")["tasks"][0]
        if task["state"] == "running":
            break
        time.sleep(0.05)
    assert task["state"] == "running"
    for pid in workers(server.process.pid):
        os.kill(pid, signal.SIGKILL)
    for _ in range(60):
        task = next(t for t in api.call("GET", f"/jobs/{job}")["tasks"] if t["id"] == task["id"])
        if task["state"] == "failed":
            break
        time.sleep(0.5)
    assert task["state"] == "failed" and "try again" in task["message"]
    api.call("POST", f"/jobs/{job}/tasks/retry")
    # The task ends after what it computed is kept: the task is waited for, then what it left is looked at.
    for _ in range(240):
        view = api.call("GET", f"/jobs/{job}")
        if not any(t["state"] in ("waiting", "running") for t in view["tasks"]):
            break
        time.sleep(0.5)
    assert "done" in [t["state"] for t in view["tasks"][:2]]
    assert next(s for s in view["stones"] if s["kind"] == "check")["status"] == "sound"
    api.call("POST", f"/jobs/{job}/undo")


def test_the_same_recipe_gives_the_same_without_a_server(server, tmp_path):
    api = Caller(server.url)
    job = next(j["id"] for j in api.call("GET", "/jobs") if j["name"] == "Bracket, finished")
    view = {**api.call("GET", f"/jobs/{job}"), "stones": api.call("GET", f"/jobs/{job}/stones")}
    recipe = tmp_path / "recipe.json"
    recipe.write_text(json.dumps(api.call("GET", f"/jobs/{job}/deliver/recipe.json")))
    sha = next(s for s in view["stones"] if s["kind"] == "scan")["record"]["sha256"]
    scan = tmp_path / "scan.ply"
    scan.write_bytes((server.folder / "blobs" / sha[:2] / sha).read_bytes())
    ran = subprocess.run(
        [
            str(Path(sys.executable).with_name("mason")),
            "replay",
            str(recipe),
            "--scan",
            f"Bracket scan={scan}",
            "--out",
            str(tmp_path / "o"),
            "--json",
        ],
        capture_output=True,
        text=True,
        timeout=200,
        check=True,
    )
    answer = json.loads(ran.stdout)
    bodies = [s for s in view["stones"] if s["produces"] == "body"]
    assert answer["model"]["volume"] == pytest.approx(bodies[-1]["summary"]["volume"], rel=1e-12)
    assert {v["name"]: v["chosen"] for v in answer["values"]} == {v["name"]: v["chosen"] for v in view["values"]}
    check = next(s for s in view["stones"] if s["kind"] == "check")["summary"]
    assert answer["check"]["rms"] == pytest.approx(check["rms"], rel=1e-9)
