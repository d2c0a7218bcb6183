"""Files as given, on disk by checksum: flushed, with their folder, before the row that names them.

A file that was sent lies under a name of its own until it has been read and found usable; only then does it become a
blob. So an unusable one
leaves nothing, and the same file sent by several people at once is kept once.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass

from django.conf import settings

from deftmason.core.errors import BadInput, NoRoom
from deftmason.core.recipe.store import sync_folder

from ..engines.desk import blob_file
from .models import Blob
from .sharing import sharing

__all__ = ["Sent", "blob_path", "drop", "keep", "receive", "room_for"]

_SPARE = 200_000_000  # bytes of the disk that are left to what is being worked on


@dataclass
class Sent:
    """A file that was sent and is not kept yet."""

    path: str
    sha256: str
    size: int


def blob_path(sha256: str) -> str:
    return blob_file(str(settings.DATA), sha256)


def room_for(size: int) -> None:
    """Raises `NoRoom` where the disk has none for so many bytes more."""
    free = shutil.disk_usage(settings.DATA).free
    if free < size + _SPARE:
        raise NoRoom(
            f"The server's disk has {max(free - _SPARE, 0) / 1e6:,.0f} MB left, and this needs "
            f"{size / 1e6:,.0f} MB; make room there first."
        )


def receive(chunks: Iterable[bytes], most: int | None = None) -> Sent:
    """Chunks of bytes as a file of its own. Raises `BadInput` where they are more than may be sent, and leaves nothing
    then.
    """
    most = settings.MOST_UPLOAD_BYTES if most is None else most
    digest, size = hashlib.sha256(), 0
    handle, path = tempfile.mkstemp(dir=settings.DATA / "tmp", prefix="sent-")
    try:
        with os.fdopen(handle, "wb") as f:
            for chunk in chunks:
                size += len(chunk)
                if size > most:
                    raise BadInput(f"The file is larger than the {most / 1e9:g} GB that may be sent.", field="file")
                digest.update(chunk)
                f.write(chunk)
            f.flush()
            os.fsync(f.fileno())
    except BaseException:
        os.unlink(path)
        raise
    return Sent(path, digest.hexdigest(), size)


def drop(sent: Sent) -> None:
    """Remove a sent file that is not to be kept."""
    if os.path.exists(sent.path):
        os.unlink(sent.path)


def keep(sent: Sent) -> Blob:
    """Make a sent file a blob; the same bytes kept before stay as they are."""
    final = blob_path(sent.sha256)
    folder = os.path.dirname(final)
    os.makedirs(folder, exist_ok=True)
    if not os.path.exists(final) or os.path.getsize(final) != sent.size:
        os.replace(sent.path, final)
    drop(sent)
    sync_folder(folder)
    shared = sharing()
    if shared is not None:
        shared.put_file(sent.sha256)
    return Blob.objects.get_or_create(sha256=sent.sha256, defaults={"size": sent.size})[0]
