"""The jobs shelf: what there is, bringing a file in, starting a job."""

from __future__ import annotations

import os

from django.conf import settings
from django.contrib.auth import get_user_model
from django.http import HttpRequest, HttpResponse
from ninja import File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile

from deftmason.core.elements import UNITS_IN_MM
from deftmason.core.errors import BadInput
from deftmason.core.scan.files import read_scan, size_in_words
from deftmason.core.scan.likeness import likeness_of
from deftmason.core.scan.mesh import TriMesh

from .access import job_of, jobs_of, owner_of
from .blobs import blob_path, keep_file
from .models import Job, Upload
from .picture import picture
from .recipe import change, records, replay_of, store
from .work import settle

router = Router()
_SUFFIXES = (".stl", ".ply", ".obj")


class JobCard(Schema):
    id: int
    name: str
    demo: bool
    mine: bool
    changed: str
    says: str
    size: str | None
    picture: str


class Brought(Schema):
    upload: int
    name: str
    triangles: int
    points: int
    sizes: dict[str, str]
    warnings: list[str]


class NewJob(Schema):
    upload: int
    units: str
    name: str


class Rename(Schema):
    name: str


class Share(Schema):
    with_user: str


class Created(Schema):
    id: int


def _card(request, job: Job) -> dict:
    ran = replay_of(records(job)).run(compute=False)
    scan = next((r for r in ran if r.step.produces == "scan"), None)
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    checks = [r for r in ran if r.done and r.step.produces == "deviation"]
    says = f"{len(ran)} {'stone' if len(ran) == 1 else 'stones'}"
    if checks:
        says += f", checked to {checks[-1].summary['rms']:.3f} mm rms"
    elif bodies:
        says += ", a body"
    elif len(ran) == 1:
        says = "A scan, nothing laid yet"
    return {
        "id": job.id,
        "name": job.name,
        "demo": bool(job.demo),
        "mine": job.owner_id == getattr(request.user, "id", None),
        "changed": job.changed.isoformat(),
        "says": says,
        "size": scan.summary.get("size") if scan else None,
        "picture": f"/api/jobs/{job.id}/picture.png?r={job.revision}",
    }


@router.get("/jobs", response=list[JobCard])
def shelf(request: HttpRequest):
    """Jobs, last changed first."""
    return [_card(request, j) for j in jobs_of(request).order_by("-changed")]


@router.post("/uploads", response=Brought)
def bring(request: HttpRequest, file: UploadedFile = File(...)):  # noqa: B008
    """Keep a scan file and say back what it holds, in every unit. An unusable file leaves nothing behind."""
    name = os.path.basename(file.name or "scan")[:200]
    suffix = os.path.splitext(name)[1].lower()
    if suffix not in _SUFFIXES:
        raise BadInput(
            f"{name}: '{suffix or 'no suffix'}' cannot start a job; bring a mesh as STL, PLY or OBJ.", field="file"
        )
    if file.size and file.size > settings.MOST_UPLOAD_BYTES:
        raise BadInput(
            f"{name}: is larger than the {settings.MOST_UPLOAD_BYTES / 1e9:g} GB that may be sent.", field="file"
        )
    blob = keep_file(file.chunks())
    path = blob_path(blob.sha256)
    link = f"{path}{suffix}"
    if not os.path.exists(link):
        os.symlink(path, link)
    fresh = not Upload.objects.filter(blob=blob).exists()
    try:
        read = read_scan(link)
        if not isinstance(read.scan, TriMesh):
            raise BadInput(f"{name}: holds points without triangles; bring a mesh.", field="file")
    except BadInput as e:
        os.unlink(link)
        if fresh:
            blob.delete()
            os.unlink(path)
        raise BadInput(e.message.replace(os.path.basename(link), name), field="file") from None
    os.unlink(link)
    upload = Upload.objects.create(blob=blob, owner=owner_of(request), name=name)
    sizes = {u: size_in_words(read.scan.bounds * f) for u, f in UNITS_IN_MM.items()}
    return {
        "upload": upload.id,
        "name": name,
        "triangles": len(read.scan.faces),
        "points": len(read.scan.vertices),
        "sizes": sizes,
        "warnings": read.warnings,
    }


@router.post("/jobs", response=Created)
def start(request: HttpRequest, data: NewJob):
    """Start a job from an upload."""
    upload = Upload.objects.filter(pk=data.upload, owner=owner_of(request)).select_related("blob").first()
    if upload is None:
        raise HttpError(404, "There is no such upload; bring the file in again.")
    if data.units not in UNITS_IN_MM:
        raise BadInput(f"The unit '{data.units}' is not known; choose mm, cm, m or in.", field="units")
    name = data.name.strip() or os.path.splitext(upload.name)[0]
    job = Job.objects.create(name=name[:120], owner=owner_of(request))
    begin_job(job, upload.blob.sha256, upload.name, data.units)
    return {"id": job.id}


def begin_job(job: Job, sha256: str, file: str, units: str) -> dict:
    """Lay the first stone: the scan. Returns its record."""
    step = {
        "id": "scan",
        "kind": "scan",
        "name": os.path.splitext(file)[0][:80] or "Scan",
        "file": file,
        "sha256": sha256,
        "units": units,
    }
    draft = replay_of([step])
    draft.run()
    step["likeness"] = likeness_of(draft.output("scan"))
    change(job, "Bring in the scan", [step])
    job.edits.all().delete()  # the first stone is the job itself: nothing to undo
    settle(job, "Reading the scan")
    return step


@router.patch("/jobs/{job_id}/name", response=Created)
def rename(request: HttpRequest, job_id: int, data: Rename):
    job = job_of(request, job_id)
    if not data.name.strip():
        raise BadInput("A job needs a name.", field="name")
    job.name = data.name.strip()[:120]
    job.save()
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


@router.get("/jobs/{job_id}/picture.png")
def picture_of(request: HttpRequest, job_id: int):
    """The job's picture: its last body, else its scan, in the frame."""
    from deftmason.core.kernel.tessellate import tessellate

    job = job_of(request, job_id)
    replay = replay_of(records(job))
    ran = [r for r in replay.run(compute=False) if r.done]
    last = next((r for r in reversed(ran) if r.step.produces in ("body", "scan")), None)
    if last is None:
        raise HttpError(404, "No picture yet.")
    frame = next((r for r in reversed(ran) if r.step.produces == "frame"), None)

    def make() -> bytes:
        if last.step.produces == "body":
            f = tessellate(store().load(last.key).output, 0.05)
            return picture(TriMesh(f.vertices, f.faces), body=True)
        mesh = store().load(last.key).output
        return picture(mesh.moved(store().load(frame.key).output) if frame else mesh)

    data = store().remember(("picture", last.key, frame.key if frame else ""), make)
    return HttpResponse(data, content_type="image/png", headers={"Cache-Control": "private, max-age=60"})
