"""How long work tells how far it is and learns that it should stop.

A computation takes ``progress`` and calls it with a share between 0 and 1 and a sentence; the call
raises `Cancelled` when the user asked to stop.
"""

from __future__ import annotations

from typing import Protocol

__all__ = ["Progress", "silent", "part"]


class Progress(Protocol):
    def __call__(self, share: float, message: str = "") -> None: ...


def silent(share: float, message: str = "") -> None:
    """Report to nobody."""


def part(progress: Progress, start: float, end: float) -> Progress:
    """A progress whose 0…1 fills ``start``…``end`` of another."""

    def inner(share: float, message: str = "") -> None:
        progress(start + (end - start) * share, message)

    return inner
