"""The demo hinge's recipe at a coarse spacing, and worn pieces of it, scanned once for all tests that need them."""

from __future__ import annotations

import functools
import tempfile
from pathlib import Path

from deftmason.cli.replaying import file_sha256
from deftmason.core.recipe.recipefile import recipe_text
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.likeness import likeness_of
from deftmason.demo.hinge import WORN, hinge_scan
from deftmason.demo.hinge_job import hinge_steps

SPACING = 0.9


class Hinges:
    """``recipe`` file and ``steps`` with its scan beside it; ``pieces``: a folder of worn hinges' scans."""

    def __init__(self, count: int):
        self.folder = Path(tempfile.mkdtemp(prefix="hinges-"))
        self.pieces = self.folder / "pieces"
        self.pieces.mkdir()
        mesh, self.pose = hinge_scan(SPACING, 3)
        scan = self.folder / "hinge.ply"
        write_scan(str(scan), mesh)
        step = {
            "id": "scan",
            "kind": "scan",
            "name": "Hinge scan",
            "file": scan.name,
            "sha256": file_sha256(str(scan)),
            "likeness": likeness_of(mesh),
        }
        store = ResultStore(str(self.folder / "results"))
        self.steps = hinge_steps(step, self.pose, store, lambda sha256, name: str(scan))
        self.recipe = self.folder / "recipe.json"
        self.recipe.write_text(recipe_text("Rowlock hinge", self.steps))
        self.worn = WORN[:count]
        for k, h in enumerate(self.worn):
            write_scan(str(self.pieces / f"hinge {k + 1}.ply"), hinge_scan(SPACING, 60 + k, h)[0])


@functools.cache
def hinges(count: int = 4) -> Hinges:
    return Hinges(count)
