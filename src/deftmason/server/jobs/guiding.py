"""Guided jobs: what is to be done next, and whether the program sees it done."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from deftmason.demo.guides import GUIDES
from deftmason.demo.guiding import seen

from .access import job_of
from .document import replay_now

router = Router()


class LessonView(Schema):
    """``saw`` what is there instead, of the first lesson that is not done."""

    title: str
    stage: str
    says: str
    done: bool
    saw: str


class GuideView(Schema):
    """``after``: what to do once all is done; ``open``: shown at once."""

    lessons: list[LessonView]
    after: str
    open: bool


@router.get("/jobs/{job_id}/guide", response=GuideView)
def guide(request: HttpRequest, job_id: int):
    """The lessons of a guided job, each with how it stands; none for other jobs."""
    job = job_of(request, job_id)
    found = GUIDES.get(job.demo)
    if found is None:
        return {"lessons": [], "after": "", "open": False}
    lessons = [vars(s) for s in seen(found.lessons, replay_now(job).run(compute=False))]
    return {"lessons": lessons, "after": found.after, "open": found.open}
