"""The demo bracket at a coarse spacing, scanned and rebuilt once for all tests that need it."""

from __future__ import annotations

import functools
import tempfile
from pathlib import Path

from deftmason.cli.replaying import file_sha256
from deftmason.core.recipe.recipefile import recipe_text
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.likeness import likeness_of
from deftmason.demo.bracket import bracket_scanner, true_bracket
from deftmason.demo.bracket_job import bracket_steps
from deftmason.rig.scanner import scan_part


class Rebuilt:
    """``truth`` body, ``mesh`` scan, ``pose``, ``steps`` records, and files in ``folder``."""

    def __init__(self):
        self.folder = Path(tempfile.mkdtemp(prefix="bracket-"))
        self.truth = true_bracket()
        self.mesh, self.pose = scan_part(self.truth, bracket_scanner(0.62))
        self.scan = self.folder / "bracket.ply"
        write_scan(str(self.scan), self.mesh)
        step = {
            "id": "scan",
            "kind": "scan",
            "name": "Bracket scan",
            "file": "bracket.ply",
            "sha256": file_sha256(str(self.scan)),
            "likeness": likeness_of(self.mesh),
        }
        self.store = ResultStore(str(self.folder / "results"))
        self.steps = bracket_steps(step, self.pose, self.store, self.file)
        self.recipe = self.folder / "recipe.json"
        self.recipe.write_text(recipe_text("Chain guide bracket", self.steps))

    def file(self, sha256: str, name: str) -> str:
        return str(self.scan)


@functools.cache
def rebuilt() -> Rebuilt:
    return Rebuilt()
