"""Checks read and kept: notes at places, live colours while building, proofs, two of them compared, their files."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import FileResponse, HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.ledger import ledger
from deftmason.core.recipe.records import one_line

from ..engines.places import PROOF_FILES
from .access import job_of
from .document import JobView, job_view
from .engine import ask, made_file
from .heavy import heavy_study
from .models import Job, Proof
from .recipe import records, replay_of
from .studies import StudyView

router = Router()

_BYTES = "application/octet-stream"
_LIMIT = 300.0  # seconds
_SETTINGS = {"tolerance", "low", "reach", "angle_deg", "fineness", "near_edges", "laid"}


class NewProof(Schema):
    step: str
    name: str


class ProofName(Schema):
    name: str


class PinView(Schema):
    """A note with what was measured at its place; ``shown`` is the place in the coordinates that were measured in."""

    place: list[float]
    shown: list[float]
    value: float | None
    face: str
    step: str
    text: str


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
    pins: list[PinView]
    views: list[dict[str, Any]]
    values: list[dict[str, Any]]
    revision: int


class Side(Schema):
    points: int
    mean: float | None
    rms: float | None
    p95: float | None
    within: float | None


class ComparedRow(Schema):
    """A face in both proofs; ``change`` of its rms in mm, less is better; none where one did not answer."""

    face: str
    first: Side | None
    second: Side | None
    change: float | None


class Compared(Schema):
    """Two proofs side by side, the first the earlier; ``same_scan`` where both were measured on the same places."""

    first: int
    second: int
    whole: ComparedRow
    faces: list[ComparedRow]
    same_scan: bool


class TideRequest(Schema):
    """The scan and the body by their results' keys, and the frame's; ``coarse`` for a first, quick look."""

    scan: str
    body: str
    frame: str | None = None
    coarse: bool = True


class TideView(Schema):
    key: str
    rms: float | None
    p95: float | None
    reach: float
    places: int


class TideStudy(StudyView):
    result: TideView | None = None


class MendView(Schema):
    """A value, by how much it would have to change, and the share of the mean square off that would vanish."""

    name: str
    label: str
    by: float
    to: float
    share: float
    unit: str


class MendsView(Schema):
    rms: float
    mends: list[MendView]


class MendsStudy(StudyView):
    result: MendsView | None = None


def _check(job: Job, step_id: str):
    """The replay, and a finished check of it. Raises `BadInput` where there is none."""
    replay = replay_of(records(job))
    ran = replay.run(compute=False)
    r = next((r for r in ran if r.step.id == step_id), None)
    if r is None or not r.done or r.step.produces != "deviation":
        raise BadInput("There is no finished check to keep; lay a check first.", field="step")
    return replay, ran, r


def _proof(job: Job, proof_id: int) -> Proof:
    p = job.proofs.filter(pk=proof_id).first()
    if p is None:
        raise HttpError(404, "There is no such proof.")
    return p


@router.get("/jobs/{job_id}/checks/{step_id}/pins", response=list[PinView])
def pins(request: HttpRequest, job_id: int, step_id: str):
    """The notes of a check with what was measured at each."""
    job = job_of(request, job_id)
    _, _, r = _check(job, step_id)
    return ask(request, job.id, "read_pins", steps=records(job), step_id=r.step.id)


@router.post("/jobs/{job_id}/tide", response=TideStudy)
def tide(request: HttpRequest, job_id: int, data: TideRequest):
    """The deviation of what is shown, for the colours alone; a study."""
    job = job_of(request, job_id)
    for key in filter(None, (data.scan, data.body, data.frame)):
        if not job.results.filter(key=key).exists():
            raise HttpError(404, "There is no such result in this job.")

    def found(said: dict) -> None:
        job.results.get_or_create(key=said["key"])

    return heavy_study(request, job, "live_tide", _LIMIT, found, **data.model_dump())


@router.post("/jobs/{job_id}/mends", response=MendsStudy)
def mends(request: HttpRequest, job_id: int):
    """Which numbers of the model, changed one by one, would take most of what is off; a study."""
    job = job_of(request, job_id)
    return heavy_study(request, job, "mends_of", _LIMIT, steps=records(job))


@router.post("/jobs/{job_id}/proofs", response=JobView)
def keep(request: HttpRequest, job_id: int, data: NewProof):
    """Keep a check as a proof, as it is now."""
    job = job_of(request, job_id)
    replay, ran, r = _check(job, data.step)
    name = one_line(data.name)
    if not name:
        raise BadInput("Give the proof a name.", field="name")
    step, steps = r.step, records(job)
    read = ask(request, job.id, "read_pins", steps=steps, step_id=step.id) if step.pins else []
    lines = [(n, v) for n, q, v in ledger(ran) if q.done and q.step.produces in ("sketch", "body", "datum")]
    of_values = [
        {"name": n, "measured": v.measured, "uncertainty": v.uncertainty, "chosen": v.chosen, "source": v.source}
        for n, v in lines
    ]
    Proof.objects.create(
        job=job,
        name=name[:120],
        key=r.key,
        scan_key=replay.key_of(step.scan),
        body_key=replay.key_of(step.body),
        matrix=r.summary["matrix"],
        summary=r.summary,
        settings={
            **step.model_dump(mode="json", include=_SETTINGS),
            "left_out": len(step.marks),
            "scan": ", ".join(replay.called(i) for i in dict.fromkeys((step.scan, *step.beside))),
            "against": replay.called(step.body),
        },
        pins=read,
        views=[v.model_dump(mode="json") for v in step.views],
        values=of_values,
        recipe=steps,
        revision=job.revision,
    )
    return job_view(job)


@router.get("/jobs/{job_id}/proofs/compared", response=Compared)
def compare(request: HttpRequest, job_id: int, first: int, second: int):
    """What got better and what worse from one proof to another."""
    job = job_of(request, job_id)
    a, b = _proof(job, first), _proof(job, second)
    sides = [{f["face"]: f for f in p.summary["faces"]} for p in (a, b)]
    names = list(dict.fromkeys([*sides[0], *sides[1]]))
    rows = [_row(n, sides[0].get(n), sides[1].get(n)) for n in names]
    rows = [r for r in rows if (r["first"] or r["second"])]
    rows.sort(key=_weight, reverse=True)
    same = a.scan_key == b.scan_key and a.summary["points"] == b.summary["points"]
    same = same and (a.summary.get("beside") or []) == (b.summary.get("beside") or [])
    return {
        "first": a.id,
        "second": b.id,
        "whole": _row("whole", a.summary, b.summary),
        "faces": rows,
        "same_scan": same,
    }


def _weight(row: dict[str, Any]) -> tuple[bool, float]:
    """By what the rows of two proofs are ranked: faces that only one of them has, then by how much changed."""
    sides = [row["first"], row["second"]]
    alone = None in sides and any(s and s["rms"] is not None for s in sides)
    off = max((s["rms"] or 0.0 for s in sides if s), default=0.0)
    return alone, off if alone else abs(row["change"] or 0.0)


def _row(name: str, first: dict | None, second: dict | None) -> dict[str, Any]:
    def side(s: dict | None) -> dict | None:
        if s is None:
            return None
        return {k: s.get(k) for k in ("mean", "rms", "p95", "within")} | {"points": s.get("answered", s["points"])}

    both = [s.get("rms") if s else None for s in (first, second)]
    change = None if None in both else both[1] - both[0]
    return {"face": name, "first": side(first), "second": side(second), "change": change}


@router.get("/jobs/{job_id}/proofs/{proof_id}", response=ProofView)
def reopen(request: HttpRequest, job_id: int, proof_id: int):
    p = _proof(job_of(request, job_id), proof_id)
    plain = ("id", "name", "key", "scan_key", "body_key", "matrix", "settings", "summary", "pins", "views", "values")
    return {f: getattr(p, f) for f in (*plain, "revision")} | {"created": p.created.isoformat()}


@router.patch("/jobs/{job_id}/proofs/{proof_id}", response=JobView)
def rename(request: HttpRequest, job_id: int, proof_id: int, data: ProofName):
    job = job_of(request, job_id)
    p, name = _proof(job, proof_id), one_line(data.name)
    if not name:
        raise BadInput("Give the proof a name.", field="name")
    p.name = name[:120]
    p.save(update_fields=["name"])
    return job_view(job)


@router.delete("/jobs/{job_id}/proofs/{proof_id}", response=JobView)
def drop(request: HttpRequest, job_id: int, proof_id: int):
    job = job_of(request, job_id)
    job.proofs.filter(pk=proof_id).delete()
    return job_view(job)


@router.get("/jobs/{job_id}/proofs/{proof_id}/files/{what}")
def proof_file(request: HttpRequest, job_id: int, proof_id: int, what: str, view: Annotated[int, Field(ge=0)] = 0):
    """A proof as a file: report.pdf, points.csv, table.csv, proof.json, map.ply, map.glb or view.png (of one of its
    views, by number).
    """
    job = job_of(request, job_id)
    if what not in PROOF_FILES:
        raise HttpError(404, "There is no such file of a proof.")
    path = made_file(
        request, job.id, work="make_proof_file", what=what, view=view, **told_of(job, _proof(job, proof_id))
    )
    return FileResponse(open(path, "rb"), as_attachment=True, filename=what, content_type=_BYTES)


def told_of(job: Job, p: Proof) -> dict[str, Any]:
    """What an engine needs to write a proof's files."""
    fields = ("key", "scan_key", "matrix", "settings", "summary", "pins", "views", "values")
    made = p.created.strftime("%Y-%m-%d %H:%M")
    return {"proof": {f: getattr(p, f) for f in fields} | {"title": p.name, "made": made, "job": job.name}}
