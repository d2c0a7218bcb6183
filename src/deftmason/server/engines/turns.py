"""Whose turn it is: requests wait for a free engine in an order that lets nobody hold up the others.

Of those waiting, the one whose person has the fewest engines at work comes first, then the one that came first. Heavy
work (previews, surveys)
leaves one engine free for quick questions, and one person's heavy work takes two engines at most.
"""

from __future__ import annotations

import itertools
import threading
import time
from collections import Counter
from dataclasses import dataclass, field

__all__ = ["Turn", "Turns"]

_HEAVY_OF_ONE = 2


@dataclass(eq=False)
class Turn:
    """One request's claim on an engine; ``person`` is whoever asks, ``heavy`` work may take long."""

    person: str
    heavy: bool
    number: int = field(default_factory=itertools.count().__next__)


class Turns:
    """Hands out ``count`` places among those who wait."""

    def __init__(self, count: int):
        self.count = count
        self._held: list[Turn] = []
        self._waiting: list[Turn] = []
        self._changed = threading.Condition()

    def take(self, person: str, heavy: bool, patience: float, given_up=lambda: False) -> Turn | None:
        """Wait for a place; None where none came within ``patience`` seconds or the asker gave up."""
        turn = Turn(person, heavy)
        until = time.monotonic() + patience
        with self._changed:
            self._waiting.append(turn)
            try:
                while self._next() is not turn:
                    left = until - time.monotonic()
                    if left <= 0 or given_up():
                        return None
                    self._changed.wait(min(left, 0.2))
                self._held.append(turn)
                return turn
            finally:
                self._waiting.remove(turn)
                self._changed.notify_all()

    def give(self, turn: Turn) -> None:
        with self._changed:
            self._held.remove(turn)
            self._changed.notify_all()

    def others_wait(self, turn: Turn) -> bool:
        """Whether another person's heavy work waits for a place that this turn holds."""
        with self._changed:
            return any(w.heavy and w.person != turn.person for w in self._waiting)

    def _next(self) -> Turn | None:
        if len(self._held) >= self.count:
            return None
        at_work = Counter(t.person for t in self._held)
        heavy = Counter(t.person for t in self._held if t.heavy)
        room = heavy.total() < max(1, self.count - 1)
        able = [t for t in self._waiting if not t.heavy or (room and heavy[t.person] < _HEAVY_OF_ONE)]
        return min(able, key=lambda t: (at_work[t.person], t.number), default=None)
