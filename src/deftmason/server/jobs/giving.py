"""Proofs kept, and files handed on."""

from __future__ import annotations

import io
from typing import Any

from django.http import FileResponse, HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.errors import BadInput
from deftmason.core.recipe.recipefile import recipe_text
from deftmason.core.recipe.records import one_line

from ..engines.places import FILES
from .access import job_of
from .document import JobView, job_view
from .engine import made_file
from .models import Proof
from .recipe import records, replay_of

router = Router()

_BYTES = "application/octet-stream"


class NewProof(Schema):
    step: str
    name: str


class ProofView(Schema):
    id: int
    name: str
    created: str
    key: str
    scan_key: str
    body_key: str
    matrix: list[list[float]]
    settings: dict[str, Any]
    summary: dict[str, Any]


@router.post("/jobs/{job_id}/proofs", response=JobView)
def keep(request: HttpRequest, job_id: int, data: NewProof):
    """Keep a check as a proof, as it is now."""
    job = job_of(request, job_id)
    replay = replay_of(records(job))
    ran = {r.step.id: r for r in replay.run(compute=False)}
    r = ran.get(data.step)
    if r is None or not r.done or r.step.produces != "deviation":
        raise BadInput("There is no finished check to keep; lay a check first.", field="step")
    name = one_line(data.name)
    if not name:
        raise BadInput("Give the proof a name.", field="name")
    step = r.step
    Proof.objects.create(
        job=job,
        name=name[:120],
        key=r.key,
        scan_key=replay.key_of(step.scan),
        body_key=replay.key_of(step.body),
        matrix=ran[step.frame].summary["matrix"],
        summary=r.summary,
        settings=step.model_dump(mode="json", include={"tolerance", "reach", "angle_deg"}),
    )
    return job_view(job)


@router.get("/jobs/{job_id}/proofs/{proof_id}", response=ProofView)
def reopen(request: HttpRequest, job_id: int, proof_id: int):
    p = job_of(request, job_id).proofs.filter(pk=proof_id).first()
    if p is None:
        raise HttpError(404, "There is no such proof.")
    return {
        f: getattr(p, f) for f in ("id", "name", "key", "scan_key", "body_key", "matrix", "settings", "summary")
    } | {"created": p.created.isoformat()}


@router.delete("/jobs/{job_id}/proofs/{proof_id}", response=JobView)
def drop(request: HttpRequest, job_id: int, proof_id: int):
    job = job_of(request, job_id)
    job.proofs.filter(pk=proof_id).delete()
    return job_view(job)


@router.get("/jobs/{job_id}/deliver/{what}")
def deliver(request: HttpRequest, job_id: int, what: str, step: str | None = None):
    """A file: model.step, model.stl, scan.ply, sketch.dxf (of a step), model.py or recipe.json."""
    job = job_of(request, job_id)
    steps = records(job)
    if what == "recipe.json":
        return FileResponse(
            io.BytesIO(recipe_text(job.name, steps).encode()), as_attachment=True, filename=what, content_type=_BYTES
        )
    if what not in FILES:
        raise HttpError(404, "There is no such file to hand on.")
    path = made_file(request, job.id, steps=steps, what=what, step=step, name=job.name)
    return FileResponse(open(path, "rb"), as_attachment=True, filename=what, content_type=_BYTES)
