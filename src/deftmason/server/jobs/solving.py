"""Solve all against the scan: worked out as a study, taken as one edit that can be undone."""

from __future__ import annotations

import copy
from typing import Annotated

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.ledger import SOLVED, ledger, set_value
from deftmason.core.recipe.records import Length

from .access import job_of, owner_of, person_of, seen_revision
from .document import JobView, job_view
from .heavy import heavy_study
from .recipe import Records, change, records, replay_of, snapshot_seen
from .studies import StudyView
from .work import settle

router = Router()

_LIMIT = 900.0  # seconds


class SolveRequest(Schema):
    """``names`` of the values to move; none: all that follow the scan."""

    names: Annotated[list[str], Field(min_length=1, max_length=200)] | None = None


class SolvedLine(Schema):
    name: str
    before: float
    after: float
    uncertainty: float | None
    unit: str


class SolvedView(Schema):
    values: list[SolvedLine]
    rms_before: float
    rms_after: float
    places: int
    said: list[str]


class SolveStudy(StudyView):
    result: SolvedView | None = None


class SolvedNumber(Schema):
    name: str
    value: Length


class SolvedTaken(Schema):
    values: Annotated[list[SolvedNumber], Field(min_length=1, max_length=200)]


@router.post("/jobs/{job_id}/solve", response=SolveStudy)
def solve(request: HttpRequest, job_id: int, data: SolveRequest):
    """Numbers of the model moved together until the whole scan lies nearest to it; a study, nothing is changed."""
    job = job_of(request, job_id)
    return heavy_study(request, job, "solve_part", _LIMIT, steps=records(job), names=data.names)


@router.post("/jobs/{job_id}/solve/taken", response=JobView)
def take(request: HttpRequest, job_id: int, data: SolvedTaken):
    """Choose the numbers that were found together, as one edit."""
    job = job_of(request, job_id)
    seen = seen_revision(request)
    steps, revision = snapshot_seen(job, seen)
    lines = {n: (r, v) for n, r, v in ledger(replay_of(steps).run(compute=False))}
    gone = next((n.name for n in data.values if n.name not in lines), None)
    if gone is not None:
        raise BadInput(f"There is no value '{gone}' any more; solve again.", field="values")

    def chosen(now: Records) -> Records:
        out = copy.deepcopy(now)
        there = {s["id"] for s in out}
        for n in data.values:
            r, v = lines[n.name]
            if r.step.id in there:
                set_value(out, r.step.id, v.path, n.value, SOLVED)
        return out

    change(job, "Solve all against the scan", chosen, seen=revision if seen is None else seen, owner=owner_of(request))
    settle(job, "Laying again", person_of(request))
    return job_view(job)
