"""Where results live: a folder of results by key, written whole before they are named, and a small hot memory."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import shutil
import tempfile
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator
from typing import Any

from ..errors import NoRoom
from ..progress import Progress, silent
from .codec import pack, unpack
from .step import Outcome

__all__ = ["ResultStore", "sync_folder"]


def sync_folder(folder: str) -> None:
    """Flush a folder's own entries: a rename outlives a pulled plug only then."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


_LOOK_AGAIN = 0.03  # seconds


def _locked(handle: int) -> bool:
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _is_at(handle: int, path: str) -> bool:
    """Whether a path still names the file that is open."""
    try:
        there, held = os.stat(path), os.fstat(handle)
    except FileNotFoundError:
        return False
    return (there.st_dev, there.st_ino) == (held.st_dev, held.st_ino)


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
        with self._lock:
            known = self._hot.get(("record", key))
        if known is not None and not os.path.exists(self.path(key, "record.json")):
            self._drop(key)  # its files were collected while no job named it; it is made again
            known = None
        found = known or self._read_record(key)
        if (
            known is None and found is not None and found["status"] != "failed"
        ):  # a failure may be tried again by another process
            self.remember(("record", key), lambda: found)
        return found

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

    def save_failure(self, key: str, says: str, *, broke: bool = False) -> None:
        """Remember that this cannot be computed, and why; ``broke`` where the program failed and not the step
        refused.
        """
        nothing: dict[str, Any] = {"produces": "nothing", "data": None, "summary": {}, "values": []}
        record = {**nothing, "says": says, "status": "failed"}
        self._write(key, record | ({"broke": True} if broke else {}), {})

    def forget(self, key: str) -> None:
        """Drop a result, so that it is computed again."""
        self._drop(key)

    def _drop(self, key: str) -> None:
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
        try:
            for name, data in {**blobs, "record.json": json.dumps(record).encode()}.items():
                with open(os.path.join(temporary, name), "wb") as f:
                    f.write(data)
                    f.flush()
                    os.fsync(f.fileno())
            sync_folder(temporary)
            try:
                os.rename(temporary, final)
            except OSError as e:  # another process was first with the same result
                if e.errno not in (errno.EEXIST, errno.ENOTEMPTY):
                    raise
            sync_folder(os.path.dirname(final))
        except OSError as e:
            if e.errno == errno.ENOSPC:
                raise NoRoom() from None
            raise
        finally:
            shutil.rmtree(temporary, ignore_errors=True)
        with self._lock:
            self._hot.pop(("record", key), None)

    @contextlib.contextmanager
    def making(self, key: str, progress: Progress = silent) -> Iterator[None]:
        """Only one process at a time makes a key's result; the others wait here, and look whether it is there once they
        may go on.

        ``progress`` is told while waiting, and may raise `Cancelled`. A maker that dies lets the next one in.
        """
        folder = os.path.join(self.folder, "making")
        os.makedirs(folder, exist_ok=True)
        path = os.path.join(folder, key)
        while True:
            handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
            try:
                while not _locked(handle):
                    progress(0.0, "Waiting for the same work elsewhere")
                    time.sleep(_LOOK_AGAIN)
                if _is_at(handle, path):  # else whoever held it took the file away: lock the new one
                    try:
                        yield
                    finally:
                        os.unlink(path)
                    return
            finally:
                os.close(handle)

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
