"""Four people edit four jobs while workers, engines and now and then the web server are killed: ``python -m
tests.hostile.soak SECONDS``.

Every change that was answered must be there at the end; the database must be whole. Prints the figures kept in
docs/reliability.md.
"""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

import numpy as np
import requests

from ..served import Server
from .fuzzing import largest_process
from .people import Person, brick
from .test_together import bodied, datum

NAMES = ("ada", "ben", "cleo", "dan")


class Editor(threading.Thread):
    """One person at one job. ``truth``: the stones after the last answered change; ``maybe`` what an unanswered one may
    have made of them.
    """

    def __init__(self, url: str, name: str, data: bytes, until: float, seed: int):
        super().__init__(daemon=True)
        self.url, self.who, self.until, self.rng = url, name, until, np.random.default_rng(seed)
        self.person = Person(url, name, "a long word")
        self.job = bodied(self.person, data)
        self.truth = self._stones(self.person.get(f"/jobs/{self.job}"))
        self.open_question, self.lost = False, []
        self.statuses: Counter = Counter()
        self.slowest, self.changes = 0.0, 0

    @staticmethod
    def _stones(view: dict) -> list[tuple]:
        return [(s["id"], s["enabled"], s["name"], s["key"]) for s in view["stones"]]

    def run(self) -> None:
        k = 0
        while time.monotonic() < self.until:
            k += 1
            try:
                self._once(k)
            except requests.RequestException:
                self.statuses["no answer"] += 1
                self.open_question = True
                time.sleep(0.5)
                self._look()

    def _look(self) -> None:
        """After an unanswered change: what is there now, whichever way it went."""
        while time.monotonic() < self.until + 60:
            try:
                self.truth = self._stones(self.person.get(f"/jobs/{self.job}"))
                self.open_question = False
                return
            except (requests.RequestException, AssertionError):
                time.sleep(0.5)

    def _once(self, k: int) -> None:
        way = self.rng.choice(["lay", "lay", "switch", "value", "undo", "preview", "select", "slow", "look"])
        job = f"/jobs/{self.job}"
        changing = True
        begin = time.monotonic()
        if way == "lay":
            r = self.person.lay(self.job, datum(f"{self.who}_{k}", k))
        elif way == "switch":
            r = self.person.ask("POST", f"{job}/stones/low/switch")
        elif way == "value":
            r = self.person.ask(
                "POST", f"{job}/values", {"name": "body.end", "value": float(self.rng.integers(15, 30))}
            )
        elif way == "undo":
            r = self.person.ask("POST", f"{job}/undo")
        elif way == "slow":
            step = {
                "id": f"slow_{k}",
                "kind": "smooth",
                "name": f"Smooth {k}",
                "scan": "scan",
                "strength": float(self.rng.uniform(0.1, 0.9)),
            }
            r = self.person.lay(self.job, step)
        else:
            changing = False
            if way == "preview":
                r = self.person.ask("POST", f"{job}/preview", {"step": datum("seen", k)})
            elif way == "select":
                r = self.person.ask(
                    "POST",
                    f"{job}/select",
                    {"scan": "scan", "marks": [{"by": "everything"}, {"by": "shrink", "rings": 20}]},
                )
            else:
                r = self.person.ask("GET", job)
        self.slowest = max(self.slowest, time.monotonic() - begin)
        self.statuses[r.status_code] += 1
        if changing and r.status_code == 200:
            self.changes += 1
            self.truth = self._stones(r.json())
        elif changing and r.status_code >= 500:
            self._look()
        if k % 10 == 0 and not self.open_question:
            self.compare()

    def compare(self) -> None:
        now = self._stones(self.person.get(f"/jobs/{self.job}"))
        if now != self.truth:
            gone = {s[0] for s in self.truth} - {s[0] for s in now}
            self.lost.append(f"{self.who}: answered, and not there: {sorted(gone) or 'another record'}")
            self.truth = now


def _killed(folder: Path, what: str) -> int:
    """Kill a server's processes of a kind; how many."""
    rows = subprocess.run(["ps", "-eo", "pid,args"], capture_output=True, text=True).stdout.splitlines()
    count = 0
    for row in rows:
        if what in row:
            pid = int(row.split()[0])
            try:
                with open(f"/proc/{pid}/environ", "rb") as f:
                    if str(folder).encode() in f.read():
                        os.kill(pid, signal.SIGKILL)
                        count += 1
            except OSError:
                continue
    return count


def soak(seconds: float, folder: Path, *, every: float = 20.0) -> dict:
    """Run it; the figures, with what was lost."""
    server = Server(folder, DEFT_MASON_SHARED="1", DEFT_MASON_PLAIN_HTTP="1", DEFT_MASON_PATIENCE="6")
    server.manage("migrate")
    for name in NAMES:
        people = "from django.contrib.auth import get_user_model as g"
        make = f"{people}; g().objects.create_user('{name}', password='a long word')"
        server.manage("shell", "-c", make)
    server.start()
    kills: Counter = Counter()
    largest, session = 0.0, 0.0
    try:
        data = brick()
        editors = [Editor(server.url, n, data, time.monotonic() + seconds, k) for k, n in enumerate(NAMES)]
        for e in editors:
            e.until = time.monotonic() + seconds
            e.start()
        begin, blows = time.monotonic(), 0
        while any(e.is_alive() for e in editors):
            time.sleep(min(every, 1.0))
            largest = max(largest, largest_process(str(folder)))
            asked = time.monotonic()
            try:
                requests.get(server.url + "/api/session", timeout=10)
                session = max(session, time.monotonic() - asked)
            except requests.RequestException:
                kills["session unanswered"] += 1
            if time.monotonic() - begin > every * (blows + 1) and time.monotonic() - begin < seconds:
                blows += 1
                kills["worker"] += _killed(folder, "db_worker")
                if blows % 2 == 0:
                    kills["engines and their server"] += _killed(folder, "forkserver")
                if blows % 5 == 0:
                    kills["web server"] += _killed(folder, "deftmason.server.web")
        for e in editors:
            e.join()
            e._look() if e.open_question else e.compare()
    finally:
        server.stop()
    with sqlite3.connect(folder / "mason.sqlite3") as db:
        whole = db.execute("PRAGMA integrity_check").fetchone()[0]
    return {
        "seconds": seconds,
        "answered changes": sum(e.changes for e in editors),
        "answers": dict(sum((e.statuses for e in editors), Counter())),
        "lost": [x for e in editors for x in e.lost],
        "killed": dict(kills),
        "slowest answer, s": round(max(e.slowest for e in editors), 2),
        "slowest /api/session, s": round(session, 2),
        "largest process, MB": round(largest / 1e6),
        "integrity_check": whole,
    }


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        found = soak(float(sys.argv[1]), Path(folder))
    for name, value in found.items():
        print(f"{name}: {value}")
    return 1 if found["lost"] or found["integrity_check"] != "ok" else 0


if __name__ == "__main__":
    raise SystemExit(main())
