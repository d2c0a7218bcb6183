"""The headless command as tests ask it: in this process, which has all it needs loaded, or as a process of its own."""

import json
import os
import subprocess
import sys
import tempfile
from contextlib import contextmanager
from pathlib import Path

from deftmason.cli.main import answered

MASON = str(Path(sys.executable).with_name("mason"))


def mason(*args, expect=0):
    """Its answer, or its one line of error where status 2 or 3 is expected; in this process."""
    with _written() as read:
        status = answered([str(a) for a in args])
    return _held(status, *read(), "--json" in args, expect)


def mason_alone(*args, expect=0, **env):
    """The same as a process of its own, as people run it; ``env``: further variables of its environment."""
    r = subprocess.run([MASON, *map(str, args)], capture_output=True, text=True, timeout=300, env={**os.environ, **env})
    return _held(r.returncode, r.stdout, r.stderr, "--json" in args, expect)


def _held(status, out, err, as_json, expect):
    assert status == expect, (status, out[-500:], err[-800:])
    if expect in (2, 3):
        assert out == "" and len(err.strip().splitlines()) == 1 and "Traceback" not in err, err
        return err
    return json.loads(out) if as_json else out


@contextmanager
def _written():
    """Gives a function for what was written to standard output and error, libraries below Python included."""
    files = [tempfile.TemporaryFile("w+", encoding="utf-8") for _ in range(2)]
    before, kept = (sys.stdout, sys.stderr), [os.dup(1), os.dup(2)]
    try:
        for number, file in zip((1, 2), files, strict=True):
            os.dup2(file.fileno(), number)
        sys.stdout, sys.stderr = files
        yield lambda: [(f.seek(0), f.read())[1] for f in files]
    finally:
        for file in files:
            file.flush()
        sys.stdout, sys.stderr = before
        for number, old in zip((1, 2), kept, strict=True):
            os.dup2(old, number)
            os.close(old)
