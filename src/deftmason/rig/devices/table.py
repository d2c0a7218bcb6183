"""A scanner with a rotary table: at each stop of the table it sees all that faces it.

``{"ask": "turn", "stops": n, "tilt_deg": degrees}`` → ``{"say": "points", "seq", …, "stop": k}``, some for each stop,
then ``{"say": "turned"}``. All points are told in the coordinates of the table as it stood first.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ...core.capture.words import packed
from .hidden import HiddenPart, Optics
from .serving import Device

__all__ = ["Table"]

_RATE = 30_000  # points a second
_BATCH = 3000
_RAYS = 190  # a side of what it sees at once


class Table(Device):
    """``speed``: times as fast as a real one."""

    kind = "table"

    def __init__(self, part: HiddenPart, *, seed: int = 0, optics: Optics = Optics(), speed: float = 1.0):
        super().__init__()
        self.part, self.optics, self.speed = part, optics, speed
        self._rng = np.random.default_rng([seed, 78])

    def about(self) -> dict[str, Any]:
        return {
            "tools": ["table"],
            "noise": self.optics.noise,
            "rate": _RATE,
            "stands": {"low": self.part.low.tolist(), "high": self.part.high.tolist()},
        }

    def asked(self, request: dict[str, Any]) -> Iterator[dict[str, Any]]:
        if request["ask"] != "turn":
            yield {"say": "refused", "why": f"a table does not know '{str(request['ask'])[:40]}'"}
            return
        stops, tilt = int(request["stops"]), float(request.get("tilt_deg", 35.0))
        if not 1 <= stops <= 72 or not -80 <= tilt <= 80:
            raise ValueError("1 to 72 stops, a tilt of 80° at most")
        middle = 0.5 * (self.part.low + self.part.high)
        grid = np.linspace(-0.55, 0.55, _RAYS) * self.part.size
        u, v = (g.ravel() for g in np.meshgrid(grid, grid))
        for k in range(stops):
            turn = Rotation.from_euler("yz", [-tilt, 360.0 * k / stops], degrees=True).as_matrix()
            toward, right, up = turn @ [1.0, 0, 0], turn @ [0, 1.0, 0], turn @ [0, 0, 1.0]
            starts = middle + self.part.size * toward + u[:, None] * right + v[:, None] * up
            places, sight = self.part.seen(starts, -toward, self.optics, self._rng)
            for at in range(0, len(places), _BATCH):
                while not self.going.wait(0.05) and not self.stopped.is_set():
                    continue
                if self.stopped.is_set():
                    yield {"say": "turned", "whole": False}
                    return
                some = slice(at, at + _BATCH)
                yield self.captured({"say": "points", "stop": k, **packed(places[some], sight[some])})
                time.sleep(_BATCH / (_RATE * self.speed))
        yield {"say": "turned", "whole": True}
