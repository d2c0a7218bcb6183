"""A measuring arm: a ball probe that touches where it is led, and a line scanner that streams while it is moved.

- ``{"ask": "touch", "from": [x, y, z], "along": [x, y, z]}`` → ``{"say": "touched", "seq", "ball", "radius",
  "along"}``, the ball's middle where it came to rest, or ``{"say": "missed"}``.
- ``{"ask": "sweep", "path": [[x, y, z], …], "along": [x, y, z], "width": mm, "across": [x, y, z] or none}``: the
  scanner looks along a direction while it moves along the path → ``{"say": "points", "seq", "count", "origin",
  "places", "sight"}``, many, then ``{"say": "swept"}``. ``pause``, ``resume`` and ``stop`` are heard meanwhile.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from ...core.elements import unit
from .hidden import HiddenPart, Optics
from .serving import Device
from .words import packed

__all__ = ["Arm"]

_LINE = 300  # points of one line
_LINES = 100  # lines a second: 30,000 points
_BATCH = 5  # lines of one answer
_TREMBLE = 0.004  # mm: of a hand-led probe
_MOST_PATH = 4000


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
            "tools": ["probe", "line"],
            "ball": self.ball,
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
        else:
            yield {"say": "refused", "why": f"an arm does not know '{str(request['ask'])[:40]}'"}

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
