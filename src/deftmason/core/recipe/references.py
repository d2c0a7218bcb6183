"""References between steps as typed fields: which steps a record rests on or mentions, and what each of them must give.

A kind writes ``scan: ScanRef`` and that is all: its inputs, its re-pointing when something is slipped under it or
taken out, what a slot on the screen takes, and the candidates offered when that is gone follow from the type.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import BaseModel, GetJsonSchemaHandler
from pydantic_core import CoreSchema

from .records import Checksum, Id

__all__ = [
    "AlongRef", "AnyRef", "BodyRef", "ComparedRef", "CurveRef", "DatumRef", "FileRef", "Found", "FrameRef",
    "PaperOnRef", "PlacementRef", "Ref",
    "ScanMention",
    "ScanRef",
    "SketchRef", "SolidRef", "ZonesRef", "files_in", "references_in", "repointed", "rests_on",
]  # fmt: skip


@dataclass(frozen=True)
class Ref:
    """Marks a text as another step's id.

    ``gives`` : what that step must give, any where empty.  ``mention`` : it is only named among what another field
    rests on already, and is no input of its own.
    """

    gives: tuple[str, ...] = ()
    mention: bool = False

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return {**handler(schema), "ref": list(self.gives), **({"mention": True} if self.mention else {})}


@dataclass(frozen=True)
class File:
    """Marks a text as the checksum of a file that was brought in."""


@dataclass(frozen=True)
class Found:
    """One reference of a record: where it stands, the id it holds, and what it takes."""

    path: tuple[str | int, ...]
    id: str
    ref: Ref


AnyRef = Annotated[Id, Ref()]
ScanRef = Annotated[Id, Ref(("scan",))]
ScanMention = Annotated[Id, Ref(("scan",), mention=True)]
PlacementRef = Annotated[Id, Ref(("placement",))]
DatumRef = Annotated[Id, Ref(("datum",))]
FrameRef = Annotated[Id, Ref(("frame",))]
SketchRef = Annotated[Id, Ref(("sketch",))]
AlongRef = Annotated[Id, Ref(("curve", "sketch"))]
CurveRef = Annotated[Id, Ref(("curve",))]
BodyRef = Annotated[Id, Ref(("body",))]
#: What a paper can be laid by.
PaperOnRef = Annotated[Id, Ref(("datum", "curve", "body"))]
#: A body of the job, or a model made elsewhere.
SolidRef = Annotated[Id, Ref(("body", "model"))]
ZonesRef = Annotated[Id, Ref(("zones",))]
#: What a scan can be compared with.
ComparedRef = Annotated[Id, Ref(("body", "model", "scan", "datum", "sketch", "curve"))]
#: SHA-256 of a file that was brought in.
FileRef = Annotated[Checksum, File()]

#: Maps a value to the same value with marked texts replaced; ``path`` says where in the record it stands.
_Change = Callable[[tuple[str | int, ...], Any, Any], Any]
_Visit = Callable[[Any, tuple[str | int, ...], _Change], Any]


def _visitor(annotation: Any, marks: tuple[Any, ...] = ()) -> _Visit | None:
    """What walks over a value of this type; None where nothing in it can be marked."""
    mark = next((m for m in marks if isinstance(m, Ref | File)), None)
    if mark is not None:
        return lambda value, path, change: value if value is None else change(path, mark, value)
    origin, args = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        return _visitor(args[0], tuple(args[1:]))
    if origin in (Union, types.UnionType):
        inner = [v for v in map(_visitor, args) if v is not None]
        return inner[0] if inner else None
    if origin in (list, tuple):
        each = _visitor(args[0]) if args else None
        return None if each is None else lambda value, path, change: _each(value, path, change, each)
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        fields = _fields(annotation)
        return (lambda value, path, change: _within(value, path, change, fields)) if fields else None
    return None


def _each(value: Any, path: tuple[str | int, ...], change: _Change, visit: _Visit) -> Any:
    return [visit(v, (*path, k), change) for k, v in enumerate(value)] if isinstance(value, list | tuple) else value


def _within(value: Any, path: tuple[str | int, ...], change: _Change, fields: dict[str, _Visit]) -> Any:
    if isinstance(value, BaseModel):
        for name, visit in fields.items():
            visit(getattr(value, name), (*path, name), change)
        return value
    if not isinstance(value, Mapping):
        return value
    return {k: fields[k](v, (*path, k), change) if k in fields else v for k, v in value.items()}


@cache
def _fields(model: type[BaseModel]) -> dict[str, _Visit]:
    """Fields of a model that hold marked texts, in the order they stand in it."""
    out = {}
    for name, field in model.model_fields.items():
        visit = _visitor(field.annotation, tuple(field.metadata))
        if visit is not None:
            out[name] = visit
    return out


def _marked(model: type[BaseModel], record: BaseModel | Mapping) -> Iterator[tuple[tuple[str | int, ...], Any, str]]:
    found: list[tuple[tuple[str | int, ...], Any, str]] = []

    def note(path: tuple[str | int, ...], mark: Any, value: Any) -> Any:
        found.append((path, mark, value))
        return value

    _within(record, (), note, _fields(model))
    yield from found


def references_in(model: type[BaseModel], record: BaseModel | Mapping) -> list[Found]:
    """Every reference of a record of this kind, in the order of its fields."""
    return [Found(path, value, mark) for path, mark, value in _marked(model, record) if isinstance(mark, Ref)]


def rests_on(model: type[BaseModel], record: BaseModel | Mapping) -> list[str]:
    """Ids of the steps a record rests on, each once."""
    return list(dict.fromkeys(f.id for f in references_in(model, record) if not f.ref.mention))


def files_in(model: type[BaseModel], record: BaseModel | Mapping) -> list[str]:
    """Checksums of the files a record was read from."""
    return [value for _, mark, value in _marked(model, record) if isinstance(mark, File)]


def repointed(model: type[BaseModel], record: Mapping, old: str, new: str, gives: str) -> dict[str, Any]:
    """The record with every reference to ``old`` that takes what ``new`` gives pointing to ``new``."""

    def change(path: tuple[str | int, ...], mark: Any, value: Any) -> Any:
        fits = isinstance(mark, Ref) and value == old and (not mark.gives or gives in mark.gives)
        return new if fits else value

    return _within(record, (), change, _fields(model))
