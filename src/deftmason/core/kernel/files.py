"""Model files read: STEP, IGES and B-rep, faces under the file's own names. See `writing` for the way out."""

from __future__ import annotations

import os
import re

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepTools import BRepTools
from OCP.IFSelect import IFSelect_RetDone
from OCP.IGESControl import IGESControl_Reader
from OCP.STEPControl import STEPControl_Reader
from OCP.StepRepr import StepRepr_RepresentationItem
from OCP.TopoDS import TopoDS_Shape

from ..errors import BadInput
from ..scan.formats import MODEL_SUFFIXES
from .body import Body, faces_of
from .quiet import hushed, without_words
from .tessellate import bounds_of

__all__ = ["read_model"]

hushed()

_DEEPEST = 400  # brackets within brackets: the kernel's reader goes down by recursion
_FARTHEST = 1e9  # mm from the origin
_HUGE = re.compile(rb"[0-9.][EeDd]\+?[0-9]{3,}")  # a number of 1E100 or more
_NUMBERED = re.compile(rb"[SGDPT][0-9 ]{7}(?=[\r\n])")  # the end of an IGES line, which may read like an exponent
_BLOCK = 1 << 24


def read_model(path: str, called: str | None = None) -> Body:
    """A body in mm from a file; faces keep the file's names, else 'face 1…n' in file order.

    ``called`` is the file's own name where it lies under another. Raises `BadInput` for what is no usable model.
    """
    name = called or os.path.basename(path)
    suffix = os.path.splitext(name)[1].lower()
    if not os.path.isfile(path):
        raise BadInput(f"{name}: there is no such file; check the path.")
    if suffix not in MODEL_SUFFIXES:
        raise BadInput(f"{name}: '{suffix}' is not a model format; give one of {', '.join(MODEL_SUFFIXES)}.")
    _checked_text(path, name, suffix in (".step", ".stp"))
    try:
        with without_words():
            shape, names = _read(path, suffix)
    except Exception as e:  # the kernel's errors are many; each means the file is not usable
        raise BadInput(f"{name}: cannot be read as a model ({type(e).__name__}); export it again as STEP.") from None
    if shape is None:
        raise BadInput(f"{name}: cannot be read as a model; export it again as STEP.")
    faces = faces_of(shape)
    if not faces:
        raise BadInput(f"{name}: holds no faces; export a solid or surface model.")
    plain = [f"face {i + 1}" for i in range(len(faces))]
    _checked_place(shape, name)
    return Body(shape, tuple(n or p for n, p in zip(names or plain, plain)))


def _read(path: str, suffix: str) -> tuple[TopoDS_Shape | None, list[str] | None]:
    """The shape, none where the reader makes none of it, and the faces' own names where the format has them."""
    if suffix == ".brep":
        shape = TopoDS_Shape()
        return (shape if BRepTools.Read_s(shape, path, BRep_Builder()) else None), None
    reader = STEPControl_Reader() if suffix in (".step", ".stp") else IGESControl_Reader()
    if reader.ReadFile(path) != IFSelect_RetDone:
        return None, None
    reader.TransferRoots()
    shape = reader.OneShape()
    if shape.IsNull():
        return None, None
    return shape, _step_names(reader, shape) if suffix in (".step", ".stp") else None


def _checked_text(path: str, name: str, nested: bool) -> None:
    """Refuse what the kernel's readers would not survive: brackets nested without end in one statement, numbers beyond
    all measure.
    """
    depth, tail = 0, b""
    with open(path, "rb") as f:
        while block := f.read(_BLOCK):
            if not nested:
                block = _NUMBERED.sub(b"", block)
            if _HUGE.search(tail + block):
                raise BadInput(f"{name}: holds a number of 1E100 or more, which no part has; export it again.")
            tail = block[-8:]
            if nested:
                deepest, depth = _nesting(np.frombuffer(block, np.uint8), depth)
                if deepest > _DEEPEST:
                    raise BadInput(
                        f"{name}: nests brackets more than {_DEEPEST} deep, which no model does; export it again."
                    )


def _nesting(signs: np.ndarray, depth: int) -> tuple[int, int]:
    """How deep brackets go within any statement of a block that begins ``depth`` deep, and how deep it ends. A
    semicolon begins anew.
    """
    along = np.concatenate([[depth], depth + np.cumsum((signs == ord("(")).astype(np.int64) - (signs == ord(")")))])
    since = np.maximum.accumulate(np.where(np.concatenate([[False], signs == ord(";")]), np.arange(len(along)), 0))
    begin = np.where(since > 0, along[since], 0)
    inside = along - begin
    return int(inside.max()), int(inside[-1])


def _checked_place(shape: TopoDS_Shape, name: str) -> None:
    low, high = bounds_of(Body(shape, ()))
    if not (np.isfinite([low, high]).all() and max(np.abs(low).max(), np.abs(high).max()) < _FARTHEST):
        raise BadInput(
            f"{name}: reaches more than {_FARTHEST / 1e6:,.0f} km from the origin; check what it "
            "holds, export it again."
        )


def _step_names(reader, shape) -> list[str]:
    work = reader.WS().TransferReader()
    names = []
    for face in faces_of(shape):
        item = work.EntityFromShapeResult(face, 1)
        text = ""
        if isinstance(item, StepRepr_RepresentationItem) and item.Name() is not None:
            text = item.Name().ToCString().strip()
        names.append("" if text in ("", "NONE") else text)
    return names
