"""Logging in and out, in shared use."""

from __future__ import annotations

from typing import Annotated

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from .access import session

router = Router()


class Who(Schema):
    shared: bool
    user: str | None


class Credentials(Schema):
    name: Annotated[str, Field(max_length=150)]
    password: Annotated[str, Field(max_length=1000)]


@router.get("", response=Who, auth=None)
def who(request):
    user = request.user.get_username() if settings.SHARED and request.user.is_authenticated else None
    return {"shared": settings.SHARED, "user": user}


def _csrf_only(request):
    session(request)
    return True


@router.post("", response=Who, auth=_csrf_only)
def log_in(request, data: Credentials):
    if not settings.SHARED:
        raise HttpError(400, "This server is for local use; there is nothing to log in to.")
    user = authenticate(request, username=data.name, password=data.password)
    if user is None:
        raise HttpError(401, "Name or password is wrong.")
    login(request, user)
    return {"shared": True, "user": user.get_username()}


@router.delete("", response=Who)
def log_out(request):
    logout(request)
    return {"shared": settings.SHARED, "user": None}
