"""Who may see which job: in local use everything, in shared use one's own and what was shared with one."""

from __future__ import annotations

from django.conf import settings
from django.db.models import Q
from django.http import HttpRequest
from ninja.errors import HttpError
from ninja.utils import check_csrf

from .models import Job

__all__ = ["session", "jobs_of", "job_of", "owner_of", "person_of", "seen_revision"]


def session(request: HttpRequest):
    """Ninja auth: CSRF always; a login in shared use."""
    if check_csrf(request) is not None:
        raise HttpError(403, "The page's token is missing or old; load the page again.")
    if not settings.SHARED:
        return "local"
    return request.user if request.user.is_authenticated else None


def jobs_of(request: HttpRequest):
    if not settings.SHARED:
        return Job.objects.all()
    return Job.objects.filter(Q(owner=request.user) | Q(shared_with=request.user)).distinct()


def job_of(request: HttpRequest, job_id: int) -> Job:
    """The job, or 404 whether it is somebody else's or not there at all."""
    job = jobs_of(request).filter(pk=job_id).first()
    if job is None:
        raise HttpError(404, "There is no such job.")
    return job


def owner_of(request: HttpRequest):
    return request.user if settings.SHARED else None


def person_of(request: HttpRequest) -> str:
    """Whose turn a request takes at the engines."""
    return f"user {request.user.pk}" if settings.SHARED else "local"


def seen_revision(request: HttpRequest) -> int | None:
    """The revision of the job that the page showed when it asked for a change (the header ``If-Match``), if it says."""
    text = request.headers.get("If-Match", "").strip().strip('"')
    if not text:
        return None
    if not text.isascii() or not text.isdigit() or len(text) > 9:
        raise HttpError(400, "If-Match holds the job's revision, a whole number.")
    return int(text)
