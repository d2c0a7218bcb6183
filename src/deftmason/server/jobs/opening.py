"""A recipe that comes in with its scans, opened as a job: what was made elsewhere goes on here."""

from __future__ import annotations

import contextlib
import os
import tempfile
import zipfile
import zlib
from collections.abc import Iterator

from django.conf import settings
from django.db import transaction

from deftmason.core.errors import BadInput
from deftmason.core.recipe.parse import files_of
from deftmason.core.recipe.recipefile import read_recipe

from .blobs import Sent, drop, keep, receive, room_for
from .models import Job, Upload
from .recipe import change
from .work import settle

__all__ = ["open_recipe"]

_RECIPE = "recipe.json"
_MOST_RECIPE = 100_000_000  # bytes of the recipe itself
_MOST_FILES = 500
_PIECE = 1 << 20


def open_recipe(file, owner, person: str) -> Job:
    """A job of its own from what `recipe.zip` holds. Raises `BadInput` in a sentence, and leaves nothing then."""
    name = os.path.basename(str(file.name or "recipe.zip"))[:120]
    room_for(file.size or 0)
    sent = receive(file.chunks())
    found: dict[str, Sent] = {}
    try:
        with _opened(sent.path, name) as z, tempfile.TemporaryDirectory(dir=settings.DATA / "tmp") as folder:
            path = os.path.join(folder, _RECIPE)
            with open(path, "wb") as f:
                for piece in _pieces(z, _entry(z, _RECIPE, name), _MOST_RECIPE, name):
                    f.write(piece)
            title, records, _ = read_recipe(path)
            wanted = {sha for r in records for sha in files_of(r)}
            for entry in z.infolist():
                if entry.is_dir() or entry.filename == _RECIPE:
                    continue
                got = receive(_pieces(z, entry, settings.MOST_UPLOAD_BYTES, name))
                if got.sha256 in wanted and got.sha256 not in found:
                    found[got.sha256] = got
                else:
                    drop(got)
            lost = next((r for r in records for sha in files_of(r) if sha not in found), None)
            if lost is not None:
                raise BadInput(
                    f"{name}: the file of '{str(lost.get('name'))[:80]}' is not in it, or was changed; "
                    "hand the recipe on again, with its scans.",
                    field="file",
                )
        files = {sha: str(r.get("file") or "scan")[:200] for r in records for sha in files_of(r)}
        with transaction.atomic():
            job = Job.objects.create(name=title[:120], owner=owner)
            for sha, got in found.items():
                Upload.objects.create(blob=keep(got), owner=owner, name=files[sha])
            change(job, "Open the recipe", lambda _: records, trusted=True)
            job.edits.all().delete()  # what came in is the job itself: nothing to undo
        settle(job, "Laying the recipe", person, at_once=False)
        return job
    finally:
        drop(sent)
        for got in found.values():
            drop(got)


@contextlib.contextmanager
def _opened(path: str, name: str) -> Iterator[zipfile.ZipFile]:
    """The zip, its own errors told in a sentence."""
    try:
        with zipfile.ZipFile(path) as z:
            if len(z.infolist()) > _MOST_FILES:
                raise BadInput(f"{name}: holds more than {_MOST_FILES} files; hand the recipe on again.", field="file")
            yield z
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zlib.error, OSError):
        raise BadInput(
            f"{name}: is no recipe that was handed on with its scans; choose a recipe.zip.", field="file"
        ) from None


def _entry(z: zipfile.ZipFile, called: str, name: str) -> zipfile.ZipInfo:
    found = next((i for i in z.infolist() if i.filename == called), None)
    if found is None:
        raise BadInput(f"{name}: holds no {called}; choose a recipe that was handed on with its scans.", field="file")
    return found


def _pieces(z: zipfile.ZipFile, entry: zipfile.ZipInfo, most: int, name: str) -> Iterator[bytes]:
    """What an entry unpacks to, never more than allowed, whatever the directory says."""
    total = 0
    with z.open(entry) as f:
        while piece := f.read(_PIECE):
            total += len(piece)
            if total > most:
                raise BadInput(f"{name}: unpacks to more than may be sent; hand on a smaller scan.", field="file")
            yield piece
