"""What a file that was sent holds."""

from __future__ import annotations

import os
from dataclasses import asdict
from typing import Any

from deftmason.core.elements import UNITS_IN_MM
from deftmason.core.errors import BadInput
from deftmason.core.scan.files import read_scan, size_in_words
from deftmason.core.scan.formats import MODEL_SUFFIXES, TEXT_SUFFIXES
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.textpoints import recognise

from ..desk import Desk, asked

__all__ = ["look_at_file"]


@asked
def look_at_file(desk: Desk, *, path: str, name: str) -> dict[str, Any]:
    """Counts, sizes in every unit, warnings, and the columns of a text file. Raises `BadInput` where it is unusable."""
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
    return {
        "layout": None if layout is None else asdict(layout),
        "triangles": len(read.scan.faces) if mesh else 0,
        "points": len(read.scan.vertices if mesh else read.scan.points),
        "sizes": {u: size_in_words(read.scan.bounds * f) for u, f in UNITS_IN_MM.items()},
        "warnings": read.warnings,
    }


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
