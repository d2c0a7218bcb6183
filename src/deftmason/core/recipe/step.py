"""What a step is, and the register of kinds.

A kind is one module with a pydantic model and its `run`; registering it makes it runnable, storable and replayable.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Protocol

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..errors import BadInput
from ..join.seen import Seen
from ..progress import Progress
from ..scan.index import ScanIndex
from ..scan.mesh import PointCloud, TriMesh
from ..scan.selection import CloudIndex, Mark, select

__all__ = ["Step", "Value", "Outcome", "Context", "register", "kinds", "parse_step", "Pick", "Chosen", "MarkRecord", "selected"]

Status = Literal["sound", "attention", "failed", "off", "waiting"]


class Chosen(BaseModel):
    """A number of a step: what was chosen, and from where.

    Without a value the number follows the scan on every replay: as measured (source 'scan'), or as the roundest number
    the measurement allows (source 'rounded').
    """

    model_config = ConfigDict(extra="forbid")
    value: float | None = Field(None, description="The chosen number (mm or degrees); none: take what the scan says.")
    source: Literal["scan", "rounded", "standard", "hand reading", "typed"] = Field(
        "scan", description="Where it came from."
    )


class Pick(BaseModel):
    """A place on a scan and the rule that grows it."""

    model_config = ConfigDict(extra="forbid")
    place: tuple[float, float, float] = Field(description="A point on the scan, in the scan's own coordinates, mm.")
    normal: tuple[float, float, float] | None = Field(None, description="Which side of the surface was meant.")
    rule: Literal["same facing", "same bend"] = Field("same facing", description="How the pick grows from its place.")
    angle_deg: float | None = Field(None, ge=0.1, le=90, description="How far a facet may turn, in degrees.")


class MarkRecord(BaseModel):
    """One mark of a selection: a stroke, an outline with its view, or a rule from a place."""

    model_config = ConfigDict(extra="forbid")
    by: Literal[
        "brush", "outline", "whole island", "same facing", "same bend", "up to a crease", "similar pieces",
        "everything", "invert", "grow", "shrink",
    ] = Field(description="What the mark is made by.")  # fmt: skip
    how: Literal["add", "take away", "intersect"] = Field("add", description="How it joins what was marked before.")
    places: list[tuple[float, float, float]] = Field(
        default_factory=list, max_length=4000, description="A stroke's path, an outline's corners, or the one place of a rule; mm."
    )
    normal: tuple[float, float, float] | None = Field(None, description="Which side of the surface was meant.")
    toward: tuple[float, float, float] | None = Field(None, description="Direction to the viewer when it was drawn.")
    through: bool = Field(False, description="Also what lies hidden behind.")
    radius: float | None = Field(None, gt=0, description="Of a brush, mm.")
    angle_deg: float | None = Field(None, ge=0.1, le=90, description="How far a facet may turn, in degrees.")
    rings: int = Field(1, ge=1, le=200, description="How far to grow or shrink.")

    def mark(self) -> Mark:
        return Mark(**{**self.model_dump(), "places": tuple(self.places)})


def selected(items: ScanIndex | CloudIndex, marks: list[MarkRecord]) -> np.ndarray:
    """Mask of the facets or points that marks select."""
    return select(items, [m.mark() for m in marks])


@dataclass
class Value:
    """One line of the ledger. ``unit`` is 'mm' or 'deg'; ``path`` is where in the step the chosen number sits."""

    name: str
    label: str
    measured: float | None
    uncertainty: float | None
    chosen: float
    source: str
    unit: str = "mm"
    cost: float | None = None
    path: list = field(default_factory=list)
    step: str = ""


@dataclass
class Outcome:
    """What running a step gave: geometry for later steps, a summary for people, values for the ledger."""

    output: Any
    summary: dict
    says: str = ""
    status: Status = "sound"
    values: list[Value] = field(default_factory=list)
    arrays: dict[str, np.ndarray] = field(default_factory=dict)  # what a screen may show besides: by facet, vertex or point


class Context(Protocol):
    """What a running step may ask for."""

    def output(self, step_id: str, *kinds: str) -> Any: ...
    def index(self, step_id: str) -> ScanIndex: ...
    def items(self, step_id: str) -> ScanIndex | CloudIndex: ...
    def mesh(self, step_id: str) -> TriMesh: ...
    def cloud(self, step_id: str) -> PointCloud: ...
    def seen(self, step_id: str) -> Seen: ...
    def scan_file(self, sha256: str, name: str) -> str: ...
    def scan_replaced(self, name: str) -> bool: ...


class Step(BaseModel):
    """Base of all kinds. Subclasses set ``course``, ``title`` and implement `run`."""

    model_config = ConfigDict(extra="forbid")
    course: ClassVar[str] = "scan"
    title: ClassVar[str] = ""
    quick: ClassVar[bool] = True
    produces: ClassVar[str] = ""
    follows: ClassVar[tuple[str, ...]] = ()  # fields that follow from the others and decide nothing

    id: str = Field(description="Unique within the job.")
    kind: str
    version: int = Field(1, description="Version of this kind's parameters.")
    name: str = Field(description="What people call it.", min_length=1, max_length=80)
    enabled: bool = Field(True, description="Off steps are passed over.")

    def inputs(self) -> list[str]:
        """Ids of the steps this one rests on."""
        return []

    def stands_for(self) -> str | None:
        """Id of the step whose outcome stands in for this one's while it is switched off, if one can."""
        return None

    def run(self, context: Context, progress: Progress) -> Outcome:
        raise NotImplementedError

    def key(self, input_keys: list[str]) -> str:
        """Content hash of all that decides the outcome."""
        own = self.model_dump(mode="json", exclude={"id", "enabled", *self.follows})
        if self.produces != "body":
            own.pop("name")  # a body's face names carry the feature's name; nothing else depends on it
        text = json.dumps([own, input_keys], sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()


_KINDS: dict[str, type[Step]] = {}
_UPGRADES: dict[tuple[str, int], Any] = {}


def register(kind: type[Step]) -> type[Step]:
    """Make a kind known; used as a class decorator."""
    _KINDS[kind.model_fields["kind"].default] = kind
    return kind


def kinds() -> dict[str, type[Step]]:
    from . import kinds as _load  # noqa: F401  registers them all

    return dict(_KINDS)


def parse_step(data: dict) -> Step:
    """A step from its record, upgraded from older versions. Raises `BadInput` in words."""
    from pydantic import ValidationError

    kind = kinds().get(data.get("kind", ""))
    if kind is None:
        raise BadInput(f"There is no step of kind '{data.get('kind')}'.", field="kind")
    current = kind.model_fields["version"].default
    version = data.get("version", current)
    if version > current:
        raise BadInput(
            f"The step '{data.get('name')}' was made by a newer program (version {version}).", field="version"
        )
    while version < current:
        data = _UPGRADES[data["kind"], version](data)
        version += 1
    try:
        return kind.model_validate(data)
    except ValidationError as e:
        first = e.errors()[0]
        where = ".".join(str(x) for x in first["loc"])
        raise BadInput(f"In {kind.title or kind.__name__}, {where}: {first['msg']}.", field=where) from None
