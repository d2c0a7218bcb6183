"""The API: one shape of error, everything typed, cookies checked."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError

from deftmason.core.errors import MasonError

from . import accounts, giving, looking, marking, shelf, stones, studies
from .access import session

api = NinjaAPI(title="Deft Mason", version="1", auth=session, docs_url=None)
api.add_router("/session", accounts.router)
api.add_router("", shelf.router)
api.add_router("", stones.router)
api.add_router("", looking.router)
api.add_router("", giving.router)
api.add_router("", marking.router)
api.add_router("", studies.router)


def _error(request: HttpRequest, status: int, code: str, message: str, field=None, hint=None):
    return api.create_response(request, {"code": code, "message": message, "field": field, "hint": hint}, status=status)


@api.exception_handler(MasonError)
def refused(request, e: MasonError):
    return _error(request, 422, e.code, e.message, e.field, e.hint)


@api.exception_handler(HttpError)
def http(request, e: HttpError):
    return _error(request, e.status_code, "http", str(e))


@api.exception_handler(ValidationError)
def invalid(request, e: ValidationError):
    first = e.errors[0]
    where = ".".join(str(x) for x in first["loc"][1:])
    return _error(request, 422, "bad_argument", f"{where}: {first['msg']}.", where)
