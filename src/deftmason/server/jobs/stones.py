"""The recipe through the API: see it, lay a stone, change it, switch it, undo."""

from __future__ import annotations

import copy
import functools
import secrets
from typing import Annotated, Any

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.formulas import freed
from deftmason.core.recipe.ledger import Line, formula_set, ledger, named, read_by_hand, set_value
from deftmason.core.recipe.ordering import moved_after, placed, taken_out
from deftmason.core.recipe.parse import files_of, kind_of, kinds, parse_recipe
from deftmason.core.recipe.readings import HandReading
from deftmason.core.recipe.records import Length, Source

from ..engines.pool import Busy, TooLong
from .access import job_of, owner_of, person_of, seen_revision
from .document import JobView, LedgerLine, Stamp, StoneDetail, Suggestion, job_view, stamp_of, stone_details, suggested
from .engine import ask, pool
from .models import Job, Upload, Work
from .recipe import Records, change, may_use, records, redo, replay_of, snapshot, snapshot_seen, store, undo
from .studies import Study, StudyView, begin_study, study_view
from .work import collect_soon, settle, start_run

router = Router()

_FIRST = 5.0  # seconds a new stone may take before it goes on as a task
_PREVIEW_LIMIT = 600.0  # seconds
_KEPT = ("formulas", "value_names", "readings")  # of a step that is laid again, where it is not told anew


class Removed(Schema):
    id: int


class Laying(Schema):
    """A step to lay; a new one right after the step ``after``, else at the end."""

    step: dict[str, Any]
    after: str | None = None


class Moving(Schema):
    """Where a stone is moved to: right after another."""

    after: str


class Preview(Schema):
    status: str
    says: str
    summary: dict[str, Any]
    values: list[LedgerLine]
    key: str | None


class PreviewStudy(StudyView):
    result: Preview | None = None


class ResultView(Schema):
    key: str
    summary: dict[str, Any]


class ValueChange(Schema):
    """Another number for a value, or what gives it; neither: it follows the scan again."""

    name: str
    value: Length | None = None
    source: Source = "typed"
    formula: Annotated[str, Field(max_length=200)] | None = None


class ValueNaming(Schema):
    """What a value is called; empty: by its step's name again."""

    name: str
    given: Annotated[str, Field(pattern=r"^([A-Za-z_][A-Za-z0-9_]{0,39})?$")]


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
        files = [f for s in records(job) for f in files_of(s)]
        Upload.objects.filter(owner=owner_of(request), blob__sha256__in=files).delete()
        job.delete()
    collect_soon()
    return {"id": job_id}


@router.get("/jobs/{job_id}/stamp", response=Stamp)
def stamp(request: HttpRequest, job_id: int):
    """Whether the job changed since it was looked at: asked often, answered without reading it."""
    return stamp_of(job_of(request, job_id))


@router.get("/jobs/{job_id}/stones", response=list[StoneDetail])
def stones_whole(request: HttpRequest, job_id: int):
    """Every stone whole: for scripts; pages ask for one."""
    return stone_details(job_of(request, job_id))


@router.get("/jobs/{job_id}/stones/{step_id}", response=StoneDetail)
def stone_whole(request: HttpRequest, job_id: int, step_id: str):
    """A stone with its record, all it tells, and the candidates for what it has lost."""
    found = stone_details(job_of(request, job_id), step_id)
    if not found:
        raise HttpError(404, "There is no such stone.")
    return found[0]


@router.get("/jobs/{job_id}/results/{key}", response=ResultView)
def result(request: HttpRequest, job_id: int, key: str, response: HttpResponse):
    """What a result tells, by its key; a result never changes."""
    job = job_of(request, job_id)
    found = store().record(key) if job.results.filter(key=key).exists() else None
    if found is None or found["status"] == "failed":
        raise HttpError(404, "There is no such result in this job.")
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return {"key": key, "summary": found["summary"]}


@router.get("/kinds")
def kind_schemas(request: HttpRequest) -> dict[str, Any]:
    """Every step kind's title, course, what it gives and its fields, with their descriptions."""
    return _described()


@functools.cache
def _described() -> dict[str, Any]:
    return {
        k: {"title": c.title, "course": c.course, "produces": c.produces, "schema": c.model_json_schema()}
        for k, c in kinds().items()
    }


def _with_id(data: dict) -> dict:
    """A stone's record with an id, a fresh one where it has none. Raises `BadInput` where it is no record of a step."""
    if not isinstance(data.get("id") or "", str) or not isinstance(data.get("kind"), str):
        raise BadInput("A step is a record that names its kind; its id is a text.", field="kind")
    return {**data, "id": data.get("id") or f"{data['kind'][:12]}_{secrets.token_hex(3)}"}


def _merged(steps: Records, data: dict, after: str | None = None) -> Records:
    """The recipe with a step replaced (known id) or put where it belongs (new)."""
    known = next((i for i, s in enumerate(steps) if s["id"] == data["id"]), None)
    if known is None:
        return placed(steps, data, after)
    kind = kind_of(steps[known])
    kept = {k: v for k, v in steps[known].items() if k in (*_KEPT, *(kind.follows if kind else ()))}
    return [*steps[:known], freed({**kept, **data}), *steps[known + 1 :]]


@router.post("/jobs/{job_id}/stones", response=JobView)
def lay(request: HttpRequest, job_id: int, data: Laying):
    """Lay a new stone, or lay one again with other inputs; what rests on it follows."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    record = _with_id(data.step)
    new = _merged(steps, record, data.after)
    step = next(s for s in parse_recipe(new) if s.id == record["id"])
    may_use(new, steps, owner_of(request))
    again = any(s["id"] == step.id for s in steps)
    at_once = again or _stands(request, job, new, step)
    seen = seen_revision(request)
    change(
        job,
        f"{'Change' if again else 'Lay'} {step.name}",
        lambda now: _merged(now, record, data.after),
        seen=revision if seen is None else seen,
        owner=owner_of(request),
    )
    settle(job, f"Laying {step.name}", person_of(request), at_once=at_once)
    return job_view(job)


def _stands(request: HttpRequest, job: Job, new: Records, step) -> bool:
    """Refuse a new stone that does not stand by itself: a failing one changes nothing. False where that takes longer
    than a moment.
    """
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
    new = _merged(steps, record, data.after)
    parse_recipe(new)
    may_use(new, steps, owner_of(request))
    upto = next(i for i, s in enumerate(new) if s["id"] == record["id"])
    tried, person = new[: upto + 1], person_of(request)
    key = replay_of(tried).keys[record["id"]]
    if key and not job.results.filter(key=key).exists():
        job.results.get_or_create(key=key)

    def work(study: Study) -> dict:
        said = pool().ask(
            "preview",
            job=job.id,
            person=person,
            limit=_PREVIEW_LIMIT,
            heavy=True,
            told=study.told,
            stopped=study.stop.is_set,
            steps=tried,
            step_id=record["id"],
        )
        return Preview(**said).model_dump(mode="json")

    return study_view(begin_study(person, (job.id, "preview"), work))


def _changed(request: HttpRequest, job: Job, label: str, make, laying: str, revision: int) -> dict:
    """Change the recipe, lay what follows, and answer with the job."""
    seen = seen_revision(request)
    change(job, label, make, seen=revision if seen is None else seen, owner=owner_of(request))
    settle(job, laying, person_of(request))
    return job_view(job)


@router.delete("/jobs/{job_id}/stones/{step_id}", response=JobView)
def take_out(request: HttpRequest, job_id: int, step_id: str, along: bool = False):
    """Take a stone out; refused while others rest on it, unless they go ``along``."""
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    name = _name_of(steps, step_id)
    out = taken_out(steps, step_id, along=along)
    if any(files_of(s) for s in steps) and not any(files_of(s) for s in out):
        raise BadInput("A job keeps its scan; start another job instead.")
    return _changed(
        request,
        job,
        f"Take out {name}" + (f" and {len(steps) - len(out) - 1} more" if len(steps) - len(out) > 1 else ""),
        lambda now: taken_out(now, step_id, along=along),
        "Laying again",
        revision,
    )


@router.post("/jobs/{job_id}/stones/{step_id}/move", response=JobView)
def move(request: HttpRequest, job_id: int, step_id: str, data: Moving):
    """Move a stone right after another; refused where it rests on what would come after, or others before rest on
    it.
    """
    job = job_of(request, job_id)
    steps, revision = snapshot(job)
    name, other = _name_of(steps, step_id), _name_of(steps, data.after)
    label = f"Move {name} after {other}"
    return _changed(
        request, job, label, lambda now: moved_after(now, step_id, data.after), f"Laying {name} again", revision
    )


def _name_of(steps: Records, step_id: str) -> str:
    found = next((s for s in steps if s["id"] == step_id), None)
    if found is None:
        raise HttpError(404, "There is no such stone.")
    return str(found["name"])


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
    return _changed(
        request,
        job,
        label,
        lambda now: [{**s, "enabled": on} if s["id"] == step_id else s for s in now],
        "Laying again",
        revision,
    )


def _line(request: HttpRequest, job: Job, name: str) -> tuple[int, list[Line], Line]:
    """The revision that is asked about, its ledger, and the value of this name."""
    steps, revision = snapshot_seen(job, seen_revision(request))
    lines = ledger(replay_of(steps).run(compute=False))
    found = next((line for line in lines if line[0] == name), None)
    if found is None:
        raise HttpError(404, "There is no such value.")
    return revision, lines, found


@router.post("/jobs/{job_id}/values", response=JobView)
def choose(request: HttpRequest, job_id: int, data: ValueChange):
    """Choose another number for a value of the ledger, or a formula that gives it."""
    job = job_of(request, job_id)
    revision, lines, (_, r, v) = _line(request, job, data.name)

    def chosen(now: Records) -> Records:
        if all(s["id"] != r.step.id for s in now):
            return now
        if data.formula:
            return formula_set(now, lines, data.name, data.formula)
        out = copy.deepcopy(now)
        set_value(out, r.step.id, v.path, data.value, "scan" if data.value is None else data.source)
        return out

    what = f"= {data.formula}" if data.formula else "as the scan says" if data.value is None else f"{data.value:g}"
    return _changed(request, job, f"{r.step.name}: {v.label} {what}", chosen, f"Laying {r.step.name} again", revision)


@router.post("/jobs/{job_id}/values/naming", response=JobView)
def name_value(request: HttpRequest, job_id: int, data: ValueNaming):
    """Call a value by a name of its own; formulas that use it follow."""
    job = job_of(request, job_id)
    revision, lines, (_, r, v) = _line(request, job, data.name)
    return _changed(
        request,
        job,
        f"{r.step.name}: {v.label} is called {data.given or 'as before'}",
        lambda now: named(now, lines, data.name, data.given),
        f"Laying {r.step.name} again",
        revision,
    )


class ReadingChange(Schema):
    """What was read by hand of a value; none: the reading is taken out again."""

    name: str
    reading: HandReading | None = None


@router.post("/jobs/{job_id}/values/reading", response=JobView)
def read_value(request: HttpRequest, job_id: int, data: ReadingChange):
    """Enter a hand reading against a value: it is chosen, and overrules the scan, where the value may be chosen."""
    job = job_of(request, job_id)
    revision, _, line = _line(request, job, data.name)
    _, r, v = line

    def read(now: Records) -> Records:
        if all(s["id"] != r.step.id for s in now):
            return now
        out = copy.deepcopy(now)
        read_by_hand(out, line, data.reading)
        return out

    took = f"{data.reading.instrument} {data.reading.value:g}" if data.reading else "without its reading"
    return _changed(request, job, f"{r.step.name}: {v.label} {took}", read, f"Laying {r.step.name} again", revision)


@router.get("/jobs/{job_id}/values/{name}", response=list[Suggestion])
def suggestions(request: HttpRequest, job_id: int, name: str):
    """Numbers that could be chosen for a value of the ledger."""
    found = suggested(job_of(request, job_id), name)
    if found is None:
        raise HttpError(404, "There is no such value.")
    return found


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
