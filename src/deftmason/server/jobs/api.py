"""The API: one shape of error, everything typed, cookies checked."""

from __future__ import annotations

import functools

from django.conf import settings
from django.http import HttpRequest, JsonResponse
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError

from deftmason.core.errors import MasonError

from . import (
    accounts,
    capturing,
    drafting,
    giving,
    guiding,
    looking,
    pieces,
    proving,
    shelf,
    sketching,
    solving,
    stones,
    studies,
    tokens,
    transferring,
)
from .access import session
from .document import job_view
from .errors import answer, told
from .models import Job
from .recipe import Conflict
from .strict import StrictParser, StrictRenderer
from .tokens import Bearer, known_token


def _behind_login(view):
    """In shared use the API's description is for those who are logged in."""

    @functools.wraps(view)
    def described(request: HttpRequest, *args, **kwargs):
        script = known_token(request.headers.get("Authorization", ""))
        if settings.SHARED and not request.user.is_authenticated and script is None:
            return JsonResponse(told("http", "Log in first."), status=401)
        return view(request, *args, **kwargs)

    return described


api = NinjaAPI(
    title="Deft Mason",
    version="1",
    auth=[Bearer(), session],
    docs_url=None,
    docs_decorator=_behind_login,
    parser=StrictParser(),
    renderer=StrictRenderer(),
)
for prefix, part in (
    ("/session", accounts),
    ("/tokens", tokens),
    ("", shelf),
    ("", stones),
    ("", looking),
    ("", sketching),
    ("", drafting),
    ("", solving),
    ("", giving),
    ("", proving),
    ("", guiding),
    ("", pieces),
    ("", capturing),
    ("", studies),
    ("", transferring),
):
    api.add_router(prefix, part.router)


@api.exception_handler(MasonError)
@api.exception_handler(Exception)
def refused(request: HttpRequest, e: Exception):
    status, body = answer(e)
    response = api.create_response(request, body, status=status)
    if status == 503:
        response["Retry-After"] = "1"
    return response


@api.exception_handler(Conflict)
def conflict(request: HttpRequest, e: Conflict):
    """Others changed the job: the answer holds it as it is now."""
    status, body = answer(e)
    now = job_view(Job.objects.get(pk=e.job_id))
    return api.create_response(request, {**body, "job": now}, status=status)


@api.exception_handler(HttpError)
def http(request: HttpRequest, e: HttpError):
    unread = e.status_code == 400  # the library's words for what is no JSON say little
    message = "What was sent is no JSON; send the record as JSON." if unread else str(e)
    return api.create_response(request, told("http", message), status=e.status_code)


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, e: ValidationError):
    first = e.errors[0]
    where = ".".join(str(x) for x in first["loc"][1:] if x != "data")[:120] or "body"
    return api.create_response(request, told("bad_argument", f"{where}: {first['msg']}.", where), status=422)
