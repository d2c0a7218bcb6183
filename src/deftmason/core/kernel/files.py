"""Model files: STEP, IGES and B-rep in, STEP out, with face names carried both ways."""

from __future__ import annotations

import os

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

__all__ = ["MODEL_SUFFIXES", "read_model", "write_step"]

# The kernel reports every transfer on standard output, which belongs to the program's own answers.
Message.DefaultMessenger_s().RemovePrinters(Message_PrinterOStream.get_type_descriptor_s())

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
    return Body(shape, tuple(n or p for n, p in zip(names or plain, plain)))


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
