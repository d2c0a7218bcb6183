"""Results that are only tried: kept in memory over a store that is not changed."""

from __future__ import annotations

import contextlib
from collections import OrderedDict
from collections.abc import Iterator
from typing import Any

from ..progress import Progress, silent
from .codec import pack
from .step import Outcome
from .store import ResultStore

__all__ = ["Scratch"]


class Scratch(ResultStore):
    """Reads what ``under`` holds; what is saved goes to memory, the last ``most`` results."""

    def __init__(self, under: ResultStore, most: int = 200):
        self._under, self._mine, self._at_most = under, OrderedDict[str, tuple[dict, Outcome | None]](), most

    def record(self, key: str) -> dict | None:
        return self._mine[key][0] if key in self._mine else self._under.record(key)

    def load(self, key: str) -> Outcome | None:
        return self._mine[key][1] if key in self._mine else self._under.load(key)

    def save(self, key: str, produces: str, outcome: Outcome) -> None:
        self._keep(key, pack(produces, outcome)[0], outcome)

    def save_failure(self, key: str, says: str, *, broke: bool = False) -> None:
        self._keep(key, {"summary": {}, "values": [], "says": says, "status": "failed"}, None)

    def _keep(self, key: str, record: dict, outcome: Outcome | None) -> None:
        self._mine[key] = record, outcome
        while len(self._mine) > self._at_most:
            self._mine.popitem(last=False)

    def remember(self, key: tuple, make) -> Any:
        return make() if key[1] in self._mine else self._under.remember(key, make)

    @contextlib.contextmanager
    def making(self, key: str, progress: Progress = silent) -> Iterator[None]:
        yield
