"""A real server with a small demo, and a real browser."""

import json
import os
from pathlib import Path

import numpy as np
import pytest

from ..served import Server
from .room import ARGS

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture(scope="session")
def server(tmp_path_factory):
    assert (ROOT / "web" / "dist" / "index.html").exists(), "build the screens first: make build"
    s = Server(tmp_path_factory.mktemp("served"))
    s.manage("migrate")
    s.manage("load_demo", "--spacing", "0.62")
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
    p.set_default_timeout(30_000)
    p.wrong = []
    p.on("pageerror", lambda e: p.wrong.append(str(e)))
    yield p
    context.close()
    assert not p.wrong, p.wrong
