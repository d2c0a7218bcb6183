"""A block of which two upper edges are cut off by two different legs, its scan, and the steps up to its plain box."""

from __future__ import annotations

import hashlib

import numpy as np

from deftmason.core.elements import RigidMotion
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from .trials.parts import as_body
from .trials.scanning import even_mesh_of

ABOVE, ASIDE = 2.0, 3.2  # mm of the legs on the top and down the sides


class Block:
    def __init__(self, folder):
        from build123d import Axis, Box, Pos, chamfer

        plain = Pos(0, 0, 10) * Box(40, 30, 20)
        top = plain.faces().sort_by(Axis.Z)[-1]
        cut = [e for e in top.edges() if e.center().X > 19 or e.center().Y > 14]
        self.true = as_body(chamfer(cut, ABOVE, ASIDE, reference=top))
        path = self.path = folder / "block.ply"
        write_scan(str(path), even_mesh_of(self.true, np.random.default_rng(5), 0.7, 0.01, 1.5)[0])
        self.store, self.file = ResultStore(str(folder / "store")), lambda sha, name: str(path)
        j = self.j = Laying([], RigidMotion.identity(), self.store, self.file)
        sha = hashlib.sha256(path.read_bytes()).hexdigest()
        j.lay({"id": "scan", "kind": "scan", "name": "Scan", "file": "block.ply", "sha256": sha})
        for name, place, normal in (("foot", (0.0, 0, 0), (0, 0, -1.0)), ("front", (0.0, -15, 5), (0, -1.0, 0))):
            pick = j.pick(np.array(place), normal)
            j.lay({"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "pick": pick})
        j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "front", "origin": "foot"})
        middle = self.middle = j.replay().output("frame", "frame").points(np.zeros(3))
        sizes = {"width": 40.0, "depth": 30.0, "low": 0.0, "high": 20.0}
        box = {k: {"value": v, "source": "typed"} for k, v in sizes.items()}
        box |= {"place_x": float(middle[0]), "place_y": float(middle[1]), "shape": "box"}
        j.lay({"id": "block", "kind": "solid", "name": "Block", "frame": "frame", **box})
