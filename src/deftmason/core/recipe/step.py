"""What a step is.

A kind is one module with a pydantic model and its `run`; registering it makes it runnable, storable and replayable.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Protocol

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..progress import Progress, silent
from .formulas import Formula
from .readings import HandReading
from .records import Direction, Id, Length, Name, Place, Record, Size, Source, ValueName
from .references import rests_on

if TYPE_CHECKING:
    from ..join.seen import Seen
    from ..scan.index import ScanIndex
    from ..scan.mesh import PointCloud, TriMesh
    from ..scan.selection import CloudIndex, Mark

__all__ = [
    "REGISTERED",
    "Chosen",
    "Context",
    "MarkRecord",
    "Outcome",
    "Pick",
    "Script",
    "Step",
    "Told",
    "Value",
    "register",
    "selected",
    "two_sigma",
]

_TELLING = ("id", "enabled", "value_names", "readings")  # what decides nothing that is worked out
_NAMING = 2  # how faces are told apart; raised when bodies of the same record get other names

Status = Literal["sound", "attention", "failed", "off", "waiting"]


class Chosen(Record):
    """A number of a step: what was chosen, and from where.

    Without a value the number follows the scan on every replay: as measured (source 'scan'), or as the roundest number
    the measurement allows (source 'rounded').
    """

    value: Length | None = Field(None, description="The chosen number (mm or degrees); none: take what the scan says.")
    source: Source = Field("scan", description="Where it came from.")


class MarkRecord(Record):
    """One mark of a selection: a stroke, an outline with its view, or a rule from a place."""

    by: Literal[
        "brush",
        "outline",
        "whole island",
        "same facing",
        "same bend",
        "up to a crease",
        "zone",
        "similar pieces",
        "everything",
        "invert",
        "grow",
        "shrink",
    ] = Field(description="What the mark is made by.")
    how: Literal["add", "take away", "intersect"] = Field("add", description="How it joins what was marked before.")
    places: list[Place] = Field(
        default_factory=list,
        max_length=4000,
        description="A stroke's path, an outline's corners, or the one place of a rule; mm.",
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


class Pick(Record):
    """A place on a scan and the rule that grows it."""

    place: Place = Field(description="A point on the scan, in the scan's own coordinates, mm.")
    normal: Direction | None = Field(None, description="Which side of the surface was meant.")
    rule: Literal["same facing", "same bend"] = Field("same facing", description="How the pick grows from its place.")
    angle_deg: float | None = Field(None, ge=0.1, le=90, description="How far a facet may turn, in degrees.")
    marks: list[MarkRecord] = Field(default_factory=list, max_length=200, description="What was brushed on or off it.")


def selected(
    items: ScanIndex | CloudIndex,
    marks: list[MarkRecord],
    progress: Progress = silent,
    begun: np.ndarray | None = None,
) -> np.ndarray:
    """Mask of the facets or points that marks select; ``begun`` (a mask) is what they add to and take from."""
    from ..scan.selection import select

    return select(items, [m.mark() for m in marks], progress, _zone, begun)


_FREE = 2.5  # of the noise: a surface that scatters more about the best reading is none of its kinds
_ON = 4.0  # noises within which facets lie on a reading
_EXACT = 1e-5  # of the size, the same where there is no noise


def _zone(index: ScanIndex, mark: Mark) -> np.ndarray:
    """The facets of the surface that a mark lies on: as a datum would be read there, or all of a free one."""
    from ..datums.reading import readings
    from ..datums.running_on import all_of, running_on
    from ..zones.noise import scan_noise

    best = readings(index, mark.places[0], angle_deg=mark.angle_deg, normal=mark.normal)[0]
    facets = best.gathered.facets
    noise = scan_noise(index)
    if best.scatter > max(_FREE * noise, _EXACT * index.size):
        return running_on(index, facets)
    if best.gathered.element is None:
        return facets
    return all_of(index, facets, best.gathered.element, max(_ON * max(noise, best.scatter), _EXACT * index.size))


def two_sigma(uncertainty: float | None) -> float | None:
    """An uncertainty as people read it: within it lies the true value nineteen times of twenty."""
    return None if uncertainty is None else 2 * uncertainty


@dataclass
class Value:
    """One line of the ledger. ``uncertainty``: one standard deviation of ``measured`` (where people read it, two are
    shown); ``unit`` is 'mm' or 'deg'; ``path`` is where in the step the chosen number sits.
    """

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
    arrays: dict[str, np.ndarray] = field(
        default_factory=dict
    )  # what a screen may show besides: by facet, vertex or point


class Context(Protocol):
    """What a running step may ask for. ``reads``: whether it reads on the scan what it has a number for already."""

    reads: bool

    def output(self, step_id: str, *kinds: str) -> Any: ...
    def index(self, step_id: str) -> ScanIndex: ...
    def items(self, step_id: str) -> ScanIndex | CloudIndex: ...
    def mesh(self, step_id: str) -> TriMesh: ...
    def cloud(self, step_id: str) -> PointCloud: ...
    def seen(self, step_id: str) -> Seen: ...
    def outcome(self, step_id: str) -> Outcome: ...
    def gives(self, step_id: str) -> str: ...
    def called(self, step_id: str) -> str: ...
    def key_of(self, step_id: str) -> str: ...
    def read(self, scan: str, label: tuple, make: Callable[[], Any]) -> Any: ...
    def scan_file(self, sha256: str, name: str) -> str: ...
    def scan_replaced(self, name: str) -> bool: ...


class Script(Protocol):
    """What a step may ask for while it is written into a parametric script."""

    word: str  # this step's own variable

    def named(self, step_id: str) -> str: ...
    def value(self, name: str) -> str | None: ...
    def told(self, step_id: str) -> dict: ...


class Told(BaseModel):
    """What a step's outcome says of itself; a kind's own says more. Numbers are in mm, mm², mm³ and degrees.

    ``line`` names what lists and stones show; the rest is fetched by the result's key where it is shown.
    """

    model_config = ConfigDict(json_schema_serialization_defaults_required=True)

    line: ClassVar[tuple[str, ...]] = ()

    says: str = Field("", description="In a few words, for lists.")


class Step(Record):
    """Base of all kinds. Subclasses set what is class-wide and implement `run`.

    Attributes
    ----------
    course, title : where it lies on the wall, and what its kind is called.
    quick : whether it is worked out in about a moment.
    produces : what it gives, as references say what they take.
    tells : the model of its summary.
    betters : the field that names the step whose outcome stands in for this one's while it is off, if one can.
    slips_in : it is laid right after what it betters, and what rested on that then rests on it.
    computation : raised when the same record gives something else than before, so that results are laid anew.
    follows : fields that follow from the others and decide nothing.
    aside : fields that decide nothing that is worked out: notes, ways of looking.
    """

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = ""
    quick: ClassVar[bool] = True
    produces: ClassVar[str] = ""
    tells: ClassVar[type[Told]] = Told
    betters: ClassVar[str | None] = None
    slips_in: ClassVar[bool] = False
    computation: ClassVar[int] = 1
    follows: ClassVar[tuple[str, ...]] = ()
    aside: ClassVar[tuple[str, ...]] = ()

    id: Id = Field(description="Unique within the job.")
    kind: str
    version: int = Field(1, ge=1, description="Version of this kind's parameters.")
    name: Name = Field(description="What people call it.")
    enabled: bool = Field(True, description="Off steps are passed over.")
    formulas: list[Formula] = Field(default_factory=list, max_length=200, description="What gives its numbers.")
    value_names: dict[Id, ValueName] = Field(
        default_factory=dict, max_length=200, description="What people call its values, by their own names."
    )

    readings: dict[Id, HandReading] = Field(
        default_factory=dict, max_length=200, description="What was read by hand of its values, by their own names."
    )

    def inputs(self) -> list[str]:
        """Ids of the steps this one rests on."""
        return rests_on(type(self), self)

    def stands_for(self) -> str | None:
        """Id of the step whose outcome stands in for this one's while it is switched off, if one can."""
        return getattr(self, self.betters) if self.betters else None

    def run(self, context: Context, progress: Progress) -> Outcome:
        raise NotImplementedError

    def in_script(self, told: dict, script: Script) -> list[str]:
        """Lines of a parametric script that build what this step gave (``told`` is its summary)."""
        return []

    def key(self, input_keys: list[str]) -> str:
        """Content hash of all that decides the outcome."""
        own = self.model_dump(mode="json", exclude={*_TELLING, *self.follows, *self.aside})
        if not self.formulas:
            own.pop("formulas")
        if self.produces != "body":
            own.pop("name")  # a body's face names carry the feature's name; nothing else depends on it
        if self.produces == "body":
            own["naming"] = _NAMING
        newer = [self.computation] if self.computation > 1 else []
        text = json.dumps([own, input_keys, *newer], sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()


REGISTERED: dict[str, type[Step]] = {}


def register(kind: type[Step]) -> type[Step]:
    """Make a kind known; used as a class decorator. Raises `TypeError` where another has its name."""
    name = kind.model_fields["kind"].default
    if REGISTERED.get(name, kind).__qualname__ != kind.__qualname__:
        raise TypeError(f"two kinds are called '{name}'")
    REGISTERED[name] = kind
    return kind
