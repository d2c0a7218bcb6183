"""`python -m tests.on_postgres [pytest's options]`: the server's tests with PostgreSQL in SQLite's place."""

from __future__ import annotations

import os
import subprocess
import sys

from .services import postgres

if __name__ == "__main__":
    with postgres() as url:
        command = [sys.executable, "-m", "pytest", *(sys.argv[1:] or ["tests/server"])]
        sys.exit(subprocess.run(command, env={**os.environ, "DATABASE_URL": url}).returncode)
