"""`mason backup` and `mason restore`: a data folder, while it is in use, as one file; and a folder made of it again.

What names files is copied first, as of one moment; files are written before anything names them and never changed, so
all that the copy names is there. Each file's checksum goes along and is looked at when it comes back.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import shutil
import sqlite3
import subprocess
import tarfile
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

from ..core.errors import BadArgument, BadInput, NoRoom
from ..core.unpacking import unpack_file

__all__ = ["back_up", "restore"]

_DATABASE, _DUMP, _LIST = "mason.sqlite3", "database.dump", "contents.json"
_BESIDE = ("secret.txt", "demo-truth.json")
_FORMAT = "deft-mason-backup"


def _postgres() -> str:
    url = os.environ.get("DATABASE_URL", "")
    return url if url.startswith(("postgres:", "postgresql:")) else ""


def back_up(data: str, out: str, results: bool, progress) -> dict[str, Any]:
    """Write the data folder into one file, whole or not at all; its answer."""
    folder = Path(data)
    if not (folder / "blobs").is_dir() or not (_postgres() or (folder / _DATABASE).is_file()):
        raise BadInput(f"{data}: is no data folder of this program; give the one it runs on.")
    begin = time.perf_counter()
    listed: dict[str, dict[str, Any]] = {}
    lost: list[str] = []
    part = out + ".part"
    try:
        beside = os.path.dirname(os.path.abspath(out))
        with tempfile.TemporaryDirectory(dir=beside) as room, tarfile.open(part, "w") as tar:
            database, named = _database_copied(folder, Path(room))
            files = [(database.name, database), *((n, folder / n) for n in _BESIDE if (folder / n).is_file())]
            files += _named_files(folder, named, results)
            files += _captures_copied(folder, Path(room))
            for k, (name, path) in enumerate(files):
                if k % 50 == 0:
                    progress(k / len(files), f"{k:,} of {len(files):,} files")
                if (found := _added(tar, name, path)) is None:
                    lost.append(name)
                else:
                    listed[name] = found
            text = json.dumps({"format": _FORMAT, "version": 1, "files": listed}).encode()
            entry = tarfile.TarInfo(_LIST)
            entry.size = len(text)
            tar.addfile(entry, io.BytesIO(text))
        with open(part, "rb") as f:
            os.fsync(f.fileno())
        os.replace(part, out)
    except OSError as e:
        raise NoRoom(f"{out}: cannot be written ({e.strerror}); make room, or write it elsewhere.") from None
    finally:
        if os.path.exists(part):
            os.unlink(part)
    progress(1.0, "Done")
    warnings = [f"{len(lost)} files went while they were copied: jobs that were thrown away meanwhile."] if lost else []
    return {
        "files": len(listed),
        "bytes": os.path.getsize(out),
        "database": "postgresql" if _postgres() else "sqlite",
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }


def _database_copied(folder: Path, room: Path) -> tuple[Path, dict[str, set[str]] | None]:
    """A copy of the database as of one moment, and the files and results it names; None: all there are."""
    if url := _postgres():
        path = room / _DUMP
        _run(["pg_dump", "--format=custom", f"--file={path}", url], "pg_dump")
        return path, None
    path = room / _DATABASE
    with closing(sqlite3.connect(folder / _DATABASE, timeout=30)) as source, closing(sqlite3.connect(path)) as copy:
        source.backup(copy)
        copy.execute("PRAGMA journal_mode=DELETE")
        blobs = {r[0] for r in copy.execute("SELECT sha256 FROM jobs_blob")}
        keys = {r[0] for r in copy.execute("SELECT key FROM jobs_result")}
        for row in copy.execute("SELECT key, scan_key, body_key FROM jobs_proof"):
            keys |= set(row)
    return path, {"blobs": blobs, "results": keys}


def _run(command: list[str], tool: str) -> None:
    try:
        subprocess.run(command, check=True, capture_output=True, text=True)
    except FileNotFoundError:
        raise BadInput(f"{tool} is not installed; install Debian's package postgresql-client.") from None
    except subprocess.CalledProcessError as e:
        said = (e.stderr.strip().splitlines() or ["it ended without a word"])[-1]
        raise BadInput(f"{tool}: {said}; look at DATABASE_URL.") from None


def _named_files(folder: Path, named: dict[str, set[str]] | None, results: bool) -> Iterator[tuple[str, Path]]:
    for kind in ("blobs", "results") if results else ("blobs",):
        for place in sorted((folder / kind).glob("??/*")):
            if named is not None and place.name not in named[kind]:
                continue
            for path in [place] if place.is_file() else sorted(p for p in place.rglob("*") if p.is_file()):
                yield str(path.relative_to(folder)), path


def _captures_copied(folder: Path, room: Path) -> Iterator[tuple[str, Path]]:
    """Captures, as far as they have grown by now."""
    for path in sorted((folder / "captures").glob("*.capture")):
        copied = room / path.name
        with contextlib.suppress(FileNotFoundError):
            shutil.copyfile(path, copied)
            yield str(path.relative_to(folder)), copied


def _added(tar: tarfile.TarFile, name: str, path: Path) -> dict[str, Any] | None:
    """A file put into the archive: its size and checksum; None where it is gone."""
    try:
        with open(path, "rb") as f:
            digest = hashlib.file_digest(f, "sha256").hexdigest()
            f.seek(0)
            entry = tarfile.TarInfo(name)
            entry.size, entry.mode = os.fstat(f.fileno()).st_size, 0o600
            tar.addfile(entry, f)
    except FileNotFoundError:
        return None
    return {"bytes": entry.size, "sha256": digest}


def restore(file: str, data: str, progress) -> dict[str, Any]:
    """A data folder made of a backup, whole or not at all; its answer. Raises where one is there already."""
    target = Path(data)
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise BadArgument(f"--data: '{data}' is not empty; give a folder that is not there yet.", field="data")
    begin = time.perf_counter()
    name = os.path.basename(file)
    parent = target.absolute().parent
    if not parent.is_dir():
        raise BadArgument(f"--data: there is no folder '{parent}' to put it into; make it first.", field="data")
    with tempfile.TemporaryDirectory(dir=parent, prefix=".restore-") as room:
        count = _unpacked(file, name, Path(room), progress)
        for part in ("tmp", "results", "blobs", "pictures", "captures"):
            (Path(room) / part).mkdir(exist_ok=True)
        dump = Path(room) / _DUMP
        if dump.exists():
            if not (url := _postgres()):
                raise BadInput(f"{name}: holds a PostgreSQL database; set DATABASE_URL to an empty one for it.")
            _run(["pg_restore", "--no-owner", "--exit-on-error", f"--dbname={url}", str(dump)], "pg_restore")
            dump.unlink()
        Path(room).chmod(0o700)
        if target.exists():
            target.rmdir()
        os.rename(room, target)
        os.makedirs(room)  # what cleans up after itself finds something
    progress(1.0, "Done")
    return {"files": count, "warnings": [], "seconds": time.perf_counter() - begin}


def _unpacked(file: str, name: str, room: Path, progress) -> int:
    """The archive's files in a folder, each looked at; how many. Raises `BadInput` where it is damaged."""
    damaged = BadInput(f"{name}: is no whole backup of this program; take another one.")
    try:
        with tarfile.open(file) as tar:
            members = tar.getmembers()
            if not members or members[-1].name != _LIST:
                raise damaged
            listed = json.load(tar.extractfile(members[-1]))  # type: ignore[arg-type]
            if listed.get("format") != _FORMAT or {m.name for m in members[:-1]} != set(listed["files"]):
                raise damaged
            for k, m in enumerate(members[:-1]):
                if k % 50 == 0:
                    progress(k / len(members), f"{k:,} of {len(members):,} files")
                with open(unpack_file(tar, m, str(room)), "rb") as f:
                    if hashlib.file_digest(f, "sha256").hexdigest() != listed["files"][m.name]["sha256"]:
                        raise damaged
    except FileNotFoundError:
        raise BadInput(f"{name}: there is no such file; check the path.") from None
    except (tarfile.TarError, ValueError, KeyError, AttributeError, EOFError):
        raise damaged from None
    return len(members) - 1
