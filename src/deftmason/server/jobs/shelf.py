"""The jobs shelf: what there is, bringing a file in, starting a job."""

from __future__ import annotations

import hashlib
import os
from dataclasses import asdict

from django.conf import settings
from django.contrib.auth import get_user_model
from django.http import HttpRequest, HttpResponse
from ninja import File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile

from deftmason.core.elements import UNITS_IN_MM
from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.scan import TextColumns
from deftmason.core.scan.files import CLOUD_SUFFIXES, MESH_SUFFIXES, TEXT_SUFFIXES, read_scan, size_in_words
from deftmason.core.scan.likeness import likeness_of
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.textpoints import recognise

from .access import job_of, jobs_of, owner_of
from .binary import proxy_of
from .blobs import blob_path, keep_file
from .models import Job, Upload
from .picture import picture, picture_of_points
from .recipe import change, records, replay_of, store
from .work import settle

router = Router()
_SUFFIXES = tuple(dict.fromkeys(MESH_SUFFIXES + CLOUD_SUFFIXES))


class JobCard(Schema):
    id: int
    name: str
    demo: bool
    mine: bool
    changed: str
    says: str
    size: str | None
    picture: str


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
    sizes: dict[str, str]
    warnings: list[str]


class BroughtIn(Schema):
    """One upload of a job: its unit, and its columns where it is a text file."""

    upload: int
    units: str = "mm"
    layout: TextColumns | None = None


class NewJob(Schema):
    scans: list[BroughtIn]
    name: str


class MoreScans(Schema):
    scans: list[BroughtIn]


class Rename(Schema):
    name: str


class Share(Schema):
    with_user: str


class Created(Schema):
    id: int


def _card(request, job: Job) -> dict:
    ran = replay_of(records(job)).run(compute=False)
    scan = next((r for r in ran if r.step.produces == "scan"), None)
    raw = sum(r.step.kind == "scan" for r in ran)
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    checks = [r for r in ran if r.done and r.step.produces == "deviation"]
    says = f"{len(ran)} {'stone' if len(ran) == 1 else 'stones'}"
    if checks:
        says += f", checked to {checks[-1].summary['rms']:.3f} mm rms"
    elif bodies:
        says += ", a body"
    elif len(ran) == raw:
        says = "A scan, nothing laid yet" if raw == 1 else f"{raw} scans, nothing laid yet"
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
            f"{name}: '{suffix or 'no suffix'}' cannot start a job; bring one of {', '.join(_SUFFIXES)}.", field="file"
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
        layout = recognise(link) if suffix in TEXT_SUFFIXES else None
        read = read_scan(link, layout=layout)
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
        "layout": None if layout is None else asdict(layout),
        "triangles": len(read.scan.faces) if isinstance(read.scan, TriMesh) else 0,
        "points": len(read.scan.vertices if isinstance(read.scan, TriMesh) else read.scan.points),
        "sizes": sizes,
        "warnings": read.warnings,
    }


@router.post("/jobs", response=Created)
def start(request: HttpRequest, data: NewJob):
    """Start a job from one upload or several."""
    found = _uploads(request, data.scans)
    name = data.name.strip() or os.path.splitext(found[0][0].name)[0]
    draft = _scan_steps(found, [])
    job = Job.objects.create(name=name[:120], owner=owner_of(request))
    lay_scans(job, [], draft)
    job.edits.all().delete()  # the first stones are the job itself: nothing to undo
    return {"id": job.id}


@router.post("/jobs/{job_id}/scans", response=Created)
def bring_more(request: HttpRequest, job_id: int, data: MoreScans):
    """Bring more scans into a job that is there."""
    job = job_of(request, job_id)
    steps = records(job)
    lay_scans(job, steps, _scan_steps(_uploads(request, data.scans), steps))
    return {"id": job.id}


def _uploads(request: HttpRequest, wanted: list[BroughtIn]) -> list[tuple[Upload, BroughtIn]]:
    if not wanted:
        raise BadInput("Bring in a scan file first.", field="scans")
    out = []
    for w in wanted:
        upload = Upload.objects.filter(pk=w.upload, owner=owner_of(request)).select_related("blob").first()
        if upload is None:
            raise HttpError(404, "There is no such upload; bring the file in again.")
        if w.units not in UNITS_IN_MM:
            raise BadInput(f"The unit '{w.units}' is not known; choose mm, cm, m or in.", field="units")
        out.append((upload, w))
    return out


def _scan_steps(found: list[tuple[Upload, BroughtIn]], steps: list[dict]) -> list[dict]:
    return [
        scan_step(u.blob.sha256, u.name, w.units, None if w.layout is None else w.layout.model_dump(), k + len(steps))
        for k, (u, w) in enumerate(found)
    ]


def scan_step(sha256: str, file: str, units: str, layout: dict | None = None, number: int = 0) -> dict:
    """The record of a scan's own step; the first of a job is 'scan'."""
    return {
        "id": "scan" if number == 0 else f"scan_{number + 1}",
        "kind": "scan",
        "name": os.path.splitext(file)[0][:80] or "Scan",
        "file": file,
        "sha256": sha256,
        "units": units,
        "layout": layout,
    }


def lay_scans(job: Job, steps: list[dict], fresh: list[dict]) -> None:
    """Lay scans' stones after those there are. Raises before anything is changed where a file cannot be read as asked."""
    names, ids = {s["name"] for s in steps}, {s["id"] for s in steps}
    for step in fresh:
        number = len(steps) + 1
        while step["id"] in ids:
            number += 1
            step["id"] = f"scan_{number}"
        ids.add(step["id"])
        base, k = step["name"], 2
        while step["name"] in names:
            step["name"], k = f"{base} {k}", k + 1
        names.add(step["name"])
        draft = replay_of([step])
        ran = draft.run()[0]
        if not ran.done:
            if not steps and not job.steps.exists():
                job.delete()
            raise BadInput(ran.says, field="scans")
        scan = draft.output(step["id"])
        if isinstance(scan, TriMesh):
            step["likeness"] = likeness_of(scan)
    many = len(fresh) > 1
    change(job, f"Bring in {len(fresh)} scans" if many else "Bring in the scan", [*steps, *fresh])
    settle(job, "Reading the scans" if many else "Reading the scan")


def begin_job(job: Job, sha256: str, file: str, units: str) -> dict:
    """Lay the first stone: the scan. Returns its record."""
    step = scan_step(sha256, file, units)
    lay_scans(job, [], [step])
    job.edits.all().delete()
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
    data = picture_data(job_of(request, job_id))
    return HttpResponse(data, content_type="image/png", headers={"Cache-Control": "private, max-age=60"})


def picture_data(job: Job) -> bytes:
    """PNG bytes; drawn once for what is shown and kept on disk."""
    from deftmason.core.kernel.tessellate import tessellate

    ran = [r for r in replay_of(records(job)).run(compute=False) if r.done]
    last = next((r for r in reversed(ran) if r.step.produces in ("body", "scan")), None)
    if last is None:
        raise HttpError(404, "No picture yet.")
    frame = next((r for r in reversed(ran) if r.step.produces == "frame"), None)
    name = hashlib.sha256(f"{last.key}{frame.key if frame else ''}".encode()).hexdigest()[:32]
    path = settings.DATA / "pictures" / f"{name}.png"
    if path.exists():
        return path.read_bytes()
    if last.step.produces == "body":
        f = tessellate(store().load(last.key).output, 0.05)
        data = picture(TriMesh(f.vertices, f.faces), body=True)
    else:
        mesh = proxy_of(store(), last.key).mesh
        if len(mesh.faces):
            data = picture(mesh.moved(store().load(frame.key).output) if frame else mesh)
        else:
            data = picture_of_points(store().load(last.key).output.points)
    path.parent.mkdir(exist_ok=True)
    part = path.with_suffix(".part")
    part.write_bytes(data)
    part.replace(path)
    return data
