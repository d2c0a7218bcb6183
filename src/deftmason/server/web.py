"""The web server: waitress, with requests refused by their head alone where their body need not be read at all.

``python -m deftmason.server.web --host A --port N``; started by `serve`.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import sys
import tempfile
from http.cookies import CookieError, SimpleCookie

from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer, create_server
from waitress.utilities import Error

from .parent import die_with_parent

__all__ = ["Head", "main"]

_THREADS = 24
#: Where files are sent: as large as uploads may be.
_UPLOADS = re.compile(r"/api/(uploads|recipes|jobs/\d+/captures/file)\Z")
_COPIES = 2  # of an upload that lie on the disk at once: as received, and as kept


class _Refusal(Error):
    """An answer in the API's one shape of error."""

    def __init__(self, status: int, reason: str, code: str, message: str):
        super().__init__(message)
        self.code, self.reason, self.word, self.message = status, reason, code, message

    def to_response(self, ident=None):
        from .jobs.errors import told

        return (
            f"{self.code} {self.reason}",
            [("Content-Type", "application/json")],
            json.dumps(told(self.word, self.message)).encode(),
        )


class Head(HTTPRequestParser):
    """Reads a request's head and refuses bodies that are too large, that the disk has no room for, or that nobody
    logged in sends.
    """

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        refusal = self._refusal()
        if refusal is not None:
            self.error, self.connection_close = refusal, True
            self.body_rcv, self.content_length, self.expect_continue = None, 0, False

    def _refusal(self) -> _Refusal | None:
        from django.conf import settings

        if self.chunked:
            return _Refusal(411, "Length Required", "no_length", "Say how long the body is (Content-Length).")
        if not self.content_length:
            return None
        upload = _UPLOADS.match(self.path) is not None
        if upload and settings.SHARED and not _known(self.headers):
            return _Refusal(401, "Unauthorized", "http", "Log in first.")
        if self.content_length > (
            settings.MOST_UPLOAD_BYTES + 100_000 if upload else settings.DATA_UPLOAD_MAX_MEMORY_SIZE
        ):
            most = settings.MOST_UPLOAD_BYTES if upload else settings.DATA_UPLOAD_MAX_MEMORY_SIZE
            return _Refusal(
                413, "Content Too Large", "too_large", f"This is larger than the {most / 1e6:,.0f} MB that may be sent."
            )
        if upload and shutil.disk_usage(settings.DATA).free < _COPIES * self.content_length + 100_000_000:
            message = (
                f"The server's disk has no room for {self.content_length / 1e6:,.0f} MB more; make room there first."
            )
            return _Refusal(507, "Insufficient Storage", "no_room", message)
        return None


def _known(headers: dict[str, str]) -> bool:
    """Whether a head names somebody: by a session, or by a script's token."""
    from django.db import connection

    from .jobs.tokens import known_token

    if "AUTHORIZATION" not in headers:
        return _logged_in(headers.get("COOKIE", ""))
    try:
        return known_token(headers["AUTHORIZATION"]) is not None
    finally:
        connection.close()


def _logged_in(cookies: str) -> bool:
    """Whether the cookies name a session that somebody logged in to."""
    from importlib import import_module

    from django.conf import settings
    from django.db import connection

    try:
        jar = SimpleCookie(cookies)
    except CookieError:
        return False
    found = jar.get(settings.SESSION_COOKIE_NAME)
    if found is None:
        return False
    try:
        return "_auth_user_id" in import_module(settings.SESSION_ENGINE).SessionStore(found.value).load()
    finally:
        connection.close()


class _Channel(HTTPChannel):
    parser_class = Head


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, required=True)
    options = parser.parse_args()
    die_with_parent()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "deftmason.server.settings")
    from .wsgi import application

    from django.conf import settings  # isort: skip  the settings are read by then

    tempfile.tempdir = str(settings.DATA / "tmp")  # bodies being received lie beside what they become
    TcpWSGIServer.channel_class = _Channel
    server = create_server(
        application,
        host=options.host,
        port=options.port,
        threads=_THREADS,
        max_request_body_size=settings.MOST_UPLOAD_BYTES + 200_000,
        connection_limit=1000,
        asyncore_use_poll=True,
        ident="",
    )
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
