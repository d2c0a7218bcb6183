"""Errors in one shape, whoever raises them: the core, the API, Django, the database or the disk."""

from __future__ import annotations

import errno
import logging

from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse, JsonResponse

from deftmason.core.errors import MasonError, NoRoom

__all__ = ["answer", "status_of", "told", "bad_request", "forbidden", "locked_out", "not_found", "server_error"]

log = logging.getLogger(__name__)
_STATUS = {
    "busy": 503,
    "too_long": 503,
    "ended": 503,
    "inside": 500,
    "conflict": 409,
    "device": 502,
    "no_room": 507,
    "bad_argument": 422,
}


def told(code: str, message: str, field: str | None = None, hint: str | None = None) -> dict:
    return {"code": code, "message": message, "field": field, "hint": hint}


def status_of(e: MasonError) -> int:
    return _STATUS.get(e.code, 422)


def answer(e: BaseException) -> tuple[int, dict]:
    """Status and body for anything raised; what nobody expected is logged with where it came from."""
    if isinstance(e, MasonError):
        return status_of(e), told(e.code, e.message, e.field, e.hint)
    text = str(e).lower()
    if (isinstance(e, OSError) and e.errno in (errno.ENOSPC, errno.EDQUOT)) or (
        isinstance(e, DatabaseError) and "disk is full" in text
    ):
        return answer(NoRoom())
    if isinstance(e, DatabaseError) and "disk i/o error" in text:
        return 507, told("no_room", "The server's disk is full or failing; nothing was changed.")
    if isinstance(e, DatabaseError) and ("readonly" in text or "read-only" in text or "unable to open" in text):
        return 507, told("read_only", "The server's data folder cannot be written to; nothing was changed.")
    if isinstance(e, DatabaseError) and "locked" in text:
        return 503, told("busy", "Everything here is at work just now; try again in a moment.")
    log.error("A request failed", exc_info=e)
    return 500, told("inside", f"Something went wrong inside ({type(e).__name__}); nothing was changed.")


def _page(request: HttpRequest, status: int, body: dict) -> HttpResponse:
    if request.path.startswith("/api/"):
        return JsonResponse(body, status=status)
    return HttpResponse(body["message"], status=status, content_type="text/plain; charset=utf-8")


def bad_request(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    return _page(request, 400, told("bad_request", "The request is not one this server can read."))


def forbidden(request: HttpRequest, exception: Exception | None = None, reason: str = "") -> HttpResponse:
    return _page(request, 403, told("forbidden", "The page's token is missing or old; load the page again."))


def locked_out(
    request: HttpRequest, response: HttpResponse | None = None, credentials: dict | None = None
) -> HttpResponse:
    return _page(request, 429, told("http", "Too many wrong passwords; wait a quarter of an hour and try again."))


def not_found(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    return _page(request, 404, told("not_found", "There is nothing at this address."))


def server_error(request: HttpRequest) -> HttpResponse:
    import sys

    e = sys.exc_info()[1]
    status, body = (
        answer(e) if e is not None else (500, told("inside", "Something went wrong inside; nothing was changed."))
    )
    return _page(request, status, body)
