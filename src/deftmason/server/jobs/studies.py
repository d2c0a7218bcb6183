"""Studies: what a step would give, or what is wrong with a mesh, worked out by an engine beside the request and
followed by number.

A study that is done within a moment is answered at once; else the page asks again, sees how far it is, and may
stop it. Nothing is saved but results by content, so a study lost with the server is only asked for again.
"""

from __future__ import annotations

import itertools
import logging
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from django.db import connections
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.errors import MasonError

from .access import job_of, person_of

__all__ = ["Study", "StudyView", "begin_study", "study_of", "study_view"]

router = Router()
log = logging.getLogger(__name__)

_AT_ONCE = 0.25  # seconds a request waits before it answers with a number
_MOST_KEPT = 120
_MOST_OF_ONE = 4  # studies of one person under way; another one stops the oldest


class StudyView(Schema):
    """``result`` once ``done``; until then how far it is."""

    study: int
    done: bool
    progress: float
    message: str
    result: dict[str, Any] | None = None


class Study:
    """One computation: its progress, its answer or its refusal."""

    def __init__(self, number: int, person: str, slot: tuple, stays: bool):
        self.number, self.person, self.slot, self.stays = number, person, slot, stays
        self.share, self.message = 0.0, "Waiting for its turn"
        self.result: dict | None = None
        self.refusal: MasonError | None = None
        self.stop = threading.Event()
        self.done = threading.Event()
        #: Told the result once, by the request that answers with it.
        self.answers: Callable[[dict], None] | None = None

    def told(self, share: float, message: str = "") -> None:
        self.share = share
        self.message = message or self.message


_studies: OrderedDict[int, Study] = OrderedDict()
_numbers = itertools.count(1)
_lock = threading.Lock()
_threads = ThreadPoolExecutor(32, thread_name_prefix="study")


def begin_study(
    person: str, slot: tuple, work: Callable[[Study], dict], at_once: float = _AT_ONCE, *, stays: bool = False
) -> Study:
    """Start work; a person's study of the same slot still under way is stopped. Waits a moment for it.

    A person's newer studies stop the oldest of too many, but for one that ``stays``. ``work`` hands on the study's
    ``told`` and ``stop`` to the engine that does it.
    """
    with _lock:
        under_way = [
            s for s in _studies.values() if s.person == person and not (s.stays or s.done.is_set() or s.stop.is_set())
        ]
        for old in under_way:
            if old.slot == slot:
                old.stop.set()
        for old in [s for s in under_way if not s.stop.is_set()][: -(_MOST_OF_ONE - 1)]:
            old.stop.set()
        study = Study(next(_numbers), person, slot, stays)
        _studies[study.number] = study
        while len(_studies) > _MOST_KEPT:
            _studies.popitem(last=False)[1].stop.set()

    def run() -> None:
        try:
            study.result = work(study)
        except MasonError as e:
            study.refusal = e
        except Exception as e:
            log.exception("A study of %s failed", slot)
            study.refusal = MasonError(
                f"Something went wrong inside ({type(e).__name__}); nothing was changed.", code="inside"
            )
        finally:
            study.done.set()
            connections.close_all()

    _threads.submit(run)
    study.done.wait(at_once)
    return study


def study_view(study: Study) -> dict:
    """How a study stands; raises its refusal."""
    done = study.done.is_set()
    if done and study.refusal is not None:
        raise study.refusal
    if done and study.result is not None and study.answers is not None:
        study.answers(study.result)
        study.answers = None
    return {
        "study": study.number,
        "done": done,
        "progress": round(study.share, 3),
        "message": study.message,
        "result": study.result,
    }


def study_of(request: HttpRequest, number: int, kind: str | int) -> Study:
    """A person's own study of a job (its id) or of another kind; 404 for any other."""
    study = _studies.get(number)
    if study is None or study.person != person_of(request) or study.slot[0] != kind:
        raise HttpError(404, "There is no such study; ask again.")
    return study


@router.get("/jobs/{job_id}/studies/{number}", response=StudyView)
def follow(request: HttpRequest, job_id: int, number: int):
    """How a study stands; waits a moment for it to finish."""
    study = study_of(request, number, job_of(request, job_id).id)
    study.done.wait(0.4)
    return study_view(study)


@router.delete("/jobs/{job_id}/studies/{number}", response=StudyView)
def stop(request: HttpRequest, job_id: int, number: int):
    """Stop a study."""
    study = study_of(request, number, job_of(request, job_id).id)
    study.stop.set()
    return {"study": number, "done": True, "progress": 0.0, "message": "Stopped as asked.", "result": None}
