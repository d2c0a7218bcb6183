"""Files handed on, one by one or as a pack; recipes that come in with their scans."""

from __future__ import annotations

import os
import re
from typing import Annotated

from django.conf import settings
from django.http import FileResponse, HttpRequest
from ninja import File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.records import Id

from ..engines.places import FILES, PROOF_FILES, file_path
from .access import job_of, owner_of, person_of
from .engine import ask, made_file
from .heavy import heavy_study
from .opening import open_recipe
from .proving import told_of
from .recipe import records
from .shelf import Created
from .studies import StudyView

router = Router()

_BYTES = "application/octet-stream"
_PACKING = 1800.0  # seconds
_PACK = re.compile(r"[0-9a-f]{32}\Z")
Within = Annotated[float, Field(gt=0, le=1000)]


class Triangles(Schema):
    triangles: int


class Good(Schema):
    """A file of a pack: which, of what step, its triangles within so many mm, only these elements (none: all)."""

    what: str
    step: Id | None = None
    within: Within | None = None
    elements: Annotated[list[Id], Field(max_length=500)] = []


class Packing(Schema):
    """Files and proofs (by number, with these of their files) for one pack."""

    goods: Annotated[list[Good], Field(max_length=200)] = []
    proofs: Annotated[list[int], Field(max_length=60)] = []
    files: Annotated[list[str], Field(max_length=20)] = ["report.pdf", "table.csv", "proof.json"]


class PackView(Schema):
    bytes: int
    pack: str = ""


class PackStudy(StudyView):
    result: PackView | None = None


@router.get("/jobs/{job_id}/deliver/{what}")
def deliver(
    request: HttpRequest,
    job_id: int,
    what: str,
    step: str | None = None,
    within: Within | None = None,
    elements: str = "",
):
    """A file in the frame's coordinates: the model (model.step, .iges, .brep, .stl, .3mf, .glb), the scan (scan.ply,
    .stl, .glb), a sketch or section (of a ``step``; .dxf, .svg), elements.step (all, or those named, parted by
    commas), the drawing sheet (drawing.pdf, .svg, .dxf), model.py, recipe.json, recipe.zip. Triangles lie ``within``
    mm.
    """
    job = job_of(request, job_id)
    if what not in FILES:
        raise HttpError(404, "There is no such file to hand on.")
    only = [e for e in elements.split(",") if e][:500]
    path = made_file(
        request, job.id, work="make_file", what=what, steps=records(job), step=step, name=job.name, within=within,
        elements=only,
    )  # fmt: skip
    return FileResponse(open(path, "rb"), as_attachment=True, filename=what, content_type=_BYTES)


@router.get("/jobs/{job_id}/triangles", response=Triangles)
def triangles(request: HttpRequest, job_id: int, within: Within):
    """How many triangles the model would be handed on with."""
    job = job_of(request, job_id)
    return ask(request, job.id, "count_triangles", steps=records(job), within=within)


@router.post("/jobs/{job_id}/packs", response=PackStudy)
def pack(request: HttpRequest, job_id: int, data: Packing):
    """Put files and proofs into one zip with a contents sheet and checksums; a study that names the pack."""
    job = job_of(request, job_id)
    wrong = next((g.what for g in data.goods if g.what not in FILES), None)
    wrong = wrong or next((f for f in data.files if f not in PROOF_FILES), None)
    if wrong is not None:
        raise BadInput(f"There is no file '{wrong[:40]}' to hand on.", field="goods")
    found = {p.id: p for p in job.proofs.filter(pk__in=data.proofs)}
    if len(found) < len(set(data.proofs)):
        raise HttpError(404, "There is no such proof.")
    proofs = [told_of(job, found[i])["proof"] for i in dict.fromkeys(data.proofs)]
    asked = {
        "steps": records(job),
        "name": job.name,
        "goods": [g.model_dump() for g in data.goods],
        "proofs": proofs,
        "files": data.files,
    }
    path = file_path(str(settings.DATA), "pack.zip", [job.id, person_of(request), asked])

    def named(said: dict) -> None:
        said["pack"] = os.path.basename(path).split("-")[1]

    return heavy_study(request, job, "make_pack", _PACKING, named, path=path, **asked)


@router.get("/jobs/{job_id}/packs/{name}")
def packed(request: HttpRequest, job_id: int, name: str):
    """A pack that was made a while ago."""
    job = job_of(request, job_id)
    path = settings.DATA / "tmp" / f"give-{name}-pack.zip"
    if not _PACK.match(name) or not path.exists():
        raise HttpError(404, "That pack is not there any more; make it again.")
    plain = "".join(c if c.isalnum() else "_" for c in job.name)[:60] or "job"
    return FileResponse(open(path, "rb"), as_attachment=True, filename=f"{plain}.zip", content_type=_BYTES)


@router.post("/recipes", response=Created)
def open_elsewhere(request: HttpRequest, file: UploadedFile = File(...)):  # noqa: B008
    """Open a job's recipe that was handed on with its scans (recipe.zip), as a job of one's own."""
    return {"id": open_recipe(file, owner_of(request), person_of(request)).id}
