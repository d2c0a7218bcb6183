"""Picks, traces, drawings on them, and edges near a place."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from pydantic import ValidationError

from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.datum import resolve_pick
from deftmason.core.recipe.kinds.sketch import StrokeRecord, propose_sketch, trace_on_paper
from deftmason.core.recipe.records import first_error
from deftmason.core.recipe.step import Pick
from deftmason.core.sketch.sketcher import Stroke, join_ends, stroke_from_brush

from ..desk import Desk, asked
from .drawing import proxy_of

__all__ = ["pick", "trace", "draw", "brush", "edges", "parsed"]

_JOIN_MM = 3.0


def parsed(model, data):
    try:
        return model.model_validate(data)
    except ValidationError as e:
        where, what = first_error(e)
        raise BadInput(f"{where}: {what}.", field=where) from None


@asked
def pick(desk: Desk, *, steps: list[dict], scan: str, pick: dict, element: str | None) -> dict[str, Any]:
    """What a place and rule gather, as numbers of shown facets (base64 of uint32)."""
    replay = desk.replay(steps)
    wanted = parsed(Pick, pick)
    index = replay.index(scan)
    found = resolve_pick(index, wanted, "this", element)
    proxy = proxy_of(desk.store, replay.key_of(scan))
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


@asked
def trace(desk: Desk, *, steps: list[dict], scan: str, frame: str, axis: str, height: float) -> dict[str, Any]:
    """The scan's cut at a height, on the paper."""
    replay = desk.replay(steps)
    loops, in_scan, _, step = trace_on_paper(replay, scan, frame, axis, height)
    cutter = replay.cutter(scan, in_scan.normal)
    off = height - float(in_scan.origin @ in_scan.normal)
    return {
        "loops": [{"points": l.points.round(4).tolist(), "closed": l.closed} for l in loops],
        "step": step,
        "low": cutter.low + off,
        "high": cutter.high + off,
    }


@asked
def draw(
    desk: Desk, *, steps: list[dict], scan: str, frame: str, axis: str, height: float, strokes: list[dict] | None
) -> dict[str, Any]:
    """The whole outline as strokes, relations and sizes; or relations and sizes for given strokes."""
    given = None if strokes is None else [parsed(StrokeRecord, s) for s in strokes]
    return propose_sketch(desk.replay(steps), scan, frame, axis, height, given)


@asked
def brush(
    desk: Desk,
    *,
    steps: list[dict],
    scan: str,
    frame: str,
    axis: str,
    height: float,
    strokes: list[dict],
    brush: list,
    radius: float,
    kind: str,
) -> dict[str, Any]:
    """Add what was brushed as one entity, join ends that meet, and propose relations and sizes for all."""
    replay = desk.replay(steps)
    loops, in_scan, _, _ = trace_on_paper(replay, scan, frame, axis, height)
    old = [
        Stroke(s.id, s.kind, in_scan.to_paper(np.array(s.places)), s.joins)
        for s in (parsed(StrokeRecord, r) for r in strokes)
    ]
    taken = {s.id for s in old}
    name = next(f"e{k}" for k in range(1, 10_000) if f"e{k}" not in taken)
    new = stroke_from_brush(loops, np.array(brush, float), radius, kind, name)
    joined = join_ends([*old, new], _JOIN_MM)
    records = [
        StrokeRecord(id=s.id, kind=s.kind, joins=s.joins, places=in_scan.to_space(s.places).round(4).tolist())
        for s in joined
    ]
    return propose_sketch(replay, scan, frame, axis, height, records)


@asked
def edges(desk: Desk, *, steps: list[dict], body: str, place: list[float]) -> dict[str, Any]:
    """The body's edge nearest a place (frame coordinates), and those between faces of the same two features."""
    from deftmason.core.kernel.tessellate import edge_polylines

    lines = edge_polylines(desk.replay(steps).output(body, "body"), 0.05)
    best, found, at = np.inf, None, np.array(place)
    for name, p in lines:
        a, d = p[:-1], np.diff(p, axis=0)
        t = np.clip(np.einsum("ij,ij->i", at - a, d) / np.maximum(np.einsum("ij,ij->i", d, d), 1e-12), 0, 1)
        gap = float(np.linalg.norm(a + t[:, None] * d - at, axis=1).min())
        if gap < best:
            best, found = gap, name
    if found is None:
        raise BadInput("The body has no edge to pick.", field="edges")

    def family(face: str) -> str:
        return face.rsplit("/", 1)[0] if "/side/" in face else face

    pair = sorted(family(f) for f in found[:2])
    alike = [list(n) for n, _ in lines if sorted(family(f) for f in n[:2]) == pair]
    return {"edge": list(found), "alike": alike, "distance": best}
