"""Guided jobs: what is to be done next, and whether the program sees it done."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from deftmason.demo.guide import BRACKET, Lesson, seen

from .access import job_of
from .document import replay_now

__all__ = ["GUIDES"]

router = Router()

#: The lessons of demo jobs that guide.
GUIDES: dict[str, list[Lesson]] = {"bracket-guided": BRACKET}


class LessonView(Schema):
    """``saw`` what is there instead, of the first lesson that is not done."""

    title: str
    stage: str
    says: str
    done: bool
    saw: str


@router.get("/jobs/{job_id}/guide", response=list[LessonView])
def guide(request: HttpRequest, job_id: int):
    """The lessons of a guided job, each with how it stands; none for other jobs."""
    job = job_of(request, job_id)
    lessons = GUIDES.get(job.demo, [])
    return [vars(s) for s in seen(lessons, replay_now(job).run(compute=False))] if lessons else []
