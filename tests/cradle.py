"""A cradle that mirrors itself but for one hole, its scan, and the steps that model one half of it: two ears on a
plate, each with a hole and a chamfer along its upper outer edge.
"""

from __future__ import annotations

import hashlib

import numpy as np

from deftmason.core.elements import RigidMotion
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from .trials.parts import as_body
from .trials.scanning import even_mesh_of

CHAMFER = 2.0
ODD = np.pi * 3.0**2 * 10  # mm³ of the hole on one side alone


def true_cradle():
    """Its middle at the origin, standing on z = 0."""
    from build123d import Box, Cylinder, Pos, Rot, chamfer

    part = Pos(0, 0, 5) * Box(80, 40, 10)
    for side in (-1, 1):
        part += Pos(side * 30, 0, 20) * Box(10, 40, 20)
        part -= Pos(side * 30, 4, 20) * Rot(0, 90, 0) * Cylinder(5, 30)
    part -= Pos(12, -8, 5) * Cylinder(3, 30)
    outer = [e for e in part.edges() if abs(abs(e.center().X) - 35) < 1e-6 and abs(e.center().Z - 30) < 1e-6]
    return as_body(chamfer(outer, CHAMFER))


class Cradle:
    """``j`` holds its steps up to its half ``both``, bare yet; ``middle`` (3,) is its middle in the frame."""

    def __init__(self, folder):
        self.true = true_cradle()
        self.path = folder / "cradle.ply"
        write_scan(str(self.path), even_mesh_of(self.true, np.random.default_rng(2), 1.1, 0.01, 2.2)[0])
        self.store = ResultStore(str(folder / "store"))
        self.file = lambda sha, name: str(self.path)
        j = self.j = Laying([], RigidMotion.identity(), self.store, self.file)
        sha = hashlib.sha256(self.path.read_bytes()).hexdigest()
        j.lay({"id": "scan", "kind": "scan", "name": "Scan", "file": "cradle.ply", "sha256": sha})
        for name, place, normal in (
            ("foot", (0.0, 0, 0), (0, 0, -1.0)),
            ("front", (0.0, -20, 5), (0, -1.0, 0)),
        ):
            pick = j.pick(np.array(place), normal)
            j.lay({"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "pick": pick})
        j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "front", "origin": "foot"})
        self.middle = j.replay().output("frame", "frame").points(np.zeros(3))
        self._box("plate", 0, 80, 0, 10)
        self._box("ear", -30, 10, 10, 30)
        j.lay({"id": "both", "kind": "bodycombine", "name": "Both", "body": "plate", "how": "join", "tools": ["ear"]})

    def _box(self, name: str, x: float, width: float, low: float, high: float) -> None:
        sizes = {"width": width, "depth": 40, "low": low, "high": high}
        step = {k: {"value": float(v), "source": "typed"} for k, v in sizes.items()}
        step |= {"place_x": float(self.middle[0]) + x, "place_y": float(self.middle[1])}
        self.j.lay({"id": name, "kind": "solid", "name": name.capitalize(), "frame": "frame", "shape": "box", **step})

    def finish_half(self) -> None:
        """Its hole and its chamfer, read from the scan."""
        on = {"frame": "frame", "scan": "scan"}
        hole = {"pick": self.j.pick(np.array([-30.0, 4, 25]), (0, 0, -1.0), "same bend")}
        self.j.lay({"id": "hole", "kind": "drill", "name": "Hole", **on, "body": "both", "places": [hole]})
        edge = {"edges": [["Ear/side/x-", "Ear/top", ""]], "leg": {"value": None, "source": "rounded"}}
        self.j.lay({"id": "edge", "kind": "chamfer", "name": "Edge", **on, "body": "hole", **edge})
