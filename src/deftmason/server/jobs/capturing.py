"""Captures of a job's part: the device, what is touched and drawn, what streams in, and handing it on to the recipe.

All places that go in and out stand on the capture's level plane where there is one, else in the device's coordinates.
"""

from __future__ import annotations

import os
import secrets
import struct
import tempfile
import threading
import time
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from django.conf import settings
from django.db import transaction
from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.http import FileResponse, HttpRequest, HttpResponse
from ninja import File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile
from pydantic import Field

from deftmason.core.capture.recorded import Recording, records_of
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.recipe.records import Direction, Place, one_line

from ..capture.link import Link
from .access import job_of, owner_of, person_of
from .blobs import drop, keep, receive, room_for
from .captured import CaptureView, capture_view, handed_on, picture_of, sketch_boundary
from .document import replay_now
from .models import Capture, Job
from .recipe import change, records
from .shelf import Created
from .work import settle

router = Router()

_MOST_OPEN = 8
_MOST_AT_ONCE = 120_000  # points of one answer
_MOST_CAPTURES = 200
_links: dict[int, Link] = {}
_opening = threading.Lock()


class Address(Schema):
    """Where a device listens: a host that this server may speak to, and a port."""

    address: Annotated[str, Field(max_length=200)]


class NewCapture(Schema):
    name: str = ""


class CapturedJob(Created):
    capture: int


class CaptureLine(Schema):
    id: int
    name: str
    created: str
    megabytes: float
    laid: bool


class TouchAt(Schema):
    """Lead the probe from a place along a direction until it touches; ``row``: that often, evenly to another place."""

    begin: Place
    along: Direction
    to: Place | None = None
    row: Annotated[int, Field(ge=1, le=60)] = 1


class PutThing(Schema):
    """What is put: touches that wait as an element, or something drawn; ``sketch`` gives a boundary its outlines."""

    what: Literal["level", "plane", "line", "circle", "rounding", "curve", "boundary", "cut", "mirrored"]
    name: str = ""
    corners: Annotated[list[Place], Field(max_length=2000)] = []
    toward: Direction | None = None
    sketch: Annotated[str, Field(max_length=80)] = ""
    point: Place | None = None
    normal: Direction | None = None
    reach: Annotated[float, Field(gt=0, le=1e6)] = 1.0
    of: Annotated[list[str], Field(max_length=2)] = []


class Sweep(Schema):
    """Where the scanner's head goes, which way it looks, and how wide its line is, mm."""

    path: Annotated[list[Place], Field(min_length=2, max_length=2000)]
    along: Direction
    width: Annotated[float, Field(gt=0, le=1e5)]
    across: Direction | None = None


class Turn(Schema):
    """How often a table stops in one turn, and how far from level the scanner looks down on it, degrees."""

    stops: Annotated[int, Field(ge=1, le=72)] = 12
    tilt_deg: Annotated[float, Field(ge=-80, le=80)] = 35.0


class Control(Schema):
    do: Literal["pause", "resume", "stop", "hang up"]


class Look(Schema):
    toward: Direction
    up: Direction
    wide: Annotated[int, Field(ge=16, le=900)] = 480


class CameraPicture(Schema):
    """A camera's picture without perspective: ``grey`` a byte a pixel, base64, rows from the top, ``pixel`` mm wide."""

    wide: int
    high: int
    grey: str
    middle: list[float]
    right: list[float]
    up: list[float]
    pixel: float


def _folder() -> Path:
    out = Path(settings.DATA) / "captures"
    out.mkdir(exist_ok=True)
    return out


def _path_of(capture: Capture) -> Path:
    return _folder() / capture.file


def _capture(request: HttpRequest, job_id: int, capture_id: int) -> tuple[Job, Capture]:
    job = job_of(request, job_id)
    found = job.captures.filter(pk=capture_id).first()
    if found is None:
        raise HttpError(404, "There is no such capture in this job.")
    return job, found


def _link(capture: Capture) -> Link:
    with _opening:
        link = _links.get(capture.pk)
        if link is None:
            _make_room()
            link = _links[capture.pk] = Link(str(_path_of(capture)))
        link.used = time.monotonic()
        return link


def _make_room() -> None:
    """Close those that were not looked at for longest and have no device."""
    idle = sorted((x for x in _links.items() if x[1].device == "none"), key=lambda x: x[1].used)
    for key, link in idle[: max(len(_links) - _MOST_OPEN + 1, 0)]:
        link.close()
        del _links[key]


def _level(link: Link) -> RigidMotion:
    return link.state.level() or RigidMotion.identity()


def _place(link: Link, p) -> list[float]:
    return _level(link).inverse().points(np.array([p], float))[0].tolist()


def _way(link: Link, v) -> list[float]:
    v = np.array(v, float)
    if np.linalg.norm(v) < 1e-9:
        raise BadInput("A direction has no length; give another.", field="along")
    return _level(link).inverse().vectors(v[None])[0].tolist()


@router.get("/jobs/{job_id}/captures", response=list[CaptureLine])
def see(request: HttpRequest, job_id: int):
    """The job's captures, the newest first."""
    return [_line(c) for c in job_of(request, job_id).captures.order_by("-id")]


def _line(c: Capture) -> dict:
    path = _path_of(c)
    size = path.stat().st_size if path.exists() else 0
    return {
        "id": c.pk, "name": c.name, "created": c.created.isoformat(), "megabytes": size / 1e6, "laid": bool(c.step_id),
    }  # fmt: skip


@router.post("/jobs/{job_id}/captures", response=Created)
def begin(request: HttpRequest, job_id: int, data: NewCapture):
    """Begin a capture, empty."""
    job = job_of(request, job_id)
    c = _new(job, data.name)
    Recording(str(_path_of(c))).close()
    return {"id": c.pk}


def _new(job: Job, name: str) -> Capture:
    count = job.captures.count()
    if count >= _MOST_CAPTURES:
        raise BadInput(f"A job takes {_MOST_CAPTURES} captures at most; throw one away first.", field="name")
    name = one_line(name)[:120] or f"Capture {count + 1}"
    return Capture.objects.create(job=job, name=name, file=f"{secrets.token_hex(12)}.capture")


@router.post("/captures", response=CapturedJob)
def begin_with_a_job(request: HttpRequest, data: NewCapture):
    """A job that begins with a capture, empty."""
    job = Job.objects.create(name=one_line(data.name)[:120] or "New capture", owner=owner_of(request))
    return {"id": job.pk, "capture": begin(request, job.pk, NewCapture())["id"]}


@router.post("/jobs/{job_id}/captures/file", response=Created)
def bring(request: HttpRequest, job_id: int, file: UploadedFile = File(...)):  # noqa: B008
    """A capture that was recorded elsewhere, played again from its file."""
    job = job_of(request, job_id)
    room_for(file.size or 0)
    sent = receive(file.chunks())
    try:
        for _ in records_of(sent.path):
            pass
    except BadInput as e:
        drop(sent)
        name = os.path.basename(file.name or "The file")
        raise BadInput(e.message.replace(os.path.basename(sent.path), name), field="file") from None
    c = _new(job, os.path.splitext(os.path.basename(file.name or ""))[0])
    os.replace(sent.path, _path_of(c))
    return {"id": c.pk}


@router.get("/jobs/{job_id}/captures/{capture_id}", response=CaptureView)
def look_at(request: HttpRequest, job_id: int, capture_id: int, reads: str = ""):
    """How a capture stands; ``reads``: what the touches that wait would be."""
    _, c = _capture(request, job_id, capture_id)
    return capture_view(c, _link(c), reads)


@router.delete("/jobs/{job_id}/captures/{capture_id}", response=list[CaptureLine])
def throw_away(request: HttpRequest, job_id: int, capture_id: int):
    """Throw a capture away; what was handed on of it stays."""
    job, c = _capture(request, job_id, capture_id)
    c.delete()
    return see(request, job.pk)


@receiver(post_delete, sender=Capture)
def _gone(sender, instance: Capture, **_) -> None:
    """A capture that is thrown away, alone or with its job, lets go of its device."""
    with _opening:
        link = _links.pop(instance.pk, None)
    if link is not None:
        link.close()
    path = _path_of(instance)
    transaction.on_commit(lambda: path.unlink(missing_ok=True))


@router.get("/jobs/{job_id}/captures/{capture_id}/file")
def fetch(request: HttpRequest, job_id: int, capture_id: int):
    """The recording itself."""
    _, c = _capture(request, job_id, capture_id)
    _link(c).recording.keep()
    return FileResponse(open(_path_of(c), "rb"), as_attachment=True, filename=f"{c.name}.capture")  # noqa: SIM115


@router.post("/jobs/{job_id}/captures/{capture_id}/connect", response=CaptureView)
def connect(request: HttpRequest, job_id: int, capture_id: int, data: Address):
    """Open the line to a device."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    link.connect(_host_and_port(data.address))
    return capture_view(c, link)


def _host_and_port(text: str) -> tuple[str, int]:
    host, _, port = text.strip().rpartition(":")
    if not host or not port.isascii() or not port.isdigit() or not 0 < int(port) < 65536:
        raise BadArgument("Give the device's address as host:port, as 127.0.0.1:9400.", field="address")
    if host not in settings.DEVICE_HOSTS:
        known = ", ".join(settings.DEVICE_HOSTS)
        raise BadArgument(
            f"This server speaks to devices at {known} only; DEFT_MASON_DEVICES names others.", field="address"
        )
    return host, int(port)


@router.post("/jobs/{job_id}/captures/{capture_id}/touch", response=CaptureView)
def touch(request: HttpRequest, job_id: int, capture_id: int, data: TouchAt, reads: str = ""):
    """Lead the probe, once or in a row; what misses is told."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    begin_, to = np.array(data.begin), np.array(data.to if data.to is not None else data.begin)
    along = _way(link, data.along)
    missed = 0
    for k in range(data.row):
        at = begin_ + (to - begin_) * (k / max(data.row - 1, 1))
        missed += link.ask({"ask": "touch", "from": _place(link, at), "along": along})["say"] == "missed"
    link.says = "" if not missed else f"{missed} of {data.row} touches met nothing." if data.row > 1 else "Met nothing."
    return capture_view(c, link, reads)


@router.post("/jobs/{job_id}/captures/{capture_id}/back", response=CaptureView)
def back(request: HttpRequest, job_id: int, capture_id: int, reads: str = ""):
    """Take the last touch that waits back."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    link.did({"did": "back"})
    return capture_view(c, link, reads)


@router.post("/jobs/{job_id}/captures/{capture_id}/things", response=CaptureView)
def put(request: HttpRequest, job_id: int, capture_id: int, data: PutThing):
    """Put an element, the level, a boundary, a cutting plane or a mirror."""
    job, c = _capture(request, job_id, capture_id)
    link = _link(c)
    link.did(_of_sketch(job, c, link, data) if data.sketch else _thing(link, data))
    return capture_view(c, link)


def _record(link: Link, data: PutThing) -> dict:
    state = link.state
    number = 1 + max((int(i[1:]) for i in state.things), default=0)
    words = {"cut": "Cut", "rounding": "Rounding", "level": "Level", "mirrored": "Mirror"}
    name = f"{words.get(data.what, data.what.capitalize())} {1 + len(state.of(data.what))}"
    return {"did": "put", "id": f"t{number}", "as": data.what, "name": one_line(data.name)[:80] or name}


def _of_sketch(job: Job, c: Capture, link: Link, data: PutThing) -> dict:
    """A boundary that a sketch of the job draws, seen square to its paper."""
    if data.what != "boundary":
        raise BadInput("A sketch draws a boundary; put it as one.", field="sketch")
    return _record(link, data) | sketch_boundary(replay_now(job).run(compute=False), data.sketch, c)


def _thing(link: Link, data: PutThing) -> dict:
    state, record = link.state, _record(link, data)
    if data.what == "boundary":
        if len(data.corners) < 3 or data.toward is None:
            raise BadInput("A boundary takes three corners or more; add another.", field="corners")
        record |= {"corners": [_place(link, p) for p in data.corners], "toward": _way(link, data.toward)}
        record["used"] = len(state.touches)  # corners that were touched are in it
    elif data.what == "cut":
        if data.point is None or data.normal is None:
            raise BadInput("Draw the cutting plane's line across the part.", field="point")
        record |= {"point": _place(link, data.point), "normal": _way(link, data.normal), "reach": data.reach}
    elif data.what == "mirrored":
        if not data.of:
            raise BadInput("Give a plane to mirror in, or two that it lies midway between.", field="of")
        for i in data.of:
            state.plane_of(i)
        record["of"] = data.of
    else:
        touches = state.waiting
        state.read("plane" if data.what == "level" else data.what, touches)
        record |= {"touches": touches, "used": len(state.touches)}
    return record


@router.delete("/jobs/{job_id}/captures/{capture_id}/things/{thing_id}", response=CaptureView)
def let_go(request: HttpRequest, job_id: int, capture_id: int, thing_id: str):
    """Take something out of the capture; what was touched and streamed stays in its file."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    for t in link.state.of("mirrored"):
        if thing_id in t["of"]:
            raise BadInput(f"{t['name']} mirrors in it; take that out first.", field="of")
    link.did({"did": "drop", "id": thing_id})
    return capture_view(c, link)


@router.post("/jobs/{job_id}/captures/{capture_id}/sweep", response=CaptureView)
def sweep(request: HttpRequest, job_id: int, capture_id: int, data: Sweep):
    """Let the line scanner go along a path; points come as they come."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    path = _level(link).inverse().points(np.array(data.path, float))
    across = None if data.across is None else _way(link, data.across)
    link.stream(
        {
            "ask": "sweep",
            "path": path.tolist(),
            "along": _way(link, data.along),
            "width": data.width,
            "across": across,
        }  # fmt: skip
    )
    return capture_view(c, link)


@router.post("/jobs/{job_id}/captures/{capture_id}/turn", response=CaptureView)
def turn(request: HttpRequest, job_id: int, capture_id: int, data: Turn):
    """Let a rotary table turn once round; points come as they come."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    link.stream({"ask": "turn", "stops": data.stops, "tilt_deg": data.tilt_deg})
    return capture_view(c, link)


@router.post("/jobs/{job_id}/captures/{capture_id}/control", response=CaptureView)
def control(request: HttpRequest, job_id: int, capture_id: int, data: Control):
    """Pause, resume or stop the scanner, or close the line."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    if data.do == "hang up":
        link.hang_up()
    else:
        link.control(data.do)
    return capture_view(c, link)


@router.post("/jobs/{job_id}/captures/{capture_id}/look", response=CameraPicture)
def look(request: HttpRequest, job_id: int, capture_id: int, data: Look):
    """A picture by the device's camera, from a direction."""
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    answer = link.ask({"ask": "look", "toward": _way(link, data.toward), "up": _way(link, data.up), "wide": data.wide})
    return picture_of(answer, _level(link))


@router.get("/jobs/{job_id}/captures/{capture_id}/points")
def points(request: HttpRequest, job_id: int, capture_id: int, after: int = 0, generation: int = -1):
    """Kept points that came after some: generation, first and count (little-endian uint32), then float32 x, y, z; from
    the first on where what is kept has changed since that generation.
    """
    _, c = _capture(request, job_id, capture_id)
    link = _link(c)
    with link.lock:
        begin_ = after if generation == link.state.generation else 0
        places = link.state.kept(max(begin_, 0))[0][:_MOST_AT_ONCE]
        now = link.state.generation
    flat = _level(link).points(places).astype("<f4")
    head = struct.pack("<3I", now, begin_, len(flat))
    return HttpResponse(head + flat.tobytes(), content_type="application/octet-stream")


@router.post("/jobs/{job_id}/captures/{capture_id}/lay", response=Created)
def lay(request: HttpRequest, job_id: int, capture_id: int):
    """Hand the capture on to the recipe: its points as a scan, its elements as datums, its sections and curves as
    curves; handed on before, the scan takes the new points, and what is new is laid beside it.
    """
    job, c = _capture(request, job_id, capture_id)
    link = _link(c)
    with link.lock:
        cloud = link.state.cloud()
    with tempfile.TemporaryDirectory(dir=settings.DATA / "tmp", prefix="cloud-") as room:
        steps_of, step_id, sent = handed_on(c, link.state, cloud, records(job), Path(room), receive)
    keep(sent)
    change(job, f"Hand on {c.name}", steps_of, trusted=True)
    Capture.objects.filter(pk=c.pk).update(step_id=step_id)
    settle(job, "Reading the capture", person_of(request))
    return {"id": job.pk}
