"""First drafts: proposed as a study, laid as one edit that can be undone."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from deftmason.core.errors import BadInput

from .access import job_of, owner_of, person_of, seen_revision
from .document import JobView, job_view
from .heavy import heavy_study
from .recipe import change, may_use, note_results, records, snapshot
from .studies import StudyView
from .work import settle

router = Router()

_LIMIT = 900.0  # seconds


class DraftRequest(Schema):
    scan: str


class LeftView(Schema):
    area: float
    place: tuple[float, float, float]
    why: str


class DraftView(Schema):
    """Steps as they would be laid; ``explained`` the share of the scan within tolerance of their model."""

    steps: list[dict[str, Any]]
    explained: float
    left: list[LeftView]
    said: list[str]


class DraftStudy(StudyView):
    result: DraftView | None = None


class ProposalRequest(Schema):
    """Zones picked by number; none: holes and roundings of the whole part. New steps stand on ``body``."""

    scan: str
    frame: str
    zones: str
    picked: Annotated[list[int], Field(max_length=400)] = []
    body: str | None = None


class ProposalView(Schema):
    """A ready feature: its steps, the result of the last of them, how much of what was picked it explains, and what of
    it is left, mm².
    """

    title: str
    says: list[str]
    steps: list[dict[str, Any]]
    explains: float
    left: float
    body: str
    key: str


class ProposalsView(Schema):
    proposals: list[ProposalView]


class ProposalStudy(StudyView):
    result: ProposalsView | None = None


class FramesRequest(Schema):
    """``zones``: a step that has read the scan's surfaces; without one they are read for it."""

    scan: str
    zones: str | None = None


class FrameMiss(Schema):
    name: str
    degrees: float
    edge_mm: float


class SuggestedFrame(Schema):
    """``reason`` in a sentence; ``open`` freedoms in words; what each datum misses; ``matrix`` from the scan's
    coordinates; the steps that lay it.
    """

    reason: str
    open: list[str]
    misses: list[FrameMiss]
    matrix: list[list[float]]
    steps: list[dict[str, Any]]


class SuggestedFrames(Schema):
    frames: list[SuggestedFrame]


class FramesStudy(StudyView):
    result: SuggestedFrames | None = None


class DraftLaying(Schema):
    """Steps to lay as one edit, and what it is called."""

    label: Annotated[str, Field(min_length=1, max_length=120)] = "Lay the first draft"
    steps: Annotated[list[dict[str, Any]], Field(min_length=1, max_length=200)]


@router.post("/jobs/{job_id}/draft", response=DraftStudy)
def draft(request: HttpRequest, job_id: int, data: DraftRequest):
    """A first whole model of a scan, proposed; a study."""
    job = job_of(request, job_id)
    steps = records(job)
    if not any(s["id"] == data.scan for s in steps):
        raise BadInput("There is no such scan in this job; choose another.", field="scan")
    return heavy_study(request, job, "draft_part", _LIMIT, steps=steps, scan=data.scan)


@router.post("/jobs/{job_id}/proposals", response=ProposalStudy)
def proposals(request: HttpRequest, job_id: int, data: ProposalRequest):
    """Ready features of zones that were picked, worked out and measured; a study."""
    job = job_of(request, job_id)
    steps = records(job)
    there = {s["id"] for s in steps if s.get("enabled", True)}
    wanted = {"scan": data.scan, "frame": data.frame, "zones": data.zones, "body": data.body}
    for what, step_id in wanted.items():
        if step_id is not None and step_id not in there:
            raise BadInput(f"There is no such {what} in this job; choose another.", field=what)

    def found(said: dict) -> None:
        for p in said["proposals"]:  # their pictures may be asked for
            note_results(job, [*steps, *p["steps"]])

    return heavy_study(request, job, "propose_features", _LIMIT, found, steps=steps, picked=data.picked, **wanted)


@router.post("/jobs/{job_id}/frames", response=FramesStudy)
def frames(request: HttpRequest, job_id: int, data: FramesRequest):
    """Frames that a scan suggests by itself, best first; a study."""
    job = job_of(request, job_id)
    steps = records(job)
    there = {s["id"] for s in steps if s.get("enabled", True)}
    for what, step_id in (("scan", data.scan), ("zones", data.zones)):
        if step_id is not None and step_id not in there:
            raise BadInput(f"There is no such {what} in this job; choose another.", field=what)
    return heavy_study(request, job, "propose_frames", _LIMIT, steps=steps, scan=data.scan, zones=data.zones)


@router.post("/jobs/{job_id}/draft/laid", response=JobView)
def lay_draft(request: HttpRequest, job_id: int, data: DraftLaying):
    """Lay the steps of a first draft or of a proposal, as one edit."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    taken = {s["id"] for s in steps}
    twice = [str(s.get("name")) for s in data.steps if s.get("id") in taken]
    if twice:
        raise BadInput(f"The job has its own '{twice[0]}' already; undo it, or draft in a fresh job.", field="steps")
    may_use([*steps, *data.steps], steps, owner_of(request))
    seen = seen_revision(request)
    change(
        job,
        data.label,
        lambda now: [*now, *data.steps],
        seen=revision if seen is None else seen,
        owner=owner_of(request),
    )
    settle(job, f"Laying {data.steps[-1].get('name')}", person_of(request), at_once=False)
    return job_view(job)
