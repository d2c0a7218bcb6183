"""Shared fixtures: test data live in a folder of their own, never in the user's."""

import os
import tempfile
from pathlib import Path

_FOLDER = tempfile.mkdtemp(prefix="deft-mason-tests-")
os.environ["DEFT_MASON_DATA"] = _FOLDER
os.environ.pop("DEFT_MASON_SHARED", None)


def pytest_configure():
    # The settings may have been read before this file was: their folder is changed too.
    from django.conf import settings

    from deftmason.server.settings import make_ready

    settings.DATA = Path(_FOLDER)
    make_ready(settings.DATA)
    settings.DATABASES["default"]["TEST"]["NAME"] = str(Path(_FOLDER) / "test.sqlite3")


def pytest_sessionfinish():
    import shutil

    shutil.rmtree(_FOLDER, ignore_errors=True)
