"""The house is in order: floors know only those below, and no committed file names a machine or a registry."""

import re
import subprocess
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def test_import_contracts_hold():
    r = subprocess.run([str(ROOT / ".venv/bin/lint-imports")], cwd=ROOT, capture_output=True, text=True)
    assert r.returncode == 0, r.stdout


def test_no_addresses_in_lock_files():
    for name in ("web/package-lock.json", "requirements.txt", "requirements-test.txt"):
        text = (ROOT / name).read_text()
        assert '"resolved"' not in text and not re.search(r"registry\.|index-url|extra-index|@ file|pypi\.", text), name
