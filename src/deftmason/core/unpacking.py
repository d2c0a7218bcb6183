"""Plain files taken out of an archive, none beside the folder they belong into."""

from __future__ import annotations

import os
import shutil
import tarfile

__all__ = ["unpack_file"]


def unpack_file(tar: tarfile.TarFile, member: tarfile.TarInfo, folder: str) -> str:
    """Write one member under ``folder``, for its owner alone, and return its path. Raises `tarfile.TarError` where it
    is no plain file, or would lie elsewhere.

    Every Python 3.11 does it, also those whose `tarfile` knows no filters yet.
    """
    home = os.path.realpath(folder)
    path = os.path.realpath(os.path.join(home, member.name))
    source = tar.extractfile(member) if member.isreg() else None
    if source is None or not path.startswith(home + os.sep):
        raise tarfile.TarError(f"'{member.name}' is no plain file of this folder")
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with source, open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as f:
        shutil.copyfileobj(source, f)
    return path
