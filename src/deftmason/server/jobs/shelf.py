"""The jobs shelf: what there is, bringing a file in, starting a job."""

from __future__ import annotations

import os
import threading
import time
from typing import Annotated

from django.conf import settings
from django.contrib.auth import get_user_model
from django.db import transaction
from django.http import FileResponse, HttpRequest
from ninja import File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile
from pydantic import Field

from deftmason.core.elements import UNITS_IN_MM
from deftmason.core.errors import BadInput, MasonError
from deftmason.core.recipe.kinds.model import model_record
from deftmason.core.recipe.kinds.scan import TextColumns, other_scan, scan_record
from deftmason.core.recipe.records import one_line
from deftmason.core.recipe.references import files_in
from deftmason.core.scan.formats import CLOUD_SUFFIXES, MESH_SUFFIXES, MODEL_SUFFIXES
from deftmason.demo.guides import GUIDES

from ..engines.pool import Busy, TooLong
from .access import job_of, jobs_of, owner_of, person_of
from .blobs import Sent, drop, keep, receive, room_for
from .document import replay_now
from .engine import made_picture, pool
from .models import Job, Upload
from .recipe import change, records, replay_of
from .studies import Study, StudyView, begin_study, study_of, study_view
from .work import settle

router = Router()
_READING = 7.0  # seconds a request waits for a file to be read
_READING_LIMIT = 300.0
_FIRST = 5.0  # seconds a job's scans may take to be laid before they go on as a task
_SUFFIXES = tuple(dict.fromkeys(MESH_SUFFIXES + CLOUD_SUFFIXES))
_BOTH = (*_SUFFIXES, *MODEL_SUFFIXES)


class JobCard(Schema):
    id: int
    name: str
    demo: bool
    guided: bool
    mine: bool
    changed: str
    says: str
    size: str | None
    picture: str | None


class Layout(Schema):
    """How a text file's columns were recognised, with its first rows, for confirmation."""

    delimiter: str
    columns: list[str]
    skip: int
    comments: int
    decimal_comma: bool
    sample: list[list[str]]


class Brought(Schema):
    upload: int
    name: str
    layout: Layout | None = None
    triangles: int
    points: int
    faces: int = 0
    sizes: dict[str, str]
    warnings: list[str]


class BroughtStudy(StudyView):
    """A file that is still being read."""


class BroughtIn(Schema):
    """One upload of a job: its unit, and its columns where it is a text file."""

    upload: int
    units: str = "mm"
    layout: TextColumns | None = None


class NewJob(Schema):
    scans: Annotated[list[BroughtIn], Field(max_length=60)]
    name: str


class MoreScans(Schema):
    scans: Annotated[list[BroughtIn], Field(max_length=60)]


class BroughtModel(Schema):
    """One upload of a model file."""

    upload: int


class Rename(Schema):
    name: str


class Share(Schema):
    with_user: str


class Created(Schema):
    id: int


def _card(request, job: Job) -> dict:
    """One job on the shelf. One that cannot be read (a newer program's) says so, and hides no other."""
    try:
        ran, unread = replay_now(job).run(compute=False), ""
    except BadInput as e:
        ran, unread = [], e.message
    scan = next((r for r in ran if r.step.produces == "scan"), None)
    raw = sum(bool(files_in(type(r.step), r.step)) for r in ran)
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    checks = [r for r in ran if r.done and r.step.produces == "deviation"]
    says = f"{len(ran)} {'stone' if len(ran) == 1 else 'stones'}"
    if unread:
        says = f"Cannot be read here: {unread}"
    elif checks:
        says += f", checked to {checks[-1].summary['rms']:.3f} mm rms"
    elif bodies:
        says += ", a body"
    elif len(ran) == raw:
        says = ("A capture begun", "A scan, nothing laid yet")[raw] if raw < 2 else f"{raw} scans, nothing laid yet"
    return {
        "id": job.id,
        "name": job.name,
        "demo": bool(job.demo),
        "guided": job.demo in GUIDES and GUIDES[job.demo].open,
        "mine": job.owner_id == getattr(request.user, "id", None),
        "changed": job.changed.isoformat(),
        "says": says,
        "size": scan.summary.get("size") if scan else None,
        "picture": f"/api/jobs/{job.id}/picture.png?r={job.revision}" if scan else None,
    }


@router.get("/jobs", response=list[JobCard])
def shelf(request: HttpRequest):
    """Jobs, last changed first."""
    return [_card(request, j) for j in jobs_of(request).order_by("-changed")]


@router.post("/uploads", response=Brought | BroughtStudy)
def bring(request: HttpRequest, file: UploadedFile = File(...)):  # noqa: B008
    """Keep a scan file and say back what it holds, in every unit; a study where reading takes long. An unusable file
    leaves nothing behind.
    """
    name = _file_name(file.name or "scan")
    suffix = os.path.splitext(name)[1].lower()
    if suffix not in _BOTH:
        raise BadInput(
            f"{name}: '{suffix or 'no suffix'}' cannot be read; bring one of {', '.join(_BOTH)}.", field="file"
        )
    if file.size and file.size > settings.MOST_UPLOAD_BYTES:
        raise BadInput(
            f"{name}: is larger than the {settings.MOST_UPLOAD_BYTES / 1e9:g} GB that may be sent.", field="file"
        )
    room_for(file.size or 0)
    person = person_of(request)
    reading = _Reading(receive(file.chunks()), name, owner_of(request))

    def work(study: Study) -> dict:
        try:
            return pool().ask(
                "look_at_file",
                person=person,
                limit=_READING_LIMIT,
                heavy=True,
                told=study.told,
                stopped=study.stop.is_set,
                path=reading.sent.path,
                name=name,
                sha256=reading.sent.sha256,
            )
        except MasonError as e:
            drop(reading.sent)
            if suffix in MODEL_SUFFIXES and e.code == "ended":
                says = f"{name}: its reader broke down on it, as on damaged files; export it again as STEP."
                raise BadInput(says, field="file") from None
            raise
        except BaseException:
            drop(reading.sent)
            raise

    study = begin_study(person, ("upload", reading), work, at_once=_READING, stays=True)
    return _brought(study)


class _Reading:
    """A file that was sent and is being read; kept once, by the first who learns that it is usable."""

    def __init__(self, sent: Sent, name: str, owner):
        self.sent, self.name, self.owner = sent, name, owner
        self.lock, self.upload = threading.Lock(), 0

    def kept(self) -> int:
        """The upload's number."""
        with self.lock:
            if not self.upload:
                with transaction.atomic():
                    self.upload = Upload.objects.create(blob=keep(self.sent), owner=self.owner, name=self.name).id
        return self.upload


@router.get("/uploads/{study}", response=Brought | BroughtStudy)
def follow_upload(request: HttpRequest, study: int):
    """How the reading of a file that was sent stands; waits a moment for it to finish."""
    found = study_of(request, study, "upload")
    found.done.wait(0.4)
    return _brought(found)


def _brought(study: Study) -> dict:
    view, reading = study_view(study), study.slot[1]
    if not view["done"]:
        return view
    return {"upload": reading.kept(), "name": reading.name, **view["result"]}


def _file_name(name: str) -> str:
    """A file's own name as people may read it: no folder, no control characters."""
    plain = "".join(c for c in os.path.basename(name.replace("\\", "/")) if c.isprintable())
    stem, suffix = os.path.splitext(plain)
    return (stem[: 200 - len(suffix)] or "scan") + suffix[:20]


@router.post("/jobs", response=Created)
def start(request: HttpRequest, data: NewJob):
    """Start a job from one upload or several."""
    found = uploads_of(request, data.scans)
    name = one_line(data.name) or os.path.splitext(found[0][0].name)[0]
    return {"id": begin_job(name, scan_steps(found, []), owner_of(request), person_of(request)).id}


@router.post("/jobs/{job_id}/scans", response=Created)
def bring_more(request: HttpRequest, job_id: int, data: MoreScans):
    """Bring more scans into a job that is there."""
    job = job_of(request, job_id)
    fresh = _readable(scan_steps(uploads_of(request, data.scans), records(job)), person_of(request))
    lay_scans(job, fresh, person_of(request))
    return {"id": job.id}


@router.post("/jobs/{job_id}/models", response=Created)
def bring_model(request: HttpRequest, job_id: int, data: BroughtModel):
    """Lay a model made elsewhere as a body of a job."""
    job = job_of(request, job_id)
    upload = Upload.objects.filter(pk=data.upload, owner=owner_of(request)).select_related("blob").first()
    if upload is None:
        raise HttpError(404, "There is no such upload; bring the file in again.")
    if os.path.splitext(upload.name)[1].lower() not in MODEL_SUFFIXES:
        raise BadInput(f"{upload.name}: is no model; bring one of {', '.join(MODEL_SUFFIXES)}.", field="upload")

    def put(steps: list[dict]) -> list[dict]:
        fresh = model_record(upload.blob.sha256, upload.name)
        ids, names = {s["id"] for s in steps}, {s["name"] for s in steps}
        k = next(k for k in range(1, len(steps) + 2) if f"model_{k}" not in ids)
        called = [fresh["name"], *(f"{fresh['name']} {n}" for n in range(2, len(steps) + 3))]
        name = next(n for n in called if n not in names)
        return [*steps, {**fresh, "id": f"model_{k}", "name": name}]

    change(job, f"Bring in {upload.name}", put, trusted=True)
    settle(job, f"Reading {upload.name}", person_of(request))
    return {"id": job.id}


@router.post("/jobs/{job_id}/scans/{step_id}/other", response=Created)
def put_other(request: HttpRequest, job_id: int, step_id: str, data: BroughtIn):
    """Put another scan of the same part in the place of one: laid onto it, and all that rests on it runs again."""
    job = job_of(request, job_id)
    ((upload, wanted),) = uploads_of(request, [data])
    fresh = scan_steps([(upload, wanted)], [])[0]

    if all(s["id"] != step_id or s["kind"] != fresh["kind"] for s in records(job)):
        raise HttpError(404, "There is no such scan in this job.")
    change(job, f"Another scan: {upload.name}", lambda now: other_scan(now, step_id, fresh), trusted=True)
    settle(job, "Laying the job on the other scan", person_of(request))
    return {"id": job.id}


def uploads_of(request: HttpRequest, wanted: list[BroughtIn]) -> list[tuple[Upload, BroughtIn]]:
    if not wanted:
        raise BadInput("Bring in a scan file first.", field="scans")
    out = []
    for w in wanted:
        upload = Upload.objects.filter(pk=w.upload, owner=owner_of(request)).select_related("blob").first()
        if upload is None:
            raise HttpError(404, "There is no such upload; bring the file in again.")
        if os.path.splitext(upload.name)[1].lower() not in _SUFFIXES:
            raise BadInput(
                f"{upload.name}: is a model, no scan; bring it in under Check, in a job that has a scan.", field="scans"
            )
        if w.units not in UNITS_IN_MM:
            raise BadInput(f"The unit '{w.units}' is not known; choose mm, cm, m or in.", field="units")
        out.append((upload, w))
    return out


def scan_steps(found: list[tuple[Upload, BroughtIn]], steps: list[dict]) -> list[dict]:
    return [
        scan_record(u.blob.sha256, u.name, w.units, None if w.layout is None else w.layout.model_dump(), k + len(steps))
        for k, (u, w) in enumerate(found)
    ]


def _readable(fresh: list[dict], person: str, patience: float = _FIRST) -> list[dict]:
    """Scans' records with their likeness, as far as they are read within ``patience`` seconds. Raises where a file
    cannot be read as asked.
    """
    out, until = [], time.monotonic() + patience
    for step in fresh:
        if time.monotonic() > until:
            out.append(step)
            continue
        try:
            pool().ask("run", person=person, limit=until - time.monotonic(), steps=[step])
            ran = replay_of([step]).run(compute=False)[0]
            if not ran.done:
                raise BadInput(ran.says, field="scans")
            likeness = pool().ask("likenesses", person=person, limit=max(until - time.monotonic(), 1.0), steps=[step])
        except (Busy, TooLong):
            likeness = {}  # the worker reads it, and keeps its likeness
        out.append({**step, "likeness": likeness[step["id"]]} if step["id"] in likeness else step)
    return out


def _named_apart(steps: list[dict], fresh: list[dict]) -> list[dict]:
    """Scans' records with ids and names that no other step of the job has."""
    names, ids, out = {s["name"] for s in steps}, {s["id"] for s in steps}, []
    for step in fresh:
        number, new = len(steps) + 1, step["id"]
        while new in ids:
            number += 1
            new = f"scan_{number}"
        name, k = step["name"], 2
        while name in names:
            name, k = f"{step['name'][:70]} {k}", k + 1
        ids.add(new)
        names.add(name)
        out.append({**step, "id": new, "name": name})
    return out


def lay_scans(job: Job, fresh: list[dict], person: str) -> None:
    """Lay scans' stones after those there are by then; whose files they are was looked at before."""
    label = f"Bring in {len(fresh)} scans" if len(fresh) > 1 else "Bring in the scan"
    change(job, label, lambda steps: [*steps, *_named_apart(steps, fresh)], trusted=True)
    settle(job, "Reading the scans" if len(fresh) > 1 else "Reading the scan", person)


def begin_job(name: str, fresh: list[dict], owner, person: str, *, demo: str = "", patience: float = _FIRST) -> Job:
    """A job whose first stones are these scans: there whole or not at all."""
    fresh = _readable(fresh, person, patience)
    with transaction.atomic():
        job = Job.objects.create(name=name[:120], owner=owner, demo=demo)
        lay_scans(job, fresh, person)
        job.edits.all().delete()  # the first stones are the job itself: nothing to undo
    return job


@router.patch("/jobs/{job_id}/name", response=Created)
def rename(request: HttpRequest, job_id: int, data: Rename):
    job = job_of(request, job_id)
    name = one_line(data.name)
    if not name:
        raise BadInput("A job needs a name.", field="name")
    job.name = name[:120]
    job.save(update_fields=["name", "changed"])
    return {"id": job.id}


@router.post("/jobs/{job_id}/share", response=Created)
def share(request: HttpRequest, job_id: int, data: Share):
    job = job_of(request, job_id)
    if not settings.SHARED or job.owner_id != request.user.id:
        raise HttpError(404, "There is no such job.")
    other = get_user_model().objects.filter(username=data.with_user).first()
    if other is None:
        raise BadInput(f"There is nobody called '{data.with_user}' here.", field="with_user")
    job.shared_with.add(other)
    return {"id": job.id}


@router.delete("/jobs/{job_id}/share/{user}", response=Created)
def unshare(request: HttpRequest, job_id: int, user: str):
    """Take a shared job back from somebody."""
    job = job_of(request, job_id)
    if not settings.SHARED or job.owner_id != request.user.id:
        raise HttpError(404, "There is no such job.")
    job.shared_with.remove(*job.shared_with.filter(username=user))
    return {"id": job.id}


@router.get("/jobs/{job_id}/picture.png")
def picture_of(request: HttpRequest, job_id: int):
    """The job's picture: its last body, else its scan, in the frame."""
    path = picture_of_job(job_of(request, job_id), person_of(request))
    return FileResponse(open(path, "rb"), content_type="image/png", headers={"Cache-Control": "private, max-age=60"})


def picture_of_job(job: Job, person: str, patience: float | None = None) -> str:
    """Path of a PNG; drawn once for what is shown and kept on disk; waited for so many seconds, or a moment."""
    ran = [r for r in replay_now(job).run(compute=False) if r.done]
    last = next((r for r in reversed(ran) if r.step.produces in ("body", "scan")), None)
    if last is None:
        raise HttpError(404, "No picture yet.")
    frame = next((r for r in reversed(ran) if r.step.produces == "frame"), None)
    return made_picture(job.id, last.key, frame.key if frame else None, person, patience)
