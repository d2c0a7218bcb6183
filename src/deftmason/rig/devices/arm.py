"""A measuring arm: a ball probe that touches where it is led, and a line scanner that streams while it is moved.

- ``{"ask": "touch", "from": [x, y, z], "along": [x, y, z]}`` → ``{"say": "touched", "seq", "ball", "radius",
  "along"}``, the ball's middle where it came to rest, or ``{"say": "missed"}``.
- ``{"ask": "sweep", "path": [[x, y, z], …], "along": [x, y, z], "width": mm, "across": [x, y, z] or none}``: the
  scanner looks along a direction while it moves along the path → ``{"say": "points", "seq", "count", "origin",
  "places", "sight"}``, many, then ``{"say": "swept"}``. ``pause``, ``resume`` and ``stop`` are heard meanwhile.
- ``{"ask": "look", "toward": [x, y, z], "up": [x, y, z], "wide": pixels}``: a picture by the camera on it, without
  perspective → ``{"say": "picture", "wide", "high", "grey", "middle", "right", "up", "pixel": mm}``, ``grey`` a byte a
  pixel, base64, rows from the top; 0 where nothing is.
"""

from __future__ import annotations

import base64
import threading
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from ...core.capture.words import packed
from ...core.elements import unit
from .hidden import HiddenPart, Optics
from .serving import Device

__all__ = ["Arm"]

_LINE = 300  # points of one line
_LINES = 100  # lines a second: 30,000 points
_BATCH = 5  # lines of one answer
_TREMBLE = 0.004  # mm: of a hand-led probe
_MOST_PATH = 4000
_MOST_PIXELS = 900


class Arm(Device):
    """``ball``: radius of the probe's ball, mm; ``speed``: times as fast as a real one."""

    kind = "arm"

    def __init__(
        self, part: HiddenPart, *, seed: int = 0, ball: float = 1.5, optics: Optics = Optics(), speed: float = 1.0
    ):
        super().__init__()
        self.part, self.ball, self.optics, self.speed = part, ball, optics, speed
        self._rng = np.random.default_rng([seed, 77])
        self._lock = threading.Lock()

    def about(self) -> dict[str, Any]:
        return {
            "tools": ["probe", "line", "camera"],
            "ball": self.ball,
            "tremble": _TREMBLE,
            "noise": self.optics.noise,
            "rate": _LINE * _LINES,
            "stands": {"low": self.part.low.tolist(), "high": self.part.high.tolist()},
        }

    def asked(self, request: dict[str, Any]) -> Iterator[dict[str, Any]]:
        if request["ask"] == "touch":
            yield self._touch(_place(request["from"]), unit(_place(request["along"])))
        elif request["ask"] == "sweep":
            path = np.array([_place(p) for p in request["path"][:_MOST_PATH]])
            if len(path) < 2:
                raise ValueError("a path has two places at least")
            across = _place(request["across"]) if request.get("across") else None
            yield from self._sweep(path, unit(_place(request["along"])), float(request["width"]), across)
        elif request["ask"] == "look":
            wide = min(max(int(request.get("wide", 400)), 16), _MOST_PIXELS)
            yield self._look(unit(_place(request["toward"])), _place(request["up"]), wide)
        else:
            yield {"say": "refused", "why": f"an arm does not know '{str(request['ask'])[:40]}'"}

    def _look(self, toward: np.ndarray, up: np.ndarray, wide: int) -> dict[str, Any]:
        up = unit(up - (up @ toward) * toward)
        right = np.cross(up, toward)
        pixel = 1.1 * self.part.size / wide
        middle = 0.5 * (self.part.low + self.part.high)
        at = (np.arange(wide) - 0.5 * (wide - 1)) * pixel
        starts = middle + self.part.size * toward + at[None, :, None] * right - at[:, None, None] * up
        with self._lock:
            far, normals = self.part.rays(starts.reshape(-1, 3), -toward)
        light = np.abs(normals @ unit(toward + 0.5 * up + 0.3 * right))
        grey = np.where(np.isfinite(far), 40 + 200 * light, 0).astype(np.uint8)
        return {
            "say": "picture", "wide": wide, "high": wide, "grey": base64.b64encode(grey.tobytes()).decode(),
            "middle": middle.tolist(), "right": right.tolist(), "up": up.tolist(), "pixel": pixel,
        }  # fmt: skip

    def _touch(self, start: np.ndarray, along: np.ndarray) -> dict[str, Any]:
        with self._lock:
            rest = self.part.touched(start, along, self.ball)
            if rest is None:
                return {"say": "missed"}
            rest = rest + _TREMBLE * self._rng.normal(size=3)
            return self.captured(
                {"say": "touched", "ball": rest.tolist(), "radius": self.ball, "along": along.tolist()}
            )

    def _sweep(self, path, along, width: float, across) -> Iterator[dict[str, Any]]:
        """Lines one after the other, evenly along the path, in a scanner's own time."""
        step = width / _LINE
        ways = np.linalg.norm(np.diff(path, axis=0), axis=1)
        reached = np.concatenate([[0.0], np.cumsum(ways)])
        count = max(int(np.ceil(reached[-1] / step)), 2)
        at = np.linspace(0, reached[-1], count)
        heads = np.stack([np.interp(at, reached, path[:, k]) for k in range(3)], axis=1)
        way = np.gradient(heads, axis=0)
        side = np.cross(way, along) if across is None else np.broadcast_to(across, way.shape)
        side = side - np.einsum("ij,j->i", side, along)[:, None] * along
        side = side / np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-12)
        spread = (np.arange(_LINE) - 0.5 * (_LINE - 1)) * step
        back = self.part.size
        begin, done = time.monotonic(), 0
        for k in range(0, count, _BATCH):
            while not self.going.wait(0.05) and not self.stopped.is_set():
                begin += 0.05
            if self.stopped.is_set():
                break
            starts = (heads[k : k + _BATCH, None] + spread[None, :, None] * side[k : k + _BATCH, None]).reshape(-1, 3)
            with self._lock:
                places, sight = self.part.seen(starts - back * along, along, self.optics, self._rng)
                answer = self.captured({"say": "points", **packed(places, sight)}) if len(places) else None
            if answer:
                yield answer
            done += _BATCH
            ahead = done / (_LINES * self.speed) - (time.monotonic() - begin)
            if ahead > 0:
                time.sleep(ahead)
        yield {"say": "swept", "whole": not self.stopped.is_set()}


def _place(given: Any) -> np.ndarray:
    out = np.array(given, float)
    if out.shape != (3,) or not np.isfinite(out).all():
        raise ValueError("a place is three numbers")
    return out
