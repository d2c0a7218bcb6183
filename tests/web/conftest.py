"""A real server with a small demo, and a real browser."""

import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest

from .room import ARGS

ROOT = Path(__file__).resolve().parents[2]


class Server:
    """Web server and worker on a free port with their own data."""

    def __init__(self, folder: Path, **env):
        self.folder, self.env = folder, {**os.environ, "DEFT_MASON_DATA": str(folder), **env}
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        self.process = None

    def manage(self, *args):
        subprocess.run([sys.executable, "-m", "deftmason.server", *args], env=self.env, check=True, capture_output=True)

    def start(self):
        self.process = subprocess.Popen(
            [sys.executable, "-m", "deftmason.server.serve", "--port", str(self.port)],
            env=self.env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        for _ in range(100):
            try:
                urllib.request.urlopen(self.url + "/api/session", timeout=2)
                return self
            except OSError:
                time.sleep(0.2)
        raise RuntimeError("the server did not start")

    def kill(self):
        """SIGKILL, as when the machine's plug is pulled: web server, worker and all."""
        found = subprocess.run(["ps", "-eo", "pid,ppid"], capture_output=True, text=True).stdout.split("\n")[1:]
        children = [int(r.split()[0]) for r in found if r.split() and int(r.split()[1]) == self.process.pid]
        for pid in [self.process.pid, *children]:
            os.kill(pid, signal.SIGKILL)
        self.process.wait()

    def stop(self):
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(20)


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
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    p = context.new_page()
    p.set_default_timeout(30_000)
    p.wrong = []
    p.on("pageerror", lambda e: p.wrong.append(str(e)))
    yield p
    context.close()
    assert not p.wrong, p.wrong
