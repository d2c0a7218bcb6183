"""A job as a document: what lists and stones show of it, small and quick; the rest by step or by result's key."""

from __future__ import annotations

from collections import OrderedDict
from datetime import datetime
from threading import Lock
from typing import Any

from ninja import Schema

from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.references import references_in
from deftmason.core.recipe.replay import Ran, Replay, ledger

from ..engines.told import suggestions_for, value_line
from .models import Job
from .recipe import replay_of_steps, snapshot
from .work import mark_dead

__all__ = [
    "JobView",
    "LedgerLine",
    "Stamp",
    "Stone",
    "StoneDetail",
    "Suggestion",
    "ValueLine",
    "job_view",
    "replay_now",
    "stamp_of",
    "stone_details",
    "suggested",
]

_MOST_KEPT = 64  # jobs whose parsed recipes are kept at hand
_TASKS = 12


class Stone(Schema):
    """One step in a line: what lists and the wall show. ``told`` is the small part of its summary."""

    id: str
    kind: str
    name: str
    course: str
    produces: str
    enabled: bool
    inputs: list[str]
    betters: str | None
    key: str | None
    status: str
    says: str
    told: dict[str, Any]


class Lost(Schema):
    """A reference whose step is gone, off or failed, and the steps that could stand there."""

    path: list[str | int]
    gives: list[str]
    candidates: list[str]


class StoneDetail(Stone):
    """A step whole: its record, all it tells, and what it has lost."""

    record: dict[str, Any]
    summary: dict[str, Any]
    lost: list[Lost]


class Suggestion(Schema):
    value: float
    why: str
    moves: float


class ValueLine(Schema):
    """A line of the ledger; ``fixed`` where it is only measured."""

    name: str
    step: str
    label: str
    measured: float | None
    uncertainty: float | None
    chosen: float
    source: str
    unit: str
    cost: float | None
    fixed: bool


class LedgerLine(ValueLine):
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
    values: list[ValueLine]
    undo: str | None
    redo: str | None
    tasks: list[TaskLine]
    proofs: list[ProofLine]


class Stamp(Schema):
    """What tells a page whether the job it shows is still as it is."""

    revision: int
    working: bool
    proofs: int


_kept: OrderedDict[tuple[int, datetime, int], Replay] = OrderedDict()
_lock = Lock()


def replay_now(job: Job) -> Replay:
    """The recipe as it is, parsed and with its keys; kept while nothing changes."""
    label = (job.pk, job.created, job.revision)
    with _lock:
        if label in _kept:
            _kept.move_to_end(label)
            return _kept[label]
    steps, revision = snapshot(job)
    replay = replay_of_steps(parse_recipe(steps))
    with _lock:
        _kept[job.pk, job.created, revision] = replay
        while len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
    return replay


def _stone(r: Ran) -> dict[str, Any]:
    shown = ("says", *r.step.tells.line)
    return {
        "id": r.step.id,
        "kind": r.step.kind,
        "name": r.step.name,
        "course": r.step.course,
        "produces": r.step.produces,
        "enabled": r.step.enabled,
        "inputs": r.step.inputs(),
        "betters": r.step.stands_for(),
        "key": r.key,
        "status": r.status,
        "says": r.says,
        "told": {k: r.summary[k] for k in shown if k in r.summary},
    }


def job_view(job: Job) -> dict[str, Any]:
    """The job as its page shows it."""
    mark_dead(job)
    # Tasks are looked at before results: what a finished task left is there then, and a running one is asked for again.
    tasks = list(job.works.order_by("-id").values("id", "label", "state", "progress", "message")[:_TASKS])
    job.refresh_from_db()
    ran = replay_now(job).run(compute=False)
    done = job.edits.filter(undone=False).order_by("-id").values_list("label", flat=True).first()
    ahead = job.edits.filter(undone=True).order_by("id").values_list("label", flat=True).first()
    return {
        "id": job.id,
        "name": job.name,
        "revision": job.revision,
        "stones": [_stone(r) for r in ran],
        "values": [value_line(n, v) for n, _, v in ledger(ran)],
        "undo": done,
        "redo": ahead,
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


def stamp_of(job: Job) -> dict[str, Any]:
    """A few numbers that differ where the job does; nothing of it is read."""
    working = job.works.filter(state__in=("waiting", "running")).exists()
    return {"revision": job.revision, "working": working, "proofs": job.proofs.count()}


def _lost(ran: list[Ran], at: int) -> list[dict[str, Any]]:
    """References of a step that hold nothing done, each with what could stand there."""
    step = ran[at].step
    before = ran[:at]
    there = {r.step.id for r in before if r.done}
    standing = {r.step.id for r in before if r.status == "off" and r.step.stands_for() in there}
    out = []
    for f in references_in(type(step), step):
        if f.ref.mention or f.id in there or f.id in standing:
            continue
        fits = [r.step.id for r in before if r.done and (not f.ref.gives or r.step.produces in f.ref.gives)]
        out.append({"path": list(f.path), "gives": list(f.ref.gives), "candidates": fits[::-1]})
    return out


def stone_details(job: Job, step_id: str | None = None) -> list[dict[str, Any]]:
    """Steps whole, or the one asked for; empty where there is none."""
    ran = replay_now(job).run(compute=False)
    return [
        {
            **_stone(r),
            "record": r.step.model_dump(mode="json", exclude=set(r.step.follows)),
            "summary": r.summary,
            "lost": _lost(ran, k) if r.status in ("failed", "waiting") else [],
        }
        for k, r in enumerate(ran)
        if step_id is None or r.step.id == step_id
    ]


def suggested(job: Job, name: str) -> list[dict[str, Any]] | None:
    """Numbers that could be chosen for a value of the ledger; None where there is no such value."""
    found = next((v for n, _, v in ledger(replay_now(job).run(compute=False)) if n == name), None)
    return None if found is None else suggestions_for(found)
