"""A model's history sent to another CAD system, feature by feature; here a stand-in in a process of its own.

A transfer lives in this process: it is followed by number, waits while it is asked what to do with a feature the other
side does not know, and ends with its receiver after half an hour without a word.
"""

from __future__ import annotations

import base64
import contextlib
import itertools
import json
import logging
import os
import secrets
import socket
import subprocess
import sys
import threading
import time
import zlib
from collections import OrderedDict
from typing import Annotated, Any, Literal

from django.db import connections
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from deftmason.core.deliver.script import Block, blocks_of, numbers_of, preamble
from deftmason.core.errors import BadInput

from .access import job_of, person_of
from .engine import made_file
from .models import Job
from .recipe import records, replay_of, store

router = Router()
log = logging.getLogger(__name__)

_MOST = 8  # transfers that are kept
_ANSWER = 600.0  # seconds a feature may take to be rebuilt
_WAIT = 1800.0  # seconds an unknown feature is waited on
_START = 60.0  # seconds the other side may take to be there

Kinds = Annotated[list[Annotated[str, Field(max_length=40)]], Field(max_length=60)]


class TransferRequest(Schema):
    """Kinds of features that the other side is told not to know."""

    unknown: Kinds = []


class TransferAnswer(Schema):
    """What is done with the feature that is waited on; ``unknown`` is what the other side does not know from now on."""

    how: Literal["shape", "skip", "retry", "stop"]
    unknown: Kinds | None = None


class FeatureView(Schema):
    """``state``: waiting, building, built, as shape, skipped, unknown, failed. Volumes in mm³, here and there."""

    id: str
    name: str
    kind: str
    state: str
    says: str
    here: float | None
    there: float | None
    seconds: float | None


class TransferView(Schema):
    transfer: int
    done: bool
    says: str
    asks: str | None
    features: list[FeatureView]
    elements: int


class Transfer:
    """One transfer: its features, the line to the other side, and what it is asked."""

    def __init__(self, number: int, job: int, person: str, unknown: list[str]):
        self.number, self.job, self.person, self.unknown = number, job, person, unknown
        self.features: list[dict[str, Any]] = []
        self.says, self.asks, self.done = "Starting the other side", None, False
        self.sent_elements: set[str] = set()
        self.answer: TransferAnswer | None = None
        self.answered = threading.Event()
        self.lock = threading.Lock()
        self.process: subprocess.Popen | None = None
        self._line: Any = None

    def open(self) -> None:
        token = secrets.token_hex(16)
        command = [sys.executable, "-m", "deftmason.rig.receiver", "--unknown", ",".join(self.unknown)]
        env = {**os.environ, "MASON_RECEIVER_TOKEN": token}
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=env, text=True)
        assert self.process.stdout is not None
        port = int(self.process.stdout.readline() or 0)
        if not port:
            raise BadInput("The other side did not start; try again.")
        self._line = socket.create_connection(("127.0.0.1", port), timeout=_START).makefile("rwb")
        self.token = token

    def ask(self, **said: Any) -> dict[str, Any]:
        """Send a record and wait for its answer. Raises `BadInput` where the other side is gone."""
        with self.lock:
            try:
                self._line.write(json.dumps(said).encode() + b"\n")
                self._line.flush()
                answer = self._line.readline()
            except (OSError, ValueError, AttributeError):
                answer = b""
        if not answer:
            raise BadInput("The other side is gone; start the transfer again.")
        return json.loads(answer)

    def end(self) -> None:
        with contextlib.suppress(Exception):
            self._line.write(json.dumps({"end": True}).encode() + b"\n")
            self._line.flush()
        if self.process is not None:
            with contextlib.suppress(Exception):
                self.process.wait(2)
            self.process.kill()

    def view(self) -> dict[str, Any]:
        return {
            "transfer": self.number,
            "done": self.done,
            "says": self.says,
            "asks": self.asks,
            "features": [dict(f) for f in self.features],
            "elements": len(self.sent_elements),
        }


_transfers: OrderedDict[int, Transfer] = OrderedDict()
_numbers = itertools.count(1)
_guard = threading.Lock()


@router.post("/jobs/{job_id}/transfers", response=TransferView)
def begin(request: HttpRequest, job_id: int, data: TransferRequest):
    """Send the model's history to the stand-in, feature by feature."""
    job = job_of(request, job_id)
    ran = replay_of(records(job)).run(compute=False)
    numbers, values = numbers_of(ran)
    blocks = blocks_of(ran, values, lambda _: b"")
    if not any(b.makes for b in blocks):
        raise BadInput("There is no body to send; lay one in Build first.", field="body")
    volumes = {r.step.id: r.summary.get("volume") for r in ran}
    keys = {r.step.id: r.key for r in ran if r.key}
    with _guard:
        t = Transfer(next(_numbers), job.id, person_of(request), data.unknown)
        _transfers[t.number] = t
        while len(_transfers) > _MOST:
            _transfers.popitem(last=False)[1].end()
    t.features = [
        {"id": b.id, "name": b.name, "kind": b.kind, "state": "waiting", "says": "", "here": volumes.get(b.id),
         "there": None, "seconds": None}
        for b in blocks
    ]  # fmt: skip

    def work() -> None:
        try:
            t.open()
            t.says = "Sending the numbers"
            t.ask(begin={"token": t.token, "preamble": preamble(), "numbers": numbers})
            for b, f in zip(blocks, t.features):
                if not _sent(t, b, f, keys[b.id]):
                    t.says = "Stopped as asked; what was built stands on the other side."
                    break
            else:
                lost = sum(f["state"] in ("skipped", "failed") for f in t.features)
                t.says = "All is there." if not lost else f"Done, {lost} of {len(blocks)} features left out."
        except BadInput as e:
            t.says = e.message
        except Exception as e:
            log.exception("A transfer of job %s failed", t.job)
            t.says = f"Something went wrong ({type(e).__name__}); nothing was changed here."
        finally:
            t.done, t.asks = True, None
            connections.close_all()

    threading.Thread(target=work, daemon=True).start()
    return t.view()


def _sent(t: Transfer, b: Block, f: dict[str, Any], key: str) -> bool:
    """Send one feature, waiting for an answer where the other side cannot build it; False where all is to stop."""
    while True:
        t.says, f["state"] = f"Sending {b.name}", "building"
        feature = {"id": b.id, "name": b.name, "kind": b.kind, "lines": b.lines, "makes": b.makes}
        got = t.ask(feature=feature) if b.told else {"state": "unknown"}
        if got["state"] == "built":
            f.update(state="built", there=got.get("volume"), seconds=got.get("seconds"), says="")
            return True
        f.update(state=got["state"], says=got.get("why") or f"The other side does not know {b.kind}.")
        t.answered.clear()  # before it asks: an answer may come at once
        t.asks, t.says = b.id, f"{b.name} waits for an answer"
        if not t.answered.wait(_WAIT) or t.answer is None:
            return False
        answer, t.asks = t.answer, None
        if answer.unknown is not None:
            t.ask(unknown=answer.unknown)
        if answer.how == "stop":
            return False
        if answer.how == "retry":
            continue
        if answer.how == "shape" and b.makes is not None:
            with open(store().path(key, "body.brep"), "rb") as file:
                text = base64.b64encode(zlib.compress(file.read())).decode()
            got = t.ask(shape={"makes": b.makes, "brep": text})
        else:
            got = t.ask(skip={"makes": b.makes, "rests": b.rests})
        f.update(state=got["state"], there=got.get("volume"), says="")
        return True


def _transfer(request: HttpRequest, job: Job, number: int) -> Transfer:
    t = _transfers.get(number)
    if t is None or t.job != job.id or t.person != person_of(request):
        raise HttpError(404, "There is no such transfer; start it again.")
    return t


@router.get("/jobs/{job_id}/transfers/{number}", response=TransferView)
def follow(request: HttpRequest, job_id: int, number: int):
    return _transfer(request, job_of(request, job_id), number).view()


@router.post("/jobs/{job_id}/transfers/{number}/answer", response=TransferView)
def answer(request: HttpRequest, job_id: int, number: int, data: TransferAnswer):
    """Say what is done with the feature that the other side cannot build."""
    t = _transfer(request, job_of(request, job_id), number)
    if t.asks is None:
        raise BadInput("Nothing is waited on; look at the transfer again.", field="how")
    t.answer = data
    t.answered.set()
    until = time.monotonic() + 0.5
    while t.asks is not None and time.monotonic() < until:
        time.sleep(0.02)
    return t.view()


@router.post("/jobs/{job_id}/transfers/{number}/elements", response=TransferView)
def send_elements(request: HttpRequest, job_id: int, number: int):
    """Send datums and drawings that were made since, on their own."""
    job = job_of(request, job_id)
    t = _transfer(request, job, number)
    steps = records(job)
    ran = replay_of(steps).run(compute=False)
    fresh = [r.step.id for r in ran if r.done and r.step.produces in ("datum", "sketch")]
    fresh = [i for i in fresh if i not in t.sent_elements]
    if not fresh:
        raise BadInput("No datum and no sketch was made since; there is nothing to send.", field="elements")
    path = made_file(
        request, job.id, work="make_file", what="elements.step", steps=steps, step=None, name=job.name, within=None,
        elements=fresh,
    )  # fmt: skip
    with open(path, "rb") as f:
        t.ask(elements={"step": base64.b64encode(f.read()).decode()})
    t.sent_elements |= set(fresh)
    return t.view()


@router.delete("/jobs/{job_id}/transfers/{number}", response=TransferView)
def finish(request: HttpRequest, job_id: int, number: int):
    """End a transfer, and the other side with it."""
    t = _transfer(request, job_of(request, job_id), number)
    t.answer = TransferAnswer(how="stop")
    t.answered.set()
    t.end()
    t.done = True
    return t.view()
