"""A real server on a free port with data of its own."""

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

__all__ = ["Server"]


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

    def start(self, *options):
        self.process = subprocess.Popen(
            [sys.executable, "-m", "deftmason.server.serve", "--port", str(self.port), *options],
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
