"""Where results live: a folder of results by key, written whole before they are named, and a small hot memory."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import threading
from collections import OrderedDict
from typing import Any

from .codec import pack, unpack
from .step import Outcome

__all__ = ["ResultStore"]


class ResultStore:
    """Results by content hash under ``folder``; safe to share between processes.

    A result is written into a temporary folder, flushed to disk, then renamed: it is there whole or not at all.
    """

    def __init__(self, folder: str, hot: int = 48):
        self.folder = folder
        os.makedirs(folder, exist_ok=True)
        self._hot: OrderedDict[tuple, Any] = OrderedDict()
        self._most = hot
        self._lock = threading.RLock()

    def path(self, key: str, name: str = "") -> str:
        return os.path.join(self.folder, key[:2], key, name)

    def record(self, key: str) -> dict | None:
        """The JSON part of a result, without its geometry."""
        return self.remember(("record", key), lambda: self._read_record(key))

    def _read_record(self, key: str) -> dict | None:
        try:
            with open(self.path(key, "record.json")) as f:
                return json.load(f)
        except FileNotFoundError:
            return None

    def load(self, key: str) -> Outcome | None:
        record = self.record(key)
        if record is None:
            return None

        def blob(name: str) -> str | None:
            path = self.path(key, name)
            return path if os.path.exists(path) else None

        return self.remember(("outcome", key), lambda: unpack(record, blob))

    def save_failure(self, key: str, says: str) -> None:
        """Remember that this cannot be computed, and why."""
        self._write(
            key,
            {"produces": "nothing", "data": None, "summary": {}, "says": says, "status": "failed", "values": []},
            {},
        )

    def forget(self, key: str) -> None:
        """Drop a result, so that it is computed again."""
        shutil.rmtree(self.path(key), ignore_errors=True)
        with self._lock:
            for kind in ("record", "outcome"):
                self._hot.pop((kind, key), None)

    def save(self, key: str, produces: str, outcome: Outcome) -> None:
        record, blobs = pack(produces, outcome)
        self._write(key, record, blobs)
        with self._lock:
            self._hot[("outcome", key)] = outcome
            self._trim()

    def _write(self, key: str, record: dict, blobs: dict[str, bytes]) -> None:
        final = self.path(key)
        os.makedirs(os.path.dirname(final), exist_ok=True)
        temporary = tempfile.mkdtemp(dir=self.folder)
        for name, data in {**blobs, "record.json": json.dumps(record).encode()}.items():
            with open(os.path.join(temporary, name), "wb") as f:
                f.write(data)
                f.flush()
                os.fsync(f.fileno())
        try:
            os.rename(temporary, final)
        except OSError:  # another process was first with the same result
            shutil.rmtree(temporary, ignore_errors=True)
        with self._lock:
            self._hot.pop(("record", key), None)

    def remember(self, key: tuple, make) -> Any:
        """A value kept hot while there is room; None is not kept."""
        with self._lock:
            if key in self._hot:
                self._hot.move_to_end(key)
                return self._hot[key]
        value = make()
        if value is not None:
            with self._lock:
                self._hot[key] = value
                self._trim()
        return value

    def _trim(self) -> None:
        while len(self._hot) > self._most:
            self._hot.popitem(last=False)
