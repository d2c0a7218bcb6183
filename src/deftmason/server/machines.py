"""What stands on one machine or on several, from the environment: the database, the queue of tasks, the shared store.

By default everything is in the data folder: SQLite, the queue in it, files beside it. ``DATABASE_URL`` names another
database, ``REDIS_URL`` a queue in Redis for workers on any machine, ``DEFT_MASON_STORE`` a folder or bucket
(``s3://name``) that files and results are shared through.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import dj_database_url

__all__ = ["database", "queue_of", "shared_store", "task_backend", "worker_command"]

_LOOK_FOR_WORK = "0.5"  # seconds between two looks: an idle program uses next to nothing
_DATABASE_QUEUE = "django_tasks_db.DatabaseBackend"
_REDIS_QUEUE = "django_tasks_rq.RQBackend"


def database(data: Path, url: str) -> dict[str, Any]:
    """Django's settings of the database: SQLite in the data folder, or what ``url`` names."""
    found: dict[str, Any] = dict(dj_database_url.parse(url)) if url else {"NAME": data / "mason.sqlite3"}
    found.setdefault("ENGINE", "django.db.backends.sqlite3")
    if found["ENGINE"].endswith("sqlite3"):
        return {
            **found,
            "CONN_MAX_AGE": None,  # kept open, the database can be read on a disk that is full
            "OPTIONS": {
                "transaction_mode": "IMMEDIATE",
                "timeout": 20,
                "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;",
            },
            "TEST": {"NAME": data / "test.sqlite3"},
        }
    return {**found, "CONN_MAX_AGE": 60, "CONN_HEALTH_CHECKS": True}


def task_backend(redis: str) -> str:
    """The queue of tasks: in Redis where it is named, else in the database."""
    return os.environ.get("DEFT_MASON_TASKS") or (_REDIS_QUEUE if redis else _DATABASE_QUEUE)


def queue_of(redis: str) -> dict[str, Any]:
    """Settings of the queue in Redis; a task may take a day."""
    return {"default": {"URL": redis, "DEFAULT_TIMEOUT": 86400}} if redis else {}


def worker_command(backend: str) -> list[str]:
    """The management command that a worker runs. One that works through Redis does each task in its own process, so
    that its engines stay hot.
    """
    if backend == _REDIS_QUEUE:
        job, worker = "django_tasks_rq.Job", "rq.worker.SimpleWorker"
        return ["rqworker", "default", "--job-class", job, "--worker-class", worker]
    return ["db_worker", "--interval", _LOOK_FOR_WORK, "--no-startup-delay", "--no-reload"]


def shared_store(place: str) -> dict[str, Any] | None:
    """Django's settings of the shared store: a folder's path or ``s3://bucket/prefix``; None where there is none.

    Keys of a bucket are taken from the usual variables (``AWS_ACCESS_KEY_ID`` and so on); ``DEFT_MASON_S3_ENDPOINT``
    is the address of another service that speaks S3.
    """
    if not place:
        return None
    found = urlsplit(place)
    if found.scheme == "s3":
        return {
            "BACKEND": "storages.backends.s3.S3Storage",
            "OPTIONS": {
                "bucket_name": found.netloc,
                "location": found.path.strip("/"),
                "endpoint_url": os.environ.get("DEFT_MASON_S3_ENDPOINT") or None,
                "file_overwrite": True,
            },
        }
    if found.scheme or not os.path.isabs(place):
        sys.exit(f"DEFT_MASON_STORE is '{place}'; give a folder's whole path, or s3://bucket.")
    return {
        "BACKEND": "django.core.files.storage.FileSystemStorage",
        "OPTIONS": {"location": place, "allow_overwrite": True},
    }
