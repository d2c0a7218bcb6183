"""Pieces run through their job's recipe by the worker, some at a time; each keeps what was said of it."""

from __future__ import annotations

import hashlib
import json
import os
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from typing import Any

from django_tasks import task

from deftmason.core.errors import Cancelled, MasonError
from deftmason.core.recipe.kinds.scan import other_scan
from deftmason.core.recipe.ledger import ledger
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.replay import step_keys

from .engine import pool
from .models import Job, Piece
from .recipe import Records, note_results, records, replay_of
from .work import Watch, begin_work, watched

__all__ = ["file_of", "recipe_key", "run_pieces", "start_pieces", "steps_of"]

_AT_ONCE = min(os.cpu_count() or 1, 4)  # pieces that are worked on at the same time
_MOST_SAID = 3
_LOOK = 0.3  # seconds between two looks at how far they are
_KEPT = ("rms", "p95", "within", "answered", "points")


def recipe_key(steps: Records) -> str:
    """Tells whether a piece was run with the recipe as it is."""
    return hashlib.sha256(json.dumps(step_keys(parse_recipe(steps)), sort_keys=True).encode()).hexdigest()


def file_of(record: dict[str, Any]) -> dict[str, Any]:
    """What a scan's record says of its file."""
    return {k: v for k, v in record.items() if k not in ("id", "name")}


def steps_of(steps: Records, piece: Piece) -> Records:
    """The recipe on the piece's own scan. Raises `BadInput` where the scan it stands in for is gone."""
    return other_scan(steps, piece.step_id, piece.record)


def start_pieces(job: Job) -> None:
    """Ask the worker to run the pieces that were not run with the recipe as it is."""
    begin_work(job, "Running the recipe on its pieces", "pieces", run_pieces)


@task()
def run_pieces(work_id: int) -> None:
    """Run a job's recipe on those of its pieces that it was not run on (in the worker)."""
    watched(work_id, _run)


def _run(job: Job, watch: Watch) -> None:
    steps = records(job)
    key = recipe_key(steps)
    waiting = list(job.pieces.exclude(recipe=key).order_by("id"))
    told: dict[int, tuple[float, str]] = {p.pk: (0.0, "") for p in waiting}

    def ask(piece: Piece) -> MasonError | None:
        """Only the engine is asked here: this thread has no connection to the database."""

        def tell(share: float, message: str = "") -> None:
            told[piece.pk] = (share, message)

        try:
            pool().ask(
                "run",
                job=f"{job.pk} {piece.pk}",
                person="worker",
                limit=None,
                told=tell,
                stopped=watch.cancelled.is_set,
                steps=steps_of(steps, piece),
            )
        except MasonError as e:
            return e
        told[piece.pk] = (1.0, "")
        return None

    with ThreadPoolExecutor(_AT_ONCE) as threads:
        asked = {threads.submit(ask, p): p for p in waiting}
        left = set(asked)
        while left:
            finished, left = wait(left, _LOOK, FIRST_COMPLETED)
            for done in finished:
                refused = done.result()
                if isinstance(refused, Cancelled):
                    threads.shutdown(cancel_futures=True)
                    raise refused
                _keep(job, asked[done], steps, key, refused)
            said = next((f"{p.name}: {told[p.pk][1]}" for p in waiting if 0 < told[p.pk][0] < 1), "")
            watch(sum(share for share, _ in told.values()) / len(told), said)


def _keep(job: Job, piece: Piece, steps: Records, key: str, refused: MasonError | None) -> None:
    """Write down what the recipe said of a piece."""
    if refused is not None:
        found: dict[str, Any] = {"status": "failed", "says": refused.message, "values": [], "check_summary": None}
    else:
        mine = steps_of(steps, piece)
        note_results(job, mine)
        found = _found(mine)
    found["says"] = found["says"][:600]
    job.pieces.filter(pk=piece.pk).update(recipe=key, **found)


def _found(steps: Records) -> dict[str, Any]:
    ran = replay_of(steps).run(compute=False)
    failed = [r for r in ran if r.status in ("failed", "waiting", "pending")]
    wanting = failed or [r for r in ran if r.status == "attention"]
    says = " ".join(f"{r.step.name}: {r.says}" for r in wanting[:_MOST_SAID])
    if len(wanting) > _MOST_SAID:
        says += f" And {len(wanting) - _MOST_SAID} more."
    checks = [r.summary for r in ran if r.done and r.step.produces == "deviation"]
    return {
        "status": "failed" if failed else "attention" if wanting else "done",
        "says": says,
        "values": [
            {"name": n, "measured": v.measured, "uncertainty": v.uncertainty, "unit": v.unit}
            for n, _, v in ledger(ran)
            if v.measured is not None
        ],
        "check_summary": {k: checks[-1].get(k) for k in _KEPT} if checks else None,
    }
