"""A sketch while it is drawn: its traces, changes, drags and offers. An engine works each out; nothing is stored."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import File, Router, Schema
from ninja.files import UploadedFile
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.records import Length
from deftmason.core.recipe.sketching import Change

from .access import job_of
from .engine import ask
from .recipe import records

router = Router()

_MOST_DXF = 20_000_000  # bytes
_DRAWING = 30.0  # seconds a change may take: the whole outline of a large trace on a busy machine


class SketchRequest(Schema):
    """The sketch's record as it is in hand."""

    sketch: dict[str, Any]


class TraceLoop(Schema):
    points: list[list[float]]
    closed: bool


class Projected(Schema):
    id: str
    kind: str
    outline: list[list[float]]


class PlaneView(Schema):
    origin: list[float]
    normal: list[float]
    u: list[float]


class Trace(Schema):
    traces: list[list[TraceLoop]]
    projected: list[Projected]
    step: float
    low: float
    high: float
    plane: PlaneView


class Walls(Schema):
    """``off``: by shown vertex, float32 as base64, mm; ``within``: 95 % of the walls, mm."""

    off: str
    reach: float
    rms: float | None
    within: float | None
    count: int


class StretchView(Schema):
    kind: str
    points: list[list[float]]
    size: float


class ChangeRequest(SketchRequest):
    change: Change


class DragRequest(SketchRequest):
    handle: Annotated[str, Field(max_length=60)]
    to: tuple[Length, Length]


class OffersRequest(SketchRequest):
    of: Annotated[list[str], Field(min_length=1, max_length=4)]


class Offer(Schema):
    kind: str
    of: list[str]
    by: float
    off: float
    cost: float
    verdict: str


class SizeOffer(Schema):
    kind: str
    of: list[str]
    value: float
    uncertainty: float | None
    unit: str
    suggestions: list[dict[str, Any]]


class Offers(Schema):
    relations: list[Offer]
    sizes: list[SizeOffer]


class Beginning(Schema):
    height: float
    says: str


@router.post("/jobs/{job_id}/sketch/trace", response=Trace)
def trace(request: HttpRequest, job_id: int, data: SketchRequest):
    """Everything the paper has to draw over."""
    job = job_of(request, job_id)
    return ask(request, job.id, "trace", steps=records(job), sketch=data.sketch)


@router.post("/jobs/{job_id}/sketch/walls", response=Walls)
def walls(request: HttpRequest, job_id: int, data: SketchRequest):
    """How far the scan lies off what the drawing would sweep, by what is shown of the scan."""
    job = job_of(request, job_id)
    return ask(request, job.id, "sketch_walls", limit=_DRAWING, steps=records(job), sketch=data.sketch)


@router.post("/jobs/{job_id}/sketch/stretches", response=list[StretchView])
def stretches(request: HttpRequest, job_id: int, data: SketchRequest):
    """The traces read ahead into straight and round stretches."""
    job = job_of(request, job_id)
    return ask(request, job.id, "stretches", steps=records(job), sketch=data.sketch)


@router.post("/jobs/{job_id}/sketch/change")
def change(request: HttpRequest, job_id: int, data: ChangeRequest) -> dict[str, Any]:
    """The drawing after one change: strokes, relations and sizes, what was made, what was refused or could not be
    said.
    """
    job = job_of(request, job_id)
    done = data.change.model_dump(mode="json")
    more = {"sketch": data.sketch, "change": done}
    return ask(request, job.id, "change_sketch", limit=_DRAWING, steps=records(job), **more)


@router.post("/jobs/{job_id}/sketch/drag")
def drag(request: HttpRequest, job_id: int, data: DragRequest) -> list[dict[str, Any]]:
    """Where everything is while one place is dragged."""
    job = job_of(request, job_id)
    more = {"handle": data.handle, "to": list(data.to)}
    return ask(request, job.id, "drag_sketch", steps=records(job), sketch=data.sketch, **more)


@router.post("/jobs/{job_id}/sketch/offers", response=Offers)
def offers(request: HttpRequest, job_id: int, data: OffersRequest):
    """Relations and sizes that what is picked allows, each with what it would cost."""
    job = job_of(request, job_id)
    return ask(request, job.id, "sketch_offers", steps=records(job), sketch=data.sketch, of=data.of)


@router.post("/jobs/{job_id}/sketch/beginning", response=Beginning)
def beginning(request: HttpRequest, job_id: int, data: SketchRequest):
    """The nearest height with a clean cut, and why it is another than was asked for."""
    job = job_of(request, job_id)
    return ask(request, job.id, "sketch_beginning", steps=records(job), sketch=data.sketch)


@router.post("/jobs/{job_id}/sketch/dxf")
def read_dxf(request: HttpRequest, job_id: int, file: Annotated[UploadedFile, File()]) -> list[dict[str, Any]]:
    """The entities of a drawing file, to be brought into a sketch."""
    job = job_of(request, job_id)
    if (file.size or 0) > _MOST_DXF:
        raise BadInput("The drawing is larger than 20 MB; save the part of it that is needed.", field="file")
    return ask(request, job.id, "entities_of_dxf", data=file.read())
