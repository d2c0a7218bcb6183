"""A capture as a file that only grows: one JSON line for each answer of the device as it came, and for each thing the
person drew. A line is written before it is shown; one that was cut off by a crash is left out when the file is read, so
nothing taken before is lost, and a capture is played again without its device.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from typing import Any

from ..errors import BadInput

__all__ = ["Recording", "records_of"]

_FORMAT = "deft-mason-capture"


def records_of(path: str) -> Iterator[dict[str, Any]]:
    """Every whole record of a capture file after its head. Raises `BadInput` where it is none."""
    name = os.path.basename(path)
    try:
        with open(path, "rb") as f:
            head = _whole(f.readline())
            if head is None or head.get("format") != _FORMAT or head.get("version") != 1:
                raise BadInput(f"{name}: is no capture of this program; choose another file.")
            for line in f:
                record = _whole(line)
                if record is not None:
                    yield record
    except FileNotFoundError:
        raise BadInput(f"{name}: there is no such file; check the path.") from None


def _whole(line: bytes) -> dict[str, Any] | None:
    if not line.endswith(b"\n"):
        return None
    try:
        found = json.loads(line)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


class Recording:
    """A capture file that is being written; opened again, it goes on after its last whole line."""

    def __init__(self, path: str):
        self.path = path
        new = not os.path.exists(path)
        if not new:
            self._cut_off_broken_end()
        self._file = open(path, "ab")
        if new:
            self.add({"format": _FORMAT, "version": 1})

    def _cut_off_broken_end(self) -> None:
        with open(self.path, "rb+") as f:
            f.seek(0, os.SEEK_END)
            end = f.tell()
            while end > 0:
                f.seek(max(end - 65536, 0))
                piece = f.read(end - max(end - 65536, 0))
                at = piece.rfind(b"\n")
                if at >= 0:
                    f.truncate(max(end - 65536, 0) + at + 1)
                    return
                end = max(end - 65536, 0)
            f.truncate(0)

    def add(self, record: dict[str, Any]) -> None:
        """Write a record down; it is on its way to the disk when this returns, and there after `keep`."""
        self._file.write(json.dumps(record, separators=(",", ":")).encode() + b"\n")
        self._file.flush()

    def keep(self) -> None:
        """Flush to the disk itself."""
        os.fsync(self._file.fileno())

    def close(self) -> None:
        self.keep()
        self._file.close()
