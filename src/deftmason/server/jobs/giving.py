"""Proofs kept, and files handed on."""

from __future__ import annotations

import os
import tempfile
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.deliver.drawing_files import write_dxf
from deftmason.core.deliver.script import model_script
from deftmason.core.errors import BadInput
from deftmason.core.kernel.files import write_step
from deftmason.core.kernel.tessellate import tessellate
from deftmason.core.recipe.recipefile import recipe_text
from deftmason.core.recipe.replay import working_scan
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from .access import job_of
from .models import Proof
from .recipe import records, replay_of
from .stones import JobView, job_view

router = Router()

_STL_MM = 0.01


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
    if not data.name.strip():
        raise BadInput("Give the proof a name.", field="name")
    step = r.step
    Proof.objects.create(
        job=job,
        name=data.name.strip()[:120],
        key=r.key,
        scan_key=replay.keys[step.scan],
        body_key=replay.keys[step.body],
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
        return _file(recipe_text(job.name, steps).encode(), what)
    replay = replay_of(steps)
    ran = [r for r in replay.run(compute=False) if r.done]

    def last(produces: str, need: str):
        found = [r for r in ran if r.step.produces == produces and (step is None or r.step.id == step)]
        if not found:
            raise BadInput(need)
        return found[-1]

    if what == "model.py":
        last("body", "There is no body yet; lay one in Build first.")
        return _file(model_script(job.name, replay.run(compute=False)).encode(), what)
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, what)
        if what in ("model.step", "model.stl"):
            body = replay.output(last("body", "There is no body yet; lay one in Build first.").step.id, "body")
            if what == "model.step":
                write_step(path, body)
            else:
                f = tessellate(body, _STL_MM)
                write_scan(path, TriMesh(f.vertices, f.faces))
        elif what == "scan.ply":
            scan = working_scan(ran)
            if scan is None:
                raise BadInput("There is no scan yet.")
            mesh = replay.output(scan.step.id, "scan")
            frames = [r for r in ran if r.step.produces == "frame"]
            write_scan(path, mesh.moved(replay.output(frames[-1].step.id)) if frames else mesh)
        elif what == "sketch.dxf":
            write_dxf(path, last("sketch", "There is no sketch yet; lay one in Sketch first.").summary["geometry"])
        else:
            raise HttpError(404, "There is no such file to hand on.")
        with open(path, "rb") as f:
            return _file(f.read(), what)


def _file(data: bytes, name: str) -> HttpResponse:
    return HttpResponse(
        data, content_type="application/octet-stream", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )
