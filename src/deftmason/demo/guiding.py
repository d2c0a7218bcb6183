"""What guided jobs are made of: lessons that say how, and see whether what was laid has it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..core.recipe.replay import Ran

__all__ = ["Guide", "Lesson", "Seen", "datums_told", "seen", "told"]


@dataclass(frozen=True)
class Lesson:
    """A step to do at a stage: ``says`` how; ``sees`` whether what was laid has it, and what is there instead."""

    title: str
    stage: str
    says: str
    sees: Callable[[list[Ran]], tuple[bool, str]]


@dataclass(frozen=True)
class Guide:
    """A job's lessons, and what to do after the last; ``open``: shown at once, else folded until it is asked for."""

    lessons: tuple[Lesson, ...]
    after: str
    open: bool = False


@dataclass(frozen=True)
class Seen:
    """How a lesson stands: ``done``, and where it is not, what was seen instead (or nothing)."""

    title: str
    stage: str
    says: str
    done: bool
    saw: str


def told(ran: list[Ran], gives: str) -> list[dict[str, Any]]:
    return [r.summary for r in ran if r.done and r.step.produces == gives]


def datums_told(ran: list[Ran], element: str) -> list[dict[str, Any]]:
    return [d for d in told(ran, "datum") if d.get("element") == element]


def seen(lessons: tuple[Lesson, ...], ran: list[Ran]) -> list[Seen]:
    """How each lesson stands on what was laid; what was seen instead is told of the first that is not done."""
    out, said = [], False
    for lesson in lessons:
        done, saw = lesson.sees(ran)
        out.append(Seen(lesson.title, lesson.stage, lesson.says, done, "" if done or said else saw))
        said |= not done
    return out
