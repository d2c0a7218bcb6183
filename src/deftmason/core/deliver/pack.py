"""One pack: a zip of what was chosen, a contents sheet, checksums; units and frame are stated in it."""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from ..errors import BadInput
from ..progress import Progress, part, silent
from .check_files import write_proof
from .goods import Handing, Wanted, write_good
from .proof import Proof

__all__ = ["Packed", "write_pack"]

_SAYS = {
    "model.step": "the model, solids with names and colours, STEP AP242",
    "model.iges": "the model, IGES",
    "model.brep": "the model, B-rep",
    "model.stl": "the model as triangles, STL",
    "model.3mf": "the model as triangles, 3MF",
    "model.glb": "the model as triangles with names and colours, GLB (in mm)",
    "scan.ply": "the scan in the model's frame, PLY in double precision",
    "scan.stl": "the scan in the model's frame, STL (single precision)",
    "scan.glb": "the scan in the model's frame, GLB (in mm, single precision)",
    "elements.step": "planes, axes, cylinders and sketches alone, STEP",
    "drawing.pdf": "the drawing sheet, PDF",
    "drawing.svg": "the drawing sheet, SVG",
    "drawing.dxf": "the drawing sheet, DXF",
    "model.py": "the history as a parametric script for build123d",
    "recipe.json": "the recipe: every step, without the scans",
    "recipe.zip": "the recipe with its scans: opens in another Deft Mason",
}


@dataclass
class Packed:
    """What goes into a pack: goods with what is asked of them, and proofs with their files."""

    goods: list[tuple[str, Wanted]]
    proofs: list[tuple[Proof, list[str]]] = field(default_factory=list)


def _plain(name: str) -> str:
    """A name that every system takes as a file's."""
    return re.sub(r"[^A-Za-z0-9._ ()+-]+", "_", name).strip(" .")[:80] or "file"


def write_pack(path: str, h: Handing, packed: Packed, progress: Progress = silent) -> None:
    """Write the zip, whole or not at all. Raises `BadInput` where nothing is chosen or something cannot be written."""
    if not packed.goods and not packed.proofs:
        raise BadInput("Nothing is chosen for the pack; tick at least one file.", field="goods")
    todo: list[tuple[str, str, Callable[[str], None]]] = []
    for what, wanted in packed.goods:
        name, says = what, _SAYS.get(what, "")
        if what.startswith(("sketch.", "section.")):
            step = h.one(what.partition(".")[0], wanted.step, "That drawing is not there any more.").step.name
            name, says = f"{_plain(step)}.{what.partition('.')[2]}", f"'{step}', {what.partition('.')[2].upper()}"
        if wanted.within:
            says += f", within {wanted.within:g} mm"
        todo.append((name, says, lambda to, what=what, wanted=wanted: write_good(to, what, h, wanted)))  # type: ignore
    for proof, files in packed.proofs:
        for f in files:
            name = f"proofs/{_plain(proof.title)}/{f}"
            says = f"the proof '{proof.title}'"
            todo.append((name, says, lambda to, f=f, p=proof: write_proof(to, f, p)))  # type: ignore
    with tempfile.TemporaryDirectory(dir=os.path.dirname(path) or ".") as folder:
        rows: list[tuple[str, int, str, str]] = []
        taken: set[str] = set()
        with zipfile.ZipFile(path + ".part", "w", zipfile.ZIP_DEFLATED, compresslevel=3) as z:
            for k, (name, says, write) in enumerate(todo):
                part(progress, k / len(todo), (k + 1) / len(todo))(0.0, f"Writing {name}")
                name = _free(name, taken)
                own = os.path.join(folder, f"{k}{os.path.splitext(name)[1]}")
                write(own)
                with open(own, "rb") as made:
                    digest = hashlib.file_digest(made, "sha256").hexdigest()
                rows.append((name, os.path.getsize(own), digest, says))
                z.write(own, name)
                os.unlink(own)
            z.writestr("CONTENTS.txt", _contents(h, rows))
            z.writestr("SHA256SUMS", "".join(f"{d}  {n}\n" for n, _, d, _ in rows))
        os.replace(path + ".part", path)
    progress(1.0, "Packed")


def _free(name: str, taken: set[str]) -> str:
    stem, suffix = os.path.splitext(name)
    k, out = 1, name
    while out.lower() in taken:
        k += 1
        out = f"{stem} ({k}){suffix}"
    taken.add(out.lower())
    return out


def _contents(h: Handing, rows: list[tuple[str, int, str, str]]) -> str:
    frames = h.of("frame")
    frame = f"'{frames[-1].step.name}'" if frames else "the scan's own coordinates"
    m = np.asarray(h.motion.matrix)
    lines = [
        h.name,
        "",
        f"Packed {datetime.now().strftime('%Y-%m-%d %H:%M')} by Deft Mason.",
        "Units: millimetres, degrees.",
        f"Frame: everything lies in {frame}; model, scan and elements fall on each other.",
    ]
    if frames:
        lines += ["From the scan as captured to this frame (row by row):"]
        lines += ["  " + "  ".join(f"{v: .12g}" for v in row) for row in m]
    lines += ["", "Files", ""]
    wide = max(len(n) for n, *_ in rows)
    lines += [f"  {n:<{wide}}  {size:>12,} bytes  {says}" for n, size, _, says in rows]
    lines += ["", "SHA256SUMS holds each file's checksum: sha256sum -c SHA256SUMS", ""]
    return "\n".join(lines)
