"""The recipe through the API: see it, lay a stone, change it, switch it, undo."""

from __future__ import annotations

import copy
import secrets
from typing import Any, Literal

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.errors import BadInput
from deftmason.core.recipe.records import Length
from deftmason.core.recipe.replay import ledger, set_value
from deftmason.core.recipe.step import kinds, parse_recipe, parse_step

from ..engines.pool import Busy, TooLong
from ..engines.told import value_line
from .access import job_of, owner_of, person_of, seen_revision
from .engine import ask, pool
from .models import Job, Upload, Work
from .recipe import Records, change, may_use, records, redo, replay_of, snapshot, snapshot_seen, store, undo
from .studies import Study, StudyView, begin_study, study_view
from .work import collect_soon, mark_dead, settle, start_run

router = Router()

_FIRST = 5.0  # seconds a new stone may take before it goes on as a task
_PREVIEW_LIMIT = 600.0  # seconds


class Stone(Schema):
    id: str
    kind: str
    name: str
    course: str
    title: str
    produces: str
    enabled: bool
    record: dict[str, Any]
    inputs: list[str]
    key: str | None
    status: str
    says: str
    summary: dict[str, Any]


class Suggestion(Schema):
    value: float
    why: str
    moves: float


class LedgerLine(Schema):
    name: str
    step: str
    label: str
    measured: float | None
    uncertainty: float | None
    chosen: float
    source: str
    unit: str
    cost: float | None
    path: list[Any]
    suggestions: list[Suggestion]


class TaskLine(Schema):
    id: int
    label: str
    state: str
    progress: float
    message: str


class ProofLine(Schema):
    id: int
    name: str
    created: str
    rms: float | None
    within: float | None


class JobView(Schema):
    id: int
    name: str
    revision: int
    stones: list[Stone]
    values: list[LedgerLine]
    frame: list[list[float]] | None
    undo: str | None
    redo: str | None
    tasks: list[TaskLine]
    proofs: list[ProofLine]


class Removed(Schema):
    id: int


class Laying(Schema):
    step: dict[str, Any]


class Preview(Schema):
    status: str
    says: str
    summary: dict[str, Any]
    values: list[LedgerLine]
    key: str | None


class PreviewStudy(StudyView):
    result: Preview | None = None


class ValueChange(Schema):
    name: str
    value: Length
    source: Literal["scan", "rounded", "standard", "hand reading", "typed"] = "typed"


def job_view(job: Job) -> dict:
    mark_dead(job)
    # Tasks are looked at before results: what a finished task left is there then, and a running one is asked for again.
    tasks = [{"id": w.id, "label": w.label, "state": w.state, "progress": w.progress, "message": w.message} for w in job.works.order_by("-id")[:12]]
    steps, _ = snapshot(job)
    job.refresh_from_db()
    ran = replay_of(steps).run(compute=False)
    frames = [r for r in ran if r.done and r.step.produces == "frame"]
    last = job.edits.filter(undone=False).order_by("-id").first()
    ahead = job.edits.filter(undone=True).order_by("id").first()
    return {
        "id": job.id,
        "name": job.name,
        "revision": job.revision,
        "stones": [
            {
                "id": r.step.id,
                "kind": r.step.kind,
                "name": r.step.name,
                "course": r.step.course,
                "title": r.step.title,
                "produces": r.step.produces,
                "enabled": r.step.enabled,
                "record": r.step.model_dump(mode="json", exclude={"likeness"}),
                "inputs": r.step.inputs(),
                "key": r.key,
                "status": r.status,
                "says": r.says,
                "summary": r.summary,
            }
            for r in ran
        ],
        "values": [value_line(n, v) for n, _, v in ledger(ran)],
        "frame": frames[-1].summary["matrix"] if frames else None,
        "undo": last.label if last else None,
        "redo": ahead.label if ahead else None,
        "tasks": tasks,
        "proofs": [
            {
                "id": p.id,
                "name": p.name,
                "created": p.created.isoformat(),
                "rms": p.summary.get("rms"),
                "within": p.summary.get("within"),
            }
            for p in job.proofs.order_by("-id")
        ],
    }


@router.get("/jobs/{job_id}", response=JobView)
def see(request: HttpRequest, job_id: int):
    """The whole job as it stands."""
    return job_view(job_of(request, job_id))


@router.delete("/jobs/{job_id}", response=Removed)
def remove(request: HttpRequest, job_id: int):
    """Throw a job away, with its history; what nothing names any more is collected soon after."""
    job = job_of(request, job_id)
    if settings.SHARED and job.owner_id != request.user.id:
        raise HttpError(404, "There is no such job.")
    with transaction.atomic():
        files = [s["sha256"] for s in records(job) if s["kind"] == "scan"]
        Upload.objects.filter(owner=owner_of(request), blob__sha256__in=files).delete()
        job.delete()
    collect_soon()
    return {"id": job_id}


@router.get("/jobs/{job_id}/kinds")
def kind_schemas(request: HttpRequest, job_id: int) -> dict[str, Any]:
    """Every step kind's fields, with their descriptions."""
    job_of(request, job_id)
    return {k: {"title": c.title, "course": c.course, "schema": c.model_json_schema()} for k, c in kinds().items()}


def _with_id(data: dict) -> dict:
    """A stone's record with an id, a fresh one where it has none. Raises `BadInput` where it is no record of a step."""
    if not isinstance(data.get("id") or "", str) or not isinstance(data.get("kind"), str):
        raise BadInput("A step is a record that names its kind; its id is a text.", field="kind")
    return {**data, "id": data.get("id") or f"{data['kind'][:12]}_{secrets.token_hex(3)}"}


def _merged(steps: Records, data: dict) -> Records:
    """The recipe with a step replaced (known id) or put after what it rests on (new)."""
    known = next((i for i, s in enumerate(steps) if s["id"] == data["id"]), None)
    if known is None:
        return _in_place(steps, data)
    kept = {k: v for k, v in steps[known].items() if k == "likeness"}
    return [*steps[:known], {**kept, **data}, *steps[known + 1 :]]


def _in_place(steps: list[dict], data: dict) -> list[dict]:
    """A new step at the end; one that betters a scan right after that scan, and what rested on the scan now rests on it."""
    kind = kinds().get(data["kind"])
    below = data.get("scan") if kind is not None and kind.produces == "scan" and data["kind"] != "scan" else None
    at = next((i for i, s in enumerate(steps) if s["id"] == below), None)
    if at is None:
        return [*steps, data]
    return [*steps[: at + 1], data, *[_moved_onto(s, below, data["id"]) for s in steps[at + 1 :]]]


def _moved_onto(step: dict, old: str | None, new: str) -> dict:
    """The step resting on another scan."""
    out = dict(step)
    if out.get("scan") == old:
        out["scan"] = new
    if old in out.get("scans", []):
        out["scans"] = [new if s == old else s for s in out["scans"]]
    for listed in ("held", "leave_out"):
        if old in out.get(listed, []):
            out[listed] = [new if s == old else s for s in out[listed]]
    if any(old in (p.get("fixed"), p.get("moving")) for p in out.get("pairs", [])):
        out["pairs"] = [{**p, **{k: new for k in ("fixed", "moving") if p[k] == old}} for p in out["pairs"]]
    return out


@router.post("/jobs/{job_id}/stones", response=JobView)
def lay(request: HttpRequest, job_id: int, data: Laying):
    """Lay a new stone, or lay one again with other inputs; what rests on it follows."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    record = _with_id(data.step)
    new = _merged(steps, record)
    step = next(s for s in parse_recipe(new) if s.id == record["id"])
    may_use(new, steps, owner_of(request))
    again = any(s["id"] == step.id for s in steps)
    at_once = again or _stands(request, job, new, step)
    seen = seen_revision(request)
    change(
        job,
        f"{'Change' if again else 'Lay'} {step.name}",
        lambda now: _merged(now, record),
        seen=revision if seen is None else seen,
        owner=owner_of(request),
    )
    settle(job, f"Laying {step.name}", person_of(request), at_once=at_once)
    return job_view(job)


def _stands(request: HttpRequest, job: Job, new: Records, step) -> bool:
    """Refuse a new stone that does not stand by itself: a failing one changes nothing. False where that takes longer than a moment."""
    replay = replay_of(new)
    if step.quick:
        try:
            ask(request, job.id, "run", limit=_FIRST, steps=new)
        except (Busy, TooLong):
            return False  # it goes on as a task
        fate = next(r for r in replay.run(compute=False) if r.step.id == step.id)
        if fate.status in ("failed", "waiting"):
            raise BadInput(fate.says)
    else:
        known = store().record(replay.keys[step.id] or "-")
        if known is not None and known["status"] == "failed":
            raise BadInput(known["says"])
    return True


@router.post("/jobs/{job_id}/preview", response=PreviewStudy)
def preview(request: HttpRequest, job_id: int, data: Laying):
    """What a stone would say, without laying it; a study whose result is a `Preview`."""
    job = job_of(request, job_id)
    steps, record = records(job), _with_id(data.step)
    new = _merged(steps, record)
    parse_recipe(new)
    may_use(new, steps, owner_of(request))
    upto = next(i for i, s in enumerate(new) if s["id"] == record["id"])
    tried, person = new[: upto + 1], person_of(request)
    key = replay_of(tried).keys[record["id"]]
    if key and not job.results.filter(key=key).exists():
        job.results.get_or_create(key=key)

    def work(study: Study) -> dict:
        said = pool().ask(
            "preview", job=job.id, person=person, limit=_PREVIEW_LIMIT, heavy=True, told=study.told, stopped=study.stop.is_set,
            steps=tried, step_id=record["id"],
        )  # fmt: skip
        return Preview(**said).model_dump(mode="json")

    return study_view(begin_study(person, (job.id, "preview"), work))


def _changed(request: HttpRequest, job: Job, label: str, make, laying: str, revision: int) -> dict:
    """Change the recipe, lay what follows, and answer with the job."""
    seen = seen_revision(request)
    change(job, label, make, seen=revision if seen is None else seen, owner=owner_of(request))
    settle(job, laying, person_of(request))
    return job_view(job)


@router.delete("/jobs/{job_id}/stones/{step_id}", response=JobView)
def take_out(request: HttpRequest, job_id: int, step_id: str):
    """Take a stone out; refused while others rest on it."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    by_id = {s["id"]: parse_step(s) for s in steps}
    if step_id not in by_id:
        raise HttpError(404, "There is no such stone.")
    name, under = by_id[step_id].name, by_id[step_id].stands_for()
    if by_id[step_id].produces == "scan" and under:

        def without(now: Records) -> Records:
            return [_moved_onto(s, step_id, under) for s in now if s["id"] != step_id]

        return _changed(request, job, f"Take out {name}", without, "Laying again", revision)
    above = [s.name for s in by_id.values() if step_id in s.inputs()]
    if above:
        raise BadInput(f"{', '.join(above)} rest on '{name}'; take them out first, or switch it off.")
    if by_id[step_id].kind == "scan" and sum(s.kind == "scan" for s in by_id.values()) == 1:
        raise BadInput("A job keeps its scan; start another job instead.")
    return _changed(request, job, f"Take out {name}", lambda now: [s for s in now if s["id"] != step_id], "Laying again", revision)


@router.post("/jobs/{job_id}/stones/{step_id}/switch", response=JobView)
def switch(request: HttpRequest, job_id: int, step_id: str):
    """Switch a stone off or on."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    step = next((s for s in steps if s["id"] == step_id), None)
    if step is None:
        raise HttpError(404, "There is no such stone.")
    on = not step.get("enabled", True)
    label = f"Switch {step['name']} {'on' if on else 'off'}"
    return _changed(request, job, label, lambda now: [{**s, "enabled": on} if s["id"] == step_id else s for s in now], "Laying again", revision)


@router.post("/jobs/{job_id}/values", response=JobView)
def choose(request: HttpRequest, job_id: int, data: ValueChange):
    """Choose another number for a value of the ledger."""
    job = job_of(request, job_id)
    steps, revision = snapshot_seen(job, seen_revision(request))
    found = next(((r, v) for n, r, v in ledger(replay_of(steps).run(compute=False)) if n == data.name), None)
    if found is None:
        raise HttpError(404, "There is no such value.")
    r, v = found

    def chosen(now: Records) -> Records:
        out = copy.deepcopy(now)
        if any(s["id"] == r.step.id for s in out):
            set_value(out, r.step.id, v.path, data.value, data.source)
        return out

    return _changed(request, job, f"{r.step.name}: {v.label} {data.value:g}", chosen, f"Laying {r.step.name} again", revision)


@router.post("/jobs/{job_id}/undo", response=JobView)
def take_back(request: HttpRequest, job_id: int):
    job = job_of(request, job_id)
    undo(job, seen_revision(request))
    settle(job, "Laying again", person_of(request))
    return job_view(job)


@router.post("/jobs/{job_id}/redo", response=JobView)
def do_again(request: HttpRequest, job_id: int):
    job = job_of(request, job_id)
    redo(job, seen_revision(request))
    settle(job, "Laying again", person_of(request))
    return job_view(job)


@router.post("/jobs/{job_id}/tasks/{work_id}/cancel", response=JobView)
def cancel(request: HttpRequest, job_id: int, work_id: int):
    job = job_of(request, job_id)
    if not job.works.filter(pk=work_id).update(cancel_asked=True):
        raise HttpError(404, "There is no such task.")
    Work.objects.filter(pk=work_id, state="waiting").update(state="cancelled", message="Stopped before it began.")
    return job_view(job)


@router.post("/jobs/{job_id}/tasks/retry", response=JobView)
def retry(request: HttpRequest, job_id: int):
    """Lay again what is not laid, and what failed by the program's own fault."""
    job = job_of(request, job_id)
    replay = replay_of(records(job))
    for key in filter(None, replay.keys.values()):
        if (store().record(key) or {}).get("broke"):
            store().forget(key)
    if replay.stale():
        start_run(job, "Laying again")
    return job_view(job)
