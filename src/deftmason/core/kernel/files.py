"""Model files: STEP, IGES and B-rep in, STEP out, with face names carried both ways."""

from __future__ import annotations

import os
import re

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepTools import BRepTools
from OCP.IFSelect import IFSelect_RetDone
from OCP.IGESControl import IGESControl_Reader
from OCP.Interface import Interface_Static
from OCP.Message import Message, Message_PrinterOStream
from OCP.STEPConstruct import STEPConstruct
from OCP.STEPControl import STEPControl_AsIs, STEPControl_Reader, STEPControl_Writer
from OCP.StepRepr import StepRepr_RepresentationItem
from OCP.TCollection import TCollection_HAsciiString
from OCP.TopoDS import TopoDS_Shape

from ..errors import BadInput
from .body import Body, faces_of
from .tessellate import bounds_of

__all__ = ["MODEL_SUFFIXES", "read_model", "write_step"]

# The kernel reports every transfer on standard output, which belongs to the program's own answers.
Message.DefaultMessenger_s().RemovePrinters(Message_PrinterOStream.get_type_descriptor_s())

_DEEPEST = 400  # brackets within brackets: the kernel's reader goes down by recursion
_FARTHEST = 1e9  # mm from the origin
_HUGE = re.compile(rb"[0-9.][EeDd]\+?[0-9]{3,}")  # a number of 1E100 or more
_BLOCK = 1 << 24

MODEL_SUFFIXES = (".step", ".stp", ".iges", ".igs", ".brep")


def read_model(path: str) -> Body:
    """A body in mm from a file; faces keep the file's names, else 'face 1…n' in file order."""
    name = os.path.basename(path)
    suffix = os.path.splitext(name)[1].lower()
    if not os.path.isfile(path):
        raise BadInput(f"{name}: there is no such file; check the path.")
    if suffix not in MODEL_SUFFIXES:
        raise BadInput(f"{name}: '{suffix}' is not a model format; give one of {', '.join(MODEL_SUFFIXES)}.")
    names: list[str] | None = None
    _checked_text(path, name)
    if suffix == ".brep":
        shape = TopoDS_Shape()
        ok = BRepTools.Read_s(shape, path, BRep_Builder())
    else:
        reader = STEPControl_Reader() if suffix in (".step", ".stp") else IGESControl_Reader()
        ok = reader.ReadFile(path) == IFSelect_RetDone
        if ok:
            reader.TransferRoots()
            shape = reader.OneShape()
            ok = not shape.IsNull()
        if ok and suffix in (".step", ".stp"):
            names = _step_names(reader, shape)
    if not ok:
        raise BadInput(f"{name}: cannot be read as a model; export it again as STEP.")
    faces = faces_of(shape)
    if not faces:
        raise BadInput(f"{name}: holds no faces; export a solid or surface model.")
    plain = [f"face {i + 1}" for i in range(len(faces))]
    _checked_place(shape, name)
    return Body(shape, tuple(n or p for n, p in zip(names or plain, plain)))


def _checked_text(path: str, name: str) -> None:
    """Refuse what the kernel's readers would not survive: brackets nested without end in one statement, numbers beyond
    all measure.
    """
    nested, depth, tail = path.lower().endswith((".step", ".stp")), 0, b""
    with open(path, "rb") as f:
        while block := f.read(_BLOCK):
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


def write_step(path: str, body: Body) -> None:
    """STEP in mm, each face carrying its name. Written whole or not at all."""
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPControl_Writer()
    writer.Transfer(body.shape, STEPControl_AsIs)
    finder = writer.WS().TransferWriter().FinderProcess()
    for face, name in zip(faces_of(body.shape), body.face_names):
        item = STEPConstruct.FindEntity_s(finder, face)
        if item is not None:
            item.SetName(TCollection_HAsciiString(name))
    part = path + ".part"
    if writer.Write(part) != IFSelect_RetDone:
        raise BadInput("The STEP file could not be written; check that the folder can be written to.")
    os.replace(part, path)
