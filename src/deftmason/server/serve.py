"""Start web server and worker together; Ctrl+C stops both. ``python -m deftmason.server.serve [--port N] [--host A]``."""

from __future__ import annotations

import argparse
import os
import signal
import subprocess
import sys
import time

from .guard import is_loopback


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=int(os.environ.get("DEFT_MASON_PORT", "8321")))
    options = parser.parse_args()
    shared = os.environ.get("DEFT_MASON_SHARED") == "1"
    if not shared and not is_loopback(options.host):
        print(
            f"{options.host} is not a loopback address; in local use only 127.0.0.1 or ::1 are served. "
            "Set DEFT_MASON_SHARED=1 for accounts and other addresses.",
            file=sys.stderr,
        )
        return 2
    env = {**os.environ, "DJANGO_SETTINGS_MODULE": "deftmason.server.settings"}
    web = [
        sys.executable,
        "-m",
        "waitress",
        f"--listen={options.host}:{options.port}",
        "--threads=8",
        f"--max-request-body-size={3_000_000_000}",
        "deftmason.server.wsgi:application",
    ]
    worker = [
        sys.executable,
        "-m",
        "deftmason.server",
        "db_worker",
        "--interval",
        "0.2",
        "--no-startup-delay",
        "--no-reload",
    ]
    commands = {"web": web, "worker": worker}
    running = {n: subprocess.Popen(c, env=env, start_new_session=True) for n, c in commands.items()}
    print(f"Deft Mason is at http://{options.host}:{options.port}/  (Ctrl+C stops it)", flush=True)
    stopping = False

    def stop(*_):
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    while not stopping:
        time.sleep(0.3)
        if running["web"].poll() is not None:
            print("The web server stopped; is the port taken?", file=sys.stderr)
            break
        if running["worker"].poll() is not None:  # a worker that died is replaced; its task shows as failed
            running["worker"] = subprocess.Popen(worker, env=env, start_new_session=True)
            time.sleep(1)
    for p in running.values():
        if p.poll() is None:
            p.terminate()
    for p in running.values():
        try:
            p.wait(8)
        except subprocess.TimeoutExpired:
            p.kill()
    return 0 if stopping else 1


if __name__ == "__main__":
    sys.exit(main())
