"""Looking at a job's geometry: buffers for the view, picks, traces, edges near a place."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from ninja.errors import HttpError

from deftmason.core.errors import BadInput
from deftmason.core.kernel.tessellate import edge_polylines
from deftmason.core.recipe.kinds.datum import resolve_pick
from deftmason.core.recipe.kinds.sketch import StrokeRecord, propose_sketch, trace_on_paper
from deftmason.core.recipe.step import Pick
from deftmason.core.sketch.sketcher import Stroke, join_ends, stroke_from_brush

from .access import job_of
from .binary import also_buffer, body_buffer, deviation_buffer, part_buffer, proxy_of, scan_buffer
from .recipe import records, replay_of, store

router = Router()

_JOIN_MM = 3.0


class PickRequest(Schema):
    scan: str
    pick: dict[str, Any]
    element: str | None = None


class Picked(Schema):
    facets: int
    area: float
    shown: str
    angle_deg: float
    rule: str


class TraceRequest(Schema):
    scan: str
    frame: str
    axis: str = "z"
    height: float


class Trace(Schema):
    loops: list[dict[str, Any]]
    step: float
    low: float
    high: float


class DrawRequest(TraceRequest):
    strokes: list[dict[str, Any]] | None = None


class BrushRequest(TraceRequest):
    strokes: list[dict[str, Any]]
    brush: list[tuple[float, float]]
    radius: float
    kind: str


class EdgeRequest(Schema):
    body: str
    place: tuple[float, float, float]


class Edges(Schema):
    edge: list[Any]
    alike: list[list[Any]]
    distance: float


@router.get("/jobs/{job_id}/geometry/{key}/{what}")
def geometry(request: HttpRequest, job_id: int, key: str, what: str, scan: str | None = None, name: str = ""):
    """A result as a buffer for the view: what = scan, part (what of a scan is not slab or scrap), body, deviation (with the scan's key)
    or also (a named array besides, with the key of the scan it belongs to)."""
    job = job_of(request, job_id)
    for k in filter(None, (key, scan)):
        if not job.results.filter(key=k).exists():
            raise HttpError(404, "There is no such result in this job.")
    record = store().record(key)
    if record is None or (what != "also" and record["produces"] != ("scan" if what == "part" else what)):
        raise HttpError(404, "There is no such result in this job.")
    if what == "scan":
        data = store().remember(("buffer", key), lambda: scan_buffer(store(), key))
    elif what == "part":
        data = store().remember(("part", key), lambda: part_buffer(store(), key))
    elif what == "body":
        data = store().remember(("buffer", key), lambda: body_buffer(store().load(key).output))
    elif what == "deviation" and scan:
        data = deviation_buffer(store(), key, scan)
    elif what == "also" and scan and name in record.get("arrays", []):
        data = also_buffer(store(), key, name, scan)
    else:
        raise HttpError(404, "There is no such result in this job.")
    return HttpResponse(
        data, content_type="application/octet-stream", headers={"Cache-Control": "private, max-age=31536000, immutable"}
    )


@router.post("/jobs/{job_id}/pick", response=Picked)
def pick(request: HttpRequest, job_id: int, data: PickRequest):
    """What a place and rule gather, as numbers of shown facets (base64 of uint32)."""
    job = job_of(request, job_id)
    replay = replay_of(records(job))
    wanted = parsed(Pick, data.pick)
    index = replay.index(data.scan)
    found = resolve_pick(index, wanted, "this", data.element)
    proxy = proxy_of(store(), replay.keys[data.scan])
    mask = np.zeros(len(index.mesh.faces), bool)
    mask[found.facets] = True
    shown = np.nonzero(mask[proxy.facets])[0].astype(np.uint32)
    return {
        "facets": len(found.facets),
        "area": float(index.mesh.areas[found.facets].sum()),
        "shown": base64.b64encode(shown.tobytes()).decode(),
        "angle_deg": found.angle_deg,
        "rule": found.rule,
    }


def parsed(model, data):
    from pydantic import ValidationError

    try:
        return model.model_validate(data)
    except ValidationError as e:
        first = e.errors()[0]
        where = ".".join(str(x) for x in first["loc"])
        raise BadInput(f"{where}: {first['msg']}.", field=where) from None


def _trace(job, data: TraceRequest):
    if data.axis not in ("x", "y", "z"):
        raise BadInput("The axis is x, y or z.", field="axis")
    replay = replay_of(records(job))
    return replay, trace_on_paper(replay, data.scan, data.frame, data.axis, data.height)


@router.post("/jobs/{job_id}/trace", response=Trace)
def trace(request: HttpRequest, job_id: int, data: TraceRequest):
    """The scan's cut at a height, on the paper."""
    replay, (loops, in_scan, _, step) = _trace(job_of(request, job_id), data)
    cutter = replay.cutter(data.scan, in_scan.normal)
    off = data.height - float(in_scan.origin @ in_scan.normal)
    return {
        "loops": [{"points": l.points.round(4).tolist(), "closed": l.closed} for l in loops],
        "step": step,
        "low": cutter.low + off,
        "high": cutter.high + off,
    }


@router.post("/jobs/{job_id}/sketch/draw")
def draw_all(request: HttpRequest, job_id: int, data: DrawRequest) -> dict[str, Any]:
    """The whole outline as strokes, relations and sizes; or relations and sizes for given strokes."""
    replay = replay_of(records(job_of(request, job_id)))
    strokes = None if data.strokes is None else [parsed(StrokeRecord, s) for s in data.strokes]
    return propose_sketch(replay, data.scan, data.frame, data.axis, data.height, strokes)


@router.post("/jobs/{job_id}/sketch/brush")
def brush(request: HttpRequest, job_id: int, data: BrushRequest) -> dict[str, Any]:
    """Add what was brushed as one entity, join ends that meet, and propose relations and sizes for all."""
    if data.kind not in ("line", "arc", "circle"):
        raise BadInput("Fit a line, an arc or a circle.", field="kind")
    if not data.brush:
        raise BadInput("The brush touched no trace; brush along the line you want to fit.", field="stroke")
    replay, (loops, in_scan, _, _) = _trace(job_of(request, job_id), data)
    old = [
        Stroke(s.id, s.kind, in_scan.to_paper(np.array(s.places)), s.joins)
        for s in (parsed(StrokeRecord, r) for r in data.strokes)
    ]
    taken = {s.id for s in old}
    name = next(f"e{k}" for k in range(1, 10_000) if f"e{k}" not in taken)
    new = stroke_from_brush(loops, np.array(data.brush, float), data.radius, data.kind, name)
    joined = join_ends([*old, new], _JOIN_MM)
    strokes = [
        StrokeRecord(id=s.id, kind=s.kind, joins=s.joins, places=in_scan.to_space(s.places).round(4).tolist())
        for s in joined
    ]
    return propose_sketch(replay, data.scan, data.frame, data.axis, data.height, strokes)


@router.post("/jobs/{job_id}/edges", response=Edges)
def edges(request: HttpRequest, job_id: int, data: EdgeRequest):
    """The body's edge nearest a place (frame coordinates), and those between faces of the same two features."""
    replay = replay_of(records(job_of(request, job_id)))
    body = replay.output(data.body, "body")
    best, found = np.inf, None
    lines = edge_polylines(body, 0.05)
    place = np.array(data.place)
    for name, p in lines:
        a, d = p[:-1], np.diff(p, axis=0)
        t = np.clip(np.einsum("ij,ij->i", place - a, d) / np.maximum(np.einsum("ij,ij->i", d, d), 1e-12), 0, 1)
        gap = float(np.linalg.norm(a + t[:, None] * d - place, axis=1).min())
        if gap < best:
            best, found = gap, name
    if found is None:
        raise BadInput("The body has no edge to pick.", field="edges")

    def family(face: str) -> str:
        return face.rsplit("/", 1)[0] if "/side/" in face else face

    pair = sorted(family(f) for f in found[:2])
    alike = [list(n) for n, _ in lines if sorted(family(f) for f in n[:2]) == pair]
    return {"edge": list(found), "alike": alike, "distance": best}
