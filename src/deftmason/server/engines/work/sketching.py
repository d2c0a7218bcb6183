"""Traces on a sketch's paper, and what is drawn there: changed, dragged, asked what it could hold."""

from __future__ import annotations

import base64
import os
from typing import Any

import numpy as np

from deftmason.core.errors import BadInput
from deftmason.core.recipe import sketching
from deftmason.core.recipe.kinds.sketch import SketchStep
from deftmason.core.recipe.papers import traces_on
from deftmason.core.recipe.projections import projected
from deftmason.core.sketch.curve import curve_of
from deftmason.core.sketch.fitting import read_ahead

from ..desk import Desk, asked
from .buffers import proxy_of
from .looking import parsed

__all__ = [
    "change_sketch",
    "drag_sketch",
    "entities_of_dxf",
    "sketch_beginning",
    "sketch_offers",
    "sketch_walls",
    "stretches",
    "trace",
]


def _sketch(record: dict) -> SketchStep:
    return parsed(SketchStep, {"id": "this", "name": "this", **record, "kind": "sketch"})


@asked
def trace(desk: Desk, *, steps: list[dict], sketch: dict) -> dict[str, Any]:
    """Every trace of a paper, in the record's order, what is projected onto it, and how far it can be moved."""
    record, context = _sketch(sketch), desk.replay(steps)
    laid = traces_on(record, context)
    h = context.cutter(record.scan, laid.in_scan.normal)
    off = record.height - float(laid.in_scan.origin @ laid.in_scan.normal)
    seen = projected(record.projected, record.scan, record.frame, context, laid.plane)
    plane = laid.plane
    return {
        "traces": [
            [{"points": l.points.round(4).tolist(), "closed": l.closed} for l in loops] for loops in laid.traces
        ],
        "projected": [{**e, "id": n, "outline": curve_of(e).fine[1].tolist() if e["kind"] != "point" else [e["at"]]}
                      for n, e in seen.items()],
        "step": laid.step,
        "low": h.low + off,
        "high": h.high + off,
        "plane": {"origin": plane.origin.tolist(), "normal": plane.normal.tolist(), "u": plane.u.tolist()},
    }  # fmt: skip


@asked
def sketch_walls(desk: Desk, *, steps: list[dict], sketch: dict) -> dict[str, Any]:
    """How far what is shown of the scan lies off what the drawing would sweep: by shown vertex (base64 of float32)."""
    record, context = _sketch(sketch), desk.replay(steps)
    shown = proxy_of(desk.store, context.key_of(record.scan)).vertices
    off, reach = sketching.off_walls(record, context, shown)
    there = off[np.isfinite(off)]
    return {
        "off": base64.b64encode(off.astype(np.float32).tobytes()).decode(),
        "reach": reach,
        "rms": float(np.sqrt(np.mean(there**2))) if len(there) else None,
        "within": None if not len(there) else float(np.quantile(np.abs(there), 0.95)),
        "count": len(there),
    }


@asked
def stretches(desk: Desk, *, steps: list[dict], sketch: dict) -> list[dict[str, Any]]:
    """The traces read ahead into straight, round and whole round stretches, each with its size."""
    laid = traces_on(_sketch(sketch), desk.replay(steps))
    return [
        {"kind": s.kind, "points": s.points.round(4).tolist(), "size": s.size} for s in read_ahead(laid.loops)
    ]  # fmt: skip


@asked
def change_sketch(desk: Desk, *, steps: list[dict], sketch: dict, change: dict) -> dict[str, Any]:
    """The drawing after one change."""
    return sketching.changed(_sketch(sketch), desk.replay(steps), parsed(sketching.Change, change))


@asked
def drag_sketch(desk: Desk, *, steps: list[dict], sketch: dict, handle: str, to: list[float]) -> list[dict[str, Any]]:
    """Where everything is while a place is dragged."""
    if len(to) != 2:
        raise BadInput("A place on the paper has two numbers.", field="to")
    return sketching.dragged(_sketch(sketch), desk.replay(steps), handle, (to[0], to[1]))


@asked
def sketch_offers(desk: Desk, *, steps: list[dict], sketch: dict, of: list[str]) -> dict[str, Any]:
    """What could be held of what is picked, and what it would cost."""
    return sketching.offers(_sketch(sketch), desk.replay(steps), of)


@asked
def entities_of_dxf(desk: Desk, *, data: bytes) -> list[dict[str, Any]]:
    """A drawing file's entities, in contract keys."""
    from deftmason.core.deliver.drawing_files import read_dxf

    path = desk.room(f"{os.getpid()}.dxf")
    try:
        with open(path, "wb") as f:
            f.write(data)
        return read_dxf(path)
    finally:
        if os.path.exists(path):
            os.remove(path)


@asked
def sketch_beginning(desk: Desk, *, steps: list[dict], sketch: dict) -> dict[str, Any]:
    """The nearest height at which there is something to draw on."""
    return sketching.beginning(_sketch(sketch), desk.replay(steps))
