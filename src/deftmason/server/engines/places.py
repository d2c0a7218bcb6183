"""Where engines put what they make for the web server to send, and which files there are to hand on."""

from __future__ import annotations

import hashlib
import json
import os
from typing import Any

from deftmason.core.recipe.store import ResultStore

__all__ = ["FILES", "PROOF_FILES", "buffer_path", "file_path", "picture_path"]

_VERSION = 2  # of the buffers: another one is made anew

#: The files there are to hand on.
FILES = (
    "model.step", "model.iges", "model.brep", "model.stl", "model.3mf", "model.glb", "scan.ply", "scan.stl", "scan.glb",
    "sketch.dxf", "sketch.svg", "section.dxf", "section.svg", "elements.step", "drawing.pdf", "drawing.svg",
    "drawing.dxf", "model.py", "recipe.json", "recipe.zip",
)  # fmt: skip


#: What a proof is handed on as.
PROOF_FILES = ("report.pdf", "points.csv", "table.csv", "proof.json", "map.ply", "map.glb", "view.png")


def buffer_path(store: ResultStore, key: str, what: str, scan: str | None = None, name: str = "") -> str:
    """Where a buffer lies once it is made."""
    more = hashlib.sha256(f"{scan} {name}".encode()).hexdigest()[:16]
    return store.path(key, f"view{_VERSION}_{what}_{more}.bin")


def file_path(folder: str, what: str, made_of: Any) -> str:
    """Where a file to hand on lies once it is written: by all that decides what is in it."""
    made_of = hashlib.sha256(json.dumps(made_of, sort_keys=True).encode()).hexdigest()[:32]
    return os.path.join(folder, "tmp", f"give-{made_of}-{what}")


def picture_path(folder: str, key: str, frame: str | None) -> str:
    """Where a picture lies once it is drawn."""
    name = hashlib.sha256(f"{key}{frame or ''}".encode()).hexdigest()[:32]
    return os.path.join(folder, "pictures", f"{name}.png")
