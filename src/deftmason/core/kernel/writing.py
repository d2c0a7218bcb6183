"""Bodies, and what was read from scans, written as model files: STEP with names and colours, IGES, B-rep."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, field

from OCP.APIHeaderSection import APIHeaderSection_MakeHeader
from OCP.BRepTools import BRepTools
from OCP.IFSelect import IFSelect_RetDone
from OCP.IGESCAFControl import IGESCAFControl_Writer
from OCP.IGESControl import IGESControl_Controller
from OCP.Interface import Interface_Static
from OCP.Quantity import Quantity_Color, Quantity_TOC_sRGB
from OCP.ShapeUpgrade import ShapeUpgrade_RemoveLocations
from OCP.STEPCAFControl import STEPCAFControl_Writer
from OCP.STEPConstruct import STEPConstruct
from OCP.STEPControl import STEPControl_AsIs
from OCP.TCollection import TCollection_ExtendedString, TCollection_HAsciiString
from OCP.TDataStd import TDataStd_Name
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_COMPOUND
from OCP.TopoDS import TopoDS_Compound, TopoDS_Shape
from OCP.XCAFDoc import XCAFDoc_ColorSurf, XCAFDoc_DocumentTool

from ..errors import BadInput
from .body import Body, faces_of
from .quiet import hushed

__all__ = ["Part", "plain", "write_brep", "write_iges", "write_parts", "write_step"]

hushed()

Colour = tuple[int, int, int]
_SLATE: Colour = (0x58, 0x78, 0x9A)


@dataclass(frozen=True)
class Part:
    """A shape to hand on: what it is called, its colour (0–255), and by name the colours of faces that have their own.

    ``shape`` may also be a wire or an open surface, whose faces, if any, ``face_names`` tells in order.
    """

    name: str
    shape: TopoDS_Shape
    face_names: tuple[str, ...] = ()
    colour: Colour = _SLATE
    face_colours: dict[str, Colour] = field(default_factory=dict)

    @staticmethod
    def of(body: Body, name: str, colour: Colour = _SLATE, face_colours: dict[str, Colour] | None = None) -> Part:
        return Part(name, body.shape, body.face_names, colour, face_colours or {})


def plain(name: str) -> str:
    """A name in the characters that exchange files carry everywhere: printable ASCII."""
    return "".join(c if " " <= c <= "~" else "_" for c in name)


def _colour(c: Colour) -> Quantity_Color:
    return Quantity_Color(*(x / 255 for x in c), Quantity_TOC_sRGB)


def _unlocated(shape: TopoDS_Shape) -> TopoDS_Shape:
    """The shape with every place written into its geometry: a face that stands elsewhere by a location would lose its
    name on the way out.
    """
    op = ShapeUpgrade_RemoveLocations()
    op.SetRemoveLevel(TopAbs_COMPOUND)
    if not op.Remove(shape):
        return shape
    out = op.GetResult()
    return out if len(faces_of(out)) == len(faces_of(shape)) else shape


def _document(parts: list[Part]) -> tuple[TDocStd_Document, list[tuple[TopoDS_Shape, Part]]]:
    """Parts as a document of the kernel's, with names and colours, and each part's shape in it."""
    doc = TDocStd_Document(TCollection_ExtendedString("XmlOcaf"))
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(doc.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(doc.Main())
    out = []
    for p in parts:
        shape = _unlocated(p.shape)
        label = shapes.AddShape(shape, False)
        TDataStd_Name.Set_s(label, TCollection_ExtendedString(plain(p.name)))
        colours.SetColor(label, _colour(p.colour), XCAFDoc_ColorSurf)
        for face, name in zip(faces_of(shape), p.face_names):
            if name in p.face_colours:
                colours.SetColor(shapes.AddSubShape(label, face), _colour(p.face_colours[name]), XCAFDoc_ColorSurf)
        out.append((shape, p))
    return doc, out


def _written(path: str, write: Callable[[str], bool], what: str) -> None:
    part = path + ".part"
    try:
        ok = write(part)
        if not ok or not os.path.exists(part):
            raise BadInput(f"The {what} file could not be written; check that the folder can be written to.")
        os.replace(part, path)
    finally:
        if os.path.exists(part):
            os.unlink(part)


def write_parts(path: str, parts: list[Part]) -> None:
    """STEP (AP242) in mm with names and colours of parts and faces. Written whole or not at all."""
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    Interface_Static.SetCVal_s("write.step.schema", "AP242DIS")
    doc, shapes = _document(parts)
    writer = STEPCAFControl_Writer()
    writer.SetColorMode(True)
    writer.SetNameMode(True)
    writer.Transfer(doc, STEPControl_AsIs)
    finder = writer.Writer().WS().TransferWriter().FinderProcess()
    for shape, part in shapes:
        for face, name in zip(faces_of(shape), part.face_names):
            item = STEPConstruct.FindEntity_s(finder, face)
            if item is not None:
                item.SetName(TCollection_HAsciiString(plain(name)))
    _headed(writer.Writer().Model(), parts[0].name)
    _written(path, lambda to: writer.Write(to) == IFSelect_RetDone, "STEP")


def _headed(model, name: str) -> None:
    """Who wrote the file, in its head."""
    head = APIHeaderSection_MakeHeader(model)
    head.SetName(TCollection_HAsciiString(plain(name)))
    head.SetOriginatingSystem(TCollection_HAsciiString("Deft Mason"))
    head.SetAuthorValue(1, TCollection_HAsciiString(""))
    head.SetOrganizationValue(1, TCollection_HAsciiString(""))


def write_step(path: str, body: Body, name: str = "model") -> None:
    """One body as `write_parts` does."""
    write_parts(path, [Part.of(body, name)])


def write_iges(path: str, parts: list[Part]) -> None:
    """IGES in mm, solids as their faces, with names and colours."""
    doc, _ = _document(parts)
    IGESControl_Controller.Init_s()
    Interface_Static.SetCVal_s("write.iges.unit", "MM")
    Interface_Static.SetIVal_s("write.iges.brep.mode", 1)  # solids as solids, not as loose faces
    writer = IGESCAFControl_Writer()
    writer.SetColorMode(True)
    writer.SetNameMode(True)
    writer.Transfer(doc)
    _written(path, writer.Write, "IGES")


def write_brep(path: str, parts: list[Part]) -> None:
    """The kernel's own text format: exact, without names."""
    from OCP.BRep import BRep_Builder

    shape = parts[0].shape
    if len(parts) > 1:
        builder, whole = BRep_Builder(), TopoDS_Compound()
        builder.MakeCompound(whole)
        for p in parts:
            builder.Add(whole, p.shape)
        shape = whole
    _written(path, lambda to: bool(BRepTools.Write_s(shape, to)), "B-rep")
