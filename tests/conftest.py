"""Shared fixtures: test data live in a folder of their own, never in the user's."""

import os
import tempfile

_FOLDER = tempfile.mkdtemp(prefix="deft-mason-tests-")
os.environ["DEFT_MASON_DATA"] = _FOLDER
os.environ.pop("DEFT_MASON_SHARED", None)


def pytest_sessionfinish():
    import shutil

    shutil.rmtree(_FOLDER, ignore_errors=True)
