"""This process's pool of engines, asked on behalf of whoever makes a request."""

from __future__ import annotations

import functools
import os
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager
from typing import Any

from django.conf import settings
from django.http import HttpRequest

from deftmason.core.recipe.records import is_checksum

from ..engines.places import buffer_path, file_path, picture_path
from ..engines.pool import Busy, Pool
from .access import person_of
from .sharing import Sharing, sharing

__all__ = ["ask", "made_buffer", "made_picture", "made_file", "pool"]

_AT_ONCE = 8.0  # seconds a request waits for an engine's answer
_MAKING = 300.0  # seconds that something may take which is asked for again until it is there
_MOST_OF_ONE = 10  # requests of one person that wait for engines at the same time: the others' find a free thread

_makers = ThreadPoolExecutor(8, thread_name_prefix="maker")
_under_way: dict[str, Future] = {}
_waiting: Counter[str] = Counter()
_lock = threading.Lock()


class _SharedPool(Pool):
    """Engines on a machine that shares files and results: what they need is fetched first, what they gave is shared."""

    def __init__(self, folder: str, shared: Sharing):
        super().__init__(folder)
        self.shared = shared

    def ask(self, asked_for: str, /, **arguments: Any) -> Any:
        steps = arguments.get("steps") or []
        self.shared.bring(steps, [v for v in arguments.values() if is_checksum(v)])
        answer = super().ask(asked_for, **arguments)
        if asked_for == "run":
            self.shared.put(steps)
        return answer


@functools.cache
def pool() -> Pool:
    shared = sharing()
    return Pool(str(settings.DATA)) if shared is None else _SharedPool(str(settings.DATA), shared)


@contextmanager
def _in_turn(person: str) -> Iterator[None]:
    with _lock:
        if _waiting[person] >= _MOST_OF_ONE:
            raise Busy()
        _waiting[person] += 1
    try:
        yield
    finally:
        with _lock:
            _waiting[person] -= 1


def ask(
    request: HttpRequest, job_id: int | None, asked_for: str, /, *, limit: float | None = None, **arguments: Any
) -> Any:
    """Have an engine answer a question of the request's own person about a job, in ``limit`` seconds."""
    person = person_of(request)
    with _in_turn(person):
        return pool().ask(asked_for, job=job_id, person=person, limit=limit or _AT_ONCE, **arguments)


def _made(what: str, person: str, make: Callable[[], Any], patience: float | None = None) -> Any:
    """What ``make`` gives, made once for all who ask while it is under way. Raises `Busy` where it is not there in
    ``patience`` seconds (a moment where none is said): asked again, it is waited for.
    """
    with _lock:
        future = _under_way.get(what)
        if future is None:
            future = _under_way[what] = _makers.submit(make)
    with _in_turn(person):
        wait([future], patience or _AT_ONCE)
    if not future.done():
        raise Busy()
    with _lock:
        _under_way.pop(what, None)
    return future.result()


def made_buffer(request: HttpRequest, job_id: int, key: str, what: str, scan: str | None, name: str) -> str:
    """Path of a buffer for the view, made now where it is not there yet."""
    path, person = buffer_path(pool().store, key, what, scan, name), person_of(request)

    def make() -> None:
        pool().ask(
            "make_buffer",
            job=job_id,
            person=person,
            limit=_MAKING,
            heavy=True,
            key=key,
            what=what,
            scan=scan,
            name=name,
        )

    if not os.path.exists(path):
        _made(path, person, make)
    return path


def made_picture(job_id: int, key: str, frame: str | None, person: str, patience: float | None = None) -> str:
    """Path of a picture for the shelf, drawn now where it is not there yet; waited for so many seconds, or a moment."""
    path = picture_path(str(settings.DATA), key, frame)
    if not os.path.exists(path):
        _made(
            path,
            person,
            lambda: pool().ask("make_picture", job=job_id, person=person, limit=_MAKING, key=key, frame=frame),
            patience,
        )
    return path


def made_file(request: HttpRequest, job_id: int, *, work: str, what: str, **arguments: Any) -> str:
    """Path of a file to hand on, written now by ``work`` where it is not there yet; it is collected some time later."""
    person, path = person_of(request), file_path(str(settings.DATA), what, [work, arguments])
    if not os.path.exists(path):
        _made(
            path,
            person,
            lambda: pool().ask(
                work, job=job_id, person=person, limit=_MAKING, heavy=True, path=path, what=what, **arguments
            ),
        )
    return path
