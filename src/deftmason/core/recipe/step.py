"""What a step is, and the register of kinds.

A kind is one module with a pydantic model and its `run`; registering it makes it runnable, storable and replayable.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Protocol

import numpy as np
from pydantic import Field

from ..errors import BadInput
from ..progress import Progress, silent
from .records import Direction, Id, Length, Name, Place, Record, Size, first_error

if TYPE_CHECKING:
    from ..join.seen import Seen
    from ..scan.index import ScanIndex
    from ..scan.mesh import PointCloud, TriMesh
    from ..scan.selection import CloudIndex, Mark

__all__ = [
    "Step", "Value", "Outcome", "Context", "register", "kinds", "parse_step", "parse_recipe", "Pick", "Chosen", "MarkRecord", "selected",
]  # fmt: skip

Status = Literal["sound", "attention", "failed", "off", "waiting"]


class Chosen(Record):
    """A number of a step: what was chosen, and from where.

    Without a value the number follows the scan on every replay: as measured (source 'scan'), or as the roundest number
    the measurement allows (source 'rounded').
    """

    value: Length | None = Field(None, description="The chosen number (mm or degrees); none: take what the scan says.")
    source: Literal["scan", "rounded", "standard", "hand reading", "typed"] = Field(
        "scan", description="Where it came from."
    )


class Pick(Record):
    """A place on a scan and the rule that grows it."""

    place: Place = Field(description="A point on the scan, in the scan's own coordinates, mm.")
    normal: Direction | None = Field(None, description="Which side of the surface was meant.")
    rule: Literal["same facing", "same bend"] = Field("same facing", description="How the pick grows from its place.")
    angle_deg: float | None = Field(None, ge=0.1, le=90, description="How far a facet may turn, in degrees.")


class MarkRecord(Record):
    """One mark of a selection: a stroke, an outline with its view, or a rule from a place."""

    by: Literal[
        "brush", "outline", "whole island", "same facing", "same bend", "up to a crease", "similar pieces",
        "everything", "invert", "grow", "shrink",
    ] = Field(description="What the mark is made by.")  # fmt: skip
    how: Literal["add", "take away", "intersect"] = Field("add", description="How it joins what was marked before.")
    places: list[Place] = Field(
        default_factory=list, max_length=4000, description="A stroke's path, an outline's corners, or the one place of a rule; mm."
    )
    normal: Direction | None = Field(None, description="Which side of the surface was meant.")
    toward: Direction | None = Field(None, description="Direction to the viewer when it was drawn.")
    through: bool = Field(False, description="Also what lies hidden behind.")
    radius: Size | None = Field(None, description="Of a brush, mm.")
    angle_deg: float | None = Field(None, ge=0.1, le=90, description="How far a facet may turn, in degrees.")
    rings: int = Field(1, ge=1, le=200, description="How far to grow or shrink.")

    def mark(self) -> Mark:
        from ..scan.selection import Mark

        return Mark(**{**self.model_dump(), "places": tuple(self.places)})


def selected(items: ScanIndex | CloudIndex, marks: list[MarkRecord], progress: Progress = silent) -> np.ndarray:
    """Mask of the facets or points that marks select."""
    from ..scan.selection import select

    return select(items, [m.mark() for m in marks], progress)


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


class Step(Record):
    """Base of all kinds. Subclasses set ``course``, ``title`` and implement `run`."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = ""
    quick: ClassVar[bool] = True
    produces: ClassVar[str] = ""
    follows: ClassVar[tuple[str, ...]] = ()  # fields that follow from the others and decide nothing

    id: Id = Field(description="Unique within the job.")
    kind: str
    version: int = Field(1, ge=1, description="Version of this kind's parameters.")
    name: Name = Field(description="What people call it.")
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


def parse_step(data: Any) -> Step:
    """A step from its record, upgraded from older versions. Raises `BadInput` in words."""
    from pydantic import ValidationError

    if not isinstance(data, dict) or not isinstance(data.get("kind"), str):
        raise BadInput("A step is a record that names its kind; this is none.", field="kind")
    kind = kinds().get(data["kind"])
    if kind is None:
        raise BadInput(f"There is no step of kind {data['kind'][:40]!r}.", field="kind")
    current = kind.model_fields["version"].default
    version = data.get("version", current)
    if type(version) is not int or version < 1:
        raise BadInput(f"In {kind.title or kind.__name__}, version: {str(version)[:40]!r} is no version.", field="version")
    if version > current:
        raise BadInput(f"The step {str(data.get('name'))[:80]!r} was made by a newer program (version {version}).", field="version")
    while version < current:
        if (data["kind"], version) not in _UPGRADES:
            raise BadInput(f"In {kind.title or kind.__name__}, version: {version} is no longer read.", field="version")
        data = _UPGRADES[data["kind"], version](data)
        version += 1
    try:
        return kind.model_validate(data)
    except ValidationError as e:
        where, what = first_error(e)
        raise BadInput(f"In {kind.title or kind.__name__}, {where}: {what}.", field=where) from None


_MOST_STEPS = 2000


def parse_recipe(records: list[Any]) -> list[Step]:
    """Steps from their records, each resting only on what comes before it. Raises `BadInput` in words.

    An input that is not in the recipe at all is no error here: the step waits for it.
    """
    if len(records) > _MOST_STEPS:
        raise BadInput(f"A recipe has {_MOST_STEPS:,} steps at most; this one has {len(records):,}.", field="steps")
    steps = [parse_step(r) for r in records]
    ids, seen = {s.id for s in steps}, set()
    for s in steps:
        if s.id in seen:
            raise BadInput(f"Two steps have the id '{s.id}'.", field="id")
        late = next((i for i in s.inputs() if i in ids and i not in seen), None)
        if late is not None:
            raise BadInput(f"'{s.name}' rests on a step that does not come before it.", field="inputs")
        seen.add(s.id)
    return steps
