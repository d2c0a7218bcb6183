"""Work no engine should survive, or that takes its time: asked for only by the tests of the pool."""

import ctypes
import os
import time

import numpy as np

from deftmason.core.errors import BadInput
from deftmason.server.engines.desk import asked


@asked
def test_echo(desk, *, text):
    return f"{text} {os.getpid()}"


@asked
def test_refuse(desk):
    raise BadInput("This is refused; give another.", field="text")


@asked
def test_wrong(desk):
    raise ZeroDivisionError("inside")


@asked
def test_crash(desk, *, key=None):
    if key:
        desk.begun(key, "Bad step")
        if desk.store.record(key):
            return "failed as known"
    ctypes.string_at(0)


@asked
def test_hoard(desk, *, gigabytes, key=None):
    if key:
        desk.begun(key, "Large step")
        if desk.store.record(key):
            return "failed as known"
    kept = []
    for _ in range(int(gigabytes * 20)):
        kept.append(np.ones(50_000_000 // 8))
        time.sleep(0.02)
    return len(kept)


@asked
def test_chatty_hoard(desk):
    kept = []
    while True:
        desk.progress(0.5, "Hoarding")
        if len(kept) < 80 and (not kept or time.monotonic() - kept[-1][0] > 0.02):
            kept.append((time.monotonic(), np.ones(50_000_000 // 8)))


@asked
def test_deaf(desk):
    time.sleep(60)


@asked
def test_polite(desk, *, seconds):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        desk.progress(0.5, "Working")
        time.sleep(0.01)
    return "done"
