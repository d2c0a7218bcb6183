"""Files brought in and results shared between machines, through Django's storage of the name ``shared``.

Each machine keeps what it works on in its own data folder; what it lacks it fetches, what it made it puts there. A file
goes by its checksum; a result is one archive, named whole only by the checksum beside it, which is written last.
"""

from __future__ import annotations

import functools
import hashlib
import os
import shutil
import tarfile
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

from django.conf import settings
from django.core.files import File
from django.core.files.base import ContentFile
from django.core.files.storage import Storage, storages
from django.utils import timezone

from deftmason.core.errors import BadInput
from deftmason.core.recipe.parse import files_of, parse_recipe
from deftmason.core.recipe.replay import step_keys
from deftmason.core.recipe.store import ResultStore
from deftmason.core.unpacking import unpack_file

from ..engines.desk import blob_file

__all__ = ["SharedResults", "Sharing", "sharing"]

_ASK_AGAIN = 1.0  # seconds until it is asked again for a result that was not there
_PIECE = 1 << 20


@functools.cache
def sharing() -> Sharing | None:
    """What is shared with other machines; None where this one works alone."""
    if "shared" not in settings.STORAGES:
        return None
    return Sharing(storages["shared"], Path(settings.DATA))


class Sharing:
    """A machine's side of the shared store: ``data`` is its own folder."""

    def __init__(self, store: Storage, data: Path):
        self.store, self.data = store, data
        self.results = ResultStore(str(data / "results"), 1)
        self._there: set[str] = set()
        self._lacking: dict[str, float] = {}

    # Files.

    def put_file(self, sha256: str) -> None:
        """Share a file that lies here."""
        name = self._blob(sha256)
        if name in self._there or self.store.exists(name):
            self._there.add(name)
            return
        with open(blob_file(str(self.data), sha256), "rb") as f:
            self.store.save(name, File(f))
        self._there.add(name)

    def bring_file(self, sha256: str) -> None:
        """Fetch a file that does not lie here, if the store has it. Raises `BadInput` where it is not what it was."""
        final = blob_file(str(self.data), sha256)
        if os.path.exists(final) or not self.store.exists(self._blob(sha256)):
            return
        path, found = self._fetched(self._blob(sha256))
        if found != sha256:
            os.unlink(path)
            raise BadInput("A shared file is not the one that was brought in; bring it in again.", field="sha256")
        os.makedirs(os.path.dirname(final), exist_ok=True)
        os.replace(path, final)

    @staticmethod
    def _blob(sha256: str) -> str:
        return f"blobs/{sha256[:2]}/{sha256}"

    # Results.

    def put_result(self, key: str) -> None:
        """Share a result that lies here."""
        name = self._result(key)
        folder = self.results.path(key)
        if name in self._there or not os.path.exists(os.path.join(folder, "record.json")):
            return
        if not self.store.exists(name + ".sum"):
            handle, path = tempfile.mkstemp(dir=self.data / "tmp", prefix="shared-")
            os.close(handle)
            try:
                with tarfile.open(path, "w") as t:
                    t.add(folder, arcname=".")
                with open(path, "rb") as f:
                    found = hashlib.file_digest(f, "sha256").hexdigest()
                    f.seek(0)
                    self.store.save(name, File(f))
            finally:
                os.unlink(path)
            self.store.save(name + ".sum", ContentFile(found.encode()))
        self._there.add(name)

    def bring_result(self, key: str) -> bool:
        """Fetch a result that does not lie here; whether it does now."""
        final = self.results.path(key).rstrip("/")
        if os.path.exists(os.path.join(final, "record.json")):
            return True
        if time.monotonic() < self._lacking.get(key, 0.0):
            return False
        name = self._result(key)
        if not self.store.exists(name + ".sum"):
            self._lacking[key] = time.monotonic() + _ASK_AGAIN
            return False
        with self.store.open(name + ".sum") as f:
            wanted = f.read().decode()
        path, found = self._fetched(name)
        folder = tempfile.mkdtemp(dir=self.results.folder)
        try:
            if found != wanted:
                return False
            with tarfile.open(path) as t:
                for m in t:
                    if m.isreg():
                        unpack_file(t, m, folder)
            os.makedirs(os.path.dirname(final), exist_ok=True)
            if not os.path.exists(final):
                os.rename(folder, final)
        except OSError:  # another process was first
            return os.path.exists(os.path.join(final, "record.json"))
        finally:
            os.unlink(path)
            shutil.rmtree(folder, ignore_errors=True)
        self._there.add(name)
        return True

    def forget(self, key: str) -> None:
        """Take a result out of the store, so that it is made again."""
        name = self._result(key)
        self._there.discard(name)
        self.store.delete(name + ".sum")
        self.store.delete(name)

    @staticmethod
    def _result(key: str) -> str:
        return f"results/{key[:2]}/{key}.tar"

    def _fetched(self, name: str) -> tuple[str, str]:
        """A shared file's bytes in a temporary file, and their checksum."""
        digest = hashlib.sha256()
        handle, path = tempfile.mkstemp(dir=self.data / "tmp", prefix="shared-")
        with os.fdopen(handle, "wb") as out, self.store.open(name) as f:
            while piece := f.read(_PIECE):
                digest.update(piece)
                out.write(piece)
        return path, digest.hexdigest()

    # What a recipe needs, and what it gave.

    def bring(self, steps: list[dict], keys: Iterable[str] = ()) -> None:
        """Fetch the files and results that a recipe needs and that do not lie here."""
        for sha in {f for s in steps for f in files_of(s)}:
            self.bring_file(sha)
        for key in {*keys, *_keys(steps)}:
            self.bring_result(key)

    def put(self, steps: list[dict]) -> None:
        """Share the results of a recipe that lie here."""
        for key in _keys(steps):
            self.put_result(key)

    def collect(self, blobs: set[str], keys: set[str], fresh: float) -> None:
        """Take out what none of these names, but for what is younger than ``fresh`` seconds."""
        for part, kept in (("blobs", blobs), ("results", keys)):
            for folder in self._folders(part):
                for name in self.store.listdir(f"{part}/{folder}")[1]:
                    path = f"{part}/{folder}/{name}"
                    if name.split(".")[0] in kept:
                        continue
                    if (timezone.now() - self.store.get_modified_time(path)).total_seconds() > fresh:
                        self._there.discard(path)
                        self.store.delete(path)

    def _folders(self, part: str) -> list[str]:
        try:
            return list(self.store.listdir(part)[0])
        except FileNotFoundError:
            return []


def _keys(steps: list[dict]) -> list[str]:
    return [k for k in step_keys(parse_recipe(steps)).values() if k]


class SharedResults(ResultStore):
    """Results as this machine has them, and those it can fetch."""

    def __init__(self, shared: Sharing, hot: int):
        super().__init__(shared.results.folder, hot)
        self._shared = shared

    def record(self, key: str) -> dict | None:
        found = super().record(key)
        if found is None and self._shared.bring_result(key):
            return super().record(key)
        return found

    def forget(self, key: str) -> None:
        super().forget(key)
        self._shared.forget(key)
