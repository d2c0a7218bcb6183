"""A real server with a small demo, and a real browser."""

import fcntl
import json
import os
import re
import shutil
import time
from pathlib import Path

import numpy as np
import pytest

from ..hostile.people import Person
from ..served import Server
from .room import ARGS, COUNT_CHANGES, Room

ROOT = Path(__file__).resolve().parents[2]


def shelf(factory: pytest.TempPathFactory) -> Path:
    """The demo's jobs as files: computed by the first of the processes that share the tests, while the others wait."""
    base = factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    ready = base / "shelf"
    with open(base / "shelf.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not ready.exists():
            s = Server(factory.mktemp("making"))
            s.manage("migrate")
            s.manage("load_demo", "--spacing", "0.62", "--without-curved")
            s.folder.rename(ready)
    return ready


@pytest.fixture(scope="session")
def server(tmp_path_factory):
    assert (ROOT / "web" / "dist" / "index.html").exists(), "build the screens first: make build"
    s = Server(tmp_path_factory.mktemp("served"))
    shutil.copytree(shelf(tmp_path_factory), s.folder, dirs_exist_ok=True)
    s.start()
    yield s
    s.stop()


@pytest.fixture(scope="session")
def pose(server):
    return np.array(json.loads((server.folder / "demo-truth.json").read_text())["bracket"]["pose"])


@pytest.fixture(scope="session")
def browser():
    from playwright.sync_api import sync_playwright

    path = next((p for p in ("/usr/bin/chromium", "/usr/bin/chromium-browser") if os.path.exists(p)), None)
    assert path, "install Debian's chromium"
    with sync_playwright() as p:
        b = p.chromium.launch(executable_path=path, args=ARGS)
        yield b
        b.close()


@pytest.fixture
def page(browser):
    # The driver waits for conditions by evaluating text, which the pages' own policy forbids; test_policy looks with
    # the policy on.
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True, bypass_csp=True)
    p = context.new_page()
    p.add_init_script(COUNT_CHANGES)
    p.set_default_timeout(60_000)  # a machine that does two things takes twice as long
    p.wrong = []
    p.on("pageerror", lambda e: p.wrong.append(str(e)))
    yield p
    context.close()
    assert not p.wrong, p.wrong


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """What the page said when a test failed is told with it."""
    report = yield
    if report.failed and "page" in item.funcargs:
        try:
            report.sections.append(("the page", item.funcargs["page"].locator("body").inner_text(timeout=5000)))
        except Exception as e:  # the page may be what broke
            report.sections.append(("the page", str(e)))
    return report


def keys(job):
    return [(s["id"], s["key"]) for s in job["stones"]]


@pytest.fixture
def opened(server, page):
    """Opens a job of the shelf by its name; the job is as it was afterwards: other tests work on it too."""
    begun = []

    def begin(job):
        page.goto(server.url)
        page.get_by_role("link", name=re.compile(job)).first.click()
        page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
        room = Room(page, np.eye(4))
        number = page.url.rstrip("/").rsplit("/", 1)[1]
        if all(n != number for n, _ in begun):
            begun.append((number, keys(room.job())))
        return room

    yield begin
    person = Person(server.url)
    for job, before in reversed(begun):
        for _ in range(30):
            if keys(person.get(f"/jobs/{job}")) == before:
                break
            assert person.ask("POST", f"/jobs/{job}/undo").status_code == 200
        assert keys(person.get(f"/jobs/{job}")) == before
        # Nothing is left in the worker's queue for the next test to wait behind.
        until = time.monotonic() + 240
        while person.get(f"/jobs/{job}/stamp")["working"] and time.monotonic() < until:
            time.sleep(0.3)
