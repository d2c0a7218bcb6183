"""What nothing names any more: results and files of jobs that are gone, what killed uploads left, pictures nobody
shows.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import time
from pathlib import Path

from django.db import connection, transaction

from deftmason.core.recipe.parse import files_of

from .models import Blob, Capture, Edit, Job, Piece, Proof, Result, Step, Upload
from .sharing import sharing

__all__ = ["FRESH", "UNUSED", "collect"]

FRESH = 600.0  # seconds that what was written lately is left alone: its row may be on its way
UNUSED = 86400.0  # seconds an upload that no job uses is kept for its sender


def collect(data: Path, fresh: float, unused: float) -> int:
    """Bytes freed. Nothing is removed that a row names, or that was written less than ``fresh`` seconds ago."""
    with transaction.atomic():  # nobody writes a row meanwhile
        _alone()
        used = {f for r in Step.objects.values_list("record", flat=True) for f in files_of(r)}
        for before, after in Edit.objects.values_list("before", "after").iterator(chunk_size=50):
            used |= {f for r in [*before, *after] for f in files_of(r)}
        used |= {f for r in Piece.objects.values_list("record", flat=True) for f in files_of(r)}
        limit = time.time() - unused
        for upload in Upload.objects.select_related("blob"):
            if upload.blob.sha256 not in used and upload.created.timestamp() < limit:
                upload.delete()
        kept = used | set(Upload.objects.values_list("blob__sha256", flat=True))
        Blob.objects.exclude(sha256__in=kept).delete()
        keys = set(Result.objects.values_list("key", flat=True))
        for names in Proof.objects.values_list("key", "scan_key", "body_key"):
            keys |= set(names)
        gone = [p for p in _older(data / "blobs", "*/*", fresh) if p.name not in kept]
        gone += _older(data / "blobs", "tmp*", fresh)
        gone += [p for p in _older(data / "results", "??/*", fresh) if p.name not in keys]
        gone += [*_older(data / "results", "tmp*", fresh), *_older(data / "tmp", "*", fresh)]
        recorded = set(Capture.objects.values_list("file", flat=True))
        gone += [p for p in _older(data / "captures", "*", fresh) if p.name not in recorded]
        if not Job.objects.exists():
            gone += _older(data / "pictures", "*", fresh)
        # Out of sight while nobody writes; taken off the disk once others may write again.
        (data / "tmp").mkdir(exist_ok=True)
        out = Path(tempfile.mkdtemp(prefix="collected", dir=data / "tmp"))
        for k, path in enumerate(gone):
            with contextlib.suppress(FileNotFoundError):
                path.rename(out / str(k))
    shared = sharing()
    if shared is not None:
        shared.collect(kept, keys, fresh)
    return _removed(out)


def _alone() -> None:
    """Until the transaction ends nobody else names a file; SQLite's own transactions see to that already."""
    if connection.vendor == "postgresql":
        with connection.cursor() as c:
            tables = ", ".join(m._meta.db_table for m in (Blob, Upload, Step, Edit, Piece, Result, Proof))
            c.execute(f"LOCK TABLE {tables} IN EXCLUSIVE MODE")


def _older(folder: Path, pattern: str, fresh: float) -> list[Path]:
    limit = time.time() - fresh
    return [p for p in folder.glob(pattern) if p.lstat().st_mtime <= limit]


def _removed(path: Path) -> int:
    """Bytes a file or folder held; it is gone."""
    if path.is_dir() and not path.is_symlink():
        size = sum(p.lstat().st_size for p in path.rglob("*"))
        shutil.rmtree(path, ignore_errors=True)
    else:
        size = path.lstat().st_size
        path.unlink(missing_ok=True)
    return size
