"""Steps and recipes from their records: every kind there is, older versions upgraded, wrong ones refused in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from pydantic import ValidationError

from ..errors import BadInput
from . import kinds as _registers_all  # noqa: F401
from . import references
from .records import first_error
from .step import REGISTERED, Step

__all__ = ["UPGRADES", "files_of", "kind_of", "kinds", "moved_onto", "parse_recipe", "parse_step"]

#: What makes a record of a kind's older version one of the next: by kind and the version it was.
UPGRADES: dict[tuple[str, int], Callable[[dict], dict]] = {}


def kinds() -> dict[str, type[Step]]:
    """Every kind by its name."""
    return dict(REGISTERED)


def kind_of(record: Mapping) -> type[Step] | None:
    """A record's kind, where there is such a kind."""
    name = record.get("kind")
    return REGISTERED.get(name) if isinstance(name, str) else None


def files_of(record: Mapping) -> list[str]:
    """Checksums of the files that a step's record was read from."""
    kind = kind_of(record)
    return [] if kind is None else references.files_in(kind, record)


def moved_onto(record: Mapping, old: str, new: str, gives: str) -> dict[str, Any]:
    """A step's record resting on ``new``, which gives ``gives``, wherever it rested on ``old`` and takes that."""
    kind = kind_of(record)
    return dict(record) if kind is None else references.repointed(kind, record, old, new, gives)


def parse_step(data: Any) -> Step:
    """A step from its record, upgraded from older versions. Raises `BadInput` in words."""

    if not isinstance(data, dict) or not isinstance(data.get("kind"), str):
        raise BadInput("A step is a record that names its kind; this is none.", field="kind")
    kind = kinds().get(data["kind"])
    if kind is None:
        raise BadInput(f"There is no step of kind {data['kind'][:40]!r}.", field="kind")
    current = kind.model_fields["version"].default
    version = data.get("version", current)
    if type(version) is not int or version < 1:
        raise BadInput(
            f"In {kind.title or kind.__name__}, version: {str(version)[:40]!r} is no version.", field="version"
        )
    if version > current:
        raise BadInput(
            f"The step {str(data.get('name'))[:80]!r} was made by a newer program (version {version}).", field="version"
        )
    while version < current:
        if (data["kind"], version) not in UPGRADES:
            raise BadInput(f"In {kind.title or kind.__name__}, version: {version} is no longer read.", field="version")
        data = UPGRADES[data["kind"], version](data)
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
