"""What a file that was sent holds."""

from __future__ import annotations

import os
from dataclasses import asdict
from typing import Any

from deftmason.core.elements import UNITS_IN_MM
from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.scan import ScanStep, scan_record
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.replay import step_keys
from deftmason.core.scan.files import ReadScan, read_scan, size_in_words
from deftmason.core.scan.formats import MODEL_SUFFIXES, TEXT_SUFFIXES
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.textpoints import recognise

from ..desk import Desk, asked

__all__ = ["look_at_file"]


@asked
def look_at_file(desk: Desk, *, path: str, name: str, sha256: str) -> dict[str, Any]:
    """Counts, sizes in every unit, warnings, and the columns of a text file. Raises `BadInput` where it is unusable.

    A mesh is kept as the scan it is in mm, so that a job begun with it need not read the file again.
    """
    desk.progress(0.05, f"Reading {name}")
    suffix = os.path.splitext(name)[1].lower()
    if suffix in MODEL_SUFFIXES:
        return _model(path, name)
    try:
        layout = recognise(path) if suffix in TEXT_SUFFIXES else None
    except BadInput as e:
        raise BadInput(e.message.replace(os.path.basename(path), name), field="file") from None
    read = read_scan(path, layout=layout, called=name)
    mesh = isinstance(read.scan, TriMesh)
    if mesh:
        desk.progress(0.8, f"Keeping {name}")
        _keep(desk, scan_record(sha256, name, "mm"), read)
    return {
        "layout": None if layout is None else asdict(layout),
        "triangles": len(read.scan.faces) if mesh else 0,
        "points": len(read.scan.vertices if mesh else read.scan.points),
        "sizes": {u: size_in_words(read.scan.bounds * f) for u, f in UNITS_IN_MM.items()},
        "warnings": read.warnings,
    }


def _keep(desk: Desk, record: dict, read: ReadScan) -> None:
    """What the scan's own step would give, under its key."""
    (step,) = parse_recipe([record])
    key = step_keys([step])[step.id]
    assert isinstance(step, ScanStep) and key is not None
    with desk.store.making(key, desk.progress):
        if desk.store.record(key) is None:
            desk.store.save(key, step.produces, step.of_read(read))


def _model(path: str, name: str) -> dict[str, Any]:
    from deftmason.core.kernel.files import read_model
    from deftmason.core.kernel.tessellate import bounds_of

    body = read_model(path, called=name)
    warnings = [] if body.is_valid else ["The model is damaged; distances near its damaged places may be wrong."]
    size = size_in_words(bounds_of(body))
    return {
        "layout": None,
        "triangles": 0,
        "points": 0,
        "faces": len(body.face_names),
        "sizes": {"mm": size},
        "warnings": warnings,
    }
