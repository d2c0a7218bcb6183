"""Work that takes time: run by the worker through the tasks interface, watched and cancelled through `Work` rows."""

from __future__ import annotations

import threading
import time
from datetime import timedelta

from django.db import OperationalError, connection
from django.utils import timezone
from django_tasks import task

from deftmason.core.errors import Cancelled, MasonError

from .models import Job, Work
from .recipe import note_results, records, replay_of

__all__ = ["start_run", "mark_dead", "settle"]

_LOST_AFTER = timedelta(seconds=12)
_BEAT = 2.0


def start_run(job: Job, label: str) -> Work:
    """Ask the worker to lay what is not laid yet. Work that waits already will do."""
    mark_dead(job)
    waiting = job.works.filter(state="waiting", cancel_asked=False).first()
    if waiting:
        return waiting
    work = Work.objects.create(job=job, label=label[:160], message="Waiting for the worker")
    run_work.enqueue(work.id)
    return work


def settle(job: Job, label: str) -> Work | None:
    """Lay quick steps now; hand the rest to the worker. Returns the work there is to wait for."""
    steps = records(job)
    note_results(job, steps)
    replay = replay_of(steps)
    stale = replay.stale()
    if not stale:
        return None
    if all(s.quick for s in stale):
        replay.run()
        return None
    return start_run(job, label)


def mark_dead(job: Job | None = None) -> None:
    """Running work whose worker has not been heard of is failed, and can be tried again."""
    lost = Work.objects.filter(state="running", heartbeat__lt=timezone.now() - _LOST_AFTER)
    if job is not None:
        lost = lost.filter(job=job)
    lost.update(state="failed", message="The worker stopped while this ran; try again.")


class _Watch:
    """Keeps a work row's progress and heartbeat, and learns of cancel."""

    def __init__(self, work: Work):
        self.id, self.last = work.id, 0.0
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
        Work.objects.filter(pk=self.id, state="running").update(
            progress=round(share, 3), message=message[:300], heartbeat=timezone.now()
        )


@task()
def run_work(work_id: int) -> None:
    """Lay a job's stale steps (in the worker)."""
    taken = Work.objects.filter(pk=work_id, state="waiting").update(
        state="running", heartbeat=timezone.now(), message="Starting"
    )
    if not taken:
        return
    work = Work.objects.select_related("job").get(pk=work_id)
    if work.cancel_asked:
        Work.objects.filter(pk=work_id).update(state="cancelled", message="Stopped before it began.")
        return
    watch = _Watch(work)
    try:
        while True:
            steps = records(work.job)
            note_results(work.job, steps)
            replay_of(steps).run(watch)
            if records(Job.objects.get(pk=work.job_id)) == steps:
                break  # nothing changed meanwhile
        state, message = "done", "Done"
    except Cancelled as e:
        state, message = "cancelled", e.message
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
