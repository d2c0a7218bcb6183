"""Start web server and worker together and keep them up; Ctrl+C stops both. ``python -m deftmason.server.serve [--port
N] [--host A] [--only web|worker] [--workers N]``.

A worker that died is replaced. A web server that died, or that has not answered for a while, is too.
"""

from __future__ import annotations

import argparse
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request

from .guard import is_loopback
from .machines import worker_command

__all__ = ["Kept", "main"]

_PATIENCE = float(
    os.environ.get("DEFT_MASON_PATIENCE", "20")
)  # seconds without an answer before the web server is replaced
_ASK_EVERY = min(3.0, _PATIENCE / 3)
_SWEEP_EVERY = 3600.0  # seconds between two looks for what nobody needs any more
_SWEEP_FIRST = 20.0  # seconds after the start: it is not to be in the way of those who wait
_STARTING = 60.0  # seconds a web server has until it answers first
_QUICK = 5.0  # seconds: one that ends sooner has not run
_MOST_QUICK = 4  # times in a row


class Kept:
    """A process that is started again when it ends."""

    def __init__(self, command: list[str], env: dict[str, str]):
        self.command, self.env = command, env
        self.quick_ends = 0
        self.start()

    def start(self) -> None:
        self.began = time.monotonic()
        self.process = subprocess.Popen(self.command, env=self.env, start_new_session=True)

    def look(self) -> bool:
        """Start it again where it ended; False where it ends as often as it is started."""
        if self.process.poll() is None:
            return True
        self.quick_ends = self.quick_ends + 1 if time.monotonic() - self.began < _QUICK else 0
        if self.quick_ends >= _MOST_QUICK:
            return False
        time.sleep(min(0.2 * 2**self.quick_ends, 2.0))
        self.start()
        return True

    def stop(self) -> None:
        if self.process.poll() is None:
            self.process.terminate()


class _Pulse:
    """Asks a web server every few seconds and remembers when it answered last."""

    def __init__(self, url: str):
        self.url, self.last, self.ended = url, 0.0, threading.Event()
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        while not self.ended.wait(_ASK_EVERY):
            try:
                urllib.request.urlopen(self.url, timeout=_ASK_EVERY + 2).close()
                self.last = time.monotonic()
            except urllib.error.HTTPError:
                self.last = time.monotonic()  # any answer is one
            except OSError:
                continue

    def lost(self, kept: Kept) -> bool:
        """Whether the process has been up, or tried to come up, too long without an answer."""
        answered = self.last > kept.began
        return time.monotonic() - (self.last if answered else kept.began) > (_PATIENCE if answered else _STARTING)


def _taken(host: str, port: int) -> bool:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM) as s:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            s.bind((host, port))
        except OSError:
            return True
    return False


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=int(os.environ.get("DEFT_MASON_PORT", "8321")))
    parser.add_argument(
        "--only", choices=["web", "worker"], help="On this machine only the web server, or only workers."
    )
    parser.add_argument("--workers", type=int, default=1, help="Workers on this machine.")
    return parser.parse_args()


def _refused(options: argparse.Namespace) -> tuple[str, int] | None:
    """Why the web server cannot be started as asked, and the exit status."""
    if os.environ.get("DEFT_MASON_SHARED") != "1" and not is_loopback(options.host):
        return (
            f"{options.host} is not a loopback address; in local use only 127.0.0.1 or ::1 are served. "
            "Set DEFT_MASON_SHARED=1 for accounts and other addresses.",
            2,
        )
    if _taken(options.host, options.port):
        return f"Port {options.port} of {options.host} is taken; stop what uses it, or give another with --port.", 1
    return None


def main() -> int:
    options = _options()
    refused = None if options.only == "worker" else _refused(options)
    if refused is not None:
        print(refused[0], file=sys.stderr)
        return refused[1]
    from . import settings  # says what is wrong with the data folder, if anything is

    plain = {**os.environ, "DJANGO_SETTINGS_MODULE": "deftmason.server.settings"}
    env, python = {**plain, "DEFT_MASON_CHILD": "1"}, [sys.executable, "-m"]
    sweeping = [*python, "deftmason.server", "collect", "--quiet"]
    sweep, next_sweep = None, time.monotonic() + _SWEEP_FIRST
    web, pulse = None, None
    if options.only != "worker":
        web = Kept([*python, "deftmason.server.web", f"--host={options.host}", f"--port={options.port}"], env)
        host = f"[{options.host}]" if ":" in options.host else options.host
        pulse = _Pulse(f"http://{'127.0.0.1' if host == '0.0.0.0' else host}:{options.port}/api/session")
    working = [*python, "deftmason.server", *worker_command(settings.TASKS["default"]["BACKEND"])]
    workers = [Kept(working, env) for _ in range(0 if options.only == "web" else max(options.workers, 1))]
    kept = {"web server": [web] if web else [], "worker": workers}
    where = f"Deft Mason is at http://{host}:{options.port}/" if web else f"{len(workers)} at work for Deft Mason"
    print(f"{where}  (Ctrl+C stops it)", flush=True)
    stopping = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopping.set())
    while not stopping.wait(0.3):
        if time.monotonic() > next_sweep and (sweep is None or sweep.poll() is not None):
            sweep, next_sweep = (
                subprocess.Popen(sweeping, env=plain, start_new_session=True),
                time.monotonic() + _SWEEP_EVERY,
            )
        if web and pulse and pulse.lost(web):
            print("The web server stopped answering; it is started again.", file=sys.stderr, flush=True)
            web.process.kill()
            web.process.wait()
        ended = next((what for what, some in kept.items() if not all([k.look() for k in some])), None)
        if ended:
            print(f"The {ended} ends as soon as it is started; see what it said above.", file=sys.stderr)
            break
    if pulse:
        pulse.ended.set()
    every = [k for some in kept.values() for k in some]
    for k in every:
        k.stop()
    for k in every:
        try:
            k.process.wait(8)
        except subprocess.TimeoutExpired:
            k.process.kill()
    return 0 if stopping.is_set() else 1


if __name__ == "__main__":
    sys.exit(main())
