"""A job's recipe: read, change, undo, redo; every change is one edit, stored whole in one transaction.

A change is a function of the recipe as it is inside the transaction. Where others changed the job since the page that
asks
saw it, the change is made all the same if it touches none of the steps they touched; else it is refused with the job as
it is now.
"""

from __future__ import annotations

import functools
from collections.abc import Callable

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction

from deftmason.core.errors import BadInput, MasonError
from deftmason.core.recipe.parse import files_of, parse_recipe
from deftmason.core.recipe.replay import Replay, step_keys
from deftmason.core.recipe.step import Step as CoreStep
from deftmason.core.recipe.store import ResultStore

from ..engines.desk import Desk
from .models import Edit, Job, Result, Step, Upload
from .sharing import SharedResults, sharing

__all__ = [
    "Conflict",
    "change",
    "may_use",
    "note_results",
    "records",
    "redo",
    "replay_of",
    "replay_of_steps",
    "snapshot",
    "snapshot_seen",
    "store",
    "undo",
]

_MOST_EDITS = 300
_HOT = 2000  # results whose records are kept at hand
Records = list[dict]


class Conflict(MasonError):
    """The job was changed by somebody else meanwhile."""

    def __init__(self, job_id: int):
        super().__init__(
            "The job was changed meanwhile, in the same place; look at it as it is now and do this again.",
            code="conflict",
        )
        self.job_id = job_id


@functools.cache
def desk() -> Desk:
    """This process's window on the results: it reads records of them and computes nothing."""
    out = Desk(str(settings.DATA), _HOT)
    shared = sharing()
    if shared is not None:
        out.store = SharedResults(shared, _HOT)
    return out


def store() -> ResultStore:
    return desk().store


def records(job: Job) -> Records:
    return [s.record for s in job.steps.all()]


def snapshot(job: Job) -> tuple[Records, int]:
    """The recipe and its revision, of one moment."""
    with transaction.atomic():
        job.refresh_from_db(fields=["revision"])
        return records(job), job.revision


def snapshot_seen(job: Job, seen: int | None) -> tuple[Records, int]:
    """The recipe that a page saw when it asked, where it is still known; else as it is now."""
    steps, revision = snapshot(job)
    base = None if seen is None or seen == revision else _recipe_at(job, seen)
    return (steps, revision) if base is None else (base, seen)


def replay_of(steps: Records) -> Replay:
    """To read what became of the steps; only engines compute."""
    return desk().replay(steps)


def replay_of_steps(steps: list[CoreStep]) -> Replay:
    """As `replay_of`, of steps that are parsed already."""
    return desk().replay_steps(steps)


def may_use(steps: Records, there: Records, owner: AbstractBaseUser | None) -> None:
    """Refuse files that ``owner`` did not bring and that the recipe did not use before."""
    known = {f for s in there for f in files_of(s)}
    for sha in (f for s in steps for f in files_of(s)):
        if sha not in known and not Upload.objects.filter(owner=owner, blob__sha256=sha).exists():
            raise BadInput("That scan's file was not brought in by you; bring the file in first.", field="sha256")


def _checked(steps: Records) -> list[CoreStep]:
    """Steps that may be stored: each rests only on what is there before it."""
    parsed = parse_recipe(steps)
    ids = {s.id for s in parsed}
    for s in parsed:
        if not ids.issuperset(s.inputs()):
            raise BadInput(f"'{s.name}' rests on a step that is not there.", field="inputs")
    return parsed


def _recipe_at(job: Job, revision: int) -> Records | None:
    """The recipe as it was at a revision, where the edit that followed it is still known."""
    edit = job.edits.filter(revision=revision + 1).first()
    return None if edit is None else edit.before


def _touched(before: Records, after: Records) -> set[str]:
    """Ids of steps that are in one only, or differ."""
    a, b = ({s["id"]: s for s in steps} for steps in (before, after))
    return {i for i in a.keys() | b.keys() if a.get(i) != b.get(i)}


def _write(job: Job, steps: Records) -> None:
    job.steps.all().delete()
    Step.objects.bulk_create(Step(job=job, order=i, step_id=s["id"], record=s) for i, s in enumerate(steps))
    job.revision += 1
    job.save()


def change(
    job: Job,
    label: str,
    make: Callable[[Records], Records],
    *,
    seen: int | None = None,
    owner=None,
    trusted: bool = False,
) -> None:
    """Change the job's steps, as one edit that can be undone.

    Parameters
    ----------
    make : the new recipe from the one there is; must not change what it is given.
    seen : the revision it was asked of.  owner : whose files it may use; any where ``trusted``.

    Raises
    ------
    BadInput : a record its kind refuses, a doubled id, an input that is not there before it, another's file.
    Conflict : others changed the same steps since.
    """
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        before = records(job)
        if seen is not None and seen != job.revision:
            base = _recipe_at(job, seen)
            if base is None or _touched(base, make(base)) & _touched(base, before):
                raise Conflict(job.pk)
        parsed = _checked(make(before))
        clean = [s.model_dump(mode="json") for s in parsed]
        if not trusted:
            may_use(clean, before, owner)
        if before == clean:
            return
        job.edits.filter(undone=True).delete()
        Edit.objects.create(job=job, label=label[:160], before=before, after=clean, revision=job.revision + 1)
        old = job.edits.order_by("-id").values_list("id", flat=True)[_MOST_EDITS:]
        Edit.objects.filter(id__in=list(old)).delete()
        _write(job, clean)


def _walk(job: Job, seen: int | None, back: bool) -> str:
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        if seen is not None and seen != job.revision:
            raise Conflict(job.pk)
        edit = job.edits.filter(undone=not back).order_by("-id" if back else "id").first()
        if edit is None:
            raise BadInput(f"There is nothing to {'undo' if back else 'redo'}.")
        edit.undone = back
        edit.save()
        _write(job, edit.before if back else edit.after)
    return edit.label


def undo(job: Job, seen: int | None = None) -> str:
    """Take back the last edit and return its label. Raises `BadInput` where there is none, `Conflict` where others
    changed the job.
    """
    return _walk(job, seen, True)


def redo(job: Job, seen: int | None = None) -> str:
    """Do the last edit that was taken back again; as `undo`."""
    return _walk(job, seen, False)


def note_results(job: Job, steps: Records) -> None:
    """Remember that the job may read the results of its steps as they are now."""
    keys = {k for k in step_keys(parse_recipe(steps)).values() if k}
    known = set(job.results.filter(key__in=keys).values_list("key", flat=True))
    if keys - known:
        Result.objects.bulk_create([Result(job=job, key=k) for k in keys - known], ignore_conflicts=True)
