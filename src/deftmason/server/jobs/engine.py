"""This process's pool of engines, asked on behalf of whoever makes a request."""

from __future__ import annotations

import functools
import os
from typing import Any

from django.conf import settings
from django.http import HttpRequest

from ..engines.places import buffer_path, picture_path
from ..engines.pool import Pool
from .access import person_of

__all__ = ["ask", "made_buffer", "made_picture", "pool"]

_AT_ONCE = 8.0  # seconds a request waits for an engine's answer
_MAKING = 60.0  # seconds a buffer may take that is asked for again until it is there


@functools.cache
def pool() -> Pool:
    return Pool(str(settings.DATA))


def ask(request: HttpRequest, job_id: int | None, asked_for: str, /, *, limit: float = _AT_ONCE, **arguments: Any) -> Any:
    """Have an engine answer a question of the request's own person about a job."""
    return pool().ask(asked_for, job=job_id, person=person_of(request), limit=limit, **arguments)


def made_buffer(request: HttpRequest, job_id: int, key: str, what: str, scan: str | None, name: str) -> str:
    """Path of a buffer for the view, made now where it is not there yet; whoever asks for the same at once waits for the first."""
    path = buffer_path(pool().store, key, what, scan, name)
    if not os.path.exists(path):
        with pool().only_one(path):
            if not os.path.exists(path):
                ask(request, job_id, "make_buffer", limit=_MAKING, key=key, what=what, scan=scan, name=name)
    return path


def made_picture(job_id: int, key: str, frame: str | None, person: str) -> str:
    path = picture_path(str(settings.DATA), key, frame)
    if not os.path.exists(path):
        with pool().only_one(path):
            if not os.path.exists(path):
                pool().ask("make_picture", job=job_id, person=person, key=key, frame=frame)
    return path
