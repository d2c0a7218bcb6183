"""What steps' records are made of: names that are names, numbers that are finite and of a size a part can have,
references by id.

Everything a record holds comes from outside, so each field says what it takes; what is refused here never reaches a
computation.
"""

from __future__ import annotations

import re
import unicodedata
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, StringConstraints, ValidationError

__all__ = [
    "Checksum",
    "Coordinate",
    "Direction",
    "FileName",
    "Id",
    "Length",
    "Name",
    "Place",
    "Record",
    "Size",
    "Source",
    "ValueName",
    "first_error",
    "is_checksum",
    "one_line",
    "shown",
]

_SHA256 = re.compile(r"[0-9a-f]{64}\Z")
_MOST_PLACE = 2e9  # mm: a scan may reach a million metres from its origin, and a pick lie beside it
_MOST_LENGTH = 1e6  # mm: heights, radii and sizes of a model, a kilometre


class Record(BaseModel):
    """Base of everything stored in a recipe: no unknown fields, no number that is none, no text without end."""

    model_config = ConfigDict(
        extra="forbid", allow_inf_nan=False, str_max_length=200, json_schema_serialization_defaults_required=True
    )


def shown(label: str, unit: str = "", **more: Any) -> dict[str, Any]:
    """How a field is shown in a form that is made from its kind: ``json_schema_extra`` of a pydantic field.

    ``step`` is a number's step; ``empty`` says what no number means; ``when`` = {field: value or values} where the
    field counts only then; ``choices`` = {value: words}; ``more`` folds it away with what few people change;
    ``first`` brings it before what other records bring with them.
    """
    return {"label": label, **({"unit": unit} if unit else {}), **more}


def first_error(e: ValidationError) -> tuple[str, str]:
    """Where a record is wrong first, and how."""
    first = e.errors()[0]
    return ".".join(str(x) for x in first["loc"])[:120], first["msg"]


def is_checksum(text: str) -> bool:
    """Whether a text is a SHA-256 in lower-case hexadecimal digits."""
    return isinstance(text, str) and _SHA256.match(text) is not None


def one_line(text: str) -> str:
    """A name as people see it: control characters and line breaks become spaces."""
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _one_line(text: str) -> str:
    if any(unicodedata.category(c) in ("Cc", "Cs", "Zl", "Zp") for c in text):
        raise ValueError("holds a line break or another control character; use plain text")
    if not text.strip():
        raise ValueError("is empty; give it a name")
    return text


def _plain_file(name: str) -> str:
    if name in (".", "..") or "/" in name or "\\" in name:
        raise ValueError("is a path; give the file's own name")
    return _one_line(name)


def _pointing(v: tuple[float, float, float]) -> tuple[float, float, float]:
    if not 1e-9 < sum(c * c for c in v) < 1e9:
        raise ValueError("points nowhere; give a direction")
    return v


#: What people call something: one line.
Name = Annotated[str, StringConstraints(min_length=1, max_length=80), AfterValidator(_one_line)]
#: A file's own name, without a folder.
FileName = Annotated[str, StringConstraints(min_length=1, max_length=200), AfterValidator(_plain_file)]
#: An identifier within a job or a sketch.
Id = Annotated[str, StringConstraints(pattern=r"^[a-z0-9_]{1,40}$")]

#: What people call a value of the ledger, as a formula writes it.
ValueName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,39}$")]
#: Where a chosen number came from.
Source = Literal["scan", "rounded", "standard", "hand reading", "typed", "formula", "solved", "several pieces"]
#: SHA-256 of a file, in hexadecimal digits.
Checksum = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]
#: A coordinate on a scan, mm.
Coordinate = Annotated[float, Field(ge=-_MOST_PLACE, le=_MOST_PLACE)]
#: A place on a scan, mm.
Place = tuple[Coordinate, Coordinate, Coordinate]
#: A direction; its length does not count.
Direction = Annotated[tuple[float, float, float], AfterValidator(_pointing)]
#: A signed length, height or angle of a model, mm or degrees.
Length = Annotated[float, Field(ge=-_MOST_LENGTH, le=_MOST_LENGTH)]
#: A length that is more than nothing, mm.
Size = Annotated[float, Field(gt=0, le=_MOST_LENGTH)]
