"""Work that takes time: run by the worker through the tasks interface, watched and cancelled through `Work` rows."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from datetime import timedelta

from django.conf import settings
from django.db import OperationalError, connection, transaction
from django.utils import timezone
from django_tasks import task
from django_tasks.base import Task

from deftmason.core.errors import Cancelled, MasonError
from deftmason.core.recipe.kinds.scan import lacks_likeness
from deftmason.core.recipe.step import Step as CoreStep

from .collecting import FRESH, UNUSED, collect
from .engine import pool
from .models import Job, Step, Work
from .recipe import note_results, records, replay_of

__all__ = ["Watch", "begin_work", "collect_soon", "start_run", "mark_dead", "settle", "watched"]

log = logging.getLogger(__name__)

_LOST_AFTER = timedelta(seconds=12)
_BEAT = 2.0
_TELL = 0.25  # seconds between two notes of progress
_FIRST = 5.0  # seconds a change may take to be laid before it goes on as a task


def start_run(job: Job, label: str) -> Work:
    """Ask the worker to lay what is not laid yet. Work that waits already will do."""
    return begin_work(job, label, "lay", run_work)


def begin_work(job: Job, label: str, what: str, how: Task) -> Work:
    """Ask the worker for a work, ``how`` it is done a task of its row's id. The same that waits already will do."""
    mark_dead(job)
    with transaction.atomic():
        waiting = job.works.filter(state="waiting", cancel_asked=False, what=what).first()
        if waiting:
            return waiting
        work = Work.objects.create(job=job, label=label[:160], what=what, message="Waiting for the worker")
    how.enqueue(work.id)
    return work


def settle(job: Job, label: str, person: str = "", *, at_once: bool = True) -> Work | None:
    """Lay quick steps now; hand the rest, and what takes longer than a moment or is not to be tried ``at_once``, to the
    worker. Returns the work there is to wait for.

    Raises nothing: the change that led here is kept already.
    """
    steps = records(job)
    note_results(job, steps)
    stale = replay_of(steps).stale()
    later = _later(stale)
    if at_once and len(later) < len(stale):
        try:
            pool().ask("run", job=job.id, person=person, limit=_FIRST, steps=[s for s in steps if s["id"] not in later])
        except MasonError as e:
            log.info("Laying job %s goes on as a task: %s", job.pk, e.message)
            return start_run(job, label)
    return start_run(job, label) if later or (stale and not at_once) else None


def _later(stale: list[CoreStep]) -> set[str]:
    """Of steps to be worked out, those that take long, and what rests on them."""
    out: set[str] = set()
    for s in stale:
        if not s.quick or not out.isdisjoint(s.inputs()):
            out.add(s.id)
    return out


def mark_dead(job: Job | None = None) -> None:
    """Running work whose worker has not been heard of is failed, and can be tried again."""
    lost = Work.objects.filter(state="running", heartbeat__lt=timezone.now() - _LOST_AFTER)
    if job is not None:
        lost = lost.filter(job=job)
    if lost.exists():  # looking at a job writes only where there is something to write
        lost.update(state="failed", message="The worker stopped while this ran; try again.")


class Watch:
    """Keeps a work row's progress and heartbeat, and learns of cancel."""

    def __init__(self, work: Work):
        self.id, self.last, self.told = work.id, 0.0, 0.0
        self.cancelled = threading.Event()
        self.done = threading.Event()
        self.thread = threading.Thread(target=self._beat, daemon=True)
        self.thread.start()

    def _beat(self) -> None:
        while not self.done.wait(0.4):
            row = Work.objects.filter(pk=self.id)
            try:
                if row.filter(cancel_asked=True).exists():
                    self.cancelled.set()
                if time.monotonic() - self.last > _BEAT:
                    self.last = time.monotonic()
                    row.filter(state="running").update(heartbeat=timezone.now())
            except OperationalError:  # somebody else is writing: the next beat will do
                continue
        connection.close()

    def __call__(self, share: float, message: str = "") -> None:
        if self.cancelled.is_set():
            raise Cancelled()
        if time.monotonic() - self.told < _TELL and share < 1:
            return
        self.told = time.monotonic()
        Work.objects.filter(pk=self.id, state="running").update(
            progress=round(share, 3), message=message[:300], heartbeat=timezone.now()
        )


def collect_soon() -> None:
    """Ask the worker to remove what nothing names any more."""
    run_collect.enqueue()


@task()
def run_collect() -> None:
    """Remove what nothing names any more (in the worker)."""
    collect(settings.DATA, FRESH, UNUSED)


def watched(work_id: int, do: Callable[[Job, Watch], None]) -> None:
    """Do a work that waits, in the worker: its row tells how it goes and how it ended. ``do`` hands the watch on."""
    taken = Work.objects.filter(pk=work_id, state="waiting").update(
        state="running", heartbeat=timezone.now(), message="Starting"
    )
    if not taken:
        return
    work = Work.objects.select_related("job").get(pk=work_id)
    if work.cancel_asked:
        Work.objects.filter(pk=work_id).update(state="cancelled", message="Stopped before it began.")
        return
    watch = Watch(work)
    state, message = "failed", "The work was ended; try again."
    try:
        do(work.job, watch)
        state, message = "done", "Done"
    except Cancelled as e:
        state, message = "cancelled", e.message
    except Job.DoesNotExist:
        return  # thrown away meanwhile
    except MasonError as e:
        state, message = "failed", e.message
    except Exception as e:
        state, message = "failed", f"Something went wrong inside ({type(e).__name__}); the job is as it was."
        raise
    finally:
        watch.done.set()
        Work.objects.filter(pk=work_id).update(
            state=state, message=message[:300], progress=1.0 if state == "done" else 0.0
        )


@task()
def run_work(work_id: int) -> None:
    """Lay a job's stale steps (in the worker)."""
    watched(work_id, _lay)


def _lay(job: Job, watch: Watch) -> None:
    while True:
        steps = records(job)
        note_results(job, steps)
        pool().ask(
            "run", job=job.pk, person="worker", limit=None, told=watch, stopped=watch.cancelled.is_set, steps=steps
        )
        if records(Job.objects.get(pk=job.pk)) == steps:
            break  # nothing changed meanwhile
    _keep_likenesses(job, steps)


def _keep_likenesses(job: Job, steps: list[dict]) -> None:
    """A scan's likeness, kept in its record, so that another scan of the part can be laid onto it on replay."""
    without = [s for s in steps if lacks_likeness(s)]
    if not without:
        return
    for i, places in pool().ask("likenesses", job=job.id, person="worker", limit=None, steps=without).items():
        with transaction.atomic():
            row = Step.objects.filter(job=job, step_id=i).first()
            if row is not None and lacks_likeness(row.record):
                row.record = {**row.record, "likeness": places}
                row.save(update_fields=["record"])
