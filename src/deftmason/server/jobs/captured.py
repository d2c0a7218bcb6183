"""A capture as the page shows it, and as it is handed on to the recipe."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
from ninja import Schema

from deftmason.core.capture.state import ELEMENTS, CaptureState
from deftmason.core.capture.touched import Probed
from deftmason.core.capture.touched_curve import ProbedCurve
from deftmason.core.elements import RigidMotion, perpendicular_pair
from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.curve import curve_record
from deftmason.core.recipe.kinds.frame import frame_record, frame_there
from deftmason.core.recipe.kinds.probed import touched_record
from deftmason.core.recipe.kinds.scan import scan_record
from deftmason.core.recipe.replay import Ran
from deftmason.core.scan.mesh import PointCloud

from ..capture.link import Link
from .blobs import Sent
from .models import Capture

__all__ = ["CaptureView", "capture_view", "handed_on", "picture_of", "sketch_boundary"]

_MOST_UNSEEN = 1200  # cells told of one boundary
_MOST_LINE = 400  # places told of one line
_MOST_TOUCHES = 400
_CURVE_PLACES = 60  # of a section handed on
_DATUMS = ("level", "plane", "line", "circle", "rounding")


class CaptureDevice(Schema):
    """``state``: none, there, lost; ``busy``: sweeping, paused or nothing."""

    state: str
    kind: str
    address: str
    busy: str
    tools: list[str]
    ball: float
    noise: float


class CaptureLineDrawn(Schema):
    places: list[list[float]]
    closed: bool


class CaptureThing(Schema):
    """``says`` its size; ``share`` of a boundary that was seen, ``unseen`` its cells that were not (``cell`` mm)."""

    id: str
    what: str
    name: str
    says: str
    touches: int
    lines: list[CaptureLineDrawn]
    share: float | None = None
    unseen: list[list[float]] = []
    toward: list[float] | None = None
    cell: float = 0.0


class CaptureMirror(Schema):
    point: list[float]
    normal: list[float]


class CaptureView(Schema):
    """``level`` (4 × 4) leads from the device's coordinates; ``bounds`` of the part as far as it is known; ``reading``
    what waiting touches tell, or why they do not.
    """

    id: int
    name: str
    device: CaptureDevice
    says: str
    taken: int
    kept: int
    generation: int
    level: list[list[float]] | None
    bounds: list[list[float]] | None
    touches: list[list[float]]
    waiting: int
    reading: str
    sound: bool
    things: list[CaptureThing]
    visits: int
    mirror: CaptureMirror | None
    laid: bool


def capture_view(capture: Capture, link: Link, reads: str = "") -> dict[str, Any]:
    with link.lock:
        state, about = link.state, link.about
        level = state.level() or RigidMotion.identity()
        reading, sound = _reading(state, reads)
        return {
            "id": capture.pk,
            "name": capture.name,
            "device": {
                "state": link.device,
                "kind": about.get("device", ""),
                "address": link.address,
                "busy": link.busy,
                "tools": about.get("tools", []),
                "ball": about.get("ball", 0.0),
                "noise": about.get("noise", 0.0),
            },
            "says": link.says,
            "taken": state.taken,
            "kept": state.count,
            "generation": state.generation,
            "level": level.matrix.tolist() if state.of("level") else None,
            "bounds": _bounds(state, level),
            "touches": _told(level, np.array([state.touches[k].ball for k in state.waiting[-_MOST_TOUCHES:]])),
            "waiting": len(state.waiting),
            "reading": reading,
            "sound": sound,
            "things": [_thing(state, t, level) for t in state.things.values()],
            "visits": len(state.visits),
            "mirror": _mirror(state, level),
            "laid": bool(capture.step_id),
        }


def _mirror(state: CaptureState, level: RigidMotion) -> dict[str, list[float]] | None:
    plane = state.mirror()
    if plane is None:
        return None
    return {"point": level.points(plane[0][None])[0].tolist(), "normal": level.vectors(plane[1][None])[0].tolist()}


def _told(level: RigidMotion, places: np.ndarray) -> list[list[float]]:
    return [] if len(places) == 0 else np.round(level.points(places.reshape(-1, 3)), 4).tolist()


def _bounds(state: CaptureState, level: RigidMotion) -> list[list[float]] | None:
    if state.stands is not None:
        corners = np.array(np.meshgrid(*state.stands.T)).reshape(3, -1).T
    elif state.count:
        corners = state.kept()[0]
    elif state.touches:
        corners = np.array([t.ball for t in state.touches])
    else:
        return None
    p = level.points(corners)
    return [p.min(axis=0).tolist(), p.max(axis=0).tolist()]


def _reading(state: CaptureState, reads: str) -> tuple[str, bool]:
    """What the touches that wait tell, read as something, and whether they do."""
    kind = "plane" if reads == "level" else reads
    if kind not in ELEMENTS or not state.waiting:
        return "", False
    try:
        return _size(state.read(kind, state.waiting), kind), True
    except BadInput as e:
        return e.message, False


def _size(found: Probed | ProbedCurve, kind: str) -> str:
    if isinstance(found, ProbedCurve):
        return f"scatter {found.scatter:.3f} mm" if found.scatter else "through every touch"
    f = found.fit
    scatter = f"scatter {f.sigma:.3f} mm"
    if kind in ("circle", "rounding"):
        sign, factor = ("⌀", 2.0) if kind == "circle" else ("R", 1.0)
        size, off = factor * found.element.radius, 2 * factor * f.uncertainty["radius"]  # type: ignore[union-attr]
        return f"{sign} {size:.3f} ± {off:.3f} mm, {'outside' if found.outside else 'inside'}"
    return scatter


def _thing(state: CaptureState, t: dict[str, Any], level: RigidMotion) -> dict[str, Any]:
    what = t["as"]
    out: dict[str, Any] = {"id": t["id"], "what": what, "name": t["name"], "says": "", "lines": [], "touches": 0}

    def draw(places: np.ndarray, closed: bool) -> None:
        step = max(len(places) // _MOST_LINE, 1)
        out["lines"].append({"places": _told(level, np.asarray(places)[::step]), "closed": closed})

    if what == "boundary":
        c = state.coverage()[t["id"]]
        unseen = c.unseen()
        out |= {"share": c.share, "cell": c.cell, "says": f"{100 * c.share:.0f} % seen"}
        out["toward"] = level.vectors(np.array([t["toward"]], float))[0].tolist()
        out["unseen"] = _told(level, unseen[:: max(len(unseen) // _MOST_UNSEEN, 1)])
        for ring in (t["corners"], *t.get("without", ())):
            draw(np.array(ring), True)
    elif what == "cut":
        lines = state.sections()[t["id"]]
        for line, closed in lines:
            draw(line, closed)
        length = sum(float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum()) for p, _ in lines)
        out["says"] = f"within {t['reach']:.4g} mm, {length:.4g} mm of line" if lines else f"within {t['reach']:.4g} mm"
    elif what == "mirrored":
        out["says"] = "midway between two planes" if len(t["of"]) > 1 else "in " + state.things[t["of"][0]]["name"]
    else:
        kind = "plane" if what == "level" else what
        found = state.read(kind, t["touches"])
        out |= {"says": _size(found, kind), "touches": len(t["touches"])}
        _draw_element(draw, found, state.touches_of(t).balls)
    return out


def _draw_element(draw: Callable[[np.ndarray, bool], None], found: Probed | ProbedCurve, balls: np.ndarray) -> None:
    if isinstance(found, ProbedCurve):
        draw(found.places, False)
        return
    e = found.element
    if e.kind == "circle":
        u, v = perpendicular_pair(e.normal)  # type: ignore[union-attr]
        a = np.linspace(0, 2 * np.pi, 64, endpoint=False)[:, None]
        draw(e.center + e.radius * (np.cos(a) * u + np.sin(a) * v), True)  # type: ignore[union-attr]
        return
    feet = e.feet(balls)
    if e.kind == "line":
        along = feet @ e.direction  # type: ignore[union-attr]
        draw(feet[[int(along.argmin()), int(along.argmax())]], False)
        return
    from scipy.spatial import ConvexHull, QhullError

    u, v = perpendicular_pair(e.normal)  # type: ignore[union-attr]
    try:
        draw(feet[ConvexHull(np.column_stack([feet @ u, feet @ v])).vertices], True)
    except QhullError:
        draw(feet, False)


def picture_of(answer: dict[str, Any], level: RigidMotion) -> dict[str, Any]:
    """A device's picture in the capture's coordinates. Raises where it is none."""
    try:
        return {
            "wide": int(answer["wide"]),
            "high": int(answer["high"]),
            "grey": str(answer["grey"]),
            "pixel": float(answer["pixel"]),
            "middle": level.points(np.array([answer["middle"]], float))[0].tolist(),
            "right": level.vectors(np.array([answer["right"]], float))[0].tolist(),
            "up": level.vectors(np.array([answer["up"]], float))[0].tolist(),
        }
    except (KeyError, TypeError, ValueError):
        raise BadInput("The device's picture cannot be read; work without it.", field="look") from None


def sketch_boundary(ran: list[Ran], step_id: str, capture: Capture) -> dict[str, Any]:
    """What a sketch draws as a boundary in the device's coordinates: its largest outline, those in it left out, seen
    square to its paper. Raises `BadInput` where there is no such sketch, nothing of it closes, or nobody knows where it
    lies on what is captured.
    """
    from deftmason.core.sketch.loops import loop_outline

    by_id = {r.step.id: r for r in ran}
    sketch = by_id.get(step_id)
    told = sketch.summary if sketch is not None and sketch.step.produces == "sketch" else {}
    if sketch is None or not told.get("loops"):
        raise BadInput("Nothing of that sketch closes; draw an outline whose ends meet.", field="sketch")
    frame = next((by_id[i] for i in sketch.step.inputs() if i in by_id and by_id[i].step.produces == "frame"), None)
    if capture.step_id not in by_id or frame is None or "matrix" not in frame.summary:
        raise BadInput(
            "Nobody knows yet where that sketch lies on the part; hand the capture on to the job first.", field="sketch"
        )
    back = RigidMotion(np.array(frame.summary["matrix"], float)).inverse()
    drawn = {e["id"]: e for e in told["geometry"]}
    taken = [0, *(k for k, around in enumerate(told["inside"]) if around == 0)]  # the outermost comes first
    p = {k: np.array(v, float) for k, v in told["plane"].items()}
    v_way = np.cross(p["normal"], p["u"])
    flat = [loop_outline([drawn[i] for i in told["loops"][k]]) for k in taken]
    rings = [back.points(p["origin"] + r[:, :1] * p["u"] + r[:, 1:] * v_way).tolist() for r in flat]
    return {"corners": rings[0], "without": rings[1:], "toward": back.vectors(p["normal"][None])[0].tolist()}


def handed_on(
    capture: Capture,
    state: CaptureState,
    cloud: tuple[np.ndarray, np.ndarray],
    steps: list[dict],
    room: Path,
    receive: Callable[[Iterable[bytes]], Sent],
) -> tuple[Callable[[list[dict]], list[dict]], str, Sent]:
    """How the recipe changes, the scan's step, and its file. Raises `BadInput` where there is nothing to hand on."""
    places, sight = cloud
    if not len(places):
        if not state.touches:
            raise BadInput("Nothing was captured yet; touch or scan first.", field="points")
        places = np.array([t.ball + t.radius * t.along for t in state.touches])
        sight = -np.array([t.along for t in state.touches])
    from deftmason.core.scan.files import write_scan

    path = room / "capture.ply"
    write_scan(str(path), PointCloud(places, sight / np.maximum(np.linalg.norm(sight, axis=1, keepdims=True), 1e-12)))
    with open(path, "rb") as f:
        sent = receive(iter(lambda: f.read(1 << 20), b""))
    there = any(s["id"] == capture.step_id for s in steps) and capture.step_id
    scan = there or next(i for i in (f"scan_{capture.pk}_{k}" for k in range(9999)) if all(s["id"] != i for s in steps))
    if not steps:
        scan = "scan"
    file = {**scan_record(sent.sha256, f"{capture.name}.ply", "mm"), "id": scan, "name": capture.name}
    fresh = _laid_beside(capture, state, scan)

    def make(now: list[dict]) -> list[dict]:
        now = copy.deepcopy(now)
        old = next((s for s in now if s["id"] == scan), None)
        if old is None:
            now.append(file)
        else:
            old |= {k: file[k] for k in ("sha256", "file")}
        for make_step in fresh:
            step = make_step(now)
            if step is not None and all(s["id"] != step["id"] for s in now):
                now.append({**step, "name": _free(step["name"], now)})
        return now

    return make, scan, sent


def _free(name: str, steps: list[dict]) -> str:
    names = {s["name"] for s in steps}
    return next(n for n in [name, *(f"{name} {k}" for k in range(2, len(steps) + 3))] if n not in names)


def _laid_beside(capture: Capture, state: CaptureState, scan: str) -> list[Callable[[list[dict]], dict | None]]:
    """Steps for what was touched and cut, each made of the recipe as it is by then; None: not without a frame."""
    out: list[Callable[[list[dict]], dict | None]] = []
    up = ""
    for t in state.things.values():
        if t["as"] not in _DATUMS:
            continue
        step_id = f"touched_{capture.pk}_{t['id']}"
        stands = up if t["as"] == "circle" and up and state.stands_upright(t["touches"]) else None
        element = "plane" if t["as"] == "level" else t["as"]
        step = touched_record(step_id, t["name"], scan, element, state.touches_of(t), stands)
        if t["as"] == "level":
            up = step_id
        out.append(lambda now, step=step: step)
    if up:
        frame = frame_record(f"frame_{capture.pk}", up)
        out.append(lambda now: None if frame_there(now) else frame)
    for t in state.things.values():
        lines: list[tuple[np.ndarray, bool]] = []
        if t["as"] == "cut":
            lines = state.sections()[t["id"]]
        elif t["as"] == "curve":
            lines = [(state.read("curve", t["touches"]).places, False)]  # type: ignore[union-attr]
        for k, (line, closed) in enumerate(lines):
            out.append(_curve(f"curve_{capture.pk}_{t['id']}_{k + 1}", t["name"], scan, line, closed))
    return out


def _curve(step_id: str, name: str, scan: str, line: np.ndarray, closed: bool) -> Callable[[list[dict]], dict | None]:

    def make(now: list[dict]) -> dict | None:
        frame = frame_there(now)
        return frame and curve_record(step_id, name, scan, frame, line, closed, _CURVE_PLACES)

    return make
