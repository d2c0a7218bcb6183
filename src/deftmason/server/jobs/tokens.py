"""Tokens for scripts: made, listed and taken back by whom they speak for; shown once, kept as hashes."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta
from typing import Annotated, Any

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from ninja.errors import HttpError
from ninja.security import HttpBearer
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.records import one_line

from .access import owner_of
from .models import Token

__all__ = ["Bearer", "known_token", "new_token"]

router = Router()

_PREFIX = "mason_"
_MOST = 50
_NOTE_USE = timedelta(minutes=1)  # how often it is written down that a token is in use


class Named(Schema):
    name: Annotated[str, Field(min_length=1, max_length=80)]


class TokenLine(Schema):
    id: int
    name: str
    created: str
    used: str | None


class NewToken(TokenLine):
    """``token`` is told this once."""

    token: str


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def new_token(owner: AbstractBaseUser | None, name: str) -> tuple[Token, str]:
    """A token of this name and what a script sends. Raises `BadInput` where there are too many."""
    if Token.objects.filter(owner=owner).count() >= _MOST:
        raise BadInput(f"There are {_MOST} tokens already; take one back first.", field="name")
    word = _PREFIX + secrets.token_urlsafe(32)
    return Token.objects.create(owner=owner, name=one_line(name)[:80] or "Script", sha256=_hash(word)), word


def known_token(header: str) -> Token | None:
    """The token that an Authorization header holds, if it may be used as the server runs now."""
    kind, _, word = header.partition(" ")
    if kind.lower() != "bearer" or not word.startswith(_PREFIX):
        return None
    token = Token.objects.select_related("owner").filter(sha256=_hash(word.strip())).first()
    if token is None or settings.SHARED != (token.owner is not None):
        return None
    return token if token.owner is None or token.owner.is_active else None


class Bearer(HttpBearer):
    """A script's token; requests without one are left to the page's own session."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        found = known_token(f"Bearer {token}")
        if found is None:
            raise HttpError(401, "That token is not known here; make one under 'For scripts'.")
        if found.used is None or timezone.now() - found.used > _NOTE_USE:
            Token.objects.filter(pk=found.pk).update(used=timezone.now())
        if found.owner is not None:
            request.user = found.owner
        return found


def _line(t: Token) -> dict[str, Any]:
    return {
        "id": t.pk,
        "name": t.name,
        "created": t.created.isoformat(),
        "used": t.used.isoformat() if t.used else None,
    }


@router.get("", response=list[TokenLine])
def tokens(request: HttpRequest):
    """One's own tokens, the newest first."""
    return [_line(t) for t in Token.objects.filter(owner=owner_of(request)).order_by("-id")]


@router.post("", response=NewToken)
def make(request: HttpRequest, data: Named):
    """A new token; what a script sends is told this once."""
    token, word = new_token(owner_of(request), data.name)
    return {**_line(token), "token": word}


@router.delete("/{token_id}", response=list[TokenLine])
def take_back(request: HttpRequest, token_id: int):
    """Take a token back: what uses it is refused from now on."""
    gone, _ = Token.objects.filter(owner=owner_of(request), pk=token_id).delete()
    if not gone:
        raise HttpError(404, "There is no such token.")
    return tokens(request)
