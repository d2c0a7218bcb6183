"""Heavy work of an engine as a study: begun, followed by number, stopped."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest

from .access import person_of
from .engine import pool
from .models import Job
from .studies import Study, begin_study, study_view

__all__ = ["heavy_study"]


def heavy_study(
    request: HttpRequest,
    job: Job,
    work: str,
    limit: float,
    done: Callable[[dict], None] | None = None,
    **asked: Any,
) -> dict:
    """Ask an engine for ``work`` of at most ``limit`` seconds; the view of its study. A person's newer study of the
    same work in the same job stops the older one. ``done`` is told what was found by the request that answers with it.
    """
    person = person_of(request)

    def answer(study: Study) -> dict:
        return pool().ask(
            work,
            job=job.id,
            person=person,
            limit=limit,
            heavy=True,
            told=study.told,
            stopped=study.stop.is_set,
            **asked,
        )

    study = begin_study(person, (job.id, work), answer)
    study.answers = done
    return study_view(study)
