"""A job as a document: what lists and stones show of it, small and quick; the rest by step or by result's key."""

from __future__ import annotations

from collections import OrderedDict
from datetime import datetime
from threading import Lock
from typing import Any

import numpy as np
from ninja import Schema

from deftmason.core.recipe.formulas import FORMULA, reached
from deftmason.core.recipe.ledger import formula_shown, ledger, used_by
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.readings import HandReading
from deftmason.core.recipe.references import references_in
from deftmason.core.recipe.replay import Ran, Replay, step_keys

from ..engines.told import suggestions_for, value_line
from .models import Job
from .recipe import replay_of_steps, snapshot, store
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
_BACK = 40  # edits looked back through for where something lost last was


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


class LostCandidate(Schema):
    """What could stand where something is lost; ``place`` in the frame and ``away`` mm from where that last was, where
    known.
    """

    value: Any
    label: str
    place: list[float] | None = None
    away: float | None = None


class Lost(Schema):
    """A reference whose step, face or edge is gone; ``place`` where it last was (frame), where known; and what could
    stand there, the nearest first.
    """

    path: list[str | int]
    gives: list[str]
    what: str
    place: list[float] | None = None
    candidates: list[LostCandidate]


class StoneDetail(Stone):
    """A step whole: its record, all it tells, and what it has lost."""

    record: dict[str, Any]
    summary: dict[str, Any]
    lost: list[Lost]


class Suggestion(Schema):
    value: float
    why: str
    moves: float


class ReadingLine(HandReading):
    """A hand reading beside the scan; ``apart``: they differ by more than both allow."""

    apart: bool
    says: str


class ValueLine(Schema):
    """A line of the ledger; ``fixed`` where it is only measured, ``given`` where people named it; ``formula`` what
    gives it, ``used_by`` the values whose formulas use it.
    """

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
    given: bool
    reading: ReadingLine | None
    formula: str | None
    used_by: list[str]


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
    demo: str


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
    lines = ledger(ran)
    formulas, used = formula_shown(lines), used_by(lines)
    done = job.edits.filter(undone=False).order_by("-id").values_list("label", flat=True).first()
    ahead = job.edits.filter(undone=True).order_by("id").values_list("label", flat=True).first()
    return {
        "id": job.id,
        "name": job.name,
        "revision": job.revision,
        "stones": [_stone(r) for r in ran],
        "values": [value_line(line, formulas, used) for line in lines],
        "undo": done,
        "redo": ahead,
        "tasks": tasks,
        "demo": job.demo,
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
        fits = [r.step for r in before if r.done and (not f.ref.gives or r.step.produces in f.ref.gives)]
        gone = next((r.step.name for r in before if r.step.id == f.id), None)
        out.append(
            {
                "path": list(f.path),
                "gives": list(f.ref.gives),
                "what": f"'{gone}'" if gone else f"the {f.ref.gives[0] if f.ref.gives else 'step'} it rested on",
                "candidates": [{"value": s.id, "label": s.name} for s in fits[::-1]],
            }
        )
    return out


def _lost_parts(job: Job, r: Ran) -> list[dict[str, Any]]:
    """Faces and edges that a step has lost, each with the nearest that could stand there."""
    out = []
    for part in r.summary.get("lost_parts", ()):
        place = _last_place(job, r, part["path"])
        found = part["candidates"]
        if place is not None:
            found = [{**c, "away": float(np.linalg.norm(np.subtract(c["place"], place)))} for c in found]
            found.sort(key=lambda c: c["away"])
        out.append({"path": part["path"], "gives": [], "what": part["what"], "place": place, "candidates": found})
    return out


def _last_place(job: Job, r: Ran, path: list[str | int]) -> list[float] | None:
    """Where what a reference names lay when the step last had all of it, from the job's history."""
    wanted = reached(r.step.model_dump(mode="json"), path)
    for edit in job.edits.order_by("-id")[:_BACK]:
        for records in (edit.after, edit.before):
            old = next((s for s in records if s["id"] == r.step.id), None)
            if old is None or wanted not in old.get(path[0], ()):
                continue
            key = step_keys(parse_recipe(records))[r.step.id]
            told = (store().record(key) or {}).get("summary", {}) if key else {}
            middles = told.get("middles") or []
            if not told.get("lost_parts") and len(middles) == len(old[path[0]]):
                return middles[old[path[0]].index(wanted)]
    return None


def _record_now(r: Ran) -> dict[str, Any]:
    """A step's record with the numbers that its formulas give now."""
    record = r.step.model_dump(mode="json", exclude=set(r.step.follows))
    for v in r.values:
        if v.source == FORMULA and v.path:
            reached(record, v.path[:-1])[v.path[-1]] = v.chosen
    return record


def stone_details(job: Job, step_id: str | None = None) -> list[dict[str, Any]]:
    """Steps whole, or the one asked for; empty where there is none."""
    ran = replay_now(job).run(compute=False)
    return [
        {
            **_stone(r),
            "record": _record_now(r),
            "summary": r.summary,
            "lost": _lost(ran, k) if r.status in ("failed", "waiting") else _lost_parts(job, r),
        }
        for k, r in enumerate(ran)
        if step_id is None or r.step.id == step_id
    ]


def suggested(job: Job, name: str) -> list[dict[str, Any]] | None:
    """Numbers that could be chosen for a value of the ledger; None where there is no such value."""
    found = next((v for n, _, v in ledger(replay_now(job).run(compute=False)) if n == name), None)
    return None if found is None else suggestions_for(found)
