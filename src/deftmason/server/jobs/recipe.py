"""A job's recipe: read, change, undo, redo; every change is one edit, stored whole in one transaction."""

from __future__ import annotations

import functools
import os

from django.conf import settings
from django.db import transaction

from deftmason.core.errors import BadInput
from deftmason.core.recipe.replay import Replay, step_keys
from deftmason.core.recipe.step import parse_step
from deftmason.core.recipe.store import ResultStore

from .blobs import blob_path
from .models import Edit, Job, Result, Step

__all__ = ["store", "records", "replay_of", "change", "undo", "redo", "note_results"]

_MOST_EDITS = 300


@functools.cache
def store() -> ResultStore:
    """This process's window on the results."""
    return ResultStore(str(settings.DATA / "results"))


def records(job: Job) -> list[dict]:
    return [s.record for s in job.steps.all()]


def scan_file_of(steps: list[dict]):
    """Path of a scan's blob with its own file's suffix, so that readers know the format."""

    def find(sha256: str, name: str) -> str:
        file = next(s["file"] for s in steps if s["kind"] == "scan" and s["sha256"] == sha256)
        path = blob_path(sha256)
        if not os.path.exists(path):
            raise BadInput(f"The file '{file}' is no longer on this server; bring it in again.")
        (settings.DATA / "tmp").mkdir(exist_ok=True)
        link = settings.DATA / "tmp" / (sha256 + os.path.splitext(file)[1].lower())
        if not link.exists():
            try:
                link.symlink_to(path)
            except FileExistsError:
                pass
        return str(link)

    return find


def replay_of(steps: list[dict]) -> Replay:
    return Replay([parse_step(s) for s in steps], store(), scan_file_of(steps))


def _write(job: Job, steps: list[dict]) -> None:
    job.steps.all().delete()
    Step.objects.bulk_create(Step(job=job, order=i, step_id=s["id"], record=s) for i, s in enumerate(steps))
    job.revision += 1
    job.save()


def change(job: Job, label: str, steps: list[dict]) -> None:
    """Make these the job's steps, as one edit that can be undone.

    Raises `BadInput` for a record its kind refuses, a doubled id, or an input that does not come before.
    """
    parsed = [parse_step(s) for s in steps]
    seen: set[str] = set()
    for s in parsed:
        if s.id in seen:
            raise BadInput(f"Two steps have the id '{s.id}'.", field="id")
        for i in s.inputs():
            if i not in seen:
                raise BadInput(f"'{s.name}' rests on a step that does not come before it.", field="inputs")
        seen.add(s.id)
    clean = [s.model_dump(mode="json") for s in parsed]
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        before = records(job)
        if before == clean:
            return
        job.edits.filter(undone=True).delete()
        Edit.objects.create(job=job, label=label[:160], before=before, after=clean)
        old = job.edits.order_by("-id").values_list("id", flat=True)[_MOST_EDITS:]
        Edit.objects.filter(id__in=list(old)).delete()
        _write(job, clean)


def undo(job: Job) -> str:
    """Take back the last edit and return its label. Raises `BadInput` where there is none."""
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        edit = job.edits.filter(undone=False).order_by("-id").first()
        if edit is None:
            raise BadInput("There is nothing to undo.")
        edit.undone = True
        edit.save()
        _write(job, edit.before)
    return edit.label


def redo(job: Job) -> str:
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        edit = job.edits.filter(undone=True).order_by("id").first()
        if edit is None:
            raise BadInput("There is nothing to redo.")
        edit.undone = False
        edit.save()
        _write(job, edit.after)
    return edit.label


def note_results(job: Job, steps: list[dict]) -> None:
    """Remember that the job may read the results of its steps as they are now."""
    keys = {k for k in step_keys([parse_step(s) for s in steps]).values() if k}
    known = set(job.results.filter(key__in=keys).values_list("key", flat=True))
    Result.objects.bulk_create([Result(job=job, key=k) for k in keys - known], ignore_conflicts=True)
