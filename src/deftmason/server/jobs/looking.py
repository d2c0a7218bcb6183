"""Looking at a job's geometry: buffers for the view, picks, edges near a place, a scan's condition. An engine
works each out.
"""

from __future__ import annotations

from typing import Annotated, Any

from django.http import FileResponse, HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from deftmason.core.recipe.records import Place

from .access import job_of
from .engine import ask, made_buffer
from .heavy import heavy_study
from .recipe import records, store
from .studies import StudyView

router = Router()

_SURVEY_LIMIT = 300.0  # seconds
_LOOKING = 60.0  # seconds: the first look at a scan of millions of facets makes it ready
#: What a result must give for each kind of buffer, and those that belong to a scan.
_GIVES = {
    "scan": ("scan",),
    "part": ("scan",),
    "body": ("body", "model"),
    "tide": ("deviation", "tide"),
    "faith": ("deviation",),
    "difference": ("deviation",),
}
_ON_SCAN = ("also", "tide", "difference")
_MARKS = Field(max_length=500)


class PickRequest(Schema):
    scan: str
    pick: dict[str, Any]
    element: str | None = None
    aside: bool = False


class Picked(Schema):
    facets: int
    area: float
    shown: str
    angle_deg: float
    rule: str


class EdgeRequest(Schema):
    body: str
    place: Place


class Edges(Schema):
    edge: list[Any]
    alike: list[list[Any]]
    distance: float


class SelectRequest(Schema):
    scan: str
    marks: Annotated[list[dict[str, Any]], _MARKS]


class Selected(Schema):
    count: int
    total: int
    area: float | None
    shown: str


class ScanRequest(Schema):
    scan: str


class MeasureRequest(Schema):
    """Faces and edges of a body by their names."""

    body: str
    faces: Annotated[list[str], Field(max_length=200)] = []
    edges: Annotated[list[tuple[str, str, str | int]], Field(max_length=200)] = []


class FigureView(Schema):
    label: str
    value: float
    unit: str


class Measured(Schema):
    figures: list[FigureView]


class RimView(Schema):
    length: float
    edges: int
    size: float
    place: list[float]
    points: list[list[float]]


class DefectView(Schema):
    place: list[float]
    size: float
    lines: list[list[list[float]]]


class DefectKind(Schema):
    kind: str
    words: str
    count: int
    items: list[DefectView]


class SurveyView(Schema):
    kinds: list[DefectKind]
    rims: int
    pieces: int
    says: str
    watertight: bool


class SurveyStudy(StudyView):
    result: SurveyView | None = None


@router.get("/jobs/{job_id}/geometry/{key}/{what}")
def geometry(request: HttpRequest, job_id: int, key: str, what: str, scan: str | None = None, name: str = ""):
    """A result as a buffer for the view: what = scan, part (what of a scan is not slab or scrap), body, tide (a
    deviation on its scan, whose key is given), faith (on the model), difference (of the check ``name``, its key and
    its scan's, from this one, on this one's scan) or also (a named array besides, with its scan's key).
    """
    job = job_of(request, job_id)
    nothing = HttpError(404, "There is no such result in this job.")
    for k in filter(None, (key, scan, *(name.split("-") if what == "difference" else ()))):
        if not job.results.filter(key=k).exists():
            raise nothing
    record, under = store().record(key), store().record(scan) if scan else None
    if what not in _GIVES and what != "also" or record is None:
        raise nothing
    if what == "also":
        if under is None or name not in record.get("arrays", []):
            raise nothing
    elif record["produces"] not in _GIVES[what]:
        raise nothing
    if what in _ON_SCAN and (under is None or under["produces"] != "scan"):
        raise nothing
    of_scan = scan if what in _ON_SCAN else None
    path = made_buffer(request, job.id, key, what, of_scan, name if what in ("also", "difference") else "")
    return FileResponse(
        open(path, "rb"),
        content_type="application/octet-stream",
        headers={"Cache-Control": "private, max-age=31536000, immutable"},
    )


@router.post("/jobs/{job_id}/pick", response=Picked)
def pick(request: HttpRequest, job_id: int, data: PickRequest):
    """What a place and rule gather, as numbers of shown facets (base64 of uint32)."""
    job = job_of(request, job_id)
    return ask(
        request,
        job.id,
        "pick",
        limit=_LOOKING,
        steps=records(job),
        scan=data.scan,
        pick=data.pick,
        element=data.element,
        aside=data.aside,
    )


@router.post("/jobs/{job_id}/edges", response=Edges)
def edges(request: HttpRequest, job_id: int, data: EdgeRequest):
    """The body's edge nearest a place (frame coordinates), and those between faces of the same two features."""
    job = job_of(request, job_id)
    return ask(request, job.id, "edges", steps=records(job), body=data.body, place=list(data.place))


@router.post("/jobs/{job_id}/measured", response=Measured)
def measured(request: HttpRequest, job_id: int, data: MeasureRequest):
    """Figures of faces and edges of a body: their sizes, how two lie to each other; of none, the whole body's."""
    job = job_of(request, job_id)
    edges = [list(e) for e in data.edges]
    return ask(request, job.id, "measure_model", steps=records(job), body=data.body, faces=data.faces, edges=edges)


@router.post("/jobs/{job_id}/select", response=Selected)
def select_marked(request: HttpRequest, job_id: int, data: SelectRequest):
    """What marks select on a scan, as numbers of shown facets or points."""
    job = job_of(request, job_id)
    return ask(request, job.id, "select", limit=_LOOKING, steps=records(job), scan=data.scan, marks=data.marks)


@router.post("/jobs/{job_id}/rims", response=list[RimView])
def rims(request: HttpRequest, job_id: int, data: ScanRequest):
    """Open rims, shortest first, with their course in the scan's coordinates."""
    job = job_of(request, job_id)
    return ask(request, job.id, "rims", steps=records(job), scan=data.scan)


@router.post("/jobs/{job_id}/survey", response=SurveyStudy)
def survey(request: HttpRequest, job_id: int, data: ScanRequest):
    """Every defect of a mesh by kind, with its place; a study."""
    job = job_of(request, job_id)
    return heavy_study(request, job, "survey", _SURVEY_LIMIT, steps=records(job), scan=data.scan)
