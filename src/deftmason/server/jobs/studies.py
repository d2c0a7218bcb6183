"""Studies: what a step would give, or what is wrong with a mesh, worked out beside the request and followed by number.

A study that is done within a moment is answered at once; else the page asks again, sees how far it is, and may
stop it. Nothing is saved but results by content, so a study lost with the server is only asked for again.
"""

from __future__ import annotations

import itertools
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.errors import Cancelled, MasonError
from deftmason.core.progress import Progress

from .access import job_of

__all__ = ["Study", "begin_study", "study_view"]

router = Router()
_AT_ONCE = 0.25  # seconds a request waits before it answers with a number
_MOST_KEPT = 60


class StudyView(Schema):
    """``result`` once ``done``; until then how far it is."""

    study: int
    done: bool
    progress: float
    message: str
    result: dict[str, Any] | None = None


class Study:
    """One computation: its progress, its answer or its refusal."""

    def __init__(self, number: int, job: int, slot: str):
        self.number, self.job, self.slot = number, job, slot
        self.share, self.message = 0.0, "Starting"
        self.result: dict | None = None
        self.refusal: MasonError | None = None
        self.stop = threading.Event()
        self.done = threading.Event()

    def progress(self, share: float, message: str = "") -> None:
        if self.stop.is_set():
            raise Cancelled()
        self.share = share
        self.message = message or self.message


_studies: OrderedDict[int, Study] = OrderedDict()
_numbers = itertools.count(1)
_lock = threading.Lock()
_pool = ThreadPoolExecutor(2, thread_name_prefix="study")


def begin_study(job: int, slot: str, work: Callable[[Progress], dict]) -> Study:
    """Start work that touches no database; a study of the same job and slot still running is stopped. Waits a moment for it."""
    with _lock:
        for old in _studies.values():
            if old.job == job and old.slot == slot and not old.done.is_set():
                old.stop.set()
        study = Study(next(_numbers), job, slot)
        _studies[study.number] = study
        while len(_studies) > _MOST_KEPT:
            _studies.popitem(last=False)

    def run() -> None:
        try:
            study.progress(0.0)
            study.result = work(study.progress)
        except MasonError as e:
            study.refusal = e
        except Exception as e:  # said to the person; the traceback goes to the log
            study.refusal = MasonError(f"Something went wrong inside ({type(e).__name__}); nothing was changed.", code="inside")
            raise
        finally:
            study.done.set()

    _pool.submit(run)
    study.done.wait(_AT_ONCE)
    return study


def study_view(study: Study) -> dict:
    """How a study stands; raises its refusal."""
    done = study.done.is_set()
    if done and study.refusal is not None:
        raise study.refusal
    return {"study": study.number, "done": done, "progress": round(study.share, 3), "message": study.message, "result": study.result}


def _mine(request: HttpRequest, job_id: int, number: int) -> Study:
    job = job_of(request, job_id)
    study = _studies.get(number)
    if study is None or study.job != job.id:
        raise HttpError(404, "There is no such study; ask again.")
    return study


@router.get("/jobs/{job_id}/studies/{number}", response=StudyView)
def follow(request: HttpRequest, job_id: int, number: int):
    """How a study stands; waits a moment for it to finish."""
    study = _mine(request, job_id, number)
    study.done.wait(0.4)
    return study_view(study)


@router.delete("/jobs/{job_id}/studies/{number}", response=StudyView)
def stop(request: HttpRequest, job_id: int, number: int):
    """Stop a study."""
    study = _mine(request, job_id, number)
    study.stop.set()
    time.sleep(0)
    return {"study": number, "done": True, "progress": 0.0, "message": "Stopped as asked.", "result": None}
